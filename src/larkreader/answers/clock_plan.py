"""What one clock and one baud generator make of a line, without a sheet."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from larkreader.declare.link.baud_generator import BaudGenerator, numbers_of
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.end import End
from larkreader.declare.link.line import LineSettings
from larkreader.judge.calculate.baud_setting import BaudSetting
from larkreader.judge.calculate.divisors import calculate_bauds, find_divisors, of_registers
from larkreader.judge.calculate.margins import Margin, Timing, calculate_margin

from .end_clock import EndClock


@dataclass(frozen=True)
class ClockPlan:
    """What a clock and a baud generator make of a line.

    Parameters
    ----------
    clock : EndClock
        The setting in use, and those that come near the baud.
    standard_bauds : sequence of BaudSetting
        The standard bauds that the clock makes.
    margins : sequence of Margin
        What is left when this end sends to an ideal end, and when it receives from one; none without a setting.
    """

    clock: EndClock
    standard_bauds: Sequence[BaudSetting]
    margins: Sequence[Margin]

    @property
    def is_within(self) -> bool:
        """Whether there is a setting, and it works with an ideal end both ways."""
        return bool(self.margins) and all(margin.tightest >= 0 for margin in self.margins)

    def to_dict(self) -> dict[str, Any]:
        """Return the plan as JSON has it."""
        return {**self.clock.to_dict(), "standard_bauds": [setting.to_dict() for setting in self.standard_bauds]}


def plan_clock(line: LineSettings, clock: Clock, generator: BaudGenerator, written: Sequence[int] = ()) -> ClockPlan:
    """Calculate what a clock and a baud generator make of a line.

    Parameters
    ----------
    line : LineSettings
        Baud and format that are wanted.
    clock : Clock
        The clock.
    generator : BaudGenerator
        What divides it.
    written : sequence of int
        What the registers of the generator hold, if that is known; else the best setting is taken.

    Returns
    -------
    ClockPlan
        The setting, the alternatives, and what is left.

    Raises
    ------
    RequestError
        If `written` does not fit the generator.

    Examples
    --------
    >>> made = lr.answers.plan_clock(lr.LineSettings(baud=38_400), lr.Clock(hertz=10e6), lr.BaudGenerator())
    >>> made.clock.setting.baud, made.is_within
    (39062.5, True)
    """
    bits = line.stop_position + 1
    found = find_divisors(line.baud, clock, generator, bits=bits)
    setting = found[0] if found else None
    if written:
        setting = of_registers(numbers_of(generator, written), line.baud, clock, generator, bits=bits)
    margins = [] if setting is None else margins_of(line, setting)
    end = EndClock(End(key="this end", sends=("out",)), line, setting, found)
    return ClockPlan(end, calculate_bauds(clock, generator, bits=bits), margins)


def margins_of(line: LineSettings, setting: BaudSetting) -> list[Margin]:
    """Return what is left when an end with a setting sends to an ideal end, and when it receives from one."""
    ideal, own = Timing.even(line.baud, line, name="an ideal end"), Timing.of_setting(setting, "this end")
    return [calculate_margin(line, own, ideal), calculate_margin(line, ideal, own)]
