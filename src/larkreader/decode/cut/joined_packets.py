"""Packets that a lost delimiter has joined, split again where a checksum shows the place.

If the end of a packet that is not a frame is one, with a right checksum, the packet is two: what arrives before that
end, and the end. All ends of all such packets are tried together, at a cost in proportion to their bytes. A checksum of
fewer than 16 bits would be right by chance too often, so it splits nothing.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.stuffing import Stuffing
from larkreader.decode.stream import Bytes, Places

from .content import judge_contents
from .packets import Packets
from .stretches import PacketState

FEWEST_BITS = 16  # of a checksum
ROUNDS = 4  # so many packets joined to one are distinguished, and one more
BLOCK = 1 << 18  # ends tried together


def split_joined(stream: Bytes, packets: Packets, layouts: Sequence[FrameLayout], rows: Places) -> Packets:
    """Split the packets whose end is a frame with a right checksum, but which are none as a whole.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where the packets lie, as they arrived.
    packets : Packets
        What lies between delimiters.
    layouts : sequence of FrameLayout
        What may travel on the wire.
    rows : ndarray of int64, shape (n_doubtful,)
        The numbers of the packets that are not frames with a right checksum.

    Returns
    -------
    Packets
        The same, or more. With consistent overhead byte stuffing always the same: there a lost delimiter makes the
        code bytes behind it lead astray.
    """
    boundary = layouts[0].boundary
    if boundary.is_recoded or not all(_is_sure(layout) for layout in layouts):
        return packets
    stuffing = boundary.stuffing
    for _ in range(ROUNDS):
        place = _first_end(packets.content[rows], layouts)
        rows, place = rows[place > 0], place[place > 0]
        if not len(rows):
            break
        packets = _split(stream, packets, rows, place, stuffing)
        rows = rows + np.arange(len(rows))  # where what lies before each split end is now
        content = packets.content[rows]
        rows = rows[~_are_frames(content.items, content.begin, content.length, layouts)]
    return packets


def _is_sure(layout: FrameLayout) -> bool:
    return layout.checksum is not None and layout.checksum.method.width >= FEWEST_BITS


def _are_frames(items: Bytes, begin: Places, length: Places, layouts: Sequence[FrameLayout]) -> npt.NDArray[np.bool_]:
    """Return which contents are frames of any layout with a right checksum."""
    frames = np.zeros(len(begin), dtype=np.bool_)
    for layout in layouts:
        judged = judge_contents(items, begin, length, layout)
        frames |= judged.fits & judged.fixed_values_ok & judged.checksum_ok
    return frames


def _first_end(content: Ragged, layouts: Sequence[FrameLayout]) -> Places:
    """Return where in each content the longest end begins that is a frame; 0 where none is."""
    shortest = min(layout.shortest for layout in layouts)
    place = np.zeros(len(content), dtype=np.int64)
    tries = np.maximum(content.length - max(shortest, 1), 0)
    low = 0
    while low < len(content):  # a few packets at a time, or one that is long
        high = max(int(np.searchsorted(np.cumsum(tries[low:]), BLOCK)) + low, low + 1)
        owner = np.repeat(np.arange(low, high), tries[low:high])
        first = np.arange(len(owner)) - np.repeat(np.cumsum(tries[low:high]) - tries[low:high], tries[low:high]) + 1
        frames = _are_frames(content.items, content.begin[owner] + first, content.length[owner] - first, layouts)
        found = np.flatnonzero(frames)[::-1]
        place[owner[found]] = first[found]  # the first of each is last
        low = high
    return place


def _split(stream: Bytes, packets: Packets, rows: Places, place: Places, stuffing: Stuffing | None) -> Packets:
    """Split some packets at places of their contents."""
    at = packets.inner[rows] + place
    if stuffing is not None:
        at = np.array(
            [
                _raw_place(stream, int(first), int(count), stuffing)
                for first, count in zip(packets.inner[rows], place, strict=True)
            ],
            dtype=np.int64,
        )
    behind = packets.offset[rows] + packets.length[rows]
    length, size = packets.length.copy(), packets.content.length.copy()
    length[rows], size[rows] = at - packets.offset[rows], place
    new = rows + 1
    content = Ragged(
        packets.content.items,
        np.insert(packets.content.begin, new, packets.content.begin[rows] + place),
        np.insert(size, new, packets.content.length[rows] - place),
    )
    return Packets(
        np.insert(packets.offset, new, at),
        np.insert(length, new, behind - at),
        np.insert(packets.inner, new, at),
        np.insert(packets.state, new, np.uint8(PacketState.WHOLE)),
        content,
    )


def _raw_place(stream: Bytes, first: int, count: int, stuffing: Stuffing) -> int:
    """Return where the byte number `count` of a content lies as it arrived."""
    for _ in range(count):
        first += 2 if stream[first] == stuffing.escape else 1
    return first
