"""When the characters of a replay begin and are complete: as they were sent, or held back by pauses.

All times are whole nanoseconds.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections import deque
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
    is_unsure: bool = False

    def __init__(self, begin: npt.ArrayLike, complete: int) -> None:
        self.begin: npt.NDArray[np.int64] = np.asarray(begin, dtype=np.int64)
        self._complete = complete
        self.ahead: Ahead = Ahead(0, self.begin + complete, MANY, is_all=True)
        self.number, self.last_arrival = 0, MISSING
        self.arrivals: array[int] = self.ahead.arrivals
        self.arrive_at = self.arrivals[0]
        self.most_held = 0
        self.refused: Sequence[int] = ()
        self.pauses: list[tuple[int, int]] = []

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

    def extend(self, begins: Sequence[int], sure_until: int) -> None:
        """Raise, as all characters of this sender are known from the beginning."""
        raise TypeError("a sender that nothing holds back has all its characters from the beginning")

    def signal(self, at: int, *, pause: bool) -> None:
        """See that it is to pause, or to go on; nothing follows from it."""

    def close(self) -> None:
        """Take note that nothing more happens."""


class _Queue:
    """The characters that are to be sent: those that wait, those that are held back, those that found no room."""

    __slots__ = ("_held", "_runs", "_times", "admitted", "holds", "most_held", "refused", "wanted")

    def __init__(self, wanted: list[int], holds: int) -> None:
        self.wanted, self.holds = wanted, holds
        self._times = np.empty(0, dtype=np.int64)
        self._runs: deque[tuple[int, int]] = deque()  # of what is held back: the first, and the first behind
        self.refused: list[int] = []
        self.admitted = self.most_held = self._held = 0

    @property
    def next(self) -> int:
        """The next character; -1 if there is none."""
        if self._runs:
            return self._runs[0][0]
        return self.admitted if self.admitted < len(self.wanted) else -1

    @property
    def times(self) -> npt.NDArray[np.int64]:
        """When each character is to be sent, as an array."""
        if len(self._times) < len(self.wanted):
            self._times = np.array(self.wanted, dtype=np.int64)
        return self._times

    def admit(self, until: int) -> None:
        """Take in the characters that are to be sent up to a moment, or refuse them."""
        first, self.admitted = self.admitted, bisect_right(self.wanted, until, self.admitted)
        if first == self.admitted:
            return
        taken = min(self.admitted - first, self.holds - self._held)
        self._take(first, taken)
        self.most_held = max(self.most_held, self._held)
        self.refused.extend(range(first + taken, self.admitted))

    def pop(self) -> int:
        """Send the next character, which was taken in; return which it is."""
        number = self._runs[0][0]
        self._drop(1)
        return number

    def go_on(self, count: int, admitted: int, most_held: int) -> None:
        """Send so many characters, while others are taken in and none is refused."""
        self._take(self.admitted, admitted - self.admitted)
        self.admitted, self.most_held = admitted, max(self.most_held, most_held)
        self._drop(count)

    def refuse_all(self) -> None:
        """Refuse what is held back."""
        for first, behind in self._runs:
            self.refused.extend(range(first, behind))

    def _take(self, first: int, count: int) -> None:
        if count:
            follows = bool(self._runs) and self._runs[-1][1] == first
            self._runs.append((self._runs.pop()[0] if follows else first, first + count))
            self._held += count

    def _drop(self, count: int) -> None:
        self._held -= count
        while count:
            first, behind = self._runs.popleft()
            if behind - first > count:
                self._runs.appendleft((first + count, behind))
            count -= min(count, behind - first)


class _Permission:
    """Whether a sender may begin a character: what it has seen of the signals, and how many it still begins."""

    __slots__ = ("_is_paused", "_left", "_reaction", "_signals")

    def __init__(self, reaction: int) -> None:
        self._reaction, self._is_paused, self._left = reaction, False, 0
        self._signals: deque[tuple[int, bool]] = deque()

    def add(self, at: int, *, pause: bool) -> None:
        """Take note of a signal that is seen at a time."""
        self._signals.append((at, pause))

    @property
    def is_free(self) -> bool:
        """Whether it is not paused, and nothing asks for it."""
        return not self._is_paused and not self._signals

    def begin_from(self, at: int) -> int:
        """Return when a character can begin, from a moment on; `NEVER` as long as no signal lets it."""
        is_paused, left = self._is_paused, self._left
        for seen_at, pause in self._signals:
            if seen_at > at:
                if not (is_paused and not left):
                    break
                at = seen_at  # it waits for the next signal
            is_paused, left = pause, self._reaction
        return NEVER if is_paused and not left else at

    def use(self, at: int) -> None:
        """Begin a character."""
        while self._signals and self._signals[0][0] <= at:
            self._is_paused, self._left = self._signals.popleft()[1], self._reaction
        if self._is_paused:
            self._left -= 1


class PausedSender:
    """Holds back characters while it is asked to pause.

    A character that begins during a pause counts as one that it still has in its hardware; after `reaction` of them the
    next waits until the sender may go on.

    Parameters
    ----------
    wanted : list of int
        When each character is to be sent, ascending.
    complete, length : int
        How long after its begin a character is complete, and how long it takes the line.
    reaction : int
        How many characters it begins when it has seen the signal.
    holds : int
        How many characters it can hold back; one for which it has no room is lost.
    sure_until : int
        No character that is not among `wanted` yet begins before; `NEVER` if there are no others, see `extend`.
    sees_signals : bool
        Whether it pauses at all.
    """

    number: int
    arrive_at: int
    last_arrival: int
    next_begin: int
    is_unsure: bool
    sees_signals: bool

    def __init__(
        self,
        wanted: list[int],
        complete: int,
        length: int,
        *,
        reaction: int,
        holds: int,
        sure_until: int = NEVER,
        sees_signals: bool = True,
    ) -> None:
        self._sure_until, self.sees_signals = sure_until, sees_signals
        self._complete, self._length = complete, length
        self._queue, self._permission = _Queue(wanted, holds), _Permission(reaction)
        self.begin: array[int] = array("q", [MISSING]) * len(wanted)
        self.number, self.arrive_at, self.last_arrival = -1, NEVER, MISSING
        self.next_begin = NEVER
        self.pauses: list[tuple[int, int]] = []
        self._free_at = MISSING
        self._plan()

    @property
    def refused(self) -> Sequence[int]:
        """The characters for which there was no room."""
        return self._queue.refused

    @property
    def most_held(self) -> int:
        """How many characters were held back at most."""
        return self._queue.most_held

    def signal(self, at: int, *, pause: bool) -> None:
        """See at a time, not before now, that it is to pause, or to go on."""
        if not self.sees_signals:
            return
        if pause:
            self.pauses.append((at, NEVER))
        elif self.pauses:
            self.pauses[-1] = (self.pauses[-1][0], at)
        self._permission.add(at, pause=pause)
        if self.next_begin >= at:
            self._plan()

    def _plan(self) -> None:
        """Find out which character is next, and when, as far as signals are known."""
        queue = self._queue
        self.number = queue.next
        if self.number < 0:
            self.is_unsure = self._sure_until < NEVER
            self.next_begin = max(self._sure_until, self._free_at) if self.is_unsure else NEVER
        else:
            self.next_begin = self._permission.begin_from(max(queue.wanted[self.number], self._free_at))
            # where there is room for few, it could be refused before the next begins
            self.is_unsure = queue.holds < NEVER and self._sure_until < self.next_begin < NEVER
        self.arrive_at = NEVER if self.next_begin == NEVER else self.next_begin + self._complete

    def look_ahead(self, most: int) -> Ahead | None:
        """Return when the next characters are complete if it is not asked to pause; None if it is, or is unsure."""
        queue, first = self._queue, self.number
        if self._sure_until < NEVER or queue.holds < NEVER or first < 0 or not self._permission.is_free:
            return None
        end = min(first + most, len(queue.wanted))
        steps = self._length * np.arange(end - first)
        begins = queue.times[first:end] - steps
        begins[0] = self.next_begin
        begins = np.maximum.accumulate(begins) + steps
        return Ahead(first, begins + self._complete, MANY, is_all=end == len(queue.wanted))

    def skip(self, count: int, ahead: Ahead) -> None:
        """Go on by so many characters, one at least, which begin as was seen ahead."""
        queue, first = self._queue, self.number
        begins = ahead.times[first - ahead.first : first - ahead.first + count] - self._complete
        self.begin[first : first + count] = array("q", begins.tobytes())
        last = int(begins[-1])
        admitted = np.searchsorted(queue.times, begins, "right")
        waiting = admitted - np.arange(first, first + count)
        queue.go_on(count, int(admitted[-1]), int(waiting.max()))
        self._free_at, self.last_arrival = last + self._length, last + self._complete
        self._plan()

    def extend(self, begins: Sequence[int], sure_until: int) -> None:
        """Take in characters that are to be sent; no other begins before a time."""
        self._queue.wanted += begins
        self.begin.extend([MISSING] * len(begins))
        self._sure_until = max(self._sure_until, sure_until)
        self._plan()

    def expect_from(self, at: int) -> None:
        """Expect further characters from an earlier moment on than `extend` ruled out."""
        self._sure_until = at
        self._plan()

    def advance(self) -> None:
        """Go on to the next character."""
        at = self.next_begin
        self._queue.admit(at)
        self.begin[self._queue.pop()] = at
        self._permission.use(at)
        self._free_at = at + self._length
        self.last_arrival = self.arrive_at
        self._plan()

    def close(self) -> None:
        """Take note that nothing more happens: what has not begun never will."""
        self._queue.admit(NEVER)
        self._queue.refuse_all()
