"""A program as a port: a host build of the firmware, whose UART is its standard input and output, or a terminal."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections import deque

from larkreader.errors import PortError

from .child import NO_WIRE, READ, Child
from .port import HELD_BACK, Port, Received
from .unclosed import forget, remember

EXEC, EXEC_PTY = "exec:", "exec-pty:"


class ProgramPort(Port):
    """A program whose standard input and output are the line.

    Parameters
    ----------
    name : str
        What the port is called.
    command : str
        The program and its arguments; no shell runs.
    """

    notes: tuple[str, ...] = (NO_WIRE,)

    def __init__(self, name: str, command: str) -> None:
        self.name = name
        self._child = Child(name, command)
        remember(self)
        assert self._child.process.stdin is not None
        assert self._child.process.stdout is not None
        self._stdin, self._stdout = self._child.process.stdin, self._child.process.stdout
        self._changed = threading.Condition()
        self._arrived = bytearray()
        self._is_over = False
        self._to_send: deque[bytes] = deque()
        self._unsent = 0
        self._is_broken = False
        for target, what in ((self._read, "reader"), (self._write, "writer")):
            threading.Thread(target=target, name=f"{what} of {name}", daemon=True).start()

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        self._check_open()
        with self._changed:
            self._changed.wait_for(lambda: bool(self._arrived) or self._is_over, max(limit_s, 0.0))
            data = bytes(self._arrived[:most])
            del self._arrived[:most]
            is_over = self._is_over
        if not data and is_over:
            raise self._child.ended()
        return Received(data, "length" if len(data) == most else "time")

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the program's input has taken it."""
        self._check_open()
        with self._changed:
            self._to_send.append(bytes(data))
            self._unsent += len(data)
            self._changed.notify_all()
            self._changed.wait_for(lambda: self._unsent == 0 or self._is_broken, limit_s)
            unsent, is_broken = self._unsent, self._is_broken
            if unsent and not is_broken:
                self._to_send.clear()
        if is_broken:
            raise self._child.ended()
        if unsent:
            raise self._took_too_little(len(data) - min(unsent, len(data)), len(data), limit_s, HELD_BACK)

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.perf_counter()

    def close(self) -> None:
        """End the program: close its input, wait for a moment, and end it and what it has started if it runs on."""
        if self._closed:
            return
        self._closed = True
        with self._changed:
            self._to_send.clear()
            self._is_broken = True
            self._changed.notify_all()
        if not self._unsent:
            with contextlib.suppress(OSError):
                self._stdin.close()
        note = self._child.end()
        forget(self)
        if note:
            self.notes = (*self.notes, note)

    def _read(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            while data := os.read(self._stdout.fileno(), READ):
                with self._changed:
                    self._arrived += data
                    self._changed.notify_all()
        with self._changed:
            self._is_over = True
            self._changed.notify_all()

    def _write(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(lambda: bool(self._to_send) or self._is_broken)
                if self._is_broken:
                    return
                rest = memoryview(self._to_send.popleft())
            while rest:
                try:
                    done = os.write(self._stdin.fileno(), rest[:4096])
                except (OSError, ValueError):
                    with self._changed:
                        self._is_broken = True
                        self._changed.notify_all()
                    return
                rest = rest[done:]
                with self._changed:
                    self._unsent -= done
                    self._changed.notify_all()


def is_program(name: str) -> bool:
    """Return whether the name of a port is that of a program."""
    return name.startswith((EXEC, EXEC_PTY))


def open_program(name: str) -> Port:
    """Start the program that a port names.

    Parameters
    ----------
    name : str
        ``exec:COMMAND``, or ``exec-pty:COMMAND`` for one whose line is a pseudo terminal.

    Raises
    ------
    PortError
        If it cannot be started.
    """
    if name.startswith(EXEC_PTY):
        try:
            from .program_pty import PtyProgramPort
        except ModuleNotFoundError:
            wanted = "must be exec:COMMAND, as this system has no POSIX terminals"
            raise PortError(f'port "{name}"', "needs a pseudo terminal", wanted) from None
        return PtyProgramPort(name, name.removeprefix(EXEC_PTY))
    return ProgramPort(name, name.removeprefix(EXEC))
