"""Characters run through a declared receive path, event by event.

All times are whole nanoseconds. There are five kinds of event: a character is complete; the line has been idle for long
enough; the service starts; DMA is armed again; the application acts. At one moment they happen in that order, so that a
tie never saves a character. A service runs to its end: what completes meanwhile finds the hardware as the service has
left it by then, and the application waits. Latencies are drawn beforehand from a seeded generator, one for each start
of the service, so that a replay gives the same result every time.

What the loop does for one character is a few operations on a deque, so that a million take seconds.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Sequence

import numpy as np

from larkreader.declare.paths.receive_path import (
    DmaService,
    InterruptService,
    PollingService,
    ReceivePath,
    SoftwareReceiver,
)

from .application import Application, make_application
from .deafness import Deafness
from .replayed import Fate
from .senders import MISSING, NEVER, FreeSender, PausedSender, nanoseconds

DRAWS = 1 << 16  # latencies that are drawn; they are used again after that


class ReceiveRun:
    """One run of characters through a path.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    sender : FreeSender or PausedSender
        When characters begin and are complete.
    values : sequence of int
        Their data bits.
    character_ns : float
        How long a character takes.
    signal_ns : int
        How long it takes beyond `Pause.delay_s` until the sender sees that it is to pause.
    stop_at : collection of Fate
        At the first character with such a fate the run is over.

    Attributes
    ----------
    fetched, stored, taken, lost : list of int
        When each character was; `MISSING` where it never was.
    fate : bytearray
        What became of each, as `Fate`.
    """

    path: ReceivePath
    sender: FreeSender | PausedSender
    is_stopped: bool
    fetched: list[int]
    stored: list[int]
    taken: list[int]
    lost: list[int]
    services: int
    busy: int
    longest_busy: int
    deaf: Deafness
    every: int
    look: int

    def __init__(
        self,
        path: ReceivePath,
        sender: FreeSender | PausedSender,
        values: Sequence[int],
        character_ns: float,
        signal_ns: int = 0,
        stop_at: Collection[Fate] = (),
    ) -> None:
        self.path, self.sender = path, sender
        self._stop_at, self.is_stopped = stop_at, False
        count = len(values)
        self.fetched, self.stored, self.taken, self.lost = ([MISSING] * count for _ in range(4))
        self.fate: bytearray = bytearray([Fate.LEFT]) * count
        self._fifo: deque[int] = deque()
        self._block: deque[int] = deque()
        self._ring: deque[int] = deque()
        self._waiting = -1  # the character that waits in the shift register
        self._filled = 0  # places of the block, since DMA began at its front
        self._armed = isinstance(path.service, DmaService)
        self._ended = False  # DMA that is not circular, by the end of its block or an idle line
        self._idle_at = self._start_at = self._arm_at = NEVER
        self._is_serving = self._asked_meanwhile = False
        self._is_stopped = False  # by a ring without room
        self._wants_pause = False
        self.services = self.busy = self.longest_busy = 0
        self._busy_until = self._busy_since = self._blocked_since = self._acted_at = self._looked_at = MISSING
        self._take_costs(character_ns)
        self._take_pause(signal_ns)
        self.application: Application | None = make_application(
            path, self._ring, values, self._give, self._keep, self._halted
        )

    def _take_costs(self, character_ns: float) -> None:
        service, fifo = self.path.service, self.path.fifo
        self.deaf = Deafness(self.path.deaf)
        self._halted = Deafness([one for one in self.path.deaf if one.stops == "everything"])
        self._size, self._trigger, self._shift_waits = fifo.size, fifo.trigger, fifo.shift_waits
        self._enter = self._each = self._leave = self._latency = self._gap = 0
        self.every = self._first = self._most = 0
        self._places = self._half = self._full = 0
        self._circular = True
        self._idle = NEVER
        jitter = 0
        self.look = 0  # what a polling loop takes to find nothing
        if not isinstance(service, SoftwareReceiver):
            self._enter, self._each = nanoseconds(service.enter_s), nanoseconds(service.each_s)
            self._leave, jitter = nanoseconds(service.leave_s), nanoseconds(service.jitter_s)
        if isinstance(service, InterruptService):
            self._latency, self._most = nanoseconds(service.latency_s), service.most
            if fifo.idle_characters is not None:
                self._idle = round(fifo.idle_characters * character_ns)
        elif isinstance(service, PollingService):
            self.every, self._first = nanoseconds(service.every_s), nanoseconds(service.first_s)
            self._most, self.look = service.most, self._enter + self._leave
        elif isinstance(service, DmaService):
            self._latency, self._gap = nanoseconds(service.latency_s), nanoseconds(service.gap_s)
            self._places, self._circular = service.block, service.circular
            self._half = service.block // 2 if "half" in service.notices else 0
            self._full = service.block if "full" in service.notices else 0
            if "idle" in service.notices:
                self._idle = round(service.idle_characters * character_ns)
        draws = np.random.default_rng(self.path.seed).integers(0, jitter, DRAWS, endpoint=True) if jitter else None
        self._jitter: list[int] = [0] if draws is None else draws.tolist()

    def _take_pause(self, signal_ns: int) -> None:
        ring, pause = self.path.ring, self.path.pause
        self._capacity = NEVER if ring is None else ring.size if ring.full == "wrap" else ring.capacity
        self._when_full = "" if ring is None else ring.full
        self._pause_fifo = self._pause_ring = NEVER
        self._resume_at, self._signal = 0, signal_ns
        if pause is not None:
            self._resume_at, self._signal = pause.resume_at, signal_ns + nanoseconds(pause.delay_s)
            if pause.watches == "fifo":
                self._pause_fifo = pause.at
            else:
                self._pause_ring = pause.at

    @property
    def last_at(self) -> int:
        """When the last thing happened."""
        return max(self.sender.last_arrival, self._busy_until, self._acted_at)

    def run(self) -> None:
        """Let happen all that happens."""
        sender, application = self.sender, self.application
        halted = self._halted if self._halted.is_ever else None
        while not self.is_stopped:
            service_at = self._start_at if self._start_at < self._idle_at else self._idle_at
            if self._arm_at < service_at:
                service_at = self._arm_at
            act_at = NEVER if application is None else application.act_at
            if act_at < self._busy_until:
                act_at = self._busy_until
            if halted is not None and act_at < NEVER:
                act_at = halted.after(act_at)
            arrive_at = sender.arrive_at
            if arrive_at <= service_at and arrive_at <= act_at:
                if arrive_at >= NEVER:
                    break
                self._arrive()
            elif service_at <= act_at:
                if self._idle_at == service_at:
                    self._idle_is_over()
                elif self._start_at == service_at:
                    self._serve()
                else:
                    self._arm()
            elif application is not None:
                if min(arrive_at, service_at) >= NEVER and application.is_waiting:
                    break  # in vain
                application.act(act_at, min(arrive_at, service_at))
                self._acted_at = act_at
                self._has_taken(act_at)
        sender.close()
        if application is not None:
            application.close()

    def _arrive(self) -> None:
        """Take in the next character, which is complete."""
        sender = self.sender
        if sender.is_unsure:
            sender.wait()
            return
        number, at = sender.number, sender.arrive_at
        sender.advance()
        if self._armed:
            self._into_block(number, at)
            return
        if self._waiting >= 0:  # the start bit of this one has overwritten it
            self._lose(self._waiting, sender.begin[number], Fate.OVERRUN)
            self._waiting = -1
        fifo = self._fifo
        if len(fifo) < self._size:
            fifo.append(number)
            if len(fifo) >= self._pause_fifo:
                self._ask_for_pause(at)
        elif self._shift_waits:
            self._waiting = number
        else:
            self._lose(number, at, Fate.OVERRUN)
        if self._places or self._is_serving or self._is_stopped or self._start_at < NEVER:
            return
        if self.every:
            self._start_at = self._next_look(max(at, self._busy_until))
        elif len(fifo) >= self._trigger:
            self._idle_at = NEVER
            self._ask(at)
        elif self._idle < NEVER:
            self._idle_at = at + self._idle

    def _into_block(self, number: int, at: int) -> None:
        """Let DMA fetch a character."""
        self.fetched[number] = at
        block = self._block
        if len(block) == self._places:  # nobody has stored what is there: it is written over
            for lost in block:
                self._lose(lost, at, Fate.BLOCK)
            block.clear()
        block.append(number)
        self._filled += 1
        if self._filled == self._places:
            self._filled = 0
            if not self._circular:
                self._armed, self._ended = False, True
            if self._full:
                self._ask(at)
        elif self._filled == self._half:
            self._ask(at)
        if self._idle < NEVER:
            self._idle_at = at + self._idle

    def _idle_is_over(self) -> None:
        """Take note that the line has been idle for long enough."""
        at, self._idle_at = self._idle_at, NEVER
        if self._places:
            if self._block:
                self._ended = self._ended or not self._circular
                self._ask(at)
        elif self._fifo and self._start_at == NEVER and not self._is_stopped:
            self._ask(at)

    def _ask(self, at: int) -> None:
        """Ask for service, unless that has been done."""
        if self._is_serving:
            self._asked_meanwhile = True
        elif self._start_at == NEVER and not self._is_stopped:
            jitter = self._jitter[self.services % len(self._jitter)]
            start_at = (at if at > self._busy_until else self._busy_until) + self._latency + jitter
            self._start_at = self.deaf.after(start_at) if self.deaf.is_ever else start_at

    def _next_look(self, at: int) -> int:
        """Return when a polling loop next looks, from a moment on."""
        at = max(at, self._looked_at + 1)
        stretch = self.deaf.around(at) or self.deaf.around(at - 1)
        since = max(self._busy_until, self._looked_at + 1)
        if stretch is not None and self._look_due(max(stretch[0], since)) < stretch[1]:
            return stretch[1]
        return self.deaf.after(self._look_due(at))

    def _look_due(self, at: int) -> int:
        number = max((at - self._first) // self.every, 0)
        due = self._first + number * self.every + self._jitter[number % len(self._jitter)]
        if due < at:
            number += 1
            due = self._first + number * self.every + self._jitter[number % len(self._jitter)]
        return due

    def _serve(self) -> None:
        """Run the service from its start to its end."""
        begin = self._looked_at = self._start_at
        self._start_at, self._is_serving = NEVER, True
        if self._places:
            end, has_ended = self._empty_block(begin + self._enter)
        else:
            self._idle_at, has_ended = NEVER, False
            end = self._empty_fifo(begin + self._enter)
        served_until, end = end, end + self._leave
        self._is_serving = False
        self._note_busy(begin, end)
        if has_ended and not self._is_stopped:
            self._ended, self._asked_meanwhile = False, False
            self._arm_at = end + self._gap
        elif self._places:
            if self._asked_meanwhile:
                self._asked_meanwhile = False
                self._ask(end)
        else:
            self._ask_again(served_until, end)
        if self.application is not None and len(self._ring):
            self.application.wake(self._blocked_since)

    def _note_busy(self, begin: int, end: int) -> None:
        self.services += 1
        self.busy += end - begin
        if begin > self._busy_until:
            self._busy_since = begin
        if not self._halted.is_ever:
            self._blocked_since = self._busy_since
        elif begin > self._halted.after(self._busy_until):
            stretch = self._halted.around(begin - 1)
            self._blocked_since = begin if stretch is None else stretch[0]
        self._busy_until = end
        if end - self._busy_since > self.longest_busy:
            self.longest_busy = end - self._busy_since

    def _ask_again(self, served_until: int, end: int) -> None:
        """When a service ends, ask for the next if something is left."""
        if not self._fifo or self._is_stopped:
            return
        if self.every:
            self._start_at = self._next_look(end)
        elif len(self._fifo) >= self._trigger:
            self._ask(end)
        elif self._idle < NEVER:
            self._idle_at = max(self.sender.last_arrival, served_until) + self._idle

    def _empty_fifo(self, at: int) -> int:
        """Fetch what is in the FIFO from a moment on; return when that is done."""
        self._catch_up(at)
        fifo, left = self._fifo, self._most or NEVER
        while fifo and left and not self._must_stop():
            at += self._each
            self._catch_up(at)
            number = fifo.popleft()
            self.fetched[number] = at
            if self._waiting >= 0 and self._begins_later(at):
                fifo.append(self._waiting)
                self._waiting = -1
            self._see_fifo(at)
            self._store(number, at)
            left -= 1
        return at

    def _empty_block(self, at: int) -> tuple[int, bool]:
        """Store what is in DMA's block at a moment; return when that is done, and whether DMA had ended by then."""
        self._catch_up(at)
        has_ended = self._ended
        if has_ended:
            self._armed = False
        left, block = len(self._block), self._block
        while block and left and not self._must_stop():
            at += self._each
            self._catch_up(at)
            self._store(block.popleft(), at)
            left -= 1
        return at, has_ended

    def _catch_up(self, until: int) -> None:
        """Let characters arrive, and lines go idle, up to a moment."""
        sender = self.sender
        while sender.arrive_at <= until or self._idle_at <= until:
            if sender.arrive_at <= self._idle_at:
                self._arrive()
            else:
                self._idle_is_over()

    def _begins_later(self, at: int) -> bool:
        """Tell whether no start bit has come by a moment that would write over what waits in the shift register."""
        while self.sender.is_unsure and self.sender.next_begin <= at:
            self.sender.wait()
        return self.sender.next_begin > at

    def _must_stop(self) -> bool:
        """Tell whether the ring has no room for what would be fetched, and the service waits for it to have some."""
        self._is_stopped = self._when_full == "stop" and len(self._ring) == self._capacity
        return self._is_stopped

    def _store(self, number: int, at: int) -> None:
        """Put a character into the ring, or give it to the application where there is none."""
        ring = self._ring
        self.stored[number] = at
        if not self._when_full:
            self.taken[number], self.fate[number] = at, Fate.TAKEN
            return
        if len(ring) == self._capacity:
            if self._when_full == "drop-new":
                self.stored[number] = MISSING
                self._lose(number, at, Fate.DROPPED)
                return
            self._lose(ring.popleft(), at, Fate.OVERWRITTEN)
        ring.append(number)
        if self._when_full == "wrap" and len(ring) == self._capacity:
            for lost in ring:
                self._lose(lost, at, Fate.OVERWRITTEN)
            ring.clear()
        if len(ring) >= self._pause_ring:
            self._ask_for_pause(at)

    def _lose(self, number: int, at: int, fate: Fate) -> None:
        self.lost[number], self.fate[number] = at, fate
        if fate in self._stop_at:
            self.is_stopped = True

    def _arm(self) -> None:
        """Arm DMA again: what waits in the hardware goes into the block at once."""
        at, self._arm_at = self._arm_at, NEVER
        self._armed, self._filled = True, 0
        while self._armed and self._fifo:
            self._into_block(self._fifo.popleft(), at)
            if self._waiting >= 0 and self._begins_later(at):
                self._fifo.append(self._waiting)
                self._waiting = -1
        self._see_fifo(at)

    def _see_fifo(self, at: int) -> None:
        """Let the sender go on, if it was to pause for the FIFO's sake, and that has room again."""
        if self._wants_pause and self._pause_fifo < NEVER and len(self._fifo) <= self._resume_at:
            self._let_go_on(at)

    def _give(self, number: int, at: int) -> None:
        self.taken[number] = at

    def _keep(self, number: int, at: int, is_kept: bool) -> None:
        if is_kept:
            self.fate[number] = Fate.TAKEN
        else:
            self._lose(number, at, Fate.DISCARDED)

    def _has_taken(self, at: int) -> None:
        """Let go on what waited for room in the ring."""
        if self._wants_pause and self._pause_ring < NEVER and len(self._ring) <= self._resume_at:
            self._let_go_on(at)
        if self._is_stopped and len(self._ring) < self._capacity:
            self._is_stopped = False
            if self.every and self._fifo:
                self._start_at = self._next_look(at + 1)  # a look at this moment has been
            elif self._fifo or self._block:
                self._ask(at)

    def _ask_for_pause(self, at: int) -> None:
        if not self._wants_pause:
            self._wants_pause = True
            self.sender.signal(at + self._signal, pause=True)

    def _let_go_on(self, at: int) -> None:
        self._wants_pause = False
        self.sender.signal(at + self._signal, pause=False)
