"""Stretches between delimiters, with what is stuffed in them turned back.

A delimiter is nothing that a content can hold. So where a packet begins and ends depends on delimiters alone, whatever
lies between them; damage to a delimiter joins two packets or splits one, and leaves all others as they are.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.boundary import (
    AddressMarkBoundary,
    BreakBoundary,
    CobsBoundary,
    DelimitedBoundary,
    EscapeBoundary,
    HdlcBoundary,
    IdleBoundary,
    SlipBoundary,
    TerminatorBoundary,
)
from larkreader.decode.chain import follow_chain
from larkreader.decode.stream import Bytes, Places, Stream, Times
from larkreader.errors import RequestError

from .unstuff import find_flags, unstuffed, without_zeros

CLOCKS = 0.95  # of the declared rest, as much as two clocks may differ in what a character time is


class PacketState(IntEnum):
    """What a stretch between delimiters is."""

    WHOLE = 0
    """A packet."""
    EMPTY = 1
    """Nothing between two delimiters."""
    OUTSIDE = 2
    """What lies before the first delimiter, or between the end of a packet and the beginning of the next."""
    TRUNCATED = 3
    """A packet inside which the next one begins."""
    BAD_STUFFING = 4
    """A packet that no sender can have stuffed so."""
    TOO_LONG = 5
    """More bytes than a packet can have."""
    UNFINISHED = 6
    """A packet whose end is not there."""


@dataclass(frozen=True)
class Packets:
    """Stretches between delimiters, in order, none left out.

    `offset` and `length` tell where each lies with the delimiters that belong to it; `inner` where its content begins,
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
class _Stretches:
    """Where the stretches between delimiters begin and end, with and without those delimiters."""

    begin: Places
    end: Places
    inner: Places
    inner_end: Places
    state: npt.NDArray[np.uint8]
    open_from: int
    """Where one begins whose end has not come, or the number of bytes if there is none."""
    open_inner: int
    """Where the content of that one begins."""
    open_state: PacketState
    """What that one is if nothing comes behind it."""
    kept: int = 0
    """Bytes at the very end that may belong to a delimiter which is not there as a whole."""


@dataclass(frozen=True)
class Dropped:
    """Bytes of a packet whose end has not come, thrown away because it cannot become one any more."""

    count: int = 0
    is_too_long: bool = False


def cut_packets(
    stream: Stream, boundary: DelimitedBoundary, dropped: Dropped, *, last: bool
) -> tuple[Packets, int, Dropped]:
    """Cut a stream at its delimiters.

    Parameters
    ----------
    stream : Stream
        What arrived, from the beginning of a packet on, or from within one of which some was thrown away.
    boundary : a boundary that delimits
        What the delimiters are.
    dropped : Dropped
        What was thrown away.
    last : bool
        Whether nothing comes behind it.

    Returns
    -------
    Packets
        All that are whole; if nothing comes behind, what remains too. The first begins before the stream if some of it
        was thrown away.
    int
        How many bytes are done with.
    Dropped
        Of them, how many belong to a packet whose end has not come.

    Raises
    ------
    RequestError
        If the stream does not tell what the boundary needs.
    """
    total, most = len(stream.value), most_bytes(boundary)
    found = _stretches(stream, boundary, goes_on=dropped.count > 0, last=last)
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
    content, is_sound = _contents(stream.value, inner, np.where(whole, inner_end, inner), boundary)
    state[whole & ~is_sound] = PacketState.BAD_STUFFING
    return Packets(begin, end - begin, inner, state, content), done, left


def check_source(stream: Stream, boundary: DelimitedBoundary, name: str) -> None:
    """Raise `RequestError` if a stream does not tell what the boundary of the frames called `name` needs."""
    if not len(stream.value):
        return
    where = f"{name}: boundary"
    if isinstance(boundary, BreakBoundary) and stream.breaks is None:
        raise RequestError(where, "is a break, which bytes alone do not show", "needs Characters with their faults")
    if isinstance(boundary, AddressMarkBoundary) and stream.addresses is None:
        wanted = "needs a line of nine data bits whose ninth_bit is an address-mark"
        raise RequestError(where, "is an address mark, which these characters do not have", wanted)
    if isinstance(boundary, IdleBoundary):
        _check_times(stream, boundary, where)


def _check_times(stream: Stream, boundary: IdleBoundary, where: str) -> None:
    if stream.begin_s is None or stream.end_s is None or np.isnan(stream.begin_s).any():
        found = "is a rest of the line, but the source does not say when its characters came"
        raise RequestError(where, found, "needs a capture with times")
    lasts = stream.end_s - stream.begin_s
    if lasts.any():
        return
    if boundary.seconds is None:
        found = "is a rest in character times, but the source does not say how long a character takes"
        raise RequestError(where, found, "needs the rest in seconds")
    steps = np.diff(stream.begin_s)
    finest = float(steps[steps > 0].min()) if (steps > 0).any() else 0.0
    if (steps == 0).any() and finest >= boundary.seconds:
        found = f"is a rest of {boundary.seconds:g} s, but the source's times come in steps of {finest:.3g} s or more"
        raise RequestError(where, found, "needs times finer than the rest")


def most_bytes(boundary: DelimitedBoundary) -> int:
    """Return how many bytes the longest packet can take on the wire."""
    if isinstance(boundary, CobsBoundary):
        return boundary.longest + boundary.longest // 254 + 1
    return boundary.longest * (2 if isinstance(boundary, (SlipBoundary, HdlcBoundary, EscapeBoundary)) else 1)


def _stretches(stream: Stream, boundary: DelimitedBoundary, *, goes_on: bool, last: bool) -> _Stretches:
    if isinstance(boundary, TerminatorBoundary):
        return _terminated(stream.value, boundary.every, last=last)
    if isinstance(boundary, CobsBoundary):
        zeros = np.flatnonzero(stream.value == 0)
        return _closed_by(zeros, np.ones_like(zeros))
    if isinstance(boundary, (SlipBoundary, HdlcBoundary, EscapeBoundary)):
        return _flagged(stream.value, boundary)
    if isinstance(boundary, IdleBoundary):
        return _opened_by(_behind_rests(stream, boundary), 0, kept=1)
    nothing = np.empty(0, dtype=np.int64)
    if isinstance(boundary, BreakBoundary):
        return _opened_by(nothing if stream.breaks is None else stream.breaks, 1, goes_on=goes_on)
    return _opened_by(nothing if stream.addresses is None else stream.addresses, 0, goes_on=goes_on)


def _closed_by(places: Places, widths: Places, kept: int = 0) -> _Stretches:
    """Return the stretches that delimiters close."""
    ends = places + widths
    begins = np.concatenate([np.zeros(min(len(ends), 1), dtype=np.int64), ends[:-1]])
    state = np.zeros(len(ends), dtype=np.uint8)
    open_from = int(ends[-1]) if len(ends) else 0
    return _Stretches(begins, ends, begins, places, state, open_from, open_from, PacketState.UNFINISHED, kept)


def _opened_by(places: Places, width: int, kept: int = 0, *, goes_on: bool = False) -> _Stretches:
    """Return the stretches that delimiters of one width open; the last of them is open, the first if it `goes_on`."""
    is_outside = not len(places) or places[0] != 0 or goes_on
    begins, inner = places, places + width
    if is_outside:
        begins, inner = np.insert(begins, 0, 0), np.insert(inner, 0, 0)
    state = np.zeros(len(begins), dtype=np.uint8)
    state[0] = PacketState.OUTSIDE if is_outside else PacketState.WHOLE
    at_end = PacketState(int(state[-1]))
    return _Stretches(
        begins[:-1], begins[1:], inner[:-1], begins[1:], state[:-1], int(begins[-1]), int(inner[-1]), at_end, kept
    )


def _terminated(stream: Bytes, terminators: Sequence[bytes], *, last: bool) -> _Stretches:
    """Return the stretches that any of some terminators closes; where several stand the longest counts."""
    total, longest = len(stream), len(terminators[0])
    width = np.zeros(total, dtype=np.int64) if longest > 1 else None
    hits = []
    for text in terminators:  # longer ones first
        at = occurrences(stream, text)
        if width is not None:
            at = at[width[at] == 0]
            width[at] = len(text)
        hits.append(at)
    places = np.sort(np.concatenate(hits)) if len(hits) > 1 else hits[0]
    widths = width[places] if width is not None else np.ones(len(places), dtype=np.int64)
    if longest > 1 and len(places):
        behind = np.searchsorted(places, places + widths)
        places, widths = (one[follow_chain(behind - np.arange(len(places)))] for one in (places, widths))
    if not last and len(terminators) > 1 and len(places):
        tail = int(places[-1])
        rest = stream[tail:].tobytes()
        if tail + int(widths[-1]) == total and any(text.startswith(rest) and text != rest for text in terminators):
            places, widths = places[:-1], widths[:-1]
    return _closed_by(places, widths, longest - 1)


def _flagged(stream: Bytes, boundary: SlipBoundary | HdlcBoundary | EscapeBoundary) -> _Stretches:
    """Return the stretches between flags; what lies outside of packets too, where flags tell begin from end."""
    stuffing = boundary.stuffing
    places, begins_one, width, kept = find_flags(stream, stuffing)
    found = _closed_by(places, np.full(len(places), width), kept)
    if stuffing.is_closed_by_begin:
        return found
    opened = np.insert(begins_one, 0, False)  # by a flag that begins a packet; the last is that of the open one
    state = np.where(opened[:-1], np.where(begins_one, PacketState.TRUNCATED, PacketState.WHOLE), PacketState.OUTSIDE)
    begin, end = found.begin - width * opened[:-1], found.end - width * begins_one
    some = (end > begin) | (state != PacketState.OUTSIDE)
    some[:1] = True  # what lies before it may have been thrown away
    return _Stretches(
        begin[some],
        end[some],
        found.inner[some],
        found.inner_end[some],
        state[some].astype(np.uint8),
        found.open_from - width * int(opened[-1]),
        found.open_inner,
        PacketState.UNFINISHED if opened[-1] else PacketState.OUTSIDE,
        kept,
    )


def _behind_rests(stream: Stream, boundary: IdleBoundary) -> Places:
    """Return which characters follow a rest of the line."""
    if stream.begin_s is None or stream.end_s is None:
        return np.empty(0, dtype=np.int64)
    rests = stream.begin_s[1:] - stream.end_s[:-1]
    least: float | Times
    if boundary.characters is not None:
        lasts = stream.end_s - stream.begin_s
        least = boundary.characters * np.minimum(lasts[1:], lasts[:-1])
    else:
        least = boundary.seconds or 0.0
    first = np.zeros(min(len(stream.value), 1), dtype=np.int64)
    return np.concatenate([first, np.flatnonzero(rests >= CLOCKS * least) + 1])


def _contents(
    stream: Bytes, begin: Places, end: Places, boundary: DelimitedBoundary
) -> tuple[Ragged, npt.NDArray[np.bool_]]:
    """Return what packets hold, and which of them some sender can have stuffed so."""
    if isinstance(boundary, CobsBoundary):
        return without_zeros(stream, begin, end)
    if isinstance(boundary, (SlipBoundary, HdlcBoundary, EscapeBoundary)):
        return unstuffed(stream, begin, end, boundary.stuffing)
    return Ragged(stream, begin, end - begin), np.ones(len(begin), dtype=np.bool_)


def occurrences(stream: Bytes, marker: bytes) -> Places:
    """Return where some bytes stand, overlapping ones included."""
    if len(stream) < len(marker):
        return np.empty(0, np.int64)
    room = len(stream) - len(marker) + 1
    found = stream[:room] == marker[0]
    for place in range(1, min(len(marker), 2)):
        found &= stream[place : place + room] == marker[place]
    places = np.flatnonzero(found)
    for place in range(2, len(marker)):
        places = places[stream[places + place] == marker[place]]
    return places
