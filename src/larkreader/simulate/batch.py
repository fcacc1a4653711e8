"""Services that were worked out together: when each began and ended, and which characters it fetched.

All times are whole nanoseconds.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from .senders import Ahead

Times = npt.NDArray[np.int64]


@dataclass(slots=True)
class Batch:
    """Services that follow one another; each column has one place for each.

    Parameters
    ----------
    ahead : Ahead
        The characters that they fetch.
    begin, end : sequence of int
        When each began and ended.
    since : sequence of int
        When the processor began to be busy without a rest.
    first : sequence of int
        The first character that it fetched.
    fetched : sequence of int
        How many characters were fetched up to its end, from the beginning of the batch on.
    entering, each : int
        How long after its begin a service fetches the first character, and how long after that each other.
    upto : sequence of int
        The first character behind those that had gone into the hardware, or been lost, by then.
    lost : sequence of int
        Those services before whose first fetch the FIFO overflowed.
    arrays : dict of str to ndarray of int64
        Columns that are there as arrays too, by their names.
    """

    ahead: Ahead
    begin: Sequence[int]
    end: Sequence[int]
    since: Sequence[int]
    first: Sequence[int]
    fetched: Sequence[int]
    upto: Sequence[int]
    entering: int = 0
    each: int = 0
    lost: Sequence[int] = field(default_factory=list)
    arrays: dict[str, Times] = field(default_factory=dict)

    def __len__(self) -> int:
        """Return how many services there are."""
        return len(self.begin)

    def last_within(self, most: int, begin: int, end: int) -> int:
        """Return up to which service, from one to another, no more characters than so many are fetched."""
        return bisect_right(self.fetched, most + (self.fetched[begin - 1] if begin else 0), begin, end)

    def fetches(self, services: int) -> tuple[Times, Times]:
        """Return which characters the first services fetched, and when."""
        count = self._counts(services)
        places = spread(np.zeros_like(count), count)
        begin = np.repeat(self._array("begin")[:services] + self.entering, count)
        return spread(self._array("first")[:services], count), begin + places * self.each

    def ends(self, services: Times) -> tuple[Times, Times]:
        """Return which characters some services fetched, and when the service of each ended."""
        count = self._counts(len(self))[services]
        return spread(self._array("first")[services], count), np.repeat(self._array("end")[services], count)

    def numbers(self, begin: int, end: int) -> Sequence[int]:
        """Return the characters that some services fetched."""
        if self.lost and bisect_left(self.lost, begin) < bisect_left(self.lost, end):
            return [number for service in range(begin, end) for number in self.fetched_by(service)]
        return range(self.first[begin], self.upto[end - 1])

    def overruns(self, service: int) -> Sequence[int]:
        """Return when each character was lost that found no room before a service."""
        first = self.fetched_by(service).stop - self.ahead.first
        return self.ahead.arrivals[first : self.upto[service] - self.ahead.first]

    def _counts(self, services: int) -> Times:
        """Return how many characters each of the first services fetched."""
        return np.diff(self._array("fetched")[:services], prepend=0)

    def _array(self, name: str) -> Times:
        """Return a column as an array."""
        if name not in self.arrays:
            column = getattr(self, name)
            is_even = isinstance(column, range)
            self.arrays[name] = np.arange(column.start, column.stop, column.step) if is_even else np.array(column)
        return self.arrays[name]

    def fetched_by(self, service: int) -> range:
        """Return the characters that a service fetched."""
        first = self.first[service]
        return range(first, first + self.fetched[service] - (self.fetched[service - 1] if service else 0))


def spread(first: Times, count: Times) -> Times:
    """Return so many numbers from each first on, one behind another."""
    before = np.cumsum(count) - count
    return np.repeat(first - before, count) + np.arange(int(count.sum()))
