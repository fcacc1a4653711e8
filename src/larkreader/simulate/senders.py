"""When the characters of a replay begin and are complete: as they were sent, or held back by pauses.

All times are whole nanoseconds.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

NEVER = 1 << 62  # a time that is never reached: 146 years
MISSING = -NEVER  # a time that never was
TOGETHER = 3  # characters, from which on it is quicker to treat them at once
MANY = 64  # characters, more than a service mostly finds


def nanoseconds(seconds: float) -> int:
    """Return a time in whole nanoseconds."""
    return round(seconds * 1e9)


class Ahead:
    """When the next characters are complete, as far as nothing makes the sender pause.

    Parameters
    ----------
    first : int
        The first character whose time is known.
    times : ndarray of int64, shape (n_known,)
        When each is complete.
    beyond : int
        How many places of `arrivals` behind them hold `NEVER`.
    is_all : bool
        Whether no other characters follow.

    Attributes
    ----------
    number : int
        The next character.
    arrivals : array of int
        The times, and then `NEVER` for each place beyond.
    end : int
        The first character whose time is not known.
    """

    __slots__ = ("_gaps", "arrivals", "beyond", "end", "first", "is_all", "number", "times")

    first: int
    number: int
    times: npt.NDArray[np.int64]
    beyond: int
    is_all: bool

    def __init__(self, first: int, times: npt.NDArray[np.int64], beyond: int, *, is_all: bool) -> None:
        self.first = self.number = first
        self.times, self.beyond, self.is_all = times, beyond, is_all
        self.end: int = first + len(times)
        self.arrivals: array[int] = array("q", times.tobytes())
        self.arrivals.extend([NEVER] * beyond)
        self._gaps: list[int] | None = None

    def gaps(self, idle: int) -> list[int]:
        """Return the places behind which the line is idle for longer than a time, the last place among them.

        The time is that of the path, the same at every call.
        """
        if idle >= NEVER:
            return []
        if self._gaps is None:
            self._gaps = np.flatnonzero(self.times[1:] - self.times[:-1] > idle).tolist()
            self._gaps.append(len(self.times) - 1)
        return self._gaps


class FreeSender:
    """Sends characters whether or not the receiver is ready.

    Parameters
    ----------
    begin : array_like of int
        When each begins, ascending.
    complete : int
        How long after that it is complete.
    sure_until : int
        No other character begins before; `NEVER` if there are no others, see `extend`.

    Attributes
    ----------
    number : int
        The next character.
    arrive_at : int
        When it is complete; `NEVER` if there is none.
    last_arrival : int
        When the last character was complete; `MISSING` before the first.
    is_unsure : bool
        Whether `next_begin` and `arrive_at` are no more than the earliest times at which another character could be.
    """

    number: int
    last_arrival: int
    arrive_at: int
    is_unsure: bool
    ahead: Ahead
    arrivals: array[int]

    def __init__(self, begin: npt.ArrayLike, complete: int, *, sure_until: int = NEVER) -> None:
        self.begin: npt.NDArray[np.int64] = np.asarray(begin, dtype=np.int64)
        self._complete, self._sure_until = complete, sure_until
        self.number, self.last_arrival = 0, MISSING
        self.most_held = 0
        self.refused: Sequence[int] = ()
        self.pauses: list[tuple[int, int]] = []
        self._look()

    def _look(self) -> None:
        """Take note of which characters are known."""
        self.ahead = Ahead(0, self.begin + self._complete, MANY, is_all=self._sure_until >= NEVER)
        self.ahead.number, self.arrivals = self.number, self.ahead.arrivals
        self.arrive_at, self.is_unsure = self.arrivals[self.number], False
        if self.arrive_at >= NEVER:
            self._run_out()

    def _run_out(self) -> None:
        """Take note that all characters that are known have arrived."""
        if self._sure_until < NEVER:
            self.arrive_at, self.is_unsure = self._sure_until + self._complete, True

    @property
    def next_begin(self) -> int:
        """When the next character begins."""
        return self.arrive_at - self._complete if self.arrive_at < NEVER else NEVER

    def look_ahead(self, _: int) -> Ahead | None:
        """Return when the next characters are complete."""
        self.ahead.number = self.number
        return self.ahead

    def advance(self) -> None:
        """Go on to the next character."""
        self.last_arrival = self.arrive_at
        self.number += 1
        self.arrive_at = self.arrivals[self.number]
        if self.arrive_at >= NEVER:
            self._run_out()

    def count_until(self, at: int, most: int) -> int:
        """Return how many of the next characters are complete up to a moment, at most so many."""
        end = min(self.number + most, len(self.begin))
        return bisect_right(self.arrivals, at, self.number, end) - self.number

    def gap_from(self, number: int, idle: int) -> int:
        """Return the first character, from one on, behind which the line is idle for longer than a time."""
        gaps = self.ahead.gaps(idle)
        return gaps[bisect_left(gaps, number)]

    def skip(self, count: int, _: Ahead | None = None) -> None:
        """Go on by so many characters, one at least."""
        self.number += count
        self.last_arrival, self.arrive_at = self.arrivals[self.number - 1], self.arrivals[self.number]
        if self.arrive_at >= NEVER:
            self._run_out()

    def extend(self, begins: Sequence[int] | npt.NDArray[np.int64], sure_until: int) -> None:
        """Take in characters that follow; no other begins before a time."""
        self.begin = np.concatenate([self.begin, np.asarray(begins, dtype=np.int64)])
        self._sure_until = max(self._sure_until, sure_until)
        self._look()

    def give_up(self, count: int) -> None:
        """Leave out so many characters, which have all arrived, and count from the next."""
        self.begin = self.begin[count:].copy()
        self.number -= count
        self._look()

    def signal(self, at: int, *, pause: bool) -> None:
        """See that it is to pause, or to go on; nothing follows from it."""

    def close(self) -> None:
        """Take note that nothing more happens."""
