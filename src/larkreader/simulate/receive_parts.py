"""The parts of a receive path as they stand during a run: hardware, block, ring, what the service costs, pauses.

All times are whole nanoseconds.
"""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

import numpy as np

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService, PollingService, SoftwareReceiver

from .deafness import Deafness
from .outcomes import Outcomes
from .replayed import Fate
from .senders import MISSING, NEVER, FreeSender, PausedSender, nanoseconds

DRAWS = 1 << 16  # latencies that are drawn; they are used again after that


class Hardware:
    """The FIFO, and the shift register before it."""

    __slots__ = ("held", "shift_waits", "size", "trigger", "waiting")

    def __init__(self, path: ReceivePath) -> None:
        self.held: deque[int] = deque()
        self.waiting: int = -1  # the character that waits in the shift register
        self.size: int = path.fifo.size
        self.trigger: int = path.fifo.trigger
        self.shift_waits: bool = path.fifo.shift_waits

    def take(self, number: int, at: int, begin: int, outcomes: Outcomes) -> None:
        """Take in a character that is complete; its start bit has overwritten one that waits."""
        if self.waiting >= 0:
            outcomes.lose(self.waiting, begin, Fate.OVERRUN)
            self.waiting = -1
        if len(self.held) < self.size:
            self.held.append(number)
        elif self.shift_waits:
            self.waiting = number
        else:
            outcomes.lose(number, at, Fate.OVERRUN)

    def move_up(self) -> None:
        """Let what waits in the shift register into the FIFO."""
        self.held.append(self.waiting)
        self.waiting = -1


class Block:
    """The memory into which DMA fetches characters."""

    __slots__ = ("circular", "filled", "full", "half", "has_ended", "held", "is_armed", "places")

    def __init__(self, service: DmaService) -> None:
        self.held: deque[int] = deque()
        self.places: int = service.block
        self.circular: bool = service.circular
        self.half: int = service.block // 2 if "half" in service.notices else 0
        self.full: int = service.block if "full" in service.notices else 0
        self.filled: int = 0  # places, since DMA began at the front
        self.is_armed: bool = True
        self.has_ended: bool = False  # DMA that is not circular, by the end of its block or an idle line

    def put(self, number: int, at: int, outcomes: Outcomes) -> bool:
        """Put a character in; return whether DMA asks for service."""
        outcomes.fetched[number] = at
        held = self.held
        if len(held) == self.places:  # nobody has stored what is there: it is written over
            for lost in held:
                outcomes.lose(lost, at, Fate.BLOCK)
            held.clear()
        held.append(number)
        self.filled += 1
        if self.filled == self.places:
            self.filled = 0
            if not self.circular:
                self.is_armed, self.has_ended = False, True
            return bool(self.full)
        return self.filled == self.half


class RingState:
    """The ring of the software; without one the application gets what is stored at once."""

    __slots__ = ("capacity", "held", "is_stopped", "when_full")

    def __init__(self, path: ReceivePath) -> None:
        ring = path.ring
        self.held: deque[int] = deque()
        self.capacity: int = NEVER if ring is None else ring.size if ring.full == "wrap" else ring.capacity
        self.when_full: str = "" if ring is None else ring.full
        self.is_stopped: bool = False  # the service, by a ring without room

    def must_stop(self) -> bool:
        """Return whether there is no room for what would be fetched, and the service waits for some."""
        self.is_stopped = self.when_full == "stop" and len(self.held) == self.capacity
        return self.is_stopped

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


class PauseSignal:
    """What asks the sender to pause, and lets it go on."""

    __slots__ = ("_delay", "_resume_at", "_sender", "fifo_at", "is_asked", "ring_at")

    def __init__(self, path: ReceivePath, sender: FreeSender | PausedSender, signal_ns: int) -> None:
        self.fifo_at: int = NEVER
        self.ring_at: int = NEVER
        self.is_asked: bool = False
        self._sender, self._delay, self._resume_at = sender, signal_ns, 0
        if (pause := path.pause) is not None:
            self._resume_at, self._delay = pause.resume_at, signal_ns + nanoseconds(pause.delay_s)
            if pause.watches == "fifo":
                self.fifo_at = pause.at
            else:
                self.ring_at = pause.at

    def ask(self, at: int) -> None:
        """Ask the sender to pause."""
        if not self.is_asked:
            self.is_asked = True
            self._sender.signal(at + self._delay, pause=True)

    def let_go_on(self, watched_at: int, held: int, at: int) -> None:
        """Let the sender go on, if it was to pause for the sake of what holds so many now."""
        if self.is_asked and watched_at < NEVER and held <= self._resume_at:
            self.is_asked = False
            self._sender.signal(at + self._delay, pause=False)


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
        if jitter := nanoseconds(service.jitter_s):
            draws = np.random.default_rng(path.seed).integers(0, jitter, DRAWS, endpoint=True)
            found = found._replace(jitter=tuple(draws.tolist()))
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

    def __init__(self, halted: Deafness) -> None:
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
