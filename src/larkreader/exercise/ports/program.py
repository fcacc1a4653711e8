"""A program as a port: a host build of the firmware, whose UART is its standard input and output, or a terminal."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from queue import Empty, SimpleQueue

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
        # queues, not a condition: an interrupt that falls into the wait for a condition can leave its lock released
        self._from_program: SimpleQueue[bytes] = SimpleQueue()  # nothing: it has closed its output
        self._to_program: SimpleQueue[tuple[int, memoryview] | None] = SimpleQueue()  # None: it is closed
        self._done: SimpleQueue[tuple[int, int]] = SimpleQueue()  # of which write, and how many bytes; -1 if it failed
        self._arrived = bytearray()
        self._is_over = self._is_broken = False
        self._write_number = 0  # what was given up is not sent any more
        for target, what in ((self._read, "reader"), (self._write, "writer")):
            threading.Thread(target=target, name=f"{what} of {name}", daemon=True).start()

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there; wait up to `limit_s` seconds for the first character."""
        self._check_open()
        deadline = self.now_s() + max(limit_s, 0.0)
        while not self._is_over and len(self._arrived) < most:
            remaining = 0.0 if self._arrived else max(deadline - self.now_s(), 0.0)
            try:
                piece = self._from_program.get(timeout=remaining)
            except Empty:
                break
            self._arrived += piece
            self._is_over = not piece
        data = bytes(self._arrived[:most])
        del self._arrived[:most]
        if not data and most and self._is_over:
            raise self._child.ended()
        return Received(data, "length" if len(data) == most else "time")

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`; return when the program's input has taken it."""
        self._check_open()
        if not data:
            return
        self._write_number += 1
        number, unsent = self._write_number, len(data)
        self._to_program.put((number, memoryview(bytes(data))))
        deadline = None if limit_s is None else self.now_s() + limit_s
        while unsent and not self._is_broken:
            try:
                of_write, count = self._done.get(
                    timeout=None if deadline is None else max(deadline - self.now_s(), 0.0)
                )
            except Empty:
                self._write_number += 1
                raise self._took_too_little(len(data) - unsent, len(data), limit_s, HELD_BACK) from None
            self._is_broken |= count < 0
            unsent -= count if of_write == number and count > 0 else 0
        if self._is_broken:
            raise self._child.ended()

    def now_s(self) -> float:
        """Return the time on the machine's monotonic clock, in seconds."""
        return time.perf_counter()

    def close(self) -> None:
        """End the program: close its input, wait for a moment, and end it and what it has started if it runs on."""
        if self._closed:
            return
        self._closed = True
        self._write_number += 1
        self._to_program.put(None)
        note = self._child.end()
        forget(self)
        if note:
            self.notes = (*self.notes, note)

    def _read(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            while data := os.read(self._stdout.fileno(), READ):
                self._from_program.put(data)
        self._from_program.put(b"")

    def _write(self) -> None:
        while (item := self._to_program.get()) is not None:
            number, rest = item
            while rest and number == self._write_number:
                try:
                    count = os.write(self._stdin.fileno(), rest[:4096])
                except (OSError, ValueError):
                    self._done.put((number, -1))
                    return
                rest = rest[count:]
                self._done.put((number, count))
        with contextlib.suppress(OSError):
            self._stdin.close()


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
