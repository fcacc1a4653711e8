"""The service of a receive path: what starts it, what it costs, and how far it has got.

The table gives the state that follows a state and an event. All times are whole nanoseconds.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from operator import sub
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import InterruptService, PollingService, SoftwareReceiver

from .blackouts import Blackouts
from .senders import MISSING, NEVER, nanoseconds

RESTING, ASKED, ENTERING, FETCHING, STOPPED = "resting", "asked", "entering", "fetching", "stopped"
ASK, BEGIN, ENTERED, END, END_FULL, ROOM = "asked", "begins", "has entered", "ends", "ends for want of room", "room"
SERVICE: Mapping[tuple[str, str], str] = {
    (RESTING, ASK): ASKED,
    (ASKED, ASK): ASKED,
    (ASKED, BEGIN): ENTERING,
    (ENTERING, ASK): ENTERING,  # once more when it has ended
    (ENTERING, ENTERED): FETCHING,
    (FETCHING, ASK): FETCHING,  # once more when it has ended
    (FETCHING, END): RESTING,
    (FETCHING, END_FULL): STOPPED,  # the ring has no room
    (STOPPED, ASK): STOPPED,
    (STOPPED, ROOM): RESTING,
}
"""What an interrupt handler, a polling loop or the handler of DMA does."""
DRAWS = 1 << 16  # latencies that are drawn; they are used again after that


@lru_cache(maxsize=4)
def _draws(seed: int, jitter: int) -> npt.NDArray[np.int64]:
    drawn = np.random.default_rng(seed).integers(0, jitter, DRAWS, endpoint=True)
    drawn.flags.writeable = False
    return drawn


def draws_of(path: ReceivePath) -> npt.NDArray[np.int64]:
    """Return the latencies that are drawn for a path, beyond the least; they are used again behind the last."""
    if isinstance(path.service, SoftwareReceiver) or not (jitter := nanoseconds(path.service.jitter_s)):
        return np.zeros(1, dtype=np.int64)
    return _draws(path.seed, jitter)


class Costs(NamedTuple):
    """What a service costs, and what starts it."""

    enter: int = 0
    each: int = 0
    leave: int = 0
    latency: int = 0
    gap: int = 0
    most: int = NEVER
    every: int = 0  # of a polling loop
    first: int = 0
    idle: int = NEVER
    look: int = 0  # what a polling loop takes to find nothing
    jitter: tuple[int, ...] = (0,)

    @classmethod
    def of(cls, path: ReceivePath, character_ns: float) -> Costs:
        """Return the costs that a path declares."""
        service, fifo = path.service, path.fifo
        if isinstance(service, SoftwareReceiver):
            return cls()
        found = cls(nanoseconds(service.enter_s), nanoseconds(service.each_s), nanoseconds(service.leave_s))
        if service.jitter_s:
            found = found._replace(jitter=tuple(draws_of(path).tolist()))
        if isinstance(service, InterruptService):
            idle = NEVER if fifo.idle_characters is None else round(fifo.idle_characters * character_ns)
            return found._replace(latency=nanoseconds(service.latency_s), most=service.most or NEVER, idle=idle)
        if isinstance(service, PollingService):
            every, first = nanoseconds(service.every_s), nanoseconds(service.first_s)
            look = found.enter + found.leave
            return found._replace(every=every, first=first, most=service.most or NEVER, look=look)
        idle = round(service.idle_characters * character_ns) if "idle" in service.notices else NEVER
        return found._replace(latency=nanoseconds(service.latency_s), gap=nanoseconds(service.gap_s), idle=idle)

    def look_due(self, at: int) -> int:
        """Return when a polling loop next looks, from a moment on."""
        number = max((at - self.first) // self.every, 0)
        due = self.first + number * self.every + self.jitter[number % len(self.jitter)]
        if due < at:
            number += 1
            due = self.first + number * self.every + self.jitter[number % len(self.jitter)]
        return due


class Busy:
    """How long the service was busy, and until when."""

    __slots__ = ("_halted", "blocked_since", "longest", "services", "since", "total", "until")

    def __init__(self, halted: Blackouts) -> None:
        self._halted = halted
        self.services: int = 0
        self.total: int = 0
        self.longest: int = 0
        self.until: int = MISSING
        self.since: int = MISSING
        self.blocked_since: int = MISSING  # the application

    def add(self, begin: int, end: int) -> None:
        """Note one run of the service."""
        self.services += 1
        self.total += end - begin
        if begin > self.until:
            self.since = begin
        if not self._halted.is_ever:
            self.blocked_since = self.since
        elif begin > self._halted.after(self.until):
            stretch = self._halted.around(begin - 1)
            self.blocked_since = begin if stretch is None else stretch[0]
        self.until = end
        if end - self.since > self.longest:
            self.longest = end - self.since

    def add_all(self, begin: Sequence[int], end: Sequence[int], since: Sequence[int]) -> None:
        """Note runs that follow one another, while nothing ever stands still."""
        self.services += len(begin)
        self.total += sum(end) - sum(begin)
        self.longest = max(self.longest, max(map(sub, end, since)))
        self.since = self.blocked_since = since[-1]
        self.until = end[-1]


class Service:
    """The service, as far as it has got.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    character_ns : float
        How long a character takes.
    halted : Deafness
        When everything stands still.

    Attributes
    ----------
    state : str
        See `SERVICE`.
    costs : Costs
        What it costs.
    busy : Busy
        How long it was busy.
    start_at : int
        When it begins, once it is asked; `NEVER` before.
    looked_at : int
        When it began last.
    begin, at, left : int
        While it runs: when it began, when its next step is done, and how many characters it may fetch.
    """

    __slots__ = ("_deaf", "_is_asked_again", "at", "begin", "busy", "costs", "left", "looked_at", "start_at", "state")

    begin: int
    at: int
    left: int
    looked_at: int

    def __init__(self, path: ReceivePath, character_ns: float, halted: Blackouts) -> None:
        self.costs: Costs = Costs.of(path, character_ns)
        self.busy: Busy = Busy(halted)
        self.state: str = RESTING
        self.start_at: int = NEVER
        self.begin = self.at = self.left = 0
        self._deaf, self.looked_at, self._is_asked_again = Blackouts(path.deaf), MISSING, False

    def ask(self, at: int) -> None:
        """Ask for service."""
        state = self.state
        self.state = SERVICE[state, ASK]
        if state == RESTING:
            jitter, until = self.costs.jitter, self.busy.until
            start_at = (at if at > until else until) + self.costs.latency + jitter[self.busy.services % len(jitter)]
            self.start_at = self._deaf.after(start_at) if self._deaf.is_ever else start_at
        else:
            self._is_asked_again = True

    def look_from(self, at: int) -> None:
        """Let a polling loop look next from a moment on."""
        self.state = SERVICE[self.state, ASK]
        at = max(at, self.looked_at + 1)
        stretch = self._deaf.around(at) or self._deaf.around(at - 1)
        since = max(self.busy.until, self.looked_at + 1)
        if stretch is not None and self.costs.look_due(max(stretch[0], since)) < stretch[1]:
            self.start_at = stretch[1]
        else:
            self.start_at = self._deaf.after(self.costs.look_due(at))

    def start(self) -> None:
        """Begin a run."""
        self.state = SERVICE[self.state, BEGIN]
        self.begin = self.looked_at = self.start_at
        self.start_at = NEVER
        self.at, self.left = self.begin + self.costs.enter, self.costs.most
        self._is_asked_again = False

    def has_entered(self) -> None:
        """Be ready to fetch."""
        self.state = SERVICE[self.state, ENTERED]

    def end(self, *, for_want_of_room: bool) -> tuple[int, bool]:
        """End a run; return when, and whether service was asked for meanwhile."""
        self.state = SERVICE[self.state, END_FULL if for_want_of_room else END]
        end = self.at + self.costs.leave
        self.busy.add(self.begin, end)
        return end, self._is_asked_again

    def has_room(self) -> None:
        """Go on, as the ring has room again."""
        self.state = SERVICE[self.state, ROOM]
