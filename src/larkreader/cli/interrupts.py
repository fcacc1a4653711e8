"""Ctrl-C, and a request to end: they interrupt the command once, at a moment when it can be interrupted.

Python's own handler raises `KeyboardInterrupt` wherever the program is. In the middle of an import that can be lost:
the start of a compiled module may swallow the exception, and then the command would run on for ever.
"""

from __future__ import annotations

import _thread
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

ENDING_SIGNALS = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name))
PATIENCE_S = 3.0  # a second signal interrupts again only after this time, so that ports and files can be closed
RETRY_S = 0.005
IMPORTING = "<frozen importlib"  # how the file of each frame of the import system begins


_undisturbed: list[bool] = []  # an entry for each block that no interrupt falls into
_put_off: list[int] = []  # the signal that waits for the end of such a block
PUT_OFF_S = 0.5  # that it waits at most, as the block may itself wait for a reader of the output


@contextmanager
def undisturbed() -> Iterator[None]:
    """Let no interrupt fall into a short block, which takes something from one place to another; it falls behind it."""
    _undisturbed.append(True)
    try:
        yield
    finally:
        _undisturbed.pop()
        if _put_off and not _undisturbed:
            signal.raise_signal(_put_off.pop())


_raised: list[bool] = []  # whether `KeyboardInterrupt` was raised


def forget_interrupts() -> None:
    """Forget interrupts of a command before, in the same program."""
    _raised.clear()
    _put_off.clear()


def end_if_interrupted() -> None:
    """Raise `KeyboardInterrupt` if it was raised before, and yet the command goes on.

    Code in C that asks an object for something may drop an exception that it does not expect. What runs for long calls
    this in each round.
    """
    if _raised or (_put_off and not _undisturbed):
        raise KeyboardInterrupt


class PipeClosedError(Exception):
    """The reader of the output has gone."""


class Interrupts:
    """The handler of the signals that end a command."""

    def __init__(self) -> None:
        self._interrupted_s: float | None = None
        self._put_off_s: float | None = None  # since when

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
        if _is_importing(frame) or self._is_put_off(number):
            _thread.start_new_thread(self._send_again, (number, _thread.get_ident()))  # `threading` takes locks
            return
        self._interrupted_s = time.monotonic()
        _raised[:] = [True]
        raise KeyboardInterrupt

    def _is_put_off(self, number: int) -> bool:
        """Return whether an interrupt falls into a block that is better not disturbed, and that does not last long."""
        if not _undisturbed:
            return False
        now_s = time.monotonic()
        self._put_off_s = now_s if self._put_off_s is None else self._put_off_s
        is_put_off = now_s < self._put_off_s + PUT_OFF_S
        _put_off[:] = [number] if is_put_off else []
        return is_put_off

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
