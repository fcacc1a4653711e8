"""Stretches between delimiters, with what is stuffed in them turned back.

A delimiter is nothing that a content can hold. So where a packet begins and ends depends on delimiters alone, whatever
lies between them; damage to a delimiter joins two packets or splits one, and leaves all others as they are.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.decode.stream import Places, Stream

from .delimiters import Delimiter
from .stretches import PacketState


@dataclass(frozen=True)
class Packets:
    """Stretches between delimiters, in order, none left out.

    `offset` and `length` hold where each lies with the delimiters that belong to it; `inner` where its content begins,
    still stuffed. `state` is a `PacketState`. `content` is what it holds.
    """

    offset: Places
    length: Places
    inner: Places
    state: npt.NDArray[np.uint8]
    content: Ragged

    def __len__(self) -> int:
        return len(self.offset)


@dataclass(frozen=True)
class Dropped:
    """Bytes of a packet whose end has not come, thrown away because it cannot become one any more."""

    count: int = 0
    is_too_long: bool = False


def cut_packets(
    stream: Stream, delimiter: Delimiter[Any], dropped: Dropped, *, last: bool
) -> tuple[Packets, int, Dropped]:
    """Cut a stream at its delimiters.

    Parameters
    ----------
    stream : Stream
        What arrived, from the beginning of a packet on, or from within one of which some was thrown away.
    delimiter : Delimiter
        What the delimiters are.
    dropped : Dropped
        What was thrown away.
    last : bool
        Whether nothing follows it.

    Returns
    -------
    Packets
        All that are whole; if nothing follows, what remains too. The first begins before the stream if some of it
        was thrown away.
    int
        How many bytes are done with.
    Dropped
        Of them, how many belong to a packet whose end has not come.

    """
    total, most = len(stream.value), most_bytes(delimiter)
    found = delimiter.stretches(stream, continues=dropped.count > 0, last=last)
    begin, end, inner, inner_end, state = found.begin, found.end, found.inner, found.inner_end, found.state.copy()
    done, left = found.open_from, Dropped()
    is_first = not len(begin)
    if last and (done < total or (is_first and dropped.count)):
        begin, end = np.append(begin, done), np.append(end, total)
        inner, inner_end = np.append(inner, found.open_inner), np.append(inner_end, total)
        state, done = np.append(state, np.uint8(found.open_state)), total
    elif not last:
        is_outside = found.open_state == PacketState.OUTSIDE
        was_long = dropped.is_too_long and is_first
        is_long = was_long or (total - found.kept - found.open_inner > most and not is_outside)
        if is_long or (is_outside and done < total):
            done = max(total - found.kept, done)
            before = dropped.count if is_first else 0
            left = Dropped(before + done - found.open_from, is_long)
        elif is_first:
            left = dropped
    long_ones = (inner_end - inner > most) & (state != PacketState.OUTSIDE)
    state[long_ones] = PacketState.TOO_LONG
    if len(begin) and end[0] == begin[0] and not dropped.count:
        begin, end, inner, inner_end, state = begin[1:], end[1:], inner[1:], inner_end[1:], state[1:]
    if len(begin):
        state[0] = PacketState.TOO_LONG if dropped.is_too_long else state[0]
        begin = begin.copy()
        begin[0] -= dropped.count
    state[(inner_end <= inner) & (state == PacketState.WHOLE)] = PacketState.EMPTY
    whole = state == PacketState.WHOLE
    content, is_sound = delimiter.contents(stream.value, inner, np.where(whole, inner_end, inner))
    state[whole & ~is_sound] = PacketState.BAD_STUFFING
    return Packets(begin, end - begin, inner, state, content), done, left


def most_bytes(delimiter: Delimiter[Any]) -> int:
    """Return how many bytes the longest packet can take on the wire, delimiters left out."""
    boundary = delimiter.boundary
    return int(boundary.most_sent(boundary.longest))
