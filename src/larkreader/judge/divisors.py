"""Which numbers to write into a baud generator, and what baud they truly give.

A setting is judged by where it puts the edges of a character: by how far, at worst, a bit boundary lies from where it
should be, in bit times. With a plain divisor that grows evenly from bit to bit; where a generator adds ticks to some
bits, or divides by a fraction, the boundaries lie on whole ticks of the clock to either side, and the average tells
little. All arithmetic is in whole numbers and fractions.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from itertools import pairwise, product
from math import ceil, floor
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.baud_generator import MOST_TRIED_BITS, BaudGenerator, check_words
from larkreader.declare.clock import Clock
from larkreader.errors import RequestError

STANDARD_BAUDS = (
    300, 600, 1200, 2400, 4800, 9600, 14_400, 19_200, 28_800, 38_400, 57_600, 76_800, 115_200, 230_400, 250_000,
    460_800, 500_000, 921_600, 1_000_000, 2_000_000, 3_000_000,
)  # fmt: skip
"""Bauds in general use: those that POSIX `termios` implementations name, and what is usual beside them."""
USABLE = 0.5  # of a bit by which a boundary may lie off its place, where the ideal is beyond the generator's bounds
MOST_REACH = 80  # steps of the divisor to either side of the ideal
CHARACTER_BITS = 10  # of 8N1, unless another format is asked about


@dataclass(frozen=True)
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
        """The baud that it gives: over a character where some bits last longer, over many otherwise."""
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
            [float(one - number), float(one + self.sample_s * bit - number)] for number, one in enumerate(early)
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
        told: dict[str, Any] = {
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
            "words": {name: f"0x{value:0{-(-bits // 4)}X}" for name, value, bits in self.words},
            "deviations": [round(one, 6) for one in self.deviations],
            "samples_within": np.round(self.samples_within, 6).tolist(),
        }
        return told


def find_divisors(
    baud: float, clocks: Clock | Sequence[Clock], generator: BaudGenerator, *, bits: int = CHARACTER_BITS
) -> list[BaudSetting]:
    """Find what to write into a baud generator.

    Parameters
    ----------
    baud : float
        The wanted baud.
    clocks : Clock or sequence of Clock
        What it can be made of.
    generator : BaudGenerator
        What divides the clock.
    bits : int
        Bit times from the start edge to the end of the first stop bit.

    Returns
    -------
    list of BaudSetting
        The best divisor for each clock, oversampling and prescaler that can make the baud at all, the best of all
        first: the one whose worst bit boundary is nearest to its place; of equals the one with more oversampling, and
        then with less prescaling. Where the ideal is beyond the bounds of a divisor, its nearest value counts while no
        boundary is off by half a bit. Empty if none is left.

    Raises
    ------
    RequestError
        If the baud is no positive number.

    Examples
    --------
    >>> clock, generator = lr.Clock(hertz=16e6), lr.BaudGenerator(holds="N-1", divisor_bits=12)
    >>> best = lr.find_divisors(9600, clock, generator)[0]
    >>> best.registers["divisor"], f"{best.baud:.1f} baud, {best.error:+.2%}"
    (103, '9615.4 baud, +0.16%')
    """
    if not 0 < baud < float("inf"):
        raise RequestError("baud", f"is {baud!r}", "must be a positive number of bits a second")
    found = []
    for clock in [clocks] if isinstance(clocks, Clock) else clocks:
        for oversampling, prescaler in product(generator.oversampling, generator.prescaler):
            first = BaudSetting(clock, generator, baud, oversampling, prescaler, 1, bits=bits)
            tried = list(_near(first))
            if tried:
                found.append(min(tried, key=_rank))
    return sorted(found, key=_rank)


def read_words(
    words: Sequence[int], baud: float, clock: Clock, generator: BaudGenerator, *, bits: int = CHARACTER_BITS
) -> BaudSetting:
    """Tell from the values of its registers what a baud generator does.

    Parameters
    ----------
    words : sequence of int
        The registers' values, in the order in which the generator declares them.
    baud : float
        The baud that is wanted.
    clock, generator, bits
        As for `find_divisors`.

    Returns
    -------
    BaudSetting

    Raises
    ------
    RequestError
        If the values do not fit the registers, or stand for nothing, such as a divisor of 0.
    """
    for mistake in check_words(generator, words):
        raise RequestError(mistake.where, f"is {mistake.found or 'given'}", mistake.wanted)
    numbers: dict[str, int] = {}
    for word, value in zip(generator.words, words, strict=True):
        for name, bits_of in word.read(value).items():
            numbers[name] = numbers.get(name, 0) | bits_of
    return of_registers(numbers, baud, clock, generator, bits=bits)


def of_registers(
    numbers: Mapping[str, int],
    baud: float,
    clock: Clock,
    generator: BaudGenerator,
    *,
    bits: int = CHARACTER_BITS,
) -> BaudSetting:
    """Tell what a baud generator does from what stands in its registers for each number.

    Parameters
    ----------
    numbers : mapping of str to int
        As in `BaudSetting.registers`: the divisor, and what else there is.
    baud, clock, generator, bits
        As for `find_divisors`.

    Returns
    -------
    BaudSetting

    Raises
    ------
    RequestError
        If they stand for nothing.
    """
    oversampling = generator.choice_of("oversampling", numbers.get("oversampling"))
    prescaler = generator.choice_of("prescaler", numbers.get("prescaler"))
    for name, choice in (("oversampling", oversampling), ("prescaler", prescaler)):
        if choice is None:
            raise RequestError("words", f"hold {numbers[name]} for the {name}, which stands for none")
    assert oversampling is not None
    assert prescaler is not None
    divisor = numbers["divisor"] + (generator.holds == "N-1")
    low, high = generator.bounds
    if not low <= divisor <= high:
        raise RequestError("words", f"hold the divisor {divisor}", f"must be {low} to {high}")
    if generator.patterns and numbers.get("extra", 0) >= len(generator.patterns):
        raise RequestError("words", f"hold the pattern {numbers['extra']}", f"there are {len(generator.patterns)}")
    fraction = numbers.get("fraction", 0) & (1 << generator.fraction_bits_of(oversampling)) - 1
    return BaudSetting(
        clock, generator, baud, oversampling, prescaler, divisor, fraction, numbers.get("extra", 0), bits
    )


def of_formula(
    baud: float,
    clock: Clock,
    generator: BaudGenerator,
    *,
    rounded: bool,
    believed: float | None = None,
    bits: int = CHARACTER_BITS,
) -> BaudSetting | None:
    """Return what firmware writes that computes its divisor in whole numbers.

    Parameters
    ----------
    baud : float
        The wanted baud.
    clock, generator, bits
        As for `find_divisors`; the first oversampling and prescaler are those used.
    rounded : bool
        Whether the formula rounds; if not, it cuts off, as whole-number division in C does.
    believed : float, optional
        The clock's frequency that the code computes with, in hertz; the true one unless said.

    Returns
    -------
    BaudSetting or None
        None if the divisor lies beyond the generator's bounds.
    """
    oversampling, prescaler = generator.oversampling[0], generator.prescaler[0]
    parts = 1 << generator.fraction_bits_of(oversampling)
    ratio = fraction_of(believed or clock.hertz) / (prescaler * oversampling * fraction_of(baud))
    exact = (1 << generator.accumulator_bits) / ratio if generator.accumulator_bits else ratio * parts
    divisor, fraction = divmod(floor(exact + Fraction(rounded, 2)), parts)
    low, high = generator.bounds
    if not low <= divisor <= high:
        return None
    return BaudSetting(clock, generator, baud, oversampling, prescaler, divisor, fraction, bits=bits)


def bauds_hit(
    clock: Clock, generator: BaudGenerator, *, within: float = 0.01, bits: int = CHARACTER_BITS
) -> list[BaudSetting]:
    """Return the best setting of each standard baud that a clock gives.

    Parameters
    ----------
    clock, generator, bits
        As for `find_divisors`.
    within : float
        How far the baud may be off, as a share of it.

    Returns
    -------
    list of BaudSetting
        In order of baud.
    """
    best = [find_divisors(baud, clock, generator, bits=bits)[:1] for baud in STANDARD_BAUDS]
    return [one for settings in best for one in settings if abs(one.error) <= within]


def _near(first: BaudSetting) -> Iterator[BaudSetting]:
    """Yield the settings of one oversampling and prescaler that could be the best."""
    generator, oversampling = first.generator, first.oversampling
    low, high = generator.bounds
    parts = 1 << generator.fraction_bits_of(oversampling)
    if generator.accumulator_bits:
        yield from _near_sums(first, low, high)
        return
    ideal = parts / (fraction_of(first.wanted) * first.tick_s * oversampling)
    # Boundaries lie on whole ticks, up to one too early by the end of a character, and an extra tick makes up for one
    # in every bit; of fractions finer than matters for that, those next to the ideal are tried.
    ticks = Fraction(1, first.bits) + (generator.extra != 0)
    reach = 1 + min(MOST_REACH, ceil(ticks * Fraction(parts, oversampling)))
    least, most = low * parts, (high + 1) * parts - 1
    numbers: Iterable[int] = range(max(floor(ideal) - reach, least), min(ceil(ideal) + reach, most) + 1)
    if not numbers:
        numbers = [least if ideal < least else most]
    is_beyond = not least - reach <= ideal <= most + reach
    for number in numbers:
        divisor, fraction = divmod(number, parts)
        for setting in _with_patterns(replace(first, divisor=divisor, fraction=fraction)):
            if not is_beyond or setting.worst_deviation < USABLE:
                yield setting


def _near_sums(first: BaudSetting, low: int, high: int) -> Iterator[BaudSetting]:
    """Yield sums of an accumulator among which the least worst bit boundary is.

    Boundary ``k`` lies on the whole tick at or before ``k`` times the ticks of a bit. Of bits that are not too long,
    the longest is the best. Longer ones are better only while no boundary is a tick late, and boundaries move only
    where such a product passes a whole number: between two such lengths all sums are alike.
    """
    wanted = 1 / (fraction_of(first.wanted) * first.tick_s)  # ticks of a bit
    turns = first.oversampling << first.generator.accumulator_bits
    ideal = turns / wanted
    sums = {min(max(number, low), high) for number in (floor(ideal), ceil(ideal))}
    moves = {
        Fraction(ticks, bit)
        for bit in range(1, first.bits + 1)
        for ticks in range(ceil(bit * wanted), floor(bit * wanted) + 3)
    }
    for least, most in pairwise(sorted(moves)):
        begin, end = max(floor(turns / most) + 1, low), min(floor(turns / least), high)
        if begin <= end:
            sums.add(min(max(round(ideal), begin), end))
    is_beyond = not low - 0.5 <= ideal <= high + 0.5
    for number in sums:
        setting = replace(first, divisor=number)
        if not is_beyond or setting.worst_deviation < USABLE:
            yield setting


def _with_patterns(setting: BaudSetting) -> Iterator[BaudSetting]:
    """Yield a setting with the patterns of extra ticks that could be the best."""
    generator = setting.generator
    if generator.patterns:
        for number in range(len(generator.patterns)):
            yield replace(setting, extra=number)
    elif not generator.pattern_bits:
        yield setting
    elif generator.pattern_bits < min(setting.bits, MOST_TRIED_BITS):
        yield replace(setting, extra=_best_pattern(setting, generator.pattern_bits))
    else:
        yield replace(setting, extra=_nearest_pattern(setting, generator.pattern_bits))


def _best_pattern(setting: BaudSetting, length: int) -> int:
    """Return the best of all patterns that are shorter than a character, by trying each."""
    values = np.arange(1 << length)
    longer = values[:, None] >> np.arange(setting.bits) % length & 1
    plain = [floor((bit + 1) * setting.bit_ticks) for bit in range(setting.bits)]
    bit_ticks = float(1 / (fraction_of(setting.wanted) * setting.tick_s))
    ideal = np.arange(1, setting.bits + 1) * bit_ticks
    late = np.abs(np.array(plain) + np.cumsum(longer, axis=1) - ideal)
    return int(np.argmin(late.max(axis=1)))


def _nearest_pattern(setting: BaudSetting, length: int) -> int:
    """Return the pattern, as long as a character or longer, that puts every boundary on the tick nearest to it."""
    wanted = 1 / (fraction_of(setting.wanted) * setting.tick_s)
    value = extra = 0
    for bit in range(length):
        is_later = (bit + 1) * wanted - floor((bit + 1) * setting.bit_ticks) - extra >= Fraction(1, 2)
        extra += is_later
        value |= is_later << bit
    return value


def _rank(setting: BaudSetting) -> tuple[float, int, int, int]:
    return round(setting.worst_deviation, 12), -setting.oversampling, setting.prescaler, setting.divisor


def fraction_of(number: float) -> Fraction:
    """Return the decimal number that a float was written as."""
    return Fraction(repr(float(number)))
