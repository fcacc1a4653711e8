"""Judges a capture that is read piece by piece: its wires, their receive paths, and what follows events."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.recorded_parts import recorded_parts
from larkreader.declare.document.sheet import Sheet
from larkreader.errors import RequestError
from larkreader.judge.findings.finding import Findings
from larkreader.judge.live.examples import FrameExample, FrameExamples
from larkreader.judge.live.followers import Followers
from larkreader.judge.live.parts import Settled
from larkreader.judge.live.stretches import StretchJudge
from larkreader.judge.live.sums import Sum, wires_judged_together
from larkreader.judge.measure.events import EventDelays
from larkreader.judge.setup.path_report import PathSum
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.received import Receiver
from larkreader.judge.verdict.wire_findings import Beginning

from .timeline_part import TimelinePart, part_of


class TimesGoBackError(RequestError):
    """The times of a wire go back, as after a clock was set back: what it has to do with others needs the whole."""


class Judged(NamedTuple):
    """What was found in a capture, as `SummedReading` has it."""

    total: Sum
    findings: Findings
    checked: Checked
    examples: Mapping[str, Sequence[FrameExample]]
    events: Mapping[str, EventDelays]
    paths: Mapping[str, PathSum]


class CaptureJudge:
    """What judges the wires of a capture piece by piece.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wires : tuple of str
        The wires.
    stretch, most : int
        As of `StretchJudge`.
    with_levels : bool
        Whether the capture has the levels of the wires.
    each : callable, optional
        Called with each part of the capture that is judged, as `TimelinePart`; all wires are then judged together.
    """

    def __init__(
        self,
        sheet: Sheet,
        wires: tuple[str, ...],
        stretch: int,
        most: int,
        *,
        with_levels: bool,
        each: Callable[[TimelinePart], object] | None = None,
    ) -> None:
        self._sheet, self._wires, self._size, self._each = sheet, wires, stretch, each
        self._groups = wires_judged_together(sheet, wires, together=each is not None)
        self._examples = FrameExamples()
        self._followers = Followers(sheet, wires) if with_levels else None
        self._judges = [
            StretchJudge(sheet, some, stretch=stretch, most=most, settled=self._settle) for some in self._groups
        ]
        self._waiting: dict[str, Characters] = {}
        self._latest_s: dict[str, float] = {}
        self._ends_s: dict[str, float | None] = {}
        self._seen: dict[str, None] = {}

    def add(self, piece: Mapping[str, Characters], receiver: Receiver) -> None:
        """Take in what happened next on the wires, a stretch at a time.

        Parameters
        ----------
        piece : mapping of str to Characters
            By wire, the characters.
        receiver : Receiver
            What found them in the levels.

        Raises
        ------
        TimesGoBackError
            If times go back on a wire that is judged together with others.
        """
        self._seen |= dict.fromkeys(piece)
        for number, part in enumerate(recorded_parts(piece)):
            if number:
                for judge in self._judges:
                    judge.rest()
            self._add_recorded(part, receiver)

    def _add_recorded(self, piece: Mapping[str, Characters], receiver: Receiver) -> None:
        """Take in what was recorded without a rest."""
        if self._followers is not None:
            known = receiver.received
            self._ends_s = {wire: extent.end_s for wire, extent in known.extents.items()}
            self._followers.add_changes(receiver.taken_changes())
            for judge in self._judges:
                judge.note_levels(known.extents, known.beginnings)
        for judge, group in zip(self._judges, self._groups, strict=True):
            some = {wire: piece[wire] for wire in group if wire in piece}
            if len(group) > 1:
                some = self._known_together(some, min(map(receiver.decided_s, group)))
            for part in parts_of(some, self._size):
                for wire, characters in part.items():
                    judge.add(wire, characters)
                judge.settle()

    def _settle(self, settled: Settled) -> None:
        """Take in a stretch that is given up."""
        self._examples.add(settled.stretch.frames, settled.held, settled.first, settled.before)
        if self._followers is not None:
            self._followers.settle(settled)
        if self._each is not None:
            self._each(part_of(self._sheet, settled))

    def _known_together(self, piece: Mapping[str, Characters], until_s: float) -> dict[str, Characters]:
        """Return the characters up to the time until which all wires are known, and keep the others."""
        found = {}
        for wire, some in piece.items():
            self._check_times(wire, some)
            characters = Characters.joined([self._waiting.pop(wire), some]) if wire in self._waiting else some
            count = int(np.searchsorted(characters.begin_s, until_s)) if until_s < np.inf else len(characters)
            found[wire] = characters.between(0, count)
            if until_s < np.inf:
                self._waiting[wire] = characters.between(count)
        return found

    def _check_times(self, wire: str, characters: Characters) -> None:
        begins_s = np.append(self._latest_s.get(wire, -np.inf), characters.begin_s)
        if (begins_s[1:] < begins_s[:-1]).any():
            raise TimesGoBackError(f'wire "{wire}"', "has times that go back", "must be read whole", "Use lr.read")
        self._latest_s[wire] = float(begins_s[-1])

    def close(self) -> Judged:
        """Return what was found, now that nothing follows."""
        total = Sum()
        beginnings: dict[str, Beginning] = {}
        for judge in self._judges:
            some, begins = judge.close()
            total.take(some)
            beginnings |= begins
            total.cuts += judge.cuts
        total.wires = {wire: total.wires[wire] for wire in self._sheet.wire if wire in self._seen}
        paths, events = {}, {}
        if self._followers is not None:
            paths, events = self._followers.paths(self._judges, self._ends_s), self._followers.events()
        of_paths = [finding for path in paths.values() for finding in path.findings]
        findings = total.conclude(self._sheet, beginnings, of_paths)
        checked = total.check(self._sheet, findings, self._wires, paths)
        return Judged(total, findings, checked, self._examples.by_layout, events, paths)


def parts_of(piece: Mapping[str, Characters], size: int) -> Iterator[Mapping[str, Characters]]:
    """Yield a piece of some wires in parts of some size: up to the same time on all of them, where there are times.

    Parameters
    ----------
    piece : mapping of str to Characters
        By wire, the characters.
    size : int
        How many characters of all wires a part has, or a few more.
    """
    if not piece:
        return
    longest = max(piece.values(), key=len)
    count = -(-sum(map(len, piece.values())) // size)
    if count < 2 or (len(piece) > 1 and not longest.has_times):
        yield piece
        return
    first = dict.fromkeys(piece, 0)
    for number in range(1, count + 1):
        place = len(longest) * number // count
        if number == count:
            end = {wire: len(characters) for wire, characters in piece.items()}
        elif len(piece) == 1:
            end = dict.fromkeys(piece, place)
        else:
            until_s = longest.begin_s[place]
            end = {wire: int(np.searchsorted(some.begin_s, until_s)) for wire, some in piece.items()}
        yield {wire: some.between(first[wire], end[wire]) for wire, some in piece.items()}
        first = end
