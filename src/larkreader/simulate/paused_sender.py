"""A sender that holds back characters while it is asked to pause. All times are whole nanoseconds."""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections import deque
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from .senders import MANY, MISSING, NEVER, Ahead


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

    def give_up(self, count: int) -> None:
        """Leave out so many characters, none of which waits, and count from the next."""
        del self.wanted[:count]
        self._times = self._times[count:]
        self._runs = deque((first - count, behind - count) for first, behind in self._runs)
        self.refused = [number - count for number in self.refused if number >= count]
        self.admitted -= count

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
    waits_for_due : bool
        Whether a character begins only when all that are to be sent by then are known, so that `most_held` is exact.
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
        waits_for_due: bool = False,
    ) -> None:
        self._sure_until, self.sees_signals, self._waits_for_due = sure_until, sees_signals, waits_for_due
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
            # where there is room for few, one that is not known yet could be refused before the next begins
            may_be_refused = queue.holds < NEVER and self._sure_until < self.next_begin
            may_be_due = self._waits_for_due and self._sure_until <= self.next_begin
            self.is_unsure = (may_be_refused or may_be_due) and self.next_begin < NEVER
        self.arrive_at = NEVER if self.next_begin == NEVER else self.next_begin + self._complete

    def look_ahead(self, most: int) -> Ahead | None:
        """Return when the next characters are complete if it is not asked to pause; None if it is, or is unsure."""
        queue, first = self._queue, self.number
        if queue.holds < NEVER or first < 0 or not self._permission.is_free:
            return None
        end = min(first + most, len(queue.wanted))
        steps = self._length * np.arange(end - first)
        begins = queue.times[first:end] - steps
        begins[0] = self.next_begin
        begins = np.maximum.accumulate(begins) + steps
        if self._sure_until >= NEVER:
            return Ahead(first, begins + self._complete, MANY, is_all=end == len(queue.wanted))
        sure = begins[: np.searchsorted(begins, self._sure_until)]
        return Ahead(first, sure + self._complete, MANY, is_all=False) if len(sure) else None

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

    def extend(self, begins: Sequence[int] | npt.NDArray[np.int64], sure_until: int) -> None:
        """Take in characters that are to be sent; no other begins before a time."""
        self._queue.wanted += begins.tolist() if isinstance(begins, np.ndarray) else begins
        self.begin.extend([MISSING] * len(begins))
        self._sure_until = max(self._sure_until, sure_until)
        self._plan()

    def give_up(self, count: int) -> None:
        """Leave out so many characters, which have all arrived or were refused, and count from the next."""
        self._queue.give_up(count)
        del self.begin[:count]
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
