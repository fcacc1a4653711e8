"""Characters run through a declared receive path, event by event.

All times are whole nanoseconds. There are five kinds of event: a character is complete; the line has been idle for long
enough; the service starts; DMA is armed again; the application acts. At one moment they happen in that order, so that a
tie never saves a character. A service runs to its end: what completes meanwhile finds the hardware as the service has
left it by then, and the application waits. Latencies are drawn beforehand from a seeded generator, one for each start
of the service, so that a replay gives the same result every time.

The engine has no clock and no thread. Where the sender does not know yet what it sends next, the engine stops before
the first event that this could change, in the middle of a service if it must, and goes on when it knows more.

What the loop does for one character is a few operations on a deque, so that a million take seconds.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Sequence

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService

from .application import Application, make_application
from .blackouts import Blackouts
from .hardware import ARM, ENTER, HANDLED, IDLE, LEAVE, Block, Hardware
from .outcomes import Outcomes
from .pause_signal import PauseSignal
from .paused_sender import PausedSender
from .replayed import Fate
from .ring_state import RingState, drop_first, renumber
from .senders import MISSING, NEVER, TOGETHER, FreeSender
from .service import ENTERING, FETCHING, RESTING, STOPPED, Service
from .services_ahead import ServicesAhead

RUNNING = (ENTERING, FETCHING)


class ReceiveEngine:
    """One run of characters through a path.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    sender : FreeSender or PausedSender
        When characters begin and are complete.
    values : sequence of int
        Their data bits; it may grow, see `feed`.
    character_ns : float
        How long a character takes.
    signal_ns : int
        How long it takes beyond `Pause.delay_s` until the sender sees that it is to pause.
    stop_at : collection of Fate
        At the first character with such a fate the run is over.
    is_live : bool
        Whether to stop whenever the application has got something.

    Attributes
    ----------
    outcomes : Outcomes
        What became of each character.
    service : Service
        What fetches characters from the hardware, and how busy it was.
    application : Periodic, Lines or Blocking, optional
        What takes characters out of the ring.
    """

    def __init__(
        self,
        path: ReceivePath,
        sender: FreeSender | PausedSender,
        values: Sequence[int],
        character_ns: float,
        signal_ns: int = 0,
        stop_at: Collection[Fate] = (),
        *,
        is_live: bool = False,
    ) -> None:
        self.sender: FreeSender | PausedSender = sender
        self.outcomes: Outcomes = Outcomes(
            len(sender.begin), stop_at, has_ring=path.ring is not None, notes_given=is_live
        )
        self._halted = Blackouts([stretch for stretch in path.deaf if stretch.stops == "everything"])
        self.service: Service = Service(path, character_ns, self._halted)
        self._hardware = Hardware(path)
        self._block = Block(path.service) if isinstance(path.service, DmaService) else None
        self._ring = RingState(path)
        self._pause = PauseSignal(path, sender, signal_ns)
        self._free = sender if isinstance(sender, FreeSender) else None
        self.application: Application | None = make_application(
            path, self._ring.held, values, self.outcomes, self._halted
        )
        blocks = () if self._block is None else (self._block.held,)
        self._held: tuple[deque[int], ...] = (self._hardware.held, self._ring.held, *blocks)
        self._ahead: ServicesAhead | None = None
        if not is_live and ServicesAhead.are_possible(path):
            parts = (self._hardware, self.service, self._ring, self._pause, self.application, self.outcomes)
            self._ahead = ServicesAhead(path, sender, *parts)

    @property
    def last_at(self) -> int:
        """When the last thing happened."""
        acted_at = MISSING if self.application is None else self.application.acted_at
        return max(self.sender.last_arrival, self.service.busy.until, acted_at)

    def feed(self, begins: Sequence[int] | npt.NDArray[np.int64], sure_until: int) -> None:
        """Let the sender know of further characters, and that it gets no others before a time."""
        self.outcomes.extend(len(begins))
        self.sender.extend(begins, sure_until)

    @property
    def settled(self) -> int:
        """How many of the first characters nothing more happens to."""
        application, unsent = self.application, self.sender.number
        numbers = [self._hardware.waiting, -1 if application is None else application.first_held]
        numbers += [held[0] for held in self._held if held]
        numbers.append(len(self.sender.begin) if unsent < 0 else unsent)
        return min(number for number in numbers if number >= 0)

    def give_up(self, count: int) -> None:
        """Leave out so many of the first characters, which are settled and were asked for, and count from the next."""
        for held in self._held:
            renumber(held, count)
        self._hardware.waiting = max(self._hardware.waiting - count, -1)
        if self.application is not None:
            self.application.give_up(count)
        self.outcomes.give_up(count)
        self.sender.give_up(count)

    def close(self) -> None:
        """Take note that nothing more happens."""
        self.sender.close()
        if self.application is not None:
            self.application.close()

    def run(self) -> None:
        """Let happen what is known to happen; a live run stops where the application gets something."""
        sender, application, outcomes, service = self.sender, self.application, self.outcomes, self.service
        hardware, block, busy, given = self._hardware, self._block, service.busy, outcomes.given
        halted, free = self._halted if self._halted.is_ever else None, self._free
        while not outcomes.is_over and not given:
            if service.state in RUNNING:
                if not self._serve():
                    return
                continue
            start_at, idle_at = service.start_at, hardware.idle_at
            service_at = start_at if start_at < idle_at else idle_at
            if block is not None and block.arm_at < service_at:
                service_at = block.arm_at
            act_at = NEVER if application is None else application.act_at
            if act_at < busy.until:
                act_at = busy.until
            if halted is not None and act_at < NEVER:
                act_at = halted.after(act_at)
            arrive_at = sender.arrive_at
            if arrive_at <= service_at and arrive_at <= act_at:
                if arrive_at >= NEVER or sender.is_unsure:
                    return
                if self._ahead is not None and self._ahead.serve():
                    continue
                if free is None or not self._hurry(free, act_at):
                    self._arrive()
            elif service_at <= act_at:
                if not self._go_on(service_at):
                    return
            elif application is not None:
                if min(arrive_at, service_at) >= NEVER and application.is_waiting:
                    return  # in vain
                application.act(act_at, min(arrive_at, service_at))
                self._has_taken(act_at)

    # the line and the hardware

    def _hurry(self, sender: FreeSender, until: int) -> bool:
        """Let happen at once what no act of the application can change; False if nothing can."""
        block = self._block
        until = min(until, self.service.start_at, NEVER if block is None else block.arm_at)
        return sender.arrivals[sender.number + TOGETHER - 1] <= until and self._arrive_together(sender, until)

    def _arrive(self) -> None:
        """Take in the next character, which is complete."""
        sender, hardware, block = self.sender, self._hardware, self._block
        number, at = sender.number, sender.arrive_at
        sender.advance()
        if block is not None and block.is_armed:
            self._into_block(block, number, at)
            return
        held = hardware.held
        if hardware.waiting < 0 and len(held) < hardware.size:
            held.append(number)
        else:
            hardware.take(number, at, sender.begin[number], self.outcomes)
        if len(held) >= self._pause.fifo_at:
            self._pause.ask(at)
        if block is None and self.service.state is RESTING:
            self._ask_if_due(at, at)

    def _ask_if_due(self, at: int, since: int) -> None:
        """Find out what starts the service from a moment on; the line has been idle since another."""
        hardware, service = self._hardware, self.service
        if service.costs.every:
            service.look_from(max(at, service.busy.until))
        elif len(hardware.held) >= hardware.trigger:
            hardware.idle_at = NEVER
            service.ask(at)
        elif service.costs.idle < NEVER:
            hardware.idle_at = since + service.costs.idle

    def _arrive_together(self, sender: FreeSender, until: int) -> bool:
        """Take in at once what is complete up to a moment and changes nothing else; False if that is too little."""
        hardware, block, service = self._hardware, self._block, self.service
        first, room = sender.number, hardware.size - len(hardware.held)
        idle = NEVER
        if block is not None and block.is_armed:
            most, idle = block.room, service.costs.idle
        elif hardware.waiting >= 0 or (hardware.shift_waits and not room):
            return False
        elif block is None and service.state is RESTING:
            if service.costs.every:
                return False
            most, idle = hardware.trigger - len(hardware.held), service.costs.idle
        else:
            most = room or NEVER
        count = sender.count_until(until, most)
        if idle < NEVER:
            count = min(count, sender.gap_from(first, idle) + 1 - first)
        if count < TOGETHER:
            return False
        sender.skip(count)
        if block is not None and block.is_armed:
            block.put_all(first, count, sender.ahead, self.outcomes)
            hardware.idle_at = min(sender.last_arrival + idle, NEVER)
        elif room:
            hardware.held.extend(range(first, first + count))
            if block is None and service.state is RESTING:
                self._ask_if_due(sender.last_arrival, sender.last_arrival)
        else:
            self.outcomes.lose_all(first, sender.arrivals[first : first + count], Fate.OVERRUN)
        return True

    def _into_block(self, block: Block, number: int, at: int) -> None:
        """Let DMA fetch a character."""
        if block.put(number, at, self.outcomes):
            self.service.ask(at)
        if self.service.costs.idle < NEVER:
            self._hardware.idle_at = at + self.service.costs.idle

    def _idle_is_over(self) -> None:
        """Take note that the line has been idle for long enough."""
        hardware, block = self._hardware, self._block
        at, hardware.idle_at = hardware.idle_at, NEVER
        if block is not None:
            if block.held:
                block.note(IDLE)
                self.service.ask(at)
        elif hardware.held and self.service.state is RESTING:
            self.service.ask(at)

    def _arm(self) -> bool:
        """Arm DMA again: what waits in the hardware goes into the block at once; False if more must be known first."""
        block, hardware = self._block, self._hardware
        assert block is not None
        at = block.arm_at
        if not self._is_known(at):
            return False
        block.arm_at, block.filled = NEVER, 0
        block.note(ARM)
        while block.is_armed and hardware.held:
            self._into_block(block, hardware.held.popleft(), at)
            if hardware.waiting >= 0 and self.sender.next_begin > at:
                hardware.move_up()
        self._pause.let_go_on(self._pause.fifo_at, len(hardware.held), at)
        return True

    def _is_known(self, at: int) -> bool:
        """Return whether it is known if a start bit has overwritten by a moment what waits in the shift register."""
        sender = self.sender
        return self._hardware.waiting < 0 or not sender.is_unsure or sender.next_begin > at

    # the service

    def _go_on(self, at: int) -> bool:
        """Let the line be idle, the service start, or DMA be armed; return False if more must be known first."""
        if self._hardware.idle_at == at:
            self._idle_is_over()
        elif self.service.start_at == at:
            if self._block is None:
                self._hardware.idle_at = NEVER
            self.service.start()
        else:
            return self._arm()
        return True

    def _serve(self) -> bool:
        """Let the service run on; return whether it has ended, False if more must be known first."""
        sender, hardware, block, ring, pause = self.sender, self._hardware, self._block, self._ring, self._pause
        outcomes, service, each = self.outcomes, self.service, self.service.costs.each
        held = hardware.held if block is None else block.held
        while True:
            at = service.at
            if (sender.arrive_at <= at or hardware.idle_at <= at) and not self._catch_up(at):
                return False
            if service.state is ENTERING:
                service.has_entered()
                if block is not None:
                    block.note(ENTER)
                    service.left = len(held)
            else:
                if block is None and hardware.waiting >= 0 and not self._is_known(at):
                    return False
                if len(held) >= TOGETHER and self._fetch_together(held):
                    at = service.at
                    if not held or not service.left or ring.must_wait:
                        break
                    service.at = at + each
                    continue
                number = held.popleft()
                if block is None:
                    outcomes.fetched[number] = at
                    if hardware.waiting >= 0 and sender.next_begin > at:
                        hardware.move_up()
                    if pause.is_asked:
                        pause.let_go_on(pause.fifo_at, len(held), at)
                ring.store(number, at, outcomes)
                if len(ring.held) >= pause.ring_at:
                    pause.ask(at)
                service.left -= 1
            if not held or not service.left or ring.must_wait:
                break
            service.at = at + each
        self._end_service(for_want_of_room=bool(held) and service.left > 0)
        return True

    def _fetch_together(self, held: deque[int]) -> bool:
        """Fetch and store at once what nothing interrupts; False if that is too little."""
        service, ring, hardware = self.service, self._ring, self._hardware
        count = min(len(held), service.left)
        if self._pause.is_asked or (hardware.waiting >= 0 and self._block is None):
            return False
        at, each = service.at, service.costs.each
        if each:
            count = min(count, (min(self.sender.arrive_at, hardware.idle_at) - 1 - at) // each + 1)
        first = held[0]
        if count < TOGETHER or not ring.has_room_for(count) or len(ring.held) + count >= self._pause.ring_at:
            return False
        if held[count - 1] - first != count - 1:
            return False  # some between them were lost
        ring.store_all(first, count, at, each, self.outcomes, is_fetched=self._block is None)
        drop_first(held, count)
        service.at, service.left = at + (count - 1) * each, service.left - count
        return True

    def _catch_up(self, until: int) -> bool:
        """Let characters arrive, and lines go idle, up to a moment; return False if more must be known first."""
        sender, hardware = self.sender, self._hardware
        while sender.arrive_at <= until or hardware.idle_at <= until:
            if sender.arrive_at > hardware.idle_at:
                self._idle_is_over()
            elif sender.is_unsure:
                return False
            else:
                self._arrive()
        return True

    def _end_service(self, *, for_want_of_room: bool) -> None:
        """End a run of the service, and find out what starts the next."""
        service, block = self.service, self._block
        served_until = service.at
        end, is_asked_again = service.end(for_want_of_room=for_want_of_room)
        if block is None:
            if not for_want_of_room and self._hardware.held:
                self._ask_if_due(end, max(self.sender.last_arrival, served_until))
        elif block.state is HANDLED:
            if not for_want_of_room:
                block.note(LEAVE)
                block.arm_at = end + service.costs.gap
        elif is_asked_again:
            service.ask(end)
        if not self._ring.when_full:
            self.outcomes.publish(end)
        elif self.application is not None and self._ring.held:
            self.application.wake(service.busy.blocked_since)

    # the application

    def _has_taken(self, at: int) -> None:
        """Let go on what waited for room in the ring."""
        ring, service, held = self._ring, self.service, self._hardware.held
        if self._pause.is_asked:
            self._pause.let_go_on(self._pause.ring_at, len(ring.held), at)
        if service.state is STOPPED and len(ring.held) < ring.capacity:
            service.has_room()
            if service.costs.every and held:
                service.look_from(at + 1)  # a look at this moment has been
            elif held or (self._block is not None and self._block.held):
                service.ask(at)
