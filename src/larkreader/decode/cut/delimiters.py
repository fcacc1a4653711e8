"""How a stream is cut at the delimiters of each kind of boundary: as a whole, and as it arrives.

One class for each kind, found by `delimiter_of`. It finds the stretches between delimiters and what they hold, refuses
a stream that does not show its delimiters, and, for a stream that arrives byte by byte, knows what may end a frame.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Generic, NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.boundary import (
    AddressMarkBoundary,
    Boundary,
    BreakBoundary,
    CobsBoundary,
    EscapeBoundary,
    HdlcBoundary,
    IdleBoundary,
    SlipBoundary,
    TerminatorBoundary,
)
from larkreader.declare.frame.frame_boundary import FrameBoundary
from larkreader.declare.frame.stuffing import Stuffing
from larkreader.decode.chain import follow_chain
from larkreader.decode.stream import Bytes, Places, Stream, Times
from larkreader.errors import RequestError

from .stretches import PacketState, Stretches, closed_by, occurrences, opened_by
from .unstuff import find_flags, unstuffed, without_zeros

CLOCKS = 0.95  # of the declared rest, as much as two clocks may differ in what a character time is
CERTAIN = 0.5  # of a declared rest, below which nothing rests however the clocks differ
NOWHERE: Places = np.empty(0, np.int64)
Sound = npt.NDArray[np.bool_]
Declared = TypeVar("Declared", bound=FrameBoundary)


@dataclass(frozen=True)
class Whole:
    """Bytes that are one frame with its delimiters: what it holds, and how many bytes lie before and behind it.

    Those before are empty packets, those behind belong to the next frame.
    """

    content: bytes
    kept: int = 0
    empty: int = 0


class Before(NamedTuple):
    """The last character that was looked at: when it ended, and how long it took, in seconds."""

    end_s: float | None = None
    lasts_s: float = 0.0


class Delimiter(Generic[Declared]):
    """How frames of one kind of delimited boundary are cut.

    Parameters
    ----------
    boundary : FrameBoundary
        The boundary, of the kind that the class is for.
    """

    deciding: frozenset[int] | None = None
    """The bytes without which no frame is certain; None where no byte decides, but what lies between."""
    fill: int | None = None
    """The byte that may stand between frames as often as it likes; None where there is none."""

    def __init__(self, boundary: Declared) -> None:
        self.boundary = boundary

    def check(self, stream: Stream, where: str) -> None:
        """Raise `RequestError` if a stream does not show the delimiters; `where` names the boundary."""

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        """Return what lies between delimiters.

        Parameters
        ----------
        stream : Stream
            What arrived.
        continues : bool
            Whether it begins within a packet of which some was dropped.
        last : bool
            Whether nothing follows.
        """
        raise NotImplementedError

    def contents(self, stream: Bytes, begin: Places, end: Places) -> tuple[Ragged, Sound]:
        """Return what packets hold, and which of them some sender can have stuffed so."""
        return Ragged(stream, begin, end - begin), np.ones(len(begin), dtype=np.bool_)

    def whole(self, held: bytes) -> Whole | None:
        """Return the one frame that bytes are, the last of which may end it; None if they are anything else."""
        raise NotImplementedError

    def ends(self, character: Characters, before: Before) -> bool:
        """Return whether one character is sound, and may end a frame."""
        return not character.faults[0]

    def follow(self, characters: Characters, before: Before) -> Before | None:
        """Return the last of some characters if none of them ends what was received before; None if one may."""
        return None


class _Terminators(Delimiter[TerminatorBoundary]):
    """Fixed bytes end a frame."""

    def __init__(self, boundary: TerminatorBoundary) -> None:
        super().__init__(boundary)
        self.deciding = frozenset(text[-1] for text in boundary.every)

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        return _terminated(stream.value, self.boundary.every, last=last)

    def whole(self, held: bytes) -> Whole | None:
        (end, *others) = self.boundary.every
        place = held.find(end)
        return Whole(held[:place]) if not others and 0 < place == len(held) - len(end) else None


class _Zeros(Delimiter[CobsBoundary]):
    """A zero ends a frame, and consistent overhead byte stuffing keeps zeros out of it."""

    deciding = frozenset((0,))

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        zeros = np.flatnonzero(stream.value == 0)
        return closed_by(zeros, np.ones_like(zeros))

    def contents(self, stream: Bytes, begin: Places, end: Places) -> tuple[Ragged, Sound]:
        return without_zeros(stream, begin, end)

    def whole(self, held: bytes) -> Whole | None:
        return _of_cobs(held)


class _Flags(Delimiter[SlipBoundary | HdlcBoundary | EscapeBoundary]):
    """Flags stand around a frame, and an escape byte keeps them out of it."""

    def __init__(self, boundary: SlipBoundary | HdlcBoundary | EscapeBoundary) -> None:
        super().__init__(boundary)
        stuffing = boundary.stuffing
        self.deciding = frozenset(flag[-1] for flag in (stuffing.begin, stuffing.end) if flag)
        self.fill = stuffing.end[0] if stuffing.is_closed_by_begin and len(stuffing.end) == 1 else None
        self._between_flags = _between_flags(stuffing)

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        return _flagged(stream.value, self.boundary.stuffing)

    def contents(self, stream: Bytes, begin: Places, end: Places) -> tuple[Ragged, Sound]:
        return unstuffed(stream, begin, end, self.boundary.stuffing)

    def whole(self, held: bytes) -> Whole | None:
        return self._between_flags(held)


class _Rests(Delimiter[IdleBoundary]):
    """The line rests between frames."""

    def check(self, stream: Stream, where: str) -> None:
        _check_times(stream, self.boundary, where)

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        return opened_by(_behind_rests(stream, self.boundary), 0, kept=1)

    def whole(self, held: bytes) -> Whole | None:
        return _before_the_next(held)

    def ends(self, character: Characters, before: Before) -> bool:
        begin_s, end_s = float(character.begin_s[0]), float(character.end_s[0])
        least_s = self._least_s(min(end_s - begin_s, before.lasts_s))
        is_behind = before.end_s is not None and begin_s - before.end_s >= CLOCKS * least_s > 0
        return is_behind and not character.faults[0]

    def follow(self, characters: Characters, before: Before) -> Before | None:
        for begin_s, end_s in zip(characters.begin_s.tolist(), characters.end_s.tolist(), strict=True):
            if before.end_s is None or not begin_s - before.end_s < CERTAIN * self._least_s(end_s - begin_s):
                return None
            before = Before(end_s, end_s - begin_s)
        return before

    def _least_s(self, character_s: float) -> float:
        characters, seconds = self.boundary.rest
        return seconds or characters * character_s


class _Breaks(Delimiter[BreakBoundary]):
    """A break begins a frame."""

    def check(self, stream: Stream, where: str) -> None:
        if stream.breaks is None:
            raise RequestError(where, "is a break, which bytes alone do not show", "needs Characters with their faults")

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        return opened_by(NOWHERE if stream.breaks is None else stream.breaks, 1, continues=continues)

    def whole(self, held: bytes) -> Whole | None:
        return Whole(held[1:-1], 1) if len(held) > 2 else None

    def ends(self, character: Characters, before: Before) -> bool:
        return bool(character.faults[0] & Fault.BREAK)

    def follow(self, characters: Characters, before: Before) -> Before | None:
        return None if any(faults & Fault.BREAK for faults in characters.faults.tolist()) else before


class _AddressMarks(Delimiter[AddressMarkBoundary]):
    """An address mark, the ninth bit of a character, begins a frame."""

    def check(self, stream: Stream, where: str) -> None:
        if stream.addresses is None:
            wanted = "needs a line of nine data bits whose ninth_bit is an address-mark"
            raise RequestError(where, "is an address mark, which these characters do not have", wanted)

    def stretches(self, stream: Stream, *, continues: bool, last: bool) -> Stretches:
        return opened_by(NOWHERE if stream.addresses is None else stream.addresses, 0, continues=continues)

    def whole(self, held: bytes) -> Whole | None:
        return _before_the_next(held)

    def ends(self, character: Characters, before: Before) -> bool:
        marks = character.address_mark
        return not character.faults[0] and marks is not None and bool(marks[0])

    def follow(self, characters: Characters, before: Before) -> Before | None:
        marks = characters.address_mark
        return before if marks is not None and not any(marks.tolist()) else None


DELIMITERS: Mapping[str, type[Delimiter[Any]]] = MappingProxyType(
    {
        "idle": _Rests,
        "terminator": _Terminators,
        "break": _Breaks,
        "address-mark": _AddressMarks,
        "cobs": _Zeros,
        "slip": _Flags,
        "hdlc": _Flags,
        "escape": _Flags,
    }
)


def delimiter_of(boundary: Boundary) -> Delimiter[Any] | None:
    """Return how frames of a boundary are cut at delimiters; None where it has none."""
    return DELIMITERS[boundary.kind](boundary) if boundary.is_delimited else None


def _check_times(stream: Stream, boundary: IdleBoundary, where: str) -> None:
    if stream.begin_s is None or stream.end_s is None or np.isnan(stream.begin_s).any():
        found = "is a rest of the line, but the source has no times of its characters"
        raise RequestError(where, found, "needs a capture with times")
    lasts = stream.end_s - stream.begin_s
    if lasts.any():
        return
    if boundary.seconds is None:
        found = "is a rest in character times, but the source has no character time"
        raise RequestError(where, found, "needs the rest in seconds")
    steps = np.diff(stream.begin_s)
    finest = float(steps[steps > 0].min()) if (steps > 0).any() else 0.0
    if (steps == 0).any() and finest >= boundary.seconds:
        found = f"is a rest of {boundary.seconds:g} s, but the source's times have steps of {finest:.3g} s or more"
        raise RequestError(where, found, "needs times finer than the rest")


def _terminated(stream: Bytes, terminators: Sequence[bytes], *, last: bool) -> Stretches:
    """Return the stretches that any of some terminators closes; where several stand the longest counts."""
    total, longest = len(stream), len(terminators[0])
    width = np.zeros(total, dtype=np.int64) if longest > 1 else None
    hits = []
    for text in terminators:  # the longest first
        at = occurrences(stream, text)
        if width is not None:
            at = at[width[at] == 0]
            width[at] = len(text)
        hits.append(at)
    places = np.sort(np.concatenate(hits)) if len(hits) > 1 else hits[0]
    widths = width[places] if width is not None else np.ones(len(places), dtype=np.int64)
    if longest > 1 and len(places):
        behind = np.searchsorted(places, places + widths)
        places, widths = (item[follow_chain(behind - np.arange(len(places)))] for item in (places, widths))
    if not last and len(terminators) > 1 and len(places):
        tail = int(places[-1])
        rest = stream[tail:].tobytes()
        if tail + int(widths[-1]) == total and any(text.startswith(rest) and text != rest for text in terminators):
            places, widths = places[:-1], widths[:-1]
    return closed_by(places, widths, longest - 1)


def _flagged(stream: Bytes, stuffing: Stuffing) -> Stretches:
    """Return the stretches between flags; what lies outside of packets too, where flags distinguish begin from end."""
    places, begins_one, width, kept = find_flags(stream, stuffing)
    found = closed_by(places, np.full(len(places), width), kept)
    if stuffing.is_closed_by_begin:
        return found
    opened = np.insert(begins_one, 0, False)  # by a flag that begins a packet; the last is that of the open packet
    state = np.where(opened[:-1], np.where(begins_one, PacketState.TRUNCATED, PacketState.WHOLE), PacketState.OUTSIDE)
    begin, end = found.begin - width * opened[:-1], found.end - width * begins_one
    some = (end > begin) | (state != PacketState.OUTSIDE)
    some[:1] = True  # what lies before it may have been thrown away
    return Stretches(
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


def _between_flags(stuffing: Stuffing) -> Callable[[bytes], Whole | None]:
    """Return what finds a frame between flags of one byte."""
    begin, end, escape = stuffing.begin, stuffing.end, stuffing.escape
    flags = frozenset((*begin, *end))
    if len(end) != 1 or len(begin) > 1:
        return lambda held: None

    def whole(held: bytes) -> Whole | None:
        if stuffing.is_closed_by_begin:
            inner = held.lstrip(end)[:-1]
            empty = len(held) - len(inner) - 1
        else:
            inner, empty = held[1:-1], 0
            if held[:1] != begin:
                return None
        if held[-1:] != end or not inner or not flags.isdisjoint(inner):
            return None
        content = _unescaped(inner, escape, stuffing.behind) if escape in inner else inner
        return None if content is None else Whole(content, empty=empty)

    return whole


def _unescaped(inner: bytes, escape: int, behind: Sequence[int]) -> bytes | None:
    """Turn back what is escaped; None if no sender can have escaped it so."""
    content, values = bytearray(), iter(inner)
    for value in values:
        if value == escape:
            value = behind[following] if (following := next(values, None)) is not None else -1
            if value < 0:
                return None
        content.append(value)
    return bytes(content)


def _before_the_next(held: bytes) -> Whole | None:
    """Return the frame that lies before the character with which the next begins."""
    return Whole(held[:-1], 1) if len(held) > 1 else None


def _of_cobs(held: bytes) -> Whole | None:
    """Undo consistent overhead byte stuffing (S. Cheshire and M. Baker, 1999) of one packet."""
    if held.find(0) != len(held) - 1 or len(held) < 2:
        return None
    content, place, last = bytearray(), 0, len(held) - 1
    while place < last:
        code = held[place]
        behind = place + code
        if behind > last:
            return None
        content += held[place + 1 : behind]
        if code < 0xFF and behind < last:
            content.append(0)
        place = behind
    return Whole(bytes(content))
