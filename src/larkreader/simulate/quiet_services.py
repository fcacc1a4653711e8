"""Interrupts that nothing interferes with, many at once: each ends before the next character is complete.

What this finds is what the engine finds one event at a time. Where a service takes longer, the engine goes on that way,
and a while passes before it is tried again. All times are whole nanoseconds.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import InterruptService

from .application import DUE, Application
from .hardware import Hardware
from .outcomes import Outcomes
from .ring_state import RingState
from .senders import NEVER, FreeSender, PausedSender
from .service import RESTING, Service

FEWEST, MOST = 8, 1 << 14  # services that are worked out together
LONGEST_PAUSE = 4096  # attempts that are left out, after many in vain

Times = npt.NDArray[np.int64]


class QuietServices:
    """The services of one run of an engine that nothing interferes with."""

    def __init__(
        self,
        sender: FreeSender,
        hardware: Hardware,
        service: Service,
        ring: RingState,
        application: Application | None,
        outcomes: Outcomes,
    ) -> None:
        self._sender, self._hardware, self._service = sender, hardware, service
        self._ring, self._application, self._outcomes = ring, application, outcomes
        self._arrivals = np.array(sender.arrivals, dtype=np.int64)
        self._jitter = np.array(service.costs.jitter, dtype=np.int64)
        self._size = hardware.trigger
        self._count = FEWEST
        self._pause = self._left_out = 0

    @classmethod
    def of(
        cls,
        path: ReceivePath,
        sender: FreeSender | PausedSender,
        hardware: Hardware,
        service: Service,
        ring: RingState,
        application: Application | None,
        outcomes: Outcomes,
    ) -> QuietServices | None:
        """Return them for a path; None where something can always interfere."""
        can_be = (
            isinstance(path.service, InterruptService)
            and not path.deaf
            and service.costs.most >= hardware.trigger
            and ring.when_full != "stop"
        )
        if not can_be or not isinstance(sender, FreeSender):
            return None
        return cls(sender, hardware, service, ring, application, outcomes)

    def serve(self, until: int) -> bool:
        """Serve what is complete up to a moment, as far as nothing interferes; False if nothing can be served so."""
        if self._left_out:
            self._left_out -= 1
            return False
        if self._service.state is not RESTING or self._hardware.held or self._hardware.waiting >= 0:
            return False
        count = min(self._count, self._room() // self._size)
        served = self._served(count, until) if count >= FEWEST else 0
        if served < count:
            self._count = max(served, FEWEST)
        elif count >= FEWEST:
            self._count = min(2 * count, MOST)
        if served < FEWEST:
            self._pause = min(2 * self._pause + 1, LONGEST_PAUSE)
            self._left_out = self._pause
        else:
            self._pause = 0
        return served > 0

    def _room(self) -> int:
        """Return how many characters can be stored before the application, or the ring, does anything else."""
        application = self._application
        if application is None or application.state is DUE:
            return self._ring.capacity - len(self._ring.held) - 1
        return application.room_in_read()

    def _served(self, count: int, until: int) -> int:
        """Serve at most so many requests; return how many."""
        first, size, costs, busy = self._sender.number, self._size, self._service.costs, self._service.busy
        count = min(count, self._sender.count_until(until, count * size) // size)
        if count < FEWEST or busy.until >= self._arrivals[first + size - 1]:
            return 0
        arrivals = self._arrivals[first : first + count * size].reshape(count, size)
        draws = self._jitter[(busy.services + np.arange(count)) % len(self._jitter)]
        begin = arrivals[:, -1] + costs.latency + draws
        fetched = begin[:, None] + (costs.enter + costs.each * np.arange(1, size + 1))
        end = fetched[:, -1] + costs.leave
        following = self._arrivals[first + size : first + count * size + 1 : size]
        requests = np.append(arrivals[1:, -1], NEVER)
        is_quiet = (begin <= until) & (fetched[:, -1] < following) & (end < requests)
        if size > 1 and costs.idle < NEVER:
            is_quiet &= (np.diff(arrivals, axis=1) <= costs.idle).all(axis=1)
        if not is_quiet.all():
            count = int(is_quiet.argmin())
        if not count:
            return 0
        times = fetched[:count].ravel().tolist()
        self._outcomes.fetch_all(first, times)
        if self._application is None or self._application.state is DUE:
            self._ring.store_all(first, times, self._outcomes)
        else:
            self._outcomes.store_all(first, times)
            self._application.get(first, np.repeat(end[:count], size).tolist())
        self._sender.skip(count * size)
        self._hardware.idle_at = NEVER
        busy.add_apart(begin[:count], end[:count])
        return count
