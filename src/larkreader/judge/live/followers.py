"""What is judged as the characters of a large capture settle: receive paths, and delays behind events."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from larkreader.declare.document.sheet import Sheet
from larkreader.judge.measure.events import EventDelays, EventFollower
from larkreader.judge.setup.path_judge import PathJudge
from larkreader.judge.setup.path_report import SEARCHED, PathSum
from larkreader.judge.verdict.path_verdicts import frame_ends_with, is_unfinished, starts_on

from .parts import Settled
from .stretches import StretchJudge


class Followers:
    """Takes in what `StretchJudge` hands over, of the wires whose levels were captured.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wires : sequence of str
        The wires.
    """

    def __init__(self, sheet: Sheet, wires: Sequence[str]) -> None:
        self._sheet = sheet
        self._paths = {wire: PathJudge(sheet, wire, searched=SEARCHED) for wire in wires if wire in sheet.receive}
        self._events: dict[str, EventFollower] = {}

    def add_changes(self, changes_s: Mapping[str, Sequence[npt.NDArray[np.float64]]]) -> None:
        """Take in when event signals changed, in seconds, by the names of the events; before the characters."""
        for key, some in changes_s.items():
            follower = self._events.setdefault(key, EventFollower(self._sheet.event[key]))
            for at_s in some:
                follower.add_changes(at_s)

    def settle(self, settled: Settled) -> None:
        """Take in what `StretchJudge` hands over."""
        for wire, held in settled.held.items():
            frames = settled.frames_on(self._sheet.layouts_of(wire), wire)
            characters = held.between(0, settled.end[wire])
            if wire in self._paths:
                self._paths[wire].add(characters, starts_on(self._sheet, wire, frames) + settled.before[wire])
            for key, follower in self._events.items():
                event = self._sheet.event[key]
                if event.wire == wire:
                    begins = [item.begin_s for item in frames.values()] or [np.empty(0)]
                    by_frames = event.to == "frame"
                    follower.add_begins(np.sort(np.concatenate(begins)) if by_frames else characters.begin_s)

    def paths(self, judges: Sequence[StretchJudge], ends_s: Mapping[str, float | None]) -> dict[str, PathSum]:
        """Return what receive paths make of the wires, now that nothing follows.

        Parameters
        ----------
        judges : sequence of StretchJudge
            What judged the wires, and is closed.
        ends_s : mapping of str to float
            By wire whose levels were captured, when the capture ends, in seconds; None where that is not known.
        """
        found = {}
        for judge in judges:
            for wire, held in judge.held.items():
                if wire in self._paths and wire in ends_s and self._paths[wire].count:
                    latest, layouts = judge.latest, self._sheet.layouts_of(wire)
                    found[wire] = self._paths[wire].close(
                        ends_s[wire],
                        frame_ends=frame_ends_with(len(held), layouts, latest.frames),
                        is_unfinished=is_unfinished(len(held), latest.skipped.get(wire)),
                    )
        return found

    def events(self) -> dict[str, EventDelays]:
        """Return what followed the changes of event signals, by the names of the events."""
        return {key: follower.delays() for key, follower in self._events.items()}
