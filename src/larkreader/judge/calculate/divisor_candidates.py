"""Which settings of a baud generator could be the best for a baud, so that not all need to be tried.

The best is the setting whose worst bit boundary lies nearest to its place.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from math import ceil, floor

import numpy as np

from larkreader.declare.link.baud_generator import MOST_TRIED_BITS

from .baud_setting import BaudSetting, fraction_of

USABLE = 0.5  # of a bit by which a boundary may lie off its place, where the ideal is beyond the generator's bounds
MOST_REACH = 80  # steps of the divisor to either side of the ideal


def settings_near(first: BaudSetting) -> Iterator[BaudSetting]:
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
    the longest is the best. Longer bits are better only while no boundary is a tick late, and boundaries move only
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
