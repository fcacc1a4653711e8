"""What ports on a file descriptor of the operating system share: devices, pseudo terminals, connections."""

from __future__ import annotations

import errno
import os
import time

from larkreader.errors import PortError

from .port import HELD_BACK, Port, Received
from .ready import is_ready

LARGEST_READ = 1 << 16


class DescriptorPort(Port):
    """A port on a file descriptor that does not block.

    Parameters
    ----------
    descriptor : int
        Open for reading and writing, non-blocking; it belongs to the port from now on.
    name : str
        What to call the port.
    """

    def __init__(self, descriptor: int, name: str) -> None:
        self.name = name
        self._descriptor = descriptor
        self._closed = False

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        self._check_open()
        most = min(most, LARGEST_READ)
        deadline = self.now_s() + limit_s
        while not (data := self._read_now(most)) and (remaining := deadline - self.now_s()) > 0:
            self._wait(remaining, writing=False)
        return Received(data, "length" if len(data) == most else "time")

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the port has taken it."""
        rest = memoryview(data)
        deadline = None if limit_s is None else self.now_s() + limit_s
        self._check_open()
        while rest:
            try:
                rest = rest[self._give(rest) :]
                continue
            except BlockingIOError:  # it is full
                pass
            except OSError as error:
                raise self._failed(error) from None
            remaining = None if deadline is None else max(deadline - self.now_s(), 0.0)
            if not self._wait(remaining, writing=True):
                raise self._took_too_little(len(data) - len(rest), len(data), limit_s, HELD_BACK)

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.perf_counter()  # `time.monotonic` goes in steps of 15 ms on Windows before Python 3.13

    def close(self) -> None:
        """Give the port back as it was found."""
        if not self._closed:
            self._closed = True
            try:
                self._restore()
            finally:
                self._release()

    def _restore(self) -> None:
        """Undo what opening changed."""

    def _give(self, data: memoryview) -> int:
        """Hand over what the system takes now, and return how many bytes that is."""
        return os.write(self._descriptor, data)

    def _take(self, most: int) -> bytes:
        """Return what the system has; nothing if the other end has closed."""
        return os.read(self._descriptor, most)

    def _release(self) -> None:
        """Give the descriptor back to the system."""
        os.close(self._descriptor)

    def _wait(self, limit_s: float | None, *, writing: bool) -> bool:
        self._check_open()
        return is_ready(self._descriptor, limit_s, writing=writing)

    def _read_now(self, most: int) -> bytes:
        try:
            data = self._take(most)
        except BlockingIOError:
            return b""
        except OSError as error:
            raise self._failed(error) from None
        if not data:
            raise PortError(f"port {self.name}", "was closed by the other end")
        return data

    def _failed(self, error: OSError) -> PortError:
        gone = {errno.EIO, errno.ENXIO, errno.ENODEV, errno.EPIPE, errno.ECONNRESET}
        if error.errno in gone or isinstance(error, ConnectionError):
            return PortError(f"port {self.name}", "is gone", advice="Was it unplugged, or closed by the other end?")
        return PortError(f"port {self.name}", f"failed: {error.strerror}")
