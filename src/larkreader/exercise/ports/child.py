"""A program that belongs to a port: how it is started, what it writes on standard error, and how it ends."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import signal
import subprocess
import threading
from collections import deque
from pathlib import Path
from typing import Any

from larkreader.errors import PortError

GRACE_S = 1.0  # that a program has to end by itself once its input is closed; and again once it is asked to
READ = 1 << 16
KEPT_LINES = 6  # of standard error, which an error quotes
LONGEST_LINE = 200
NO_WIRE = "a program has no wire: baud and parity mean nothing, and no character has a fault"
IS_WINDOWS = os.name == "nt"
HANGUP, KILL = getattr(signal, "SIGHUP", 0), getattr(signal, "SIGKILL", signal.SIGTERM)


class Child:
    """A program that belongs to a port, with all that it starts itself.

    Parameters
    ----------
    name : str
        The port's name.
    command : str
        The program and its arguments, parted as a shell parts words; no shell runs.
    where : int or None
        The descriptor that is its standard input and output; pipes where it is None.
    """

    def __init__(self, name: str, command: str, where: int | None = None) -> None:
        self.name = name
        words = _words(name, command)
        own_group: dict[str, Any] = {"start_new_session": True}
        if IS_WINDOWS:
            own_group = {"creationflags": getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)}
        stream = subprocess.PIPE if where is None else where
        try:
            self.process = subprocess.Popen(
                words, stdin=stream, stdout=stream, stderr=subprocess.PIPE, bufsize=0, **own_group
            )
        except OSError as error:
            raise PortError(
                f'port "{name}"', f"cannot be started: {error.strerror or error}", "", _advice(words)
            ) from None
        self._lines: deque[str] = deque(maxlen=KEPT_LINES)
        self._is_reported = False  # how it ended
        self._errors = threading.Thread(target=self._read_errors, name=f"standard error of {name}", daemon=True)
        self._errors.start()

    def ended(self) -> PortError:
        """Return the error that says how the program ended; it is waited for, for a moment."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(GRACE_S)
        self._errors.join(GRACE_S)
        status = self.process.poll()
        self._is_reported = status is not None
        found = (
            "has closed its output, and runs on" if status is None else f"is over: its program {status_text(status)}"
        )
        return PortError(f"port {self.name}", found, "", self.last_errors)

    @property
    def last_errors(self) -> str:
        """The last lines of its standard error, as an error quotes them; nothing where it wrote none."""
        lines = [line[:LONGEST_LINE] for line in self._lines]
        return f"Its standard error ends with: {' | '.join(lines)}" if lines else ""

    def end(self, *, by_hangup: bool = False) -> str:
        """End the program and what it has started; return a note on how it ended where that is worth knowing.

        A terminal that hangs up is an error to many programs, whose status then says nothing.
        """
        try:
            ran_on = not self._waited(GRACE_S)
            if ran_on:
                self._signal(signal.SIGTERM)
                if not self._waited(GRACE_S):
                    self._signal(KILL)
                    self.process.wait()
        finally:  # also for whoever does not wait for it
            self._signal(KILL)  # what it has left behind, which may hold its standard error open
        self._errors.join(GRACE_S)
        note = ""
        if ran_on:
            note = f"the program ran on when its input was closed, and was ended after {GRACE_S:g} s"
        elif self._failed(self.process.returncode, by_hangup=by_hangup) and not self._is_reported:
            note = " ".join(filter(None, (f"the program {status_text(self.process.returncode)}.", self.last_errors)))
        for stream in (self.process.stdin, self.process.stdout, self.process.stderr):
            if stream is not None and not (stream is self.process.stderr and self._errors.is_alive()):
                with contextlib.suppress(OSError):
                    stream.close()
        return note

    @staticmethod
    def _failed(status: int, *, by_hangup: bool) -> bool:
        return status not in (0, -HANGUP) and (status < 0 or not by_hangup)

    def _waited(self, limit_s: float) -> bool:
        try:
            self.process.wait(limit_s)
        except subprocess.TimeoutExpired:
            return False
        return True

    def _signal(self, number: int) -> None:
        """Send a signal to the program's group, whether the program itself is over or not."""
        with contextlib.suppress(OSError):
            if IS_WINDOWS:
                self.process.kill()
            else:
                os.killpg(self.process.pid, number)

    def _read_errors(self) -> None:
        assert self.process.stderr is not None
        with contextlib.suppress(OSError, ValueError):
            for line in iter(lambda: self.process.stderr.readline(READ), b""):  # type: ignore[union-attr]
                text = "".join(char if char.isprintable() else "?" for char in line.decode(errors="replace").rstrip())
                if text:
                    self._lines.append(text)


def status_text(status: int) -> str:
    """Return in words how a program ended.

    Parameters
    ----------
    status : int
        Its exit status; on POSIX the negative number of the signal that ended it.
    """
    if status < 0:
        try:
            called = signal.Signals(-status).name
        except ValueError:
            called = f"signal {-status}"
        crashed = called in ("SIGSEGV", "SIGABRT", "SIGBUS", "SIGFPE", "SIGILL", "SIGTRAP")
        return f"{'crashed with' if crashed else 'was ended by'} {called}"
    if status >= 0xC0000000:  # how Windows reports an exception
        return f"crashed with 0x{status:08X}"
    return f"ended with status {status}"


def _words(name: str, command: str) -> list[str]:
    try:
        words = shlex.split(command, posix=not IS_WINDOWS)
    except ValueError as error:
        raise PortError(f'port "{name}"', f"cannot be parted into words: {str(error).lower()}") from None
    if not words:
        raise PortError(f'port "{name}"', "names no program", 'must be as in "exec:./pump_head --fast"')
    return [word.strip('"') for word in words] if IS_WINDOWS else words


def _advice(words: list[str]) -> str:
    program = words[0]
    if shutil.which(program) is None and Path(program).exists():
        return f"Make it executable: chmod +x {shlex.quote(program)}"
    return "" if shutil.which(program) else "Is it built, and is its path right?"
