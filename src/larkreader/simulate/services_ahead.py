"""Services worked out ahead of everything else, and what the application makes of what they store.

An interrupt handler or a polling loop that finds room in the ring does what it does whether or not the application
acts. So services are worked out many at a time (`service_batches`), and then noted in order, up to each moment at which
the application acts; where the ring would fill up, or the sender be asked to pause, the engine goes on event by event
from the service before. After attempts in vain a while passes before it is tried again. All times are whole
nanoseconds.
"""

from __future__ import annotations

from bisect import bisect_right

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService, PollingService

from .application import ASLEEP, READING, Application
from .batch import Batch
from .blackouts import Blackouts
from .hardware import Hardware
from .outcomes import Outcomes
from .pause_signal import PauseSignal
from .paused_sender import PausedSender
from .ring_state import RingState
from .senders import NEVER, Ahead, FreeSender
from .service import RESTING, Service, draws_of
from .service_batches import Conditions, apart, in_turn

FEWEST, MOST = 8, 1 << 12  # services that are worked out together
LONGEST_PAUSE = 4096  # attempts that are left out, after many in vain


class ServicesAhead:
    """The services of one run of an engine that can be worked out ahead."""

    def __init__(
        self,
        path: ReceivePath,
        sender: FreeSender | PausedSender,
        hardware: Hardware,
        service: Service,
        ring: RingState,
        pause: PauseSignal,
        application: Application | None,
        outcomes: Outcomes,
    ) -> None:
        self._sender, self._hardware, self._service = sender, hardware, service
        self._ring, self._pause, self._application, self._outcomes = ring, pause, application, outcomes
        self._conditions = Conditions(
            hardware,
            service.costs,
            draws_of(path),
            Blackouts(path.deaf) if path.deaf else None,
            min(hardware.size, pause.fifo_at - 1),
        )
        self._ways = [_Attempts(), _Attempts()]

    @staticmethod
    def are_possible(path: ReceivePath) -> bool:
        """Return whether the services of a path do not always depend on something else."""
        stands_still = any(stretch.stops == "everything" for stretch in path.deaf)
        looks_late = bool(path.deaf) and isinstance(path.service, PollingService)
        return not (isinstance(path.service, DmaService) or stands_still or looks_late)

    def serve(self) -> bool:
        """Let services happen, and the application act up to the last of them; False if nothing can be done ahead."""
        hardware, service = self._hardware, self._service
        if service.state is not RESTING or hardware.held or hardware.waiting >= 0 or self._pause.is_asked:
            return False
        if self._room() < hardware.trigger:
            return False
        ahead: Ahead | None = None
        is_tried = False
        for attempts, work_out in zip(self._ways, (apart, in_turn), strict=True):
            if attempts.are_left_out():
                continue
            count = FEWEST if is_tried else attempts.count  # then it goes on the first way
            is_tried = True
            ahead = ahead or self._sender.look_ahead(count * hardware.size + 1)
            batch = work_out(self._conditions, service, ahead, count) if ahead else ()
            done = self._happen(batch, ahead) if batch and ahead else 0
            attempts.note(done, count)
            if done:
                return True
        return False

    def _happen(self, batch: Batch, ahead: Ahead) -> int:
        """Let the services of a batch happen in order; return how many did before the ring would fill up."""
        application, ring, outcomes = self._application, self._ring, self._outcomes
        begin, end = batch.begin, batch.end
        until, done, count = self._service.busy.until, 0, len(batch)
        stop = count
        while done < count and not outcomes.is_over:
            if application is not None:
                if room := application.room_in_read():
                    stop = batch.last_within(room, done, bisect_right(end, application.act_at, done))
                    if stop > done:
                        application.get(batch, done, stop)
                        done, until = stop, end[stop - 1]
                        continue
                act_at = max(application.act_at, until)
                if begin[done] > act_at:
                    application.act(act_at, begin[done])
                    continue
                is_next = application.state is ASLEEP or application.state is READING
                stop = done + 1 if is_next else bisect_right(begin, act_at, done)
            fits = batch.last_within(self._room(), done, stop)
            if fits > done:
                if ring.when_full:
                    ring.held.extend(batch.numbers(done, fits))
                if application is not None:
                    application.wake(batch.since[fits - 1])
                done, until = fits, end[fits - 1]
            if fits < stop:
                break
        if done:
            outcomes.serve(batch, done)
            self._service.busy.add_all(begin[:done], end[:done], batch.since[:done])
            self._service.looked_at = begin[done - 1]
            self._hardware.idle_at = NEVER
            self._sender.skip(batch.upto[done - 1] - batch.first[0], ahead)
        return done

    def _room(self) -> int:
        """Return how many characters can be stored before the ring, or the sender, does anything else."""
        ring = self._ring
        return min(ring.capacity, self._pause.ring_at) - len(ring.held) - 1 if ring.when_full else NEVER


class _Attempts:
    """How many services are worked out in a way at once, and how long it is left out after it was tried in vain."""

    __slots__ = ("_left_out", "_pause", "count")

    def __init__(self) -> None:
        self._left_out = self._pause = 0
        self.count = FEWEST

    def are_left_out(self) -> bool:
        """Return whether it is not tried this time."""
        self._left_out -= 1
        return self._left_out >= 0

    def note(self, done: int, count: int) -> None:
        """Note how many services it gave, of so many."""
        self._pause = 0 if done >= FEWEST else min(2 * self._pause + 1, LONGEST_PAUSE)
        self._left_out = self._pause
        if done >= self.count:
            self.count = min(2 * done, MOST)
        elif count == self.count:
            self.count = max(2 * done, FEWEST)
