"""What becomes of the characters of a receive path: when each was fetched, stored and taken, or lost.

All times are whole nanoseconds.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from .replayed import Fate
from .senders import MISSING


class Outcomes:
    """The columns of a run, one place for each character.

    Parameters
    ----------
    count : int
        How many characters there are.
    stop_at : collection of Fate
        At the first character with such a fate the run is over.
    notes_given : bool
        Whether to note in `given` what the application gets.

    Attributes
    ----------
    fetched, stored, taken, lost : list of int
        When each character was; `MISSING` where it never was.
    fate : bytearray
        What became of each, as `Fate`.
    is_over : bool
        Whether a character had a fate that ends the run.
    given : list of tuple of int and int
        When the application got a character that has not been asked for yet, and which.
    """

    __slots__ = (
        "_notes_given",
        "_pending",
        "_stop_at",
        "fate",
        "fetched",
        "given",
        "is_over",
        "lost",
        "stored",
        "taken",
    )

    def __init__(self, count: int, stop_at: Collection[Fate] = (), *, notes_given: bool = False) -> None:
        self.fetched, self.stored, self.taken, self.lost = ([MISSING] * count for _ in range(4))
        self.fate: bytearray = bytearray([Fate.LEFT]) * count
        self.is_over: bool = False
        self.given: list[tuple[int, int]] = []
        self._stop_at, self._notes_given = stop_at, notes_given
        self._pending: list[int] = []

    def extend(self, count: int) -> None:
        """Make place for further characters."""
        for column in (self.fetched, self.stored, self.taken, self.lost):
            column += [MISSING] * count
        self.fate += bytes([Fate.LEFT]) * count

    def lose(self, number: int, at: int, fate: Fate) -> None:
        """Note how a character was lost."""
        self.lost[number], self.fate[number] = at, fate
        if fate in self._stop_at:
            self.is_over = True

    def fetch_all(self, first: int, at: Sequence[int]) -> None:
        """Note when each of some characters that follow one another was fetched."""
        self.fetched[first : first + len(at)] = at

    def store_all(self, first: int, at: Sequence[int]) -> None:
        """Note when each of some characters that follow one another was stored."""
        self.stored[first : first + len(at)] = at

    def lose_all(self, first: int, at: Sequence[int], fate: Fate) -> None:
        """Note how characters that follow one another were lost."""
        self.lost[first : first + len(at)] = at
        self.fate[first : first + len(at)] = bytes([fate]) * len(at)
        if fate in self._stop_at:
            self.is_over = True

    def give_all(self, first: int, count: int, at: int) -> None:
        """Note that characters that follow one another left the ring."""
        self.taken[first : first + count] = [at] * count

    def keep_all(self, first: int, count: int, at: int) -> None:
        """Note that the application keeps characters that follow one another."""
        self.fate[first : first + count] = bytes([Fate.TAKEN]) * count
        if self._notes_given:
            self.given += [(at, number) for number in range(first, first + count)]

    def give(self, number: int, at: int) -> None:
        """Note that a character left the ring."""
        self.taken[number] = at

    def keep(self, number: int, at: int, is_kept: bool) -> None:
        """Note whether the application keeps a character that it took."""
        if not is_kept:
            self.lose(number, at, Fate.DISCARDED)
            return
        self.fate[number] = Fate.TAKEN
        if self._notes_given:
            self.given.append((at, number))

    def take(self, number: int, at: int) -> None:
        """Note that the application gets a character without a ring, with the end of the service."""
        self.taken[number], self.fate[number] = at, Fate.TAKEN
        if self._notes_given:
            self._pending.append(number)

    def take_all(self, first: int, at: Sequence[int]) -> None:
        """Note that the application gets characters that follow one another without a ring."""
        self.taken[first : first + len(at)] = at
        self.fate[first : first + len(at)] = bytes([Fate.TAKEN]) * len(at)
        if self._notes_given:
            self._pending += range(first, first + len(at))

    def publish(self, at: int) -> None:
        """Note that a service that gives characters without a ring has ended."""
        if self._pending:
            self.given += [(at, number) for number in self._pending]
            self._pending.clear()
