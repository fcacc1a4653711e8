"""A receive path that characters run through as they are sent: what `replay` does, in step with a simulated line.

The engine goes on only as far as what has been sent so far decides; the result is that of a replay of the whole.
"""

from __future__ import annotations

from collections.abc import Sequence

from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import SoftwareReceiver
from larkreader.errors import RequestError

from .paused_sender import PausedSender
from .receive_engine import ReceiveEngine
from .replayed import Fate
from .senders import MISSING, NEVER, nanoseconds


class LivePath:
    """A receive path at the far end of a simulated line.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    line : LineSettings
        The settings of the wire.

    Raises
    ------
    RequestError
        If it is that of a receiver in software, which needs levels.
    """

    def __init__(self, path: ReceivePath, line: LineSettings) -> None:
        if isinstance(path.service, SoftwareReceiver):
            found = "has a receiver in software"
            raise RequestError(f"receive.{path.key}", found, "must be a hardware receiver on a simulated line")
        pause = path.pause
        self.values: list[int] = []
        self._sender = PausedSender(
            [],
            round((line.stop_position + 0.5) * 1e9 / line.baud),
            nanoseconds(line.character_time_s),
            reaction=0 if pause is None else pause.reaction_characters,
            holds=NEVER if pause is None or pause.sender_holds is None else pause.sender_holds,
            sure_until=MISSING,
            sees_signals=pause is not None and line.flow_control != "none",
        )
        character_s = line.character_time_s
        signal = nanoseconds(character_s) if line.flow_control == "xon-xoff" else 0
        self._engine = ReceiveEngine(path, self._sender, self.values, character_s * 1e9, signal, is_live=True)

    @property
    def fates(self) -> dict[str, int]:
        """How many characters had each fate so far, by the names of `Fate`."""
        names = {int(fate): fate.name.lower().replace("_", "-") for fate in Fate}
        counts = {names[fate]: self._engine.outcomes.fate.count(fate) for fate in names}
        held = len(self._sender.refused)
        counts["held-back"] += held
        counts["left"] -= held
        return {name: count for name, count in counts.items() if count}

    @property
    def is_paced(self) -> bool:
        """Whether the sender is held back by pauses."""
        return self._sender.sees_signals

    def begun(self, number: int) -> float | None:
        """Return when a character began, in seconds; None if it has not."""
        at = self._sender.begin[number]
        return None if at == MISSING else at * 1e-9

    def feed(self, begins: Sequence[int], values: Sequence[int], until: int) -> None:
        """Let characters be sent; no other begins before a time, all in nanoseconds."""
        self.values += values
        self._engine.feed(begins, until)

    def advance(self, until: int) -> tuple[int, bytes] | None:
        """Let time pass until the application gets something; None if it gets nothing up to a time."""
        self._engine.feed((), until)
        self._engine.run()
        given = self._engine.outcomes.given
        if not given or given[0][0] > until:
            return None
        at = given[0][0]
        self._sender.expect_from(at)  # as an answer may follow
        now = [number for when, number in given if when == at]
        del given[: len(now)]
        return at, bytes(self.values[number] & 0xFF for number in now)
