"""What asks the sender to pause, as it stands during a run. All times are whole nanoseconds."""

from __future__ import annotations

from larkreader.declare.paths.receive_path import ReceivePath

from .paused_sender import PausedSender
from .senders import NEVER, FreeSender, nanoseconds


class PauseSignal:
    """What asks the sender to pause, and lets it go on."""

    __slots__ = ("_delay", "_resume_at", "_sender", "fifo_at", "is_asked", "ring_at")

    def __init__(self, path: ReceivePath, sender: FreeSender | PausedSender, signal_ns: int) -> None:
        self.fifo_at: int = NEVER
        self.ring_at: int = NEVER
        self.is_asked: bool = False
        self._sender, self._delay, self._resume_at = sender, signal_ns, 0
        if (pause := path.pause) is not None and isinstance(sender, PausedSender):  # the other never pauses
            self._resume_at, self._delay = pause.resume_at, signal_ns + nanoseconds(pause.delay_s)
            if pause.watches == "fifo":
                self.fifo_at = pause.at
            else:
                self.ring_at = pause.at

    def ask(self, at: int) -> None:
        """Ask the sender to pause."""
        if not self.is_asked:
            self.is_asked = True
            self._sender.signal(at + self._delay, pause=True)

    def let_go_on(self, watched_at: int, held: int, at: int) -> None:
        """Let the sender go on, if it was to pause for the sake of what holds so many now."""
        if self.is_asked and watched_at < NEVER and held <= self._resume_at:
            self.is_asked = False
            self._sender.signal(at + self._delay, pause=False)
