"""A port that is read all the time, whatever else its program does, so that no buffer of the system overflows."""

from __future__ import annotations

import threading
from collections import deque
from types import TracebackType
from typing import NamedTuple, Self

from larkreader.errors import PortError

from .port import Port, Received

READ = 4096  # characters at a time
LOOK_S = 0.02  # that a read waits for something


class Arrival(NamedTuple):
    """What arrived between two reads: from when to when, in seconds on the port's clock; and what."""

    since_s: float
    at_s: float
    received: Received


class DrainedPort:
    """Reads a port in a thread of its own. A context manager; leave it before the port is closed.

    Parameters
    ----------
    port : Port
        A port in real time.
    """

    def __init__(self, port: Port) -> None:
        self._port = port
        self._arrived: deque[Arrival] = deque()
        self._error: PortError | None = None
        self._is_ended = False
        self._changed = threading.Condition()
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
        with self._changed:
            if not self._arrived and self._error is None:
                self._changed.wait(limit_s)
            found = list(self._arrived)
            self._arrived.clear()
            if not found and self._error is not None:
                raise self._error
            return found

    def rest(self) -> list[Arrival]:
        """Return what was read and not taken yet, once the thread has ended."""
        found = list(self._arrived)
        self._arrived.clear()
        return found

    def _read(self) -> None:
        since_s = self._port.now_s()
        try:
            while not self._is_ended:
                received = self._port.read_some(READ, LOOK_S)
                now_s = self._port.now_s()
                if received.data:
                    with self._changed:
                        self._arrived.append(Arrival(since_s, now_s, received))
                        self._changed.notify()
                since_s = now_s
        except PortError as error:
            with self._changed:
                self._error = error
                self._changed.notify()

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._is_ended = True
        self._thread.join()
