"""Which numbers to write into a baud generator, and back from register values to the baud that they give."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from itertools import product
from math import floor

from larkreader.declare.link.baud_generator import BaudGenerator, check_words
from larkreader.declare.link.bauds import STANDARD_BAUDS
from larkreader.declare.link.clock import Clock
from larkreader.errors import RequestError

from .baud_setting import CHARACTER_BITS, BaudSetting, fraction_of
from .divisor_candidates import settings_near


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
        first: the divisor whose worst bit boundary is nearest to its place; of equals the divisor with more
        oversampling, and then with less prescaling. Where the ideal is beyond the bounds of a divisor, its nearest
        value counts while no boundary is off by half a bit. Empty if none is left.

    Raises
    ------
    RequestError
        If the baud is not a positive number, or a clock is a mere number.

    Examples
    --------
    >>> clock, generator = lr.Clock(hertz=16e6), lr.BaudGenerator(holds="N-1", divisor_bits=12)
    >>> best = lr.find_divisors(9600, clock, generator)[0]
    >>> best.registers["divisor"], f"{best.baud:.1f} baud, {best.error:+.2%}"
    (103, '9615.4 baud, +0.16%')
    """
    if not 0 < baud < float("inf"):
        raise RequestError("baud", f"is {baud!r}", "must be a positive number of bits a second")
    if isinstance(clocks, (int, float)):
        raise RequestError("clocks", f"is {clocks!r}", f"must be a Clock, as in Clock(hertz={clocks!r})")
    found = []
    for clock in [clocks] if isinstance(clocks, Clock) else clocks:
        for oversampling, prescaler in product(generator.oversampling, generator.prescaler):
            first = BaudSetting(clock, generator, baud, oversampling, prescaler, 1, bits=bits)
            tried = list(settings_near(first))
            if tried:
                found.append(min(tried, key=_rank))
    return sorted(found, key=_rank)


def calculate_setting(
    words: Sequence[int], baud: float, clock: Clock, generator: BaudGenerator, *, bits: int = CHARACTER_BITS
) -> BaudSetting:
    """Return what a baud generator does, from the values of its registers.

    Parameters
    ----------
    words : sequence of int
        The registers' values, in the order in which the generator declares them.
    baud : float
        The baud that is wanted.
    clock : Clock
        As of `find_divisors`.
    generator : BaudGenerator
        As of `find_divisors`.
    bits : int
        As of `find_divisors`.

    Returns
    -------
    BaudSetting
        The setting that the registers make.

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
    """Return what a baud generator does from what stands in its registers for each number.

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
        The clock's frequency that the code computes with, in hertz; the true one by default.

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


def calculate_bauds(
    clock: Clock, generator: BaudGenerator, *, within: float = 0.01, bits: int = CHARACTER_BITS
) -> list[BaudSetting]:
    """Return the best setting of each standard baud that a clock gives.

    Parameters
    ----------
    clock : Clock
        As of `find_divisors`.
    generator : BaudGenerator
        As of `find_divisors`.
    within : float
        How far the baud may be off, as a share of it.
    bits : int
        As of `find_divisors`.

    Returns
    -------
    list of BaudSetting
        In order of baud.

    Examples
    --------
    A sixteenth of 7.3728 MHz is 460,800:

    >>> settings = lr.calculate_bauds(lr.Clock(hertz=7_372_800), lr.BaudGenerator(oversampling=16))
    >>> [(setting.wanted, setting.divisor) for setting in settings[-3:]]
    [(153600, 3), (230400, 2), (460800, 1)]
    """
    best = [find_divisors(baud, clock, generator, bits=bits)[:1] for baud in STANDARD_BAUDS]
    return [setting for settings in best for setting in settings if abs(setting.error) <= within]


def _rank(setting: BaudSetting) -> tuple[float, int, int, int]:
    return round(setting.worst_deviation, 12), -setting.oversampling, setting.prescaler, setting.divisor
