"""A port that is read all the time, whatever else its program does, so that no buffer of the system overflows."""

from __future__ import annotations

import threading
import time
from queue import Empty, SimpleQueue
from types import TracebackType
from typing import NamedTuple, Self

from larkreader.errors import PortError

from .port import Port, Received

READ = 4096  # characters at a time
LOOK_S = 0.02  # that a read waits for something
MOST_HELD = 1 << 23  # bytes of what waits to be taken; then nothing is read, so that the other end has to wait
OF_ARRIVAL = 256  # bytes that each takes beside its characters


class Arrival(NamedTuple):
    """What arrived between two reads: from when to when, in seconds on the port's clock; and what."""

    since_s: float
    at_s: float
    received: Received


class DrainedPort:
    """Reads a port in a thread of its own. A context manager; leave it before the port is closed.

    Where more arrives than is taken, the thread stops reading when 8 MB wait to be taken: then flow control holds the
    other end back, or the driver counts what it loses.

    Parameters
    ----------
    port : Port
        A port in real time.
    """

    def __init__(self, port: Port) -> None:
        self._port = port
        # a queue, not a condition: an interrupt that falls into the wait for a condition can leave its lock released
        self._arrived: SimpleQueue[Arrival | PortError] = SimpleQueue()
        self._read_bytes = self._taken_bytes = 0  # each is counted by one thread alone
        self._error: PortError | None = None
        self._is_ended = False
        self._thread = threading.Thread(target=self._read, name=f"reader of {port.name}", daemon=True)

    def take(self, limit_s: float) -> list[Arrival]:
        """Return what arrived since the last call; wait up to `limit_s` seconds for something.

        Parameters
        ----------
        limit_s : float
            How long to wait.

        Raises
        ------
        PortError
            If the port is gone, and nothing is left that arrived before.
        """
        found = self._next(limit_s) if self._error is None else []
        for _ in range(self._arrived.qsize()):  # not what arrives meanwhile, which may never end
            found += self._next(0.0)
        if not found and self._error is not None:
            raise self._error
        return found

    def rest(self) -> list[Arrival]:
        """Return what was read and not taken yet, once the thread has ended."""
        found: list[Arrival] = []
        while more := self._next(0.0):
            found += more
        return found

    def _next(self, limit_s: float) -> list[Arrival]:
        """Return the next arrival, or none where none is there in time, or the port is gone."""
        try:
            item = self._arrived.get(timeout=limit_s)
        except Empty:
            return []
        if isinstance(item, PortError):
            self._error = item
            return []
        self._taken_bytes += len(item.received.data) + OF_ARRIVAL
        return [item]

    def _read(self) -> None:
        since_s = self._port.now_s()
        try:
            while not self._is_ended:
                received = self._port.read_some(READ, LOOK_S)
                now_s = self._port.now_s()
                if received.data:
                    self._read_bytes += len(received.data) + OF_ARRIVAL
                    self._arrived.put(Arrival(since_s, now_s, received))
                since_s = now_s
                while self._read_bytes - self._taken_bytes >= MOST_HELD and not self._is_ended:
                    time.sleep(LOOK_S)
        except PortError as error:
            self._arrived.put(error)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._is_ended = True
        self._thread.join()
