"""What became of the characters that ran through a receive path: one row a character, one row a read."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import Columns
from larkreader.declare.paths.receive_path import ReceivePath

Seconds = npt.NDArray[np.float64]

STAGES: Mapping[str, tuple[str, str]] = {
    "fifo": ("arrived_s", "fetched_s"),
    "block": ("fetched_s", "stored_s"),
    "ring": ("stored_s", "taken_s"),
}


class Fate(IntEnum):
    """What became of a character."""

    TAKEN = 0
    """The application has it."""
    OVERRUN = 1
    """The hardware lost it, as FIFO and shift register were full."""
    BLOCK = 2
    """DMA wrote over it in its block."""
    DROPPED = 3
    """The ring was full, and it was dropped."""
    OVERWRITTEN = 4
    """The ring was full, and it was given up for a newer one."""
    DISCARDED = 5
    """The application threw it away, as part of a read that was not finished, or of a line that was too long."""
    HELD_BACK = 6
    """It never went out, as the sender, asked to pause, had no room for it, or was never asked to go on."""
    LEFT = 7
    """It was still on its way to the application at the end."""


HARDWARE = (Fate.OVERRUN,)
BUFFERS = (Fate.BLOCK, Fate.DROPPED, Fate.OVERWRITTEN)
LOST = (*HARDWARE, *BUFFERS, Fate.DISCARDED, Fate.HELD_BACK)


@dataclass(frozen=True, eq=False, repr=False)
class Reads(Columns):
    """What the application took, one row a read that gave something; all columns have shape (n_reads,).

    Parameters
    ----------
    begin_s, end_s : ndarray of float64
        When it was called, and when it returned, in seconds. The same for one that does not wait.
    first : ndarray of int64
        Number of the first character that it took.
    count : ndarray of int64
        How many characters it took.
    by_time : ndarray of bool
        Whether it returned because its time was up, not because it had all that it asked for.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("begin_s", "end_s", "first", "count", "by_time")

    begin_s: Seconds
    end_s: Seconds
    first: npt.NDArray[np.int64]
    count: npt.NDArray[np.int64]
    by_time: npt.NDArray[np.bool_]


class ReplayCounts(ABC):
    """What is counted of characters that ran through a receive path, with their columns (`Replay`) or without.

    Attributes
    ----------
    path : ReceivePath
        What was declared.
    empty_reads : int
        How many reads returned with nothing because their time was up.
    unfinished : int
        How many characters had gone into a read that was still waiting at the end.
    services : int
        How often the service ran and found something.
    looks : int
        How often a polling loop looked, or else `services`.
    busy_s : float
        How long the processor was at work for the service, looks that found nothing included.
    longest_busy_s : float
        The longest stretch of that without a rest.
    span_s : float
        From the first character's start to the last event.
    most_held : int
        How many characters the sender held back at most.
    """

    path: ReceivePath
    empty_reads: int
    unfinished: int
    services: int
    looks: int
    busy_s: float
    longest_busy_s: float
    span_s: float
    most_held: int

    @abstractmethod
    def __len__(self) -> int:
        """Return how many characters there are."""

    @abstractmethod
    def count(self, fate: Fate) -> int:
        """Return how many characters had a fate.

        Parameters
        ----------
        fate : Fate
            The fate.
        """

    @abstractmethod
    def high_water(self, stage: str) -> int:
        """Return how many characters a stage held at most.

        Parameters
        ----------
        stage : str
            One of `stages`.

        Returns
        -------
        int
            Characters.
        """

    @property
    @abstractmethod
    def reads_complete(self) -> int:
        """How many reads returned with all that they asked for."""

    @property
    @abstractmethod
    def reads_by_time(self) -> int:
        """How many reads returned with a part because their time was up."""

    @property
    @abstractmethod
    def pauses(self) -> int:
        """How often the sender saw that it was to pause."""

    @property
    def lost(self) -> int:
        """How many characters the application never gets, those still on their way not counted."""
        return sum(self.count(fate) for fate in LOST)

    @property
    def busy_share(self) -> float:
        """Which share of the time the processor was at work for the service."""
        return self.busy_s / self.span_s if self.span_s else 0.0

    @property
    def stages(self) -> tuple[str, ...]:
        """Which of `STAGES` the path has."""
        has = {"fifo": True, "block": self.path.service.kind == "dma", "ring": self.path.ring is not None}
        return tuple(stage for stage in STAGES if has[stage])

    def to_dict(self) -> dict[str, Any]:
        """Return the counts as JSON has them."""
        return {
            "characters": len(self),
            "fates": {fate.name.lower().replace("_", "-"): n for fate in Fate if (n := self.count(fate))},
            "high_water": {stage: self.high_water(stage) for stage in self.stages},
            "reads": {
                "complete": self.reads_complete,
                "by_time": self.reads_by_time,
                "empty": self.empty_reads,
                "unfinished": self.unfinished,
            },
            "pauses": self.pauses,
            "services": self.services,
            "busy_share": self.busy_share,
            "longest_busy_s": self.longest_busy_s,
            "most_held": self.most_held,
        }


@dataclass(frozen=True, eq=False, repr=False)
class Replay(Columns, ReplayCounts):
    """Characters that ran through a receive path, in order of time; all columns have shape (n_characters,).

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    begin_s : ndarray of float64
        Start bit, in seconds on the clock of the capture; later than there where the sender paused. NaN where it never
        went out.
    arrived_s : ndarray of float64
        When it was complete.
    fetched_s : ndarray of float64
        When it was fetched from the hardware. NaN where it never was.
    stored_s : ndarray of float64
        When it was put into the ring. NaN where it never was.
    taken_s : ndarray of float64
        When the application took it. NaN where it never did.
    lost_s : ndarray of float64
        When it was lost. NaN where it was not.
    value : ndarray of uint16
        Its data bits.
    fate : ndarray of uint8
        What became of it, as `Fate`.
    reads : Reads
        What the application took at a time.
    empty_reads : int
        How many reads returned with nothing because their time was up.
    unfinished : int
        How many characters had gone into a read that was still waiting at the end.
    pauses_s : ndarray of float64, shape (n_pauses, 2)
        When the sender saw that it was to pause, and when that it could go on; infinite where it never did.
    services : int
        How often the service ran and found something.
    looks : int
        How often a polling loop looked, or else `services`.
    busy_s : float
        How long the processor was at work for the service, looks that found nothing included.
    longest_busy_s : float
        The longest stretch of that without a rest.
    span_s : float
        From the first character's start to the last event.
    most_held : int
        How many characters the sender held back at most.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = (
        "begin_s",
        "arrived_s",
        "fetched_s",
        "stored_s",
        "taken_s",
        "lost_s",
        "value",
        "fate",
    )

    path: ReceivePath
    begin_s: Seconds
    arrived_s: Seconds
    fetched_s: Seconds
    stored_s: Seconds
    taken_s: Seconds
    lost_s: Seconds
    value: npt.NDArray[np.uint16]
    fate: npt.NDArray[np.uint8]
    reads: Reads
    empty_reads: int
    unfinished: int
    pauses_s: Seconds
    services: int
    looks: int
    busy_s: float
    longest_busy_s: float
    span_s: float
    most_held: int

    def count(self, fate: Fate) -> int:
        """Return how many characters had a fate, as `ReplayCounts.count`."""
        return int(np.count_nonzero(self.fate == fate))

    @property
    def reads_complete(self) -> int:
        """How many reads returned with all that they asked for."""
        return len(self.reads) - self.reads_by_time

    @property
    def reads_by_time(self) -> int:
        """How many reads returned with a part because their time was up."""
        return int(np.count_nonzero(self.reads.by_time))

    @property
    def pauses(self) -> int:
        """How often the sender saw that it was to pause."""
        return len(self.pauses_s)

    def level_changes(self, stage: str) -> tuple[Seconds, npt.NDArray[np.int8], npt.NDArray[np.int8]]:
        """Return when a stage held one more or one less, unsorted.

        Parameters
        ----------
        stage : str
            One of `stages`.

        Returns
        -------
        tuple of ndarray
            Times in seconds, float64 of shape (n,); 1 or -1 and the order of those at one time, int8 of the same
            shape: what is overwritten goes first, then what arrives, then what is taken.
        """
        received, went = (self.column(name) for name in STAGES[stage])
        known = ~np.isnan(received)
        if stage == "fifo":
            known &= self.fate != Fate.OVERRUN
        received, went, lost = received[known], went[known], self.lost_s[known]
        is_lost = np.isnan(went) & (lost > received)
        gone = np.where(np.isnan(went), lost, went)
        is_gone = ~np.isnan(gone)
        times = np.concatenate([received, gone[is_gone]])
        steps = np.repeat(np.array([1, -1], np.int8), [len(received), int(is_gone.sum())])
        turn = np.concatenate([np.zeros(len(received), np.int8), np.where(is_lost, -1, 1)[is_gone].astype(np.int8)])
        return times, steps, turn

    def level(self, stage: str) -> tuple[Seconds, npt.NDArray[np.int64]]:
        """Return how full a stage was over time.

        Parameters
        ----------
        stage : str
            One of `stages`.

        Returns
        -------
        tuple of ndarray
            Times in seconds, ascending, float64 of shape (n,); and how many characters it holds from then on, int64 of
            the same shape.
        """
        times, steps, turn = self.level_changes(stage)
        order = np.lexsort((turn, times))
        return times[order], within_ring(np.cumsum(steps[order], dtype=np.int64), stage, self.path)

    def high_water(self, stage: str) -> int:
        """Return how many characters a stage held at most, as `ReplayCounts.high_water`."""
        _, levels = self.level(stage)
        return int(levels.max(initial=0))

    def about(self) -> str:
        """Say how many were lost."""
        return f"of {self.path.key}, {self.lost} lost"


def within_ring(levels: npt.NDArray[np.int64], stage: str, path: ReceivePath) -> npt.NDArray[np.int64]:
    """Return levels, of a ring no more than it holds: what is stored in the place of what was taken just then."""
    return np.minimum(levels, path.ring.capacity) if stage == "ring" and path.ring is not None else levels
