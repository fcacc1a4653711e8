"""What becomes of the characters of a receive path: when each was fetched, stored and taken, or lost.

What happens to a single character is written into its place at once. What happens to many is noted in a few numbers
(`many_at_once`), and written into their places when the columns are asked for. All times are whole nanoseconds.
"""

from __future__ import annotations

from array import array
from collections.abc import Collection, Sequence

import numpy as np
import numpy.typing as npt

from .batch import Batch
from .many_at_once import ManyAtOnce
from .replayed import Fate
from .senders import MISSING

Times = npt.NDArray[np.int64]


class Outcomes:
    """The columns of a run, one place for each character.

    Parameters
    ----------
    count : int
        How many characters there are.
    stop_at : collection of Fate
        At the first character with such a fate the run is over.
    has_ring : bool
        Whether what is fetched goes into a ring; without one the application has it.
    notes_given : bool
        Whether to note in `given` what the application gets.

    Attributes
    ----------
    fetched, stored, taken, lost : array of int
        When each character was; `MISSING` where it never was. See `columns`.
    fate : bytearray
        What became of each, as `Fate`.
    is_over : bool
        Whether a character had a fate that ends the run.
    given : list of tuple of int and int
        When the application got a character that has not been asked for yet, and which.
    """

    __slots__ = (
        "_has_ring",
        "_notes_given",
        "_pending",
        "_stop_at",
        "fate",
        "fetched",
        "given",
        "is_over",
        "lost",
        "many",
        "stored",
        "taken",
    )

    fetched: array[int]
    stored: array[int]
    taken: array[int]
    lost: array[int]

    def __init__(
        self, count: int, stop_at: Collection[Fate] = (), *, has_ring: bool = True, notes_given: bool = False
    ) -> None:
        self.fetched, self.stored, self.taken, self.lost = (array("q", [MISSING]) * count for _ in range(4))
        self.fate: bytearray = bytearray([Fate.LEFT]) * count
        self.is_over: bool = False
        self.given: list[tuple[int, int]] = []
        self._stop_at, self._has_ring, self._notes_given = stop_at, has_ring, notes_given
        self._pending: list[int] = []
        self.many: ManyAtOnce = ManyAtOnce()

    def columns(self) -> tuple[Times, Times, Times, Times]:
        """Return when each character was fetched, stored, taken and lost; int64, `MISSING` where it never was."""
        fetched, stored, taken, lost = (
            np.frombuffer(column, dtype=np.int64) if column else np.empty(0, dtype=np.int64)
            for column in (self.fetched, self.stored, self.taken, self.lost)
        )
        self.many.write_to(fetched, stored, taken, has_ring=self._has_ring)
        return fetched, stored, taken, lost

    def extend(self, count: int) -> None:
        """Make place for further characters."""
        for column in (self.fetched, self.stored, self.taken, self.lost):
            column.extend(array("q", [MISSING]) * count)
        self.fate += bytes([Fate.LEFT]) * count

    def give_up(self, count: int) -> None:
        """Leave out the first characters, of which `columns` was asked, and count from the next."""
        self.many = ManyAtOnce()  # what it has noted is in the columns
        for column in (self.fetched, self.stored, self.taken, self.lost):
            del column[:count]
        del self.fate[:count]

    def lose(self, number: int, at: int, fate: Fate) -> None:
        """Note how a character was lost."""
        self.lost[number], self.fate[number] = at, fate
        if fate in self._stop_at:
            self.is_over = True

    def serve(self, batch: Batch, services: int) -> None:
        """Note what the first services of a batch fetched, and what was lost before them."""
        self.many.serve(batch, services)
        for place in batch.lost:
            if place >= services:
                break
            after = batch.fetched_by(place).stop
            self.lose_all(after, batch.overruns(place), Fate.OVERRUN)
        if not self._has_ring:
            first, upto = batch.first[0], batch.upto[services - 1]
            self.fate[first:upto] = self.fate[first:upto].replace(bytes([Fate.LEFT]), bytes([Fate.TAKEN]))

    def store_all(self, first: int, count: int, at: int, each: int, *, is_fetched: bool) -> None:
        """Note that characters that follow one another are stored, one after each so many nanoseconds.

        Parameters
        ----------
        first, count : int
            Which.
        at, each : int
            When the first is, and how long after that each other.
        is_fetched : bool
            Whether each is fetched from the hardware at that time too.
        """
        self.many.store(first, count, at, each, is_fetched=is_fetched)
        if not self._has_ring:
            self.fate[first : first + count] = bytes([Fate.TAKEN]) * count
            if self._notes_given:
                self._pending += range(first, first + count)

    def lose_all(self, first: int, at: Sequence[int], fate: Fate) -> None:
        """Note how characters that follow one another were lost."""
        self.lost[first : first + len(at)] = array("q", at)
        self.fate[first : first + len(at)] = bytes([fate]) * len(at)
        if fate in self._stop_at:
            self.is_over = True

    def give_all(self, first: int, count: int, at: int) -> None:
        """Note that characters that follow one another left the ring."""
        self.many.read(first, count, at)

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

    def publish(self, at: int) -> None:
        """Note that a service that gives characters without a ring has ended."""
        if self._pending:
            self.given += [(at, number) for number in self._pending]
            self._pending.clear()
