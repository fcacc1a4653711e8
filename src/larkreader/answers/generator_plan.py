"""What a clock makes of a line with each of the usual kinds of baud generator, when the kind is not known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal

from larkreader.declare.link.baud_generator import BaudGenerator
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.line import LineSettings
from larkreader.judge.calculate.baud_setting import BaudSetting, fraction_of
from larkreader.judge.calculate.divisors import find_divisors
from larkreader.judge.calculate.margins import Margin, Timing, calculate_margin

from .clock_plan import margins_of

Fit = Literal["good", "tight", "fails"]

USUAL_GENERATORS = {
    "16x, whole divisor": BaudGenerator(oversampling=16),
    "8x, whole divisor": BaudGenerator(oversampling=8),
    "16x, 4 fraction bits": BaudGenerator(oversampling=16, fraction_bits=4),
    "8x, 3 fraction bits": BaudGenerator(oversampling=8, fraction_bits=3),
    "1x, whole divisor": BaudGenerator(oversampling=1),
    "1x, 8 modulated bits": BaudGenerator(oversampling=1, extra=8),
    "16x, accumulator": BaudGenerator(oversampling=16, accumulator_bits=20, divisor_bits=20),
}
"""What divides a clock in most UARTs: a divisor alone, with a fraction, with longer bits; an accumulator.

16x is 16 samples a bit.
"""

# Frequencies, in hertz, of which quartz crystals are commonly made: series resonance, AT cut, and the watch crystal.
CRYSTALS = (
    32_768, 1_843_200, 2_457_600, 3_072_000, 3_686_400, 4_000_000, 4_194_304, 4_915_200, 6_000_000, 6_144_000,
    7_372_800, 8_000_000, 9_830_400, 10_000_000, 11_059_200, 12_000_000, 12_288_000, 14_745_600, 16_000_000,
    18_432_000, 19_660_800, 20_000_000, 22_118_400, 24_000_000, 24_576_000, 25_000_000, 29_491_200, 32_000_000,
)  # fmt: skip
MOST_CLOCKS = 4
GOOD = 0.75  # of the room between two ideal ends: what is left is for the other end's divisor, its clock and the wire


@dataclass(frozen=True)
class GeneratorChoice:
    """What a clock makes of a line with one kind of baud generator.

    Parameters
    ----------
    name : str
        The kind, as in `USUAL_GENERATORS`.
    generator : BaudGenerator
        How it divides the clock.
    setting : BaudSetting or None
        The best setting; None where its divisor cannot make the baud.
    margins : sequence of Margin
        What is left when this end sends to an ideal end, and when it receives from one; none without a setting.
    room : float
        What is left between two ideal ends, as a share of the baud.
    """

    name: str
    generator: BaudGenerator
    setting: BaudSetting | None
    margins: Sequence[Margin]
    room: float

    @property
    def left(self) -> float:
        """By what share of its baud the other end may be off, at least; less than 0 where characters are misread."""
        return min((margin.tightest for margin in self.margins), default=-1.0)

    @property
    def fit(self) -> Fit:
        """Good where the other end keeps three quarters of the room of two ideal ends, tight where it keeps less."""
        if self.left < 0:
            return "fails"
        return "good" if self.left >= GOOD * self.room else "tight"

    def to_dict(self) -> dict[str, Any]:
        """Return the choice as JSON has it."""
        setting = None if self.setting is None else self.setting.to_dict()
        return {"name": self.name, "fit": self.fit, "left": self.left if self.setting else None, "setting": setting}


@dataclass(frozen=True)
class GeneratorPlan:
    """What a clock makes of a line with the usual kinds of baud generator.

    Parameters
    ----------
    line : LineSettings
        Baud and format that are wanted.
    clock : Clock
        The clock.
    choices : sequence of GeneratorChoice
        One for each kind, in the order of `USUAL_GENERATORS`.
    """

    line: LineSettings
    clock: Clock
    choices: Sequence[GeneratorChoice]

    @property
    def best(self) -> GeneratorChoice:
        """The choice that leaves the other end most; of those that are good, the simplest."""
        return next(
            (choice for choice in self.choices if choice.fit == "good"),
            max(self.choices, key=lambda choice: choice.left),
        )

    @cached_property
    def other_clocks(self) -> Sequence[float]:
        """Common crystals that make the baud exactly with 16 samples a bit, the nearest first, in hertz."""
        step = 16 * fraction_of(self.line.baud)
        exact = [float(hertz) for hertz in CRYSTALS if hertz % step == 0]
        return sorted(exact, key=lambda hertz: abs(hertz - self.clock.hertz))[:MOST_CLOCKS]

    def to_dict(self) -> dict[str, Any]:
        """Return the plan as JSON has it."""
        return {
            "line": str(self.line),
            "hertz": self.clock.hertz,
            "best": self.best.name,
            "fit": self.best.fit,
            "choices": [choice.to_dict() for choice in self.choices],
            "other_clocks": list(self.other_clocks),
        }


def plan_generators(line: LineSettings, clock: Clock) -> GeneratorPlan:
    """Calculate what a clock makes of a line with each of the usual kinds of baud generator.

    Parameters
    ----------
    line : LineSettings
        Baud and format that are wanted.
    clock : Clock
        The clock.

    Returns
    -------
    GeneratorPlan
        The best setting of each kind with what is left, and clocks that would do better.

    Examples
    --------
    A watch crystal is too slow for 9600 baud with whole divisors: 32768 / 9600 is 3.41.

    >>> made = lr.answers.plan_generators(lr.LineSettings(baud=9600), lr.Clock(hertz=32_768))
    >>> [(choice.name, choice.fit) for choice in made.choices if choice.fit != "fails"]
    [('1x, 8 modulated bits', 'tight')]
    """
    ideal = Timing.even(line.baud, line)
    room = calculate_margin(line, ideal, ideal).tightest
    choices = []
    for name, generator in USUAL_GENERATORS.items():
        setting = next(iter(find_divisors(line.baud, clock, generator, bits=line.stop_position + 1)), None)
        margins = () if setting is None else margins_of(line, setting)
        choices.append(GeneratorChoice(name, generator, setting, margins, room))
    return GeneratorPlan(line, clock, choices)
