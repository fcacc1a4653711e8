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

from collections.abc import Collection, Sequence

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService

from .application import Application, make_application
from .deafness import Deafness
from .outcomes import Outcomes
from .receive_parts import Block, Busy, Costs, Hardware, PauseSignal, RingState
from .replayed import Fate
from .senders import MISSING, NEVER, FreeSender, PausedSender


class _Serving:
    """One run of the service, as far as it has got."""

    __slots__ = ("at", "begin", "had_ended", "is_asked_again", "is_fetching", "left")

    def __init__(self, begin: int, at: int, left: int) -> None:
        self.begin, self.at, self.left = begin, at, left
        self.is_fetching = False  # a character, by `at`; before the first the handler is entered
        self.had_ended = False  # DMA, when the handler was entered
        self.is_asked_again = False


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
    costs : Costs
        What a service costs.
    busy : Busy
        How long the service was busy.
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
        self.outcomes: Outcomes = Outcomes(len(values), stop_at, notes_given=is_live)
        self.costs: Costs = Costs.of(path, character_ns)
        self._deaf = Deafness(path.deaf)
        self._halted = Deafness([stretch for stretch in path.deaf if stretch.stops == "everything"])
        self.busy: Busy = Busy(self._halted)
        self._hardware = Hardware(path)
        self._block = Block(path.service) if isinstance(path.service, DmaService) else None
        self._ring = RingState(path)
        self._pause = PauseSignal(path, sender, signal_ns)
        self._serving: _Serving | None = None
        self._idle_at = self._start_at = self._arm_at = NEVER
        self._acted_at = self._looked_at = MISSING
        self.application: Application | None = make_application(
            path, self._ring.held, values, self.outcomes.give, self.outcomes.keep, self._halted
        )

    @property
    def last_at(self) -> int:
        """When the last thing happened."""
        return max(self.sender.last_arrival, self.busy.until, self._acted_at)

    def feed(self, begins: Sequence[int], sure_until: int) -> None:
        """Let the sender know of further characters, and that it gets no others before a time."""
        self.outcomes.extend(len(begins))
        self.sender.extend(begins, sure_until)

    def close(self) -> None:
        """Take note that nothing more happens."""
        self.sender.close()
        if self.application is not None:
            self.application.close()

    def run(self) -> None:
        """Let happen what is known to happen; a live run stops where the application gets something."""
        sender, application, outcomes, busy = self.sender, self.application, self.outcomes, self.busy
        halted = self._halted if self._halted.is_ever else None
        given = outcomes.given
        while not outcomes.is_over and not given:
            if self._serving is not None:
                if not self._serve(self._serving):
                    return
                continue
            service_at = self._start_at if self._start_at < self._idle_at else self._idle_at
            if self._arm_at < service_at:
                service_at = self._arm_at
            act_at = NEVER if application is None else application.act_at
            if act_at < busy.until:
                act_at = busy.until
            if halted is not None and act_at < NEVER:
                act_at = halted.after(act_at)
            arrive_at = sender.arrive_at
            if arrive_at <= service_at and arrive_at <= act_at:
                if arrive_at >= NEVER or sender.is_unsure:
                    return
                self._arrive()
            elif service_at <= act_at:
                if self._idle_at == service_at:
                    self._idle_is_over()
                elif self._start_at == service_at:
                    self._begin_service()
                elif not self._arm():
                    return
            elif application is not None:
                if min(arrive_at, service_at) >= NEVER and application.is_waiting:
                    return  # in vain
                application.act(act_at, min(arrive_at, service_at))
                self._acted_at = act_at
                self._has_taken(act_at)

    # the line and the hardware

    def _arrive(self) -> None:
        """Take in the next character, which is complete."""
        sender = self.sender
        number, at = sender.number, sender.arrive_at
        sender.advance()
        if self._block is not None:
            if self._block.is_armed:
                self._into_block(self._block, number, at)
            else:
                self._hardware.take(number, at, sender.begin[number], self.outcomes)
                if len(self._hardware.held) >= self._pause.fifo_at:
                    self._pause.ask(at)
            return
        hardware = self._hardware
        held = hardware.held
        if hardware.waiting < 0 and len(held) < hardware.size:
            held.append(number)
        else:
            hardware.take(number, at, sender.begin[number], self.outcomes)
        if len(held) >= self._pause.fifo_at:
            self._pause.ask(at)
        if self._start_at < NEVER or self._serving is not None or self._ring.is_stopped:
            return
        if self.costs.every:
            self._start_at = self._next_look(max(at, self.busy.until))
        elif len(held) >= hardware.trigger:
            self._idle_at = NEVER
            self._ask(at)
        elif self.costs.idle < NEVER:
            self._idle_at = at + self.costs.idle

    def _into_block(self, block: Block, number: int, at: int) -> None:
        """Let DMA fetch a character."""
        if block.put(number, at, self.outcomes):
            self._ask(at)
        if self.costs.idle < NEVER:
            self._idle_at = at + self.costs.idle

    def _idle_is_over(self) -> None:
        """Take note that the line has been idle for long enough."""
        at, self._idle_at = self._idle_at, NEVER
        if (block := self._block) is not None:
            if block.held:
                block.has_ended = block.has_ended or not block.circular
                self._ask(at)
        elif self._hardware.held and self._start_at == NEVER and not self._ring.is_stopped:
            self._ask(at)

    def _arm(self) -> bool:
        """Arm DMA again: what waits in the hardware goes into the block at once; False if more must be known first."""
        at, block, hardware = self._arm_at, self._block, self._hardware
        assert block is not None
        if not self._is_known(at):
            return False
        self._arm_at = NEVER
        block.is_armed, block.filled = True, 0
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

    def _ask(self, at: int) -> None:
        """Ask for service, unless that has been done."""
        if self._serving is not None:
            self._serving.is_asked_again = True
        elif self._start_at == NEVER and not self._ring.is_stopped:
            jitter, until = self.costs.jitter, self.busy.until
            start_at = (at if at > until else until) + self.costs.latency + jitter[self.busy.services % len(jitter)]
            self._start_at = self._deaf.after(start_at) if self._deaf.is_ever else start_at

    def _next_look(self, at: int) -> int:
        """Return when a polling loop next looks, from a moment on."""
        at = max(at, self._looked_at + 1)
        stretch = self._deaf.around(at) or self._deaf.around(at - 1)
        since = max(self.busy.until, self._looked_at + 1)
        if stretch is not None and self.costs.look_due(max(stretch[0], since)) < stretch[1]:
            return stretch[1]
        return self._deaf.after(self.costs.look_due(at))

    def _begin_service(self) -> None:
        begin = self._looked_at = self._start_at
        self._start_at = NEVER
        if self._block is None:
            self._idle_at = NEVER
        self._serving = _Serving(begin, begin + self.costs.enter, self.costs.most)

    def _serve(self, serving: _Serving) -> bool:
        """Let the service run on; return whether it has ended, False if more must be known first."""
        sender, hardware, block, ring, pause = self.sender, self._hardware, self._block, self._ring, self._pause
        outcomes, each = self.outcomes, self.costs.each
        held = hardware.held if block is None else block.held
        while True:
            at = serving.at
            if (sender.arrive_at <= at or self._idle_at <= at) and not self._catch_up(at):
                return False
            if not serving.is_fetching:
                serving.is_fetching = True
                if block is not None:
                    self._enter_block(block, serving)
            else:
                if block is None and hardware.waiting >= 0 and not self._is_known(at):
                    return False
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
                serving.left -= 1
            if not held or not serving.left or ring.must_stop():
                break
            serving.at = at + each
        self._end_service(serving)
        return True

    def _enter_block(self, block: Block, serving: _Serving) -> None:
        """Let the handler see what is in the block, and whether DMA has ended."""
        serving.had_ended, serving.left = block.has_ended, len(block.held)
        if block.has_ended:
            block.is_armed = False

    def _catch_up(self, until: int) -> bool:
        """Let characters arrive, and lines go idle, up to a moment; return False if more must be known first."""
        sender = self.sender
        while sender.arrive_at <= until or self._idle_at <= until:
            if sender.arrive_at > self._idle_at:
                self._idle_is_over()
            elif sender.is_unsure:
                return False
            else:
                self._arrive()
        return True

    def _end_service(self, serving: _Serving) -> None:
        end = serving.at + self.costs.leave
        self._serving = None
        self.busy.add(serving.begin, end)
        if (block := self._block) is None:
            self._ask_again(serving.at, end)
        elif serving.had_ended and not self._ring.is_stopped:
            block.has_ended = False
            self._arm_at = end + self.costs.gap
        elif serving.is_asked_again:
            self._ask(end)
        if not self._ring.when_full:
            self.outcomes.publish(end)
        elif self.application is not None and self._ring.held:
            self.application.wake(self.busy.blocked_since)

    def _ask_again(self, served_until: int, end: int) -> None:
        """When a service ends, ask for the next if something is left."""
        held = self._hardware.held
        if not held or self._ring.is_stopped:
            return
        if self.costs.every:
            self._start_at = self._next_look(end)
        elif len(held) >= self._hardware.trigger:
            self._ask(end)
        elif self.costs.idle < NEVER:
            self._idle_at = max(self.sender.last_arrival, served_until) + self.costs.idle

    # the application

    def _has_taken(self, at: int) -> None:
        """Let go on what waited for room in the ring."""
        ring, held = self._ring, self._hardware.held
        if self._pause.is_asked:
            self._pause.let_go_on(self._pause.ring_at, len(ring.held), at)
        if ring.is_stopped and len(ring.held) < ring.capacity:
            ring.is_stopped = False
            if self.costs.every and held:
                self._start_at = self._next_look(at + 1)  # a look at this moment has been
            elif held or (self._block is not None and self._block.held):
                self._ask(at)
