"""Bytes to frames, and an account of what belongs to none."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.verify import value_faults
from larkreader.decode.columns.frame_columns import FrameFault, Frames, Skip, Spans
from larkreader.decode.columns.unpack import rows_at
from larkreader.decode.stream import Bytes, Places, Stream

from .candidates import Candidates, Mask
from .delimited import NONE, sort_packets
from .delimiters import Delimiter, delimiter_of
from .joined_packets import split_joined
from .packets import Dropped, cut_packets
from .search import check_shared, find_candidates, has_markers, is_delimited, may_begin_anywhere, settled
from .stretches import PacketState


def read_frames(data: bytes | Bytes | Characters, layout: FrameLayout) -> Frames:
    """Cut bytes into the frames of a layout, and check them.

    Parameters
    ----------
    data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
        What arrived. Characters give the frames their times, and the faults of their characters.
    layout : FrameLayout
        What the frames are declared to be.

    Returns
    -------
    Frames
        One row for each frame found, good or faulty. Every byte lies in a frame or in one of ``skipped``.

    Raises
    ------
    RequestError
        If characters hold more than eight bits, or the data are not bytes.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"},
    ...     fields=[{"name": "flow", "type": "uint12", "scale": 0.1}, {"reserved": 4}],
    ... )
    >>> frames = lr.read_frames(bytes.fromhex("00 D7 7D 00 D7 7E 00"), layout)
    >>> frames["flow"], frames.offset, frames.skipped.length
    (array([12.5, 12.6]), array([1, 4]), array([1]))
    """
    return read_layouts(data, [layout])[layout.key]


def read_layouts(data: bytes | Bytes | Characters, layouts: Sequence[FrameLayout]) -> Mapping[str, Frames]:
    r"""Cut the bytes of one wire into the frames of several layouts, and check them.

    Parameters
    ----------
    data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
        What arrived.
    layouts : sequence of FrameLayout
        What may travel on the wire; fields with `equals` distinguish the layouts. All have one kind of boundary.

    Returns
    -------
    mapping of str to Frames
        By the layouts' keys. All share ``skipped``.

    Raises
    ------
    RequestError
        As `read_frames`; or if the layouts differ in their kind of boundary.

    Examples
    --------
    >>> flow = lr.FrameLayout(
    ...     key="flow", boundary={"kind": "marker", "marker": "A1"}, fields=[{"name": "flow", "type": "uint8"}]
    ... )
    >>> state = lr.FrameLayout(
    ...     key="state", boundary={"kind": "marker", "marker": "B2"}, fields=[{"name": "state", "type": "uint8"}]
    ... )
    >>> frames = lr.read_layouts(b"\xa1\x07\xb2\x01\xa1\x08", [flow, state])
    >>> frames["flow"]["flow"].tolist(), frames["state"]["state"].tolist()
    ([7, 8], [1])
    """
    check_shared(layouts)
    stream = Stream.of(data)
    is_even = not any(layout.needs_locating for layout in layouts) and not is_delimited(layouts)
    if (is_even or may_begin_anywhere(layouts)) and len(stream.value) > 2 * PIECE:
        return _cut_in_pieces(stream, layouts)
    return cut_frames(stream, layouts, Begun(), last=True).frames


def certain_until(data: bytes | Bytes | Characters, layouts: Sequence[FrameLayout]) -> int:
    """Return before which byte nothing that follows could change what is a frame and what belongs to none.

    Parameters
    ----------
    data, layouts
        As for `read_layouts`.

    Returns
    -------
    int
        The number of a byte; frames and stretches of no frame that begin before it are certain.
    """
    cut = cut_frames(Stream.of(data), layouts, Begun(), last=False)
    return cut.done - cut.begun.before


PIECE = 1 << 20  # bytes worked on at once where nothing is known of a whole stream but what is known of its pieces


@dataclass(frozen=True)
class Begun:
    """A stretch of no frame that began before the bytes at hand."""

    before: int = 0
    """How many bytes before."""
    needed: int = 0
    """Bytes of the frame that its marker promised; 0 if no marker stands at its beginning."""
    is_too_long: bool = False
    """Whether it is a packet of which too many bytes have come."""


@dataclass(frozen=True)
class Cut:
    """What became of a piece of a stream: frames, how many bytes are done with, and what goes on behind them.

    `needed` is how many bytes must be there behind those that are done with before anything more can become certain.
    """

    frames: Mapping[str, Frames]
    done: int
    begun: Begun
    needed: int


@dataclass(frozen=True)
class _Taken:
    """The frames of one layout: where each lies in the stream, what it holds, and what is known of it."""

    offset: Places
    length: Places
    content: Ragged
    fixed_values_ok: Mask
    checksum_ok: Mask


def cut_frames(
    stream: Stream, layouts: Sequence[FrameLayout], begun: Begun, *, last: bool, first_offset: int = 0
) -> Cut:
    """Cut what can be cut: all that is there if nothing follows it, else what that could not change."""
    if (delimiter := delimiter_of(layouts[0].boundary)) is not None:
        return _cut_delimited(stream, layouts, delimiter, begun, last=last, first_offset=first_offset)
    found = find_candidates(stream.value, layouts)
    met, total = found.chain(), len(stream.value)
    done, is_closed, needed = total, True, 0
    anywhere = may_begin_anywhere(layouts)
    if not last:
        open_ones = np.flatnonzero(met & ~settled(found, total, layouts))
        met[open_ones[0] if open_ones.size else len(met) :] = False
        done = _searched(found, met, total, layouts)
        is_closed = bool(open_ones.size and found.offset[open_ones[0]] <= done)
        if is_closed or (anywhere and open_ones.size):
            done, needed = int(found.offset[open_ones[0]]), int(found.length[open_ones[0]])
            is_closed &= not anywhere
    taken = met & found.accepted
    if anywhere and found.passed is not None:
        met &= found.passed  # every byte is a candidate; what lies between frames is one stretch
    skipped, begun = _skipped(found, met, taken, begun, done, total, is_closed=is_closed)
    if last:
        _name_the_last(skipped, stream.value, layouts)
    skipped = replace(skipped, offset=skipped.offset + first_offset)
    frames = {}
    for number, layout in enumerate(layouts):
        mine = _selection(taken & (found.which == number))
        offset, length = found.offset[mine], found.length[mine]
        content = Ragged(stream.value, offset, length)
        kept = _Taken(offset, length, content, found.fixed_values_ok[mine], found.checksum_ok[mine])
        frames[layout.key] = _frames_of(stream, layout, kept, skipped, first_offset)
    return Cut(frames, done, begun, needed)


def _cut_in_pieces(stream: Stream, layouts: Sequence[FrameLayout]) -> Mapping[str, Frames]:
    """Cut a long stream piece by piece, so that what is made of each stays in the processor's cache."""
    parts: list[Mapping[str, Frames]] = []
    held, begun, done, here = stream.between(0, 0), Begun(), 0, 0
    while here < len(stream.value):
        here = min(max(here, done) + PIECE, len(stream.value))
        held = stream.between(done, here)
        cut = cut_frames(held, layouts, begun, last=here == len(stream.value), first_offset=done)
        parts.append(cut.frames)
        done, begun = done + cut.done, cut.begun
    frames = {}
    spans = [next(iter(part.values())).skipped for part in parts]
    skipped = Spans(*(np.concatenate([span.column(name) for span in spans]) for name in Spans.COLUMNS))
    for layout in layouts:
        every = [part[layout.key] for part in parts]
        offset, length, begin_s, faults = (
            np.concatenate([item.column(name) for item in every]) for name in ("offset", "length", "begin_s", "faults")
        )
        data: Bytes | Ragged = Ragged(stream.value, offset, length)
        if not layout.needs_locating:
            data = np.concatenate([item.data for item in every])
        frames[layout.key] = Frames(layout, offset, begin_s, faults, data, skipped, length)
    return frames


def _cut_delimited(
    stream: Stream,
    layouts: Sequence[FrameLayout],
    delimiter: Delimiter[Any],
    begun: Begun,
    *,
    last: bool,
    first_offset: int,
) -> Cut:
    """Cut at delimiters."""
    if len(stream.value):
        delimiter.check(stream, f"{layouts[0].key}: boundary")
    packets, done, left = cut_packets(stream, delimiter, Dropped(begun.before, begun.is_too_long), last=last)
    at_start = bool(len(packets)) and packets.offset[0] + first_offset == 0
    result = sort_packets(packets, layouts, at_start=at_start)
    doubtful = np.flatnonzero((packets.state == PacketState.WHOLE) & ~(result.fixed_values_ok & result.checksum_ok))
    if len(doubtful) and len(split := split_joined(stream.value, packets, layouts, doubtful)) > len(packets):
        packets = split
        result = sort_packets(packets, layouts, at_start=at_start)
    refused = np.flatnonzero(result.which == NONE)
    skipped = Spans(packets.offset[refused] + first_offset, packets.length[refused], result.reason[refused])
    frames = {}
    for number, layout in enumerate(layouts):
        mine = np.flatnonzero(result.which == number)
        offset, length = packets.offset[mine], packets.length[mine]
        kept = _Taken(offset, length, packets.content[mine], result.fixed_values_ok[mine], result.checksum_ok[mine])
        frames[layout.key] = _frames_of(stream, layout, kept, skipped, first_offset, packets.inner[mine])
    return Cut(frames, done, Begun(left.count, is_too_long=left.is_too_long), 0)


def _frames_of(
    stream: Stream,
    layout: FrameLayout,
    taken: _Taken,
    skipped: Spans,
    first_offset: int,
    inner: Places | None = None,
) -> Frames:
    """Return the frames of one layout, with the faults of each."""
    begin_s = np.full(len(taken.offset), np.nan) if stream.begin_s is None else stream.begin_s[taken.offset]
    data: Bytes | Ragged = taken.content
    if not layout.needs_locating:
        data = rows_at(taken.content.items, taken.content.begin, layout.length)
    faults = np.zeros(len(taken.offset), dtype=np.uint8)
    frames = Frames(layout, taken.offset + first_offset, begin_s, faults, data, skipped, taken.length)
    faults |= value_faults(frames, taken.fixed_values_ok, taken.checksum_ok)
    if stream.bad is not None:
        first = taken.offset if inner is None else inner  # the break before a frame is none of its characters
        has_bad = np.searchsorted(stream.bad, first) != np.searchsorted(stream.bad, taken.offset + taken.length)
        faults[has_bad] |= np.uint8(FrameFault.CHARACTER_FAULT)
    return frames


def _searched(found: Candidates, met: Mask, total: int, layouts: Sequence[FrameLayout]) -> int:
    """Return before which place nothing can begin any more, but for the candidates that are known."""
    taken = np.flatnonzero(met & found.accepted)
    behind = int(found.offset[taken[-1]] + found.length[taken[-1]]) if taken.size else 0
    if may_begin_anywhere(layouts):
        return total
    if not has_markers(layouts):
        return behind
    return max(behind, total + 1 - max(len(layout.marker) for layout in layouts))  # a marker may have begun there


def _skipped(
    found: Candidates, chain: Mask, taken: Mask, begun: Begun, done: int, total: int, *, is_closed: bool
) -> tuple[Spans, Begun]:
    """Return what lies between the frames, cut where a marker was met that begins none; and the last if it is open."""
    met = _selection(chain)
    is_frame, offset, length = taken[met], found.offset[met], found.length[met]
    behind = offset + length if is_frame.all() else offset + length * is_frame
    # The gap number i ends where candidate i begins; the last, where all that is done with ends.
    gaps = np.flatnonzero(offset[1:] > behind[:-1]) + 1
    first = [0] if not len(offset) or offset[0] > -begun.before else []
    some = np.concatenate([first, gaps, [len(offset)] if len(offset) else []]).astype(np.int64)
    before = np.maximum(some - 1, 0)  # the candidate before each gap
    follows = some > 0
    if len(offset):
        begins = np.where(follows, behind[before], -begun.before)
        needed = np.where(follows, length[before] * ~is_frame[before], begun.needed)  # 0 behind a frame
    else:
        begins, needed = np.array([-begun.before]), np.array([begun.needed])
    ends = np.append(offset, done)[some]
    begun = Begun()
    if not is_closed:
        begun = Begun(done - int(begins[-1]), int(needed[-1]))
        begins, ends, needed = begins[:-1], ends[:-1], needed[:-1]
    some = np.flatnonzero(ends > begins)
    begins, length, needed = begins[some], ends[some] - begins[some], needed[some]
    reason = np.full(len(some), Skip.NO_MARKER, dtype=np.uint8)
    reason[(needed > 0) & (length < needed)] = Skip.TRUNCATED_FRAME
    reason[(needed > 0) & (length >= needed)] = Skip.LENGTH_MISMATCH
    reaches_end = begins + length == total  # whatever claims to reach further is not a frame if another follows
    reason[(needed > 0) & (begins + needed > total) & reaches_end] = Skip.UNFINISHED
    return Spans(begins, length, reason), begun


def _selection(mask: Mask) -> slice | Places:
    """Return what selects the rows of a mask: all of them, most often, which then need not be copied."""
    return slice(None) if mask.all() else np.flatnonzero(mask)


def _name_the_last(skipped: Spans, stream: Bytes, layouts: Sequence[FrameLayout]) -> None:
    """Take a last stretch that is the beginning of a marker, or of a frame without any, for an unfinished frame."""
    if not len(skipped) or skipped.offset[-1] < 0 or skipped.offset[-1] + skipped.length[-1] != len(stream):
        return
    rest = stream[skipped.offset[-1] :].tobytes() if skipped.length[-1] < 16 else b""
    if not has_markers(layouts) or (rest and any(layout.marker.startswith(rest) for layout in layouts)):
        skipped.reason[-1] = Skip.UNFINISHED
