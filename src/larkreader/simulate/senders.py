"""When the characters of a replay begin and are complete: as they were sent, or held back by pauses.

All times are whole nanoseconds.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from collections.abc import Sequence

NEVER = 1 << 62  # a time that is never reached: 146 years
MISSING = -NEVER  # a time that never was
TOGETHER = 3  # characters, from which on it is quicker to treat them at once


def nanoseconds(seconds: float) -> int:
    """Return a time in whole nanoseconds."""
    return round(seconds * 1e9)


class FreeSender:
    """Sends characters whether or not anybody is ready.

    Parameters
    ----------
    begin : list of int
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
        When the last one was complete; `MISSING` before the first.
    is_unsure : bool
        Whether `next_begin` and `arrive_at` are no more than the earliest times at which another character could be.
    """

    number: int
    last_arrival: int
    arrive_at: int
    is_unsure: bool = False

    def __init__(self, begin: list[int], complete: int) -> None:
        self.begin = begin
        self.number, self.last_arrival = 0, MISSING
        self.arrivals: list[int] = [at + complete for at in begin]
        self.arrivals += [NEVER] * TOGETHER
        self.arrive_at = self.arrivals[0]
        self.most_held = 0
        self.refused: Sequence[int] = ()
        self.pauses: list[tuple[int, int]] = []

    @property
    def next_begin(self) -> int:
        """When the next character begins."""
        return self.begin[self.number] if self.number < len(self.begin) else NEVER

    def advance(self) -> None:
        """Go on to the next character."""
        self.last_arrival = self.arrive_at
        self.number += 1
        self.arrive_at = self.arrivals[self.number]

    def count_until(self, at: int, most: int) -> int:
        """Return how many of the next characters are complete up to a moment, at most so many."""
        end = min(self.number + most, len(self.begin))
        return bisect_right(self.arrivals, at, self.number, end) - self.number

    def skip(self, count: int) -> None:
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
    most_held: int
    is_unsure: bool

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
        self._wanted, self._complete, self._length = wanted, complete, length
        self._reaction, self._holds = reaction, holds
        self.begin: list[int] = [MISSING] * len(wanted)
        self.number, self.arrive_at, self.last_arrival = -1, NEVER, MISSING
        self.next_begin = NEVER
        self.refused: list[int] = []
        self.pauses: list[tuple[int, int]] = []
        self.most_held = 0
        self._held: deque[int] = deque()
        self._admitted = 0
        self._free_at = MISSING
        self._signals: deque[tuple[int, bool]] = deque()
        self._paused, self._left = False, 0
        self._plan()

    def signal(self, at: int, *, pause: bool) -> None:
        """See at a time, not before now, that it is to pause, or to go on."""
        if not self.sees_signals:
            return
        if pause:
            self.pauses.append((at, NEVER))
        elif self.pauses:
            self.pauses[-1] = (self.pauses[-1][0], at)
        self._signals.append((at, pause))
        if self.next_begin >= at:
            self._plan()

    def _plan(self) -> None:
        """Find out which character is next, and when, as far as signals are known."""
        if not self._held and self._admitted == len(self._wanted):
            self.number, self.is_unsure = -1, self._sure_until < NEVER
            self.next_begin = max(self._sure_until, self._free_at) if self.is_unsure else NEVER
            self.arrive_at = self.next_begin + self._complete if self.is_unsure else NEVER
            return
        self.number = self._held[0] if self._held else self._admitted
        at = max(self._wanted[self.number], self._free_at)
        paused, left = self._paused, self._left
        for seen_at, pause in self._signals:
            if seen_at > at:
                if not (paused and not left):
                    break
                at = seen_at  # it waits for the next signal
            paused, left = pause, self._reaction
        blocked = paused and not left
        self.next_begin = NEVER if blocked else at
        self.arrive_at = NEVER if blocked else at + self._complete
        # where there is room for few, it could be refused before the next begins
        self.is_unsure = self._holds < NEVER and self._sure_until < self.next_begin < NEVER

    def extend(self, begins: Sequence[int], sure_until: int) -> None:
        """Take in characters that are to be sent; no other begins before a time."""
        self._wanted += begins
        self.begin += [MISSING] * len(begins)
        self._sure_until = max(self._sure_until, sure_until)
        self._plan()

    def expect_from(self, at: int) -> None:
        """Expect further characters from an earlier moment on than `extend` ruled out."""
        self._sure_until = at
        self._plan()

    def advance(self) -> None:
        """Go on to the next character."""
        at = self.next_begin
        self._admit(at)
        number = self._held.popleft()
        self.begin[number] = at
        while self._signals and self._signals[0][0] <= at:
            self._paused, self._left = self._signals.popleft()[1], self._reaction
        if self._paused:
            self._left -= 1
        self._free_at = at + self._length
        self.last_arrival = self.arrive_at
        self._plan()

    def _admit(self, until: int) -> None:
        """Take in the characters that are to be sent up to a moment, or refuse them."""
        while self._admitted < len(self._wanted) and self._wanted[self._admitted] <= until:
            if len(self._held) < self._holds:
                self._held.append(self._admitted)
                self.most_held = max(self.most_held, len(self._held))
            else:
                self.refused.append(self._admitted)
            self._admitted += 1

    def close(self) -> None:
        """Take note that nothing more happens: what has not begun never will."""
        self._admit(NEVER)
        self.refused += self._held
