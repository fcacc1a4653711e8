"""What a port is, and how any object with `read` and `write` becomes one."""

from __future__ import annotations

import os
import select
import time
from typing import Any, Protocol, runtime_checkable

from larkreader.errors import PortError, RequestError


@runtime_checkable
class Port(Protocol):
    """Something that bytes are sent into and received from."""

    def write(self, data: bytes) -> None:
        """Send all of `data`; return when the port has taken it."""

    def read(self, length: int, limit_s: float) -> bytes:
        """Receive `length` bytes, or fewer if `limit_s` seconds pass without another one."""

    def now_s(self) -> float:
        """Return the time on the port's own clock, in seconds."""

    def close(self) -> None:
        """Give the port back."""


class BorrowedPort:
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

    def __init__(self, stream: Any) -> None:
        for name in ("read", "write"):
            if not callable(getattr(stream, name, None)):
                raise RequestError("port", f"is a {type(stream).__name__} without {name}", "must have read and write")
        self._stream = stream
        self._number = _file_number(stream)

    def write(self, data: bytes) -> None:
        """Send all of `data`; return when the object has taken it."""
        rest = memoryview(data)
        while rest:
            try:
                taken = self._stream.write(rest)
            except OSError as error:
                raise PortError("port", f"cannot be written to: {error.strerror or error}") from None
            rest = rest[len(rest) if taken is None else taken :]
        flush = getattr(self._stream, "flush", None)
        if flush is not None:
            flush()

    def read(self, length: int, limit_s: float) -> bytes:
        """Receive `length` bytes, or fewer if `limit_s` seconds pass without another one."""
        received = bytearray()
        deadline = self.now_s() + limit_s
        while len(received) < length:
            remaining = deadline - self.now_s()
            if remaining <= 0:
                break
            piece = self._some(length - len(received), remaining)
            if piece:
                received += piece
                deadline = self.now_s() + limit_s
        return bytes(received)

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.monotonic()

    def close(self) -> None:
        """Leave the object open: it belongs to whoever made it."""

    def _some(self, most: int, limit_s: float) -> bytes:
        try:
            if self._number is not None:
                ready, _, _ = select.select([self._number], [], [], limit_s)
                if not ready:
                    return b""
                piece = self._stream.read(most)
                if piece == b"":  # ready, yet nothing: the other end is gone
                    raise PortError("port", "was closed by the other end")
            else:
                piece = self._stream.read(most)
        except OSError as error:
            if isinstance(error, PortError):
                raise
            raise PortError("port", f"cannot be read: {error.strerror or os.strerror(error.errno or 0)}") from None
        return bytes(piece or b"")


def as_port(thing: Any) -> Port:
    """Return `thing` if it is a port, else a port made of it."""
    if isinstance(thing, Port) and not hasattr(thing, "fileno"):
        return thing
    return BorrowedPort(thing)


def _file_number(stream: Any) -> int | None:
    try:
        return int(stream.fileno())
    except (AttributeError, OSError, ValueError):
        return None
