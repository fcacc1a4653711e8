"""What happened to many characters at once, noted in a few numbers, until the columns of a run are asked for.

All times are whole nanoseconds.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from .batch import Batch, spread
from .senders import Ahead

Times = npt.NDArray[np.int64]


class ManyAtOnce:
    """What happened to characters that follow one another."""

    __slots__ = ("_ahead", "_at_once", "_batches", "_fetches", "_gets", "_reads", "_stores")

    def __init__(self) -> None:
        self._batches: list[tuple[Batch, int]] = []
        self._gets: list[tuple[Batch, list[int]]] = []
        self._reads: list[int] = []
        self._fetches: list[int] = []
        self._stores: list[int] = []
        self._at_once: list[int] = []
        self._ahead: Ahead | None = None

    def serve(self, batch: Batch, services: int) -> None:
        """Note what the first services of a batch fetched."""
        self._batches.append((batch, services))

    def get(self, batch: Batch, begin: int, end: int) -> None:
        """Note that a read got what some services of a batch fetched, when each ended."""
        if not self._gets or self._gets[-1][0] is not batch:
            self._gets.append((batch, []))
        self._gets[-1][1].extend((begin, end))

    def read(self, first: int, count: int, at: int) -> None:
        """Note that characters left the ring."""
        self._reads += (first, count, at)

    def fetch_at_once(self, first: int, count: int, ahead: Ahead) -> None:
        """Note that characters were fetched as each was complete."""
        self._ahead = ahead
        self._at_once += (first, count)

    def store(self, first: int, count: int, at: int, each: int, *, is_fetched: bool) -> None:
        """Note that characters were stored, and fetched at the same times or not; see `Outcomes.store_all`."""
        (self._fetches if is_fetched else self._stores).extend((first, count, at, each))

    def write_to(self, fetched: Times, stored: Times, taken: Times, *, has_ring: bool) -> None:
        """Write each time into its place; without a ring the application takes what is stored."""
        for batch, services in self._batches:
            numbers, times = batch.fetches(services)
            fetched[numbers] = stored[numbers] = times
            if not has_ring:
                taken[numbers] = times
        for noted, columns in ((self._fetches, (fetched, stored)), (self._stores, (stored,))):
            first, count, at, each = _rows(noted, 4)
            numbers = spread(first, count)
            times = np.repeat(at, count) + spread(np.zeros_like(count), count) * np.repeat(each, count)
            for column in columns if has_ring else (*columns, taken):
                column[numbers] = times
        if self._ahead is not None:
            numbers = spread(*_rows(self._at_once, 2))
            fetched[numbers] = self._ahead.times[numbers - self._ahead.first]
        for batch, gets in self._gets:
            begin, end = _rows(gets, 2)
            numbers, times = batch.ends(spread(begin, end - begin))
            taken[numbers] = times
        first, count, at = _rows(self._reads, 3)
        taken[spread(first, count)] = np.repeat(at, count)


def _rows(noted: list[int], columns: int) -> Times:
    """Return notes of so many numbers each by columns."""
    return np.array(noted, dtype=np.int64).reshape(-1, columns).T
