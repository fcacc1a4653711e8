"""What is counted of a receive path whose characters were taken a stretch at a time, without their columns."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import ReceivePath

from .replayed import Fate, Replay, ReplayCounts, within_ring


class ReplaySum(ReplayCounts):
    """Adds up what `ReceiveRun.take` returns, stretch by stretch: what the replay of all of it counts.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    """

    path: ReceivePath
    empty_reads: int = 0
    unfinished: int = 0
    services: int = 0
    looks: int = 0
    busy_s: float = 0.0
    longest_busy_s: float = 0.0
    span_s: float = 0.0
    most_held: int = 0

    def __init__(self, path: ReceivePath) -> None:
        self.path = path
        self._fates = np.zeros(len(Fate), np.int64)
        self._levels = {stage: _Level(path, stage) for stage in self.stages}
        self._reads_complete = self._reads_by_time = self._pauses = 0

    def add(self, part: Replay) -> None:
        """Add the next stretch.

        Parameters
        ----------
        part : Replay
            The characters that follow, as `ReceiveRun.take` returns them.
        """
        self._fates += np.bincount(part.fate, minlength=len(Fate))
        for level in self._levels.values():
            level.add(part)
        self._reads_complete += part.reads_complete
        self._reads_by_time += part.reads_by_time
        self._pauses += part.pauses
        self.empty_reads, self.unfinished, self.most_held = part.empty_reads, part.unfinished, part.most_held
        self.services, self.looks = part.services, part.looks
        self.busy_s, self.longest_busy_s, self.span_s = part.busy_s, part.longest_busy_s, part.span_s

    def __len__(self) -> int:
        """Return how many characters there are."""
        return int(self._fates.sum())

    def count(self, fate: Fate) -> int:
        """Return how many characters had a fate, as `ReplayCounts.count`."""
        return int(self._fates[fate])

    def high_water(self, stage: str) -> int:
        """Return how many characters a stage held at most, as `ReplayCounts.high_water`."""
        return self._levels[stage].most

    @property
    def reads_complete(self) -> int:
        """How many reads returned with all that they asked for."""
        return self._reads_complete

    @property
    def reads_by_time(self) -> int:
        """How many reads returned with a part because their time was up."""
        return self._reads_by_time

    @property
    def pauses(self) -> int:
        """How often the sender saw that it was to pause."""
        return self._pauses

    def __repr__(self) -> str:
        return f"<ReplaySum of {self.path.key}: {len(self):,} characters, {self.lost} lost>"


class _Level:
    """How full one stage was at most.

    What a stretch changes can lie behind changes of the next, so it waits until that begins to arrive.
    """

    def __init__(self, path: ReceivePath, stage: str) -> None:
        self._path, self._stage = path, stage
        self._held = self._most = 0
        nothing = np.empty(0, np.int8)
        self._waiting: tuple[npt.NDArray[np.float64], npt.NDArray[np.int8], npt.NDArray[np.int8]] = (
            np.empty(0),
            nothing,
            nothing,
        )

    def add(self, part: Replay) -> None:
        """Add the next stretch."""
        arrived_s = part.arrived_s[np.isfinite(part.arrived_s)]
        if len(arrived_s):
            self._let_happen(float(arrived_s[0]))
        before, changes = self._waiting, part.level_changes(self._stage)
        self._waiting = (
            np.concatenate([before[0], changes[0]]),
            np.concatenate([before[1], changes[1]]),
            np.concatenate([before[2], changes[2]]),
        )

    @property
    def most(self) -> int:
        """How many characters it held at most."""
        self._let_happen(np.inf)
        return self._most

    def _let_happen(self, until_s: float) -> None:
        """Let happen what happens before a time."""
        times, steps, turn = self._waiting
        is_due = times < until_s
        order = np.lexsort((turn[is_due], times[is_due]))
        levels = self._held + np.cumsum(steps[is_due][order], dtype=np.int64)
        if len(levels):
            self._held = int(levels[-1])
            self._most = max(self._most, int(within_ring(levels, self._stage, self._path).max()))
        self._waiting = times[~is_due], steps[~is_due], turn[~is_due]
