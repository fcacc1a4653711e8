"""The ring of the software, as it stands during a run. All times are whole nanoseconds."""

from __future__ import annotations

from collections import deque
from itertools import islice

from larkreader.declare.paths.receive_path import ReceivePath

from .outcomes import Outcomes
from .replayed import Fate
from .senders import MISSING, NEVER


def drop_first(held: deque[int], count: int) -> None:
    """Leave out the first of what is held."""
    left = len(held) - count
    if left < count:
        rest = list(islice(held, count, None)) if left else ()
        held.clear()
        held.extend(rest)
    else:
        for _ in range(count):
            held.popleft()


def renumber(held: deque[int], by: int) -> None:
    """Count the characters that are held from a later character on."""
    numbers = [number - by for number in held]
    held.clear()
    held.extend(numbers)


class RingState:
    """The ring of the software; without one the application gets what is stored at once."""

    __slots__ = ("capacity", "held", "when_full")

    def __init__(self, path: ReceivePath) -> None:
        ring = path.ring
        self.held: deque[int] = deque()
        self.capacity: int = NEVER if ring is None else ring.size if ring.full == "wrap" else ring.capacity
        self.when_full: str = "" if ring is None else ring.full

    @property
    def must_wait(self) -> bool:
        """Whether there is no room for what would be fetched, and the service stops until there is."""
        return self.when_full == "stop" and len(self.held) == self.capacity

    def has_room_for(self, count: int) -> bool:
        """Return whether so many can be stored, none of them the last that the ring can hold."""
        return not self.when_full or len(self.held) + count < self.capacity

    def store_all(self, first: int, count: int, at: int, each: int, outcomes: Outcomes, *, is_fetched: bool) -> None:
        """Store characters that follow one another, for which there is room, one after each so many nanoseconds."""
        outcomes.store_all(first, count, at, each, is_fetched=is_fetched)
        if self.when_full:
            self.held.extend(range(first, first + count))

    def store(self, number: int, at: int, outcomes: Outcomes) -> None:
        """Store a character."""
        outcomes.stored[number] = at
        if not self.when_full:
            outcomes.take(number, at)
            return
        held = self.held
        if len(held) == self.capacity:
            if self.when_full == "drop-new":
                outcomes.stored[number] = MISSING
                outcomes.lose(number, at, Fate.DROPPED)
                return
            outcomes.lose(held.popleft(), at, Fate.OVERWRITTEN)
        held.append(number)
        if self.when_full == "wrap" and len(held) == self.capacity:
            for lost in held:
                outcomes.lose(lost, at, Fate.OVERWRITTEN)
            held.clear()
