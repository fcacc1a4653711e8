"""How one end of a link makes its bauds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from larkreader.declare.link.end import End
from larkreader.declare.link.line import LineSettings
from larkreader.judge.calculate.baud_setting import BaudSetting
from larkreader.judge.calculate.divisors import calculate_bauds


@dataclass(frozen=True)
class EndClock:
    """How one end makes one of its bauds.

    Parameters
    ----------
    end : End
        The end.
    line : LineSettings
        What it states, with the baud that is wanted.
    setting : BaudSetting or None
        What is in its baud generator; None where nothing makes that baud.
    problem : str
        Why what is written makes none.
    alternatives : sequence of BaudSetting
        The best divisor for each clock, oversampling and prescaler, the best of all first.
    """

    end: End
    line: LineSettings
    setting: BaudSetting | None
    alternatives: Sequence[BaudSetting]
    problem: str = ""

    @property
    def reachable(self) -> Sequence[BaudSetting]:
        """The standard bauds that this clock makes within 1 %; see `calculate_bauds`."""
        setting = self.setting
        return () if setting is None else calculate_bauds(setting.clock, setting.generator, bits=setting.bits)

    def to_dict(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {
            "end": self.end.key,
            "line": str(self.line),
            "setting": None if self.setting is None else self.setting.to_dict(),
            "alternatives": [alternative.to_dict() for alternative in self.alternatives],
        }
