"""The numbers of a baud generator, and what baud and what edges follow from them.

A setting is judged by where it puts the edges of a character: by how far, at worst, a bit boundary lies from where it
should be, in bit times. With a plain divisor that grows evenly from bit to bit; where a generator adds ticks to some
bits, or divides by a fraction, the boundaries lie on whole ticks of the clock to either side, and the average shows
little. All arithmetic is in whole numbers and fractions.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from math import floor
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.common.percent import change_text
from larkreader.declare.link.baud_generator import BaudGenerator
from larkreader.declare.link.clock import Clock

CHARACTER_BITS = 10  # of 8N1, unless another format is asked about


@dataclass(frozen=True, repr=False)
class BaudSetting:
    """The numbers of a baud generator, and what follows from them.

    Parameters
    ----------
    clock : Clock
        What it divides.
    generator : BaudGenerator
        How.
    wanted : float
        The baud that is wanted.
    oversampling, prescaler : int
        The choices made.
    divisor : int
        The whole part, N.
    fraction : int
        The numerator of the fraction, F.
    extra : int
        The pattern of extra ticks: its value where it is free, its number where there are patterns to choose from.
    bits : int
        Bit times of a character, from its start edge to the end of its first stop bit.
    """

    clock: Clock
    generator: BaudGenerator
    wanted: float
    oversampling: int
    prescaler: int
    divisor: int
    fraction: int = 0
    extra: int = 0
    bits: int = CHARACTER_BITS

    def __repr__(self) -> str:
        held = ", ".join(f"{name} {value}" for name, value in self.registers.items() if value or name == "divisor")
        made = f"{float(self.baud):.2f} baud, {change_text(self.error)}"
        return f"<BaudSetting for {self.wanted:g} baud: {held}; {made}>"

    @property
    def tick_s(self) -> Fraction:
        """Length of one tick of the divided clock, in seconds."""
        return self.prescaler / fraction_of(self.clock.hertz)

    @cached_property
    def pattern(self) -> tuple[int, ...]:
        """Extra ticks of each bit, from the start bit on, over and over again."""
        declared = self.generator.patterns
        if declared:
            return declared[self.extra]
        return tuple(self.extra >> bit & 1 for bit in range(self.generator.pattern_bits)) or (0,)

    @property
    def bit_ticks(self) -> Fraction:
        """Ticks of a bit without an extra one."""
        if self.generator.accumulator_bits:
            return Fraction(self.oversampling << self.generator.accumulator_bits, self.divisor)
        parts = 1 << self.generator.fraction_bits_of(self.oversampling)
        return self.oversampling * (self.divisor + Fraction(self.fraction, parts))

    @property
    def sample_s(self) -> Fraction:
        """Time between two looks of the receiver at the line, in seconds."""
        return self.bit_ticks / self.oversampling * self.tick_s if self.oversampling > 1 else self.tick_s

    @cached_property
    def boundary_ticks(self) -> tuple[int, ...]:
        """Ticks from the start edge to the beginning of each bit, and to the end of the last."""
        extra = 0
        ticks = [0]
        for bit in range(self.bits):
            extra += self.pattern[bit % len(self.pattern)]
            ticks.append(floor((bit + 1) * self.bit_ticks) + extra)
        return tuple(ticks)

    @cached_property
    def deviations(self) -> tuple[float, ...]:
        """How late each bit begins, and the last ends, in bit times; less than 0 where it is early."""
        bit = fraction_of(self.wanted) * self.tick_s
        return tuple(float(ticks * bit - number) for number, ticks in enumerate(self.boundary_ticks))

    @property
    def worst_deviation(self) -> float:
        """The greatest of the deviations, without its sign."""
        return max(map(abs, self.deviations))

    @property
    def baud(self) -> float:
        """The baud that it gives, over a character where some bits last longer, over many otherwise."""
        if any(self.pattern):
            return float(self.bits / (self.boundary_ticks[-1] * self.tick_s))
        return float(1 / (self.bit_ticks * self.tick_s))

    @property
    def error(self) -> float:
        """How far that is from the wanted one, as a share of it; less than 0 where it is too slow."""
        return self.baud / self.wanted - 1

    @cached_property
    def samples_within(self) -> npt.NDArray[np.float64]:
        """When each bit is judged if this end receives from one that keeps the wanted baud.

        Shape (n_bits, 2): the earliest and the latest instant, which lie one look at the line apart, where 0 is the
        beginning of the bit as it was sent and 1 its end.
        """
        looks = self.oversampling // 2 if self.oversampling > 1 else int(self.bit_ticks) // 2
        bit = fraction_of(self.wanted)
        early = [(ticks * self.tick_s + looks * self.sample_s) * bit for ticks in self.boundary_ticks[:-1]]
        instants = [
            [float(item - number), float(item + self.sample_s * bit - number)] for number, item in enumerate(early)
        ]
        return np.array(instants)

    @property
    def registers(self) -> dict[str, int]:
        """What stands in the registers for each number."""
        generator = self.generator
        return {
            "divisor": self.divisor - (generator.holds == "N-1"),
            "fraction": self.fraction,
            "extra": self.extra,
            "prescaler": generator.code_of("prescaler", self.prescaler),
            "oversampling": generator.code_of("oversampling", self.oversampling),
        }

    @property
    def words(self) -> tuple[tuple[str, int, int], ...]:
        """Name, value and width of each register, in the order of writing; none where the words are not declared."""
        numbers = self.registers
        return tuple((word.name, word.write(numbers), word.bits) for word in self.generator.words)

    def to_dict(self) -> dict[str, Any]:
        """Return the setting as JSON has it."""
        result: dict[str, Any] = {
            "clock": self.clock.key,
            "hertz": self.clock.hertz,
            "wanted": self.wanted,
            "baud": self.baud,
            "error": self.error,
            "oversampling": self.oversampling,
            "prescaler": self.prescaler,
            "divisor": self.divisor,
            "fraction": self.fraction,
            "extra": list(self.pattern) if any(self.pattern) else [],
            "registers": self.registers,
            "words": {name: value for name, value, _ in self.words},
            "deviations": [round(deviation, 6) for deviation in self.deviations],
            "samples_within": np.round(self.samples_within, 6).tolist(),
        }
        return result


def fraction_of(number: float) -> Fraction:
    """Return the decimal number that a float was written as."""
    return Fraction(repr(float(number)))
