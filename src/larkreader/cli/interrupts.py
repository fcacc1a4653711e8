"""Ctrl-C, and a request to end: they interrupt the command once, at a moment when it can be interrupted.

Python's own handler raises `KeyboardInterrupt` wherever the program is. In the middle of an import that can be lost:
the start of a compiled module may swallow the exception, and then the command would run on for ever.
"""

from __future__ import annotations

import _thread
import signal
import time
from types import FrameType

ENDING_SIGNALS = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name))
PATIENCE_S = 3.0  # a second signal interrupts again only after this time, so that ports and files can be closed
RETRY_S = 0.005
IMPORTING = "<frozen importlib"  # how the file of each frame of the import system begins


class PipeClosedError(Exception):
    """The reader of the output has gone."""


class Interrupts:
    """The handler of the signals that end a command."""

    def __init__(self) -> None:
        self._interrupted_s: float | None = None

    def install(self) -> None:
        """Handle each ending signal that whoever started the command does not ignore."""
        for number in ENDING_SIGNALS:
            if signal.getsignal(number) != signal.SIG_IGN:
                signal.signal(number, self._handle)

    def ignore(self) -> None:
        """Ignore all of them from now on, as the command has ended and the interpreter takes its handlers away."""
        for number in ENDING_SIGNALS:
            signal.signal(number, signal.SIG_IGN)

    def _handle(self, number: int, frame: FrameType | None) -> None:
        if self._interrupted_s is not None and time.monotonic() < self._interrupted_s + PATIENCE_S:
            return
        if _is_importing(frame):
            _thread.start_new_thread(self._send_again, (number, _thread.get_ident()))  # `threading` takes locks
            return
        self._interrupted_s = time.monotonic()
        raise KeyboardInterrupt

    def _send_again(self, number: int, main_thread: int) -> None:
        """Repeat a signal a little later: to the main thread, where its handler runs, so that a wait there ends."""
        time.sleep(RETRY_S)
        if self._interrupted_s is not None:
            return
        if hasattr(signal, "pthread_kill"):
            signal.pthread_kill(main_thread, number)
        else:
            signal.raise_signal(number)


def _is_importing(frame: FrameType | None) -> bool:
    while frame is not None:
        if frame.f_code.co_filename.startswith(IMPORTING):
            return True
        frame = frame.f_back
    return False
