"""What the application of a receive path does: when it acts, and what it takes out of the ring.

The tables give the state that follows a state and an event. All times are whole nanoseconds. `act_at` is when an
application acts next; the engine wakes it when something was stored.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from larkreader.declare.paths.receive_path import BlockingApplication, LineApplication, PeriodicApplication, ReceivePath

from .batch import Batch
from .blackouts import Blackouts
from .outcomes import Outcomes
from .ring_state import drop_first
from .senders import MISSING, NEVER, TOGETHER, nanoseconds

ASLEEP, DUE = "asleep", "due"
STORED, TOOK_ALL, LEFT_SOME = "stored", "took all", "left some"
LOOKING: Mapping[tuple[str, str], str] = {
    (ASLEEP, STORED): DUE,  # at its next look
    (DUE, STORED): DUE,
    (DUE, LEFT_SOME): DUE,  # at the look behind
    (DUE, TOOK_ALL): ASLEEP,
}
"""An application that looks every so often; looks that find nothing are not played."""

BUSY, READING = "busy", "reading"
CALL, ENOUGH, TIME_UP = "calls", "has what it asked for", "time is up"
CALLING: Mapping[tuple[str, str], str] = {
    (BUSY, CALL): READING,
    (READING, STORED): READING,
    (READING, ENOUGH): BUSY,
    (READING, TIME_UP): BUSY,
}
"""An application that waits in a read."""


@dataclass
class Taken:
    """The reads of an application: begin, end, first character, how many, whether its time was up."""

    rows: list[tuple[int, int, int, int, bool]] = field(default_factory=list)
    empty: int = 0
    unfinished: int = 0


class Periodic:
    """Looks every so often, and takes what is there, or so many.

    Parameters
    ----------
    declared : PeriodicApplication or LineApplication
        What was declared.
    ring : deque of int
        The numbers of the characters in the ring.
    outcomes : Outcomes
        Where it is noted what left the ring, and what the application keeps.
    """

    act_at: int
    reads: Taken
    state: str
    acted_at: int = MISSING

    def __init__(self, declared: PeriodicApplication | LineApplication, ring: deque[int], outcomes: Outcomes) -> None:
        self.act_at, self.reads, self.state = NEVER, Taken(), ASLEEP
        self._ring, self._outcomes = ring, outcomes
        self._every, self._first = nanoseconds(declared.every_s), nanoseconds(declared.first_s)
        self._most = declared.most if isinstance(declared, PeriodicApplication) else 0

    def wake(self, at: int) -> None:
        """Take note that something was stored."""
        if self.state is ASLEEP:
            self.act_at = self._look_from(max(at, self.acted_at + 1))
        self.state = LOOKING[self.state, STORED]

    @property
    def first_held(self) -> int:
        """The first character in a read that goes on: -1, as no read does."""
        return -1

    @property
    def is_waiting(self) -> bool:
        """Whether it waits, and has nothing."""
        return not self._ring

    def room_in_read(self) -> int:
        """Return how many characters a read that waits can take without ending: none, as it does not wait."""
        return 0

    def get(self, batch: Batch, begin: int, end: int) -> None:
        """Get what some services fetched within a read; see `room_in_read`."""
        raise TypeError("an application that looks every so often does not wait in a read")

    def close(self) -> None:
        """Take note that nothing more happens."""

    def give_up(self, count: int) -> None:
        """Forget the reads so far, and count characters from a later character on."""
        self.reads.rows.clear()

    def act(self, at: int, _: int) -> None:
        """Take what is there."""
        ring = self._ring
        count = min(self._most, len(ring)) if self._most else len(ring)
        self._take(count, at)
        self.acted_at = at
        self.act_at = self._look_from(at + 1) if ring else NEVER
        self.state = LOOKING[self.state, LEFT_SOME if ring else TOOK_ALL]

    def _look_from(self, at: int) -> int:
        return self._first + max(-(-(at - self._first) // self._every), 0) * self._every

    def _take(self, count: int, at: int, kept: int | None = None, *, by_time: bool = False) -> None:
        """Take characters out; what is beyond `kept` is thrown away."""
        if not count:
            return
        first = self._ring[0]
        if kept is None and self._ring[count - 1] - first == count - 1:
            self._outcomes.give_all(first, count, at)
            self._outcomes.keep_all(first, count, at)
            drop_first(self._ring, count)
        else:
            for place in range(count):
                number = self._ring.popleft()
                self._outcomes.give(number, at)
                self._outcomes.keep(number, at, kept is None or place < kept)
        self.reads.rows.append((at, at, first, count if kept is None else min(count, kept), by_time))


class Lines(Periodic):
    """Looks every so often, and takes whole lines; see `Periodic`.

    Where a line has no room in the application's buffer, it is given in pieces, or cut.
    """

    act_at: int
    state: str
    acted_at: int

    def __init__(self, declared: LineApplication, ring: deque[int], outcomes: Outcomes, values: Sequence[int]) -> None:
        super().__init__(declared, ring, outcomes)
        self._values, self._room, self._gives = values, declared.room, declared.rest == "given"
        self._terminator = tuple(bytes.fromhex(declared.terminator))
        self._ends: deque[int] = deque()  # the last characters of whole lines in the ring
        self._seen = -1  # the last character that was looked at

    def give_up(self, count: int) -> None:
        """Forget the reads so far, and count characters from a later character on."""
        super().give_up(count)
        self._ends = deque(number - count for number in self._ends if number >= count)
        self._seen -= count

    def act(self, at: int, _: int) -> None:
        """Take the lines that are there."""
        self._look_for_ends()
        while True:
            count = self._line_length()
            if count and (count <= self._room or not self._gives):
                self._take(count, at, self._room)
            elif self._gives and len(self._ring) >= self._room:
                self._take(self._room, at)
            else:
                break
        self.act_at, self.acted_at = NEVER, at
        self.state = LOOKING[self.state, TOOK_ALL]  # what is left is not a line yet

    def _line_length(self) -> int:
        """Return how many characters the first line in the ring has, its terminator included; 0 if none is whole."""
        ring, ends = self._ring, self._ends
        while ends:
            if not ring or ends[0] < ring[0]:  # it was written over
                ends.popleft()
                continue
            count = next(place for place, number in enumerate(ring, 1) if number == ends[0])
            if count >= len(self._terminator):
                return count
            ends.popleft()  # its terminator began in what is gone
        return 0

    def _look_for_ends(self) -> None:
        """Find the terminators among the characters that are new since the last look."""
        ring, size = self._ring, len(self._terminator)
        count = 0
        while count < len(ring) and ring[-1 - count] > self._seen:
            count += 1
        if not count:
            return
        reach = min(count + size - 1, len(ring))
        numbers = [ring[place] for place in range(-reach, 0)]
        held = [self._values[number] for number in numbers]
        for place in range(reach - count, reach):
            if tuple(held[place + 1 - size : place + 1]) == self._terminator and place + 1 >= size:
                self._ends.append(numbers[place])
        self._seen = ring[-1]


class Blocking:
    """Waits in a read until it has what it asked for, or its time is up.

    Parameters
    ----------
    declared : BlockingApplication
        What was declared.
    ring : deque of int
        The numbers of the characters in the ring.
    outcomes : Outcomes
        Where it is noted what left the ring, and what the application keeps.
    halts : Deafness
        When the application stands still.
    """

    reads: Taken
    act_at: int
    state: str
    acted_at: int = MISSING

    def __init__(self, declared: BlockingApplication, ring: deque[int], outcomes: Outcomes, halts: Blackouts) -> None:
        self.reads = Taken()
        self._ring, self._outcomes, self._halts = ring, outcomes, halts
        self._length, self._busy = declared.length, nanoseconds(declared.busy_s)
        self._limit = NEVER if declared.limit_s is None else nanoseconds(declared.limit_s)
        self._keeps, self._whole = declared.partial == "given", declared.whole
        self._begin = self.act_at = nanoseconds(declared.first_s)
        self.state = BUSY
        self._got: list[int] = []

    def wake(self, at: int) -> None:
        """Take note that something was stored."""
        if self.state is READING:
            self.state = CALLING[self.state, STORED]
            self.act_at = min(self.act_at, at)

    def room_in_read(self) -> int:
        """Return how many characters a read that waits can take, each as it is stored, without ending."""
        is_waiting = self.state is READING and not self._whole and not self._ring
        return self._length - len(self._got) - 1 if is_waiting else 0

    def get(self, batch: Batch, begin: int, end: int) -> None:
        """Get what some services fetched within a read, as each service ends."""
        self._outcomes.many.get(batch, begin, end)
        self._got.extend(batch.numbers(begin, end))
        self.acted_at = batch.end[end - 1]

    def act(self, at: int, next_event: int) -> None:
        """Begin a read, go on with it, or end it."""
        self.acted_at = at
        if self.state is BUSY:
            self.state, self._begin = CALLING[self.state, CALL], at
        deadline = min(self._begin + self._limit, NEVER)
        ring, got = self._ring, self._got
        if not self._whole:
            self._take(self._length - len(got), at)
        elif len(ring) >= self._length or at >= deadline:
            self._take(self._length, at)
        if len(got) == self._length or at >= deadline:
            self._end(at, next_event)
        else:
            self.act_at = deadline

    def _take(self, count: int, at: int) -> None:
        """Take characters out into the read."""
        count = min(count, len(self._ring))
        if count >= TOGETHER and self._ring[count - 1] - self._ring[0] == count - 1:
            self._outcomes.give_all(self._ring[0], count, at)
            self._got.extend(range(self._ring[0], self._ring[0] + count))
            drop_first(self._ring, count)
            return
        for _ in range(count):
            number = self._ring.popleft()
            self._outcomes.give(number, at)
            self._got.append(number)

    def _end(self, at: int, next_event: int) -> None:
        """Return from a read."""
        got, by_time = self._got, len(self._got) < self._length
        kept = self._keeps or not by_time
        if kept and got and got[-1] - got[0] == len(got) - 1:
            self._outcomes.keep_all(got[0], len(got), at)
        else:
            for number in got:
                self._outcomes.keep(number, at, kept)
        if got:
            self.reads.rows.append((self._begin, at, got[0], len(got) if kept else 0, by_time))
        else:
            self.reads.empty += 1
        self.state, self._got = CALLING[self.state, TIME_UP if by_time else ENOUGH], []
        self.act_at = at + self._busy
        if not self._ring and not got and next_event < NEVER:  # so will the next calls be: they need not be played
            self.act_at = self._halts.after(self.act_at)
            cycle, until = self._limit + self._busy, min(next_event, self._halts.next_from(self.act_at))
            skipped = max(-(-(until - self._limit - self.act_at) // cycle), 0)
            self.reads.empty += skipped
            self.act_at += skipped * cycle

    def give_up(self, count: int) -> None:
        """Forget the reads so far, and count characters from a later character on."""
        self.reads.rows.clear()
        self._got = [number - count for number in self._got]

    @property
    def first_held(self) -> int:
        """The first character in a read that goes on; -1 if there is none."""
        return self._got[0] if self._got else -1

    @property
    def is_waiting(self) -> bool:
        """Whether it waits, and has nothing."""
        return not self._ring and not self._got

    def close(self) -> None:
        """Take note that nothing more happens, though a read may be waiting."""
        self.reads.unfinished = len(self._got)


Application = Periodic | Lines | Blocking


def make_application(
    path: ReceivePath, ring: deque[int], values: Sequence[int], outcomes: Outcomes, halts: Blackouts
) -> Application | None:
    """Return the application of a path; None if it has none."""
    declared = path.application
    if isinstance(declared, BlockingApplication):
        return Blocking(declared, ring, outcomes, halts)
    if isinstance(declared, LineApplication):
        return Lines(declared, ring, outcomes, values)
    return None if declared is None else Periodic(declared, ring, outcomes)
