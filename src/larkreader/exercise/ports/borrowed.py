"""A port made of any object that has `read` and `write`."""

from __future__ import annotations

import os
import time
from typing import Any

from larkreader.errors import PortError, RequestError

from .port import Port, Received
from .ready import is_ready


class BorrowedPort(Port):
    """Makes a port of any object that has `read` and `write`, such as an unbuffered file of a device.

    Parameters
    ----------
    stream : object
        Its ``write(data)`` takes bytes, and returns how many it took or None for all. Its ``read(length)`` returns
        what has arrived, up to that. If it has a ``fileno``, it is read only when that has something to read;
        otherwise its ``read`` must come back within a time limit of its own, with no bytes if there were none.

    Raises
    ------
    RequestError
        If `stream` lacks `read` or `write`.
    """

    notes: tuple[str, ...] = ("whether characters had faults is not known here",)

    def __init__(self, stream: Any) -> None:
        for name in ("read", "write"):
            if not callable(getattr(stream, name, None)):
                raise RequestError("port", f"is a {type(stream).__name__} without {name}", "must have read and write")
        self.name: str = str(getattr(stream, "name", type(stream).__name__))
        self._stream = stream
        self._number = _file_number(stream)
        self._closed = False

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the object has taken it."""
        self._check_open()
        rest = memoryview(data)
        deadline = None if limit_s is None else self.now_s() + limit_s
        while rest:
            if deadline is not None and self.now_s() > deadline:
                raise self._took_too_little(len(data) - len(rest), len(data), limit_s)
            try:
                count = self._stream.write(rest)
            except OSError as error:
                raise PortError(f"port {self.name}", f"cannot be written to: {error.strerror or error}") from None
            rest = rest[len(rest) if count is None else count :]
        flush = getattr(self._stream, "flush", None)
        if flush is not None:
            flush()

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        self._check_open()
        deadline = self.now_s() + limit_s
        while True:
            piece = self._piece(most, max(deadline - self.now_s(), 0.0))
            if piece or self.now_s() >= deadline:
                return Received(piece, "length" if len(piece) == most else "time")

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.perf_counter()

    def close(self) -> None:
        """Use the object no more, but leave it open: it belongs to whoever made it."""
        self._closed = True

    def _piece(self, most: int, limit_s: float) -> bytes:
        try:
            if self._number is None:
                return bytes(self._stream.read(most) or b"")
            piece = self._stream.read(most) if is_ready(self._number, limit_s) else None
        except OSError as error:
            why = error.strerror or os.strerror(error.errno or 0)
            raise PortError(f"port {self.name}", f"cannot be read: {why}") from None
        if piece == b"":  # ready, yet nothing: the other end is gone
            raise PortError(f"port {self.name}", "was closed by the other end")
        return bytes(piece or b"")


def as_port(thing: Any) -> Port:
    """Return `thing` if it is a port, else a port made of it."""
    return thing if isinstance(thing, Port) else BorrowedPort(thing)


def _file_number(stream: Any) -> int | None:
    try:
        return int(stream.fileno())
    except (AttributeError, OSError, ValueError):
        return None
