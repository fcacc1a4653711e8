"""What a baud generator does with its clock, and in which register words its numbers are written.

``baud = clock / (prescaler x oversampling x (N + F / 2**fraction_bits))``, and bits that are marked last a tick longer.
Or N is added to an accumulator at every tick of the clock, and each carry out of it is a tick of the divided one:
``baud = clock x N / (prescaler x oversampling x 2**accumulator_bits)``.
Generators are distinguished by what of this they have, not by whose they are.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import AliasChoices, BaseModel, Field, StrictInt, model_validator

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import raise_mistakes
from larkreader.declare.common.several import Numbers
from larkreader.errors import Mistake, RequestError

PartName = Literal["divisor", "fraction", "extra", "prescaler", "oversampling"]
Choices = Annotated[Numbers, Field(min_length=1)]
MOST_TRIED_BITS = 12  # of a pattern shorter than a character, of which every value is tried


class WordPart(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """Where some bits of a number lie in a register word.

    Parameters
    ----------
    of : {"divisor", "fraction", "extra", "prescaler", "oversampling"}
        Of which number: for the last two the code of the choice.
    bits : int
        How many bits.
    at : int
        Bit of the word at which they begin, 0 for the least significant.
    from_ : int
        Bit of the number at which they begin; ``from`` on a sheet.
    """

    of: PartName
    bits: StrictInt = Field(ge=1, le=32)
    at: StrictInt = Field(default=0, ge=0, le=31)
    from_: StrictInt = Field(
        default=0, ge=0, le=31, validation_alias=AliasChoices("from", "from_"), serialization_alias="from"
    )


class RegisterWord(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """One register that a baud generator has.

    Parameters
    ----------
    name : str
        What it is called.
    bits : int
        Its width.
    value : int
        The bits of it that are always set.
    holds : tuple of WordPart
        Which bits of which number lie where.
    """

    name: str
    bits: StrictInt = Field(default=16, ge=1, le=32)
    value: StrictInt = Field(default=0, ge=0)
    holds: Input[tuple[WordPart, ...], Sequence[WordPart | Table]] = default(())

    def write(self, numbers: Mapping[str, int]) -> int:
        """Return the word that holds its share of the numbers.

        Parameters
        ----------
        numbers : mapping of str to int
            The numbers by name: divisor, fraction and so on.
        """
        word = self.value
        for part in self.holds:
            word |= (numbers[part.of] >> part.from_ & (1 << part.bits) - 1) << part.at
        return word

    def read(self, word: int) -> dict[str, int]:
        """Return the bits of each number that a word holds, at their places in the number.

        Parameters
        ----------
        word : int
            What the register holds.
        """
        numbers: dict[str, int] = {}
        for part in self.holds:
            bits = word >> part.at & (1 << part.bits) - 1
            numbers[part.of] = numbers.get(part.of, 0) | bits << part.from_
        return numbers


class BaudGenerator(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """A divider that makes bauds of a clock.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    oversampling : int or tuple of int
        How many times a bit it ticks, of which the user chooses; 1 where bits are counted in ticks of the clock.
    prescaler : int or tuple of int
        By what the clock is divided beforehand, of which the user chooses.
    divisor_bits : int
        Width of the whole part of the divisor in its register.
    holds : {"N", "N-1"}
        Whether the register holds the whole part or one less.
    least, greatest : int, optional
        Bounds of the whole part; what the register can hold, and 1 at least, by default.
    fraction_bits : int or tuple of int
        Bits of the divisor's fraction: for all, or one for each `oversampling`.
    accumulator_bits : int
        Width of the accumulator to which N is added; 0 where the clock is divided by N.
    extra : int or tuple of str
        Which bits of a character last one tick longer: 0 for none; so many bits of a pattern that is free, of which bit
        0 is the start bit's, bit 1 the first data bit's, and so on, from the beginning again where the character is
        longer; or the patterns to choose from, by the values of a register, as in ``"0100_0100"``, the start bit's
        first.
    prescaler_codes, oversampling_codes : tuple of int, optional
        What stands in a register for each choice; 0, 1, 2 and so on by default.
    words : tuple of RegisterWord
        The registers, in the order of writing.
    note : str
        Anything worth telling the reader.

    Examples
    --------
    >>> lr.BaudGenerator(oversampling=[16, 8], divisor_bits=12, fraction_bits=[4, 3]).fraction_bits_of(8)
    3
    """

    key: str = "generator"
    oversampling: Input[Choices, int | Sequence[int]] = default((16,))
    prescaler: Input[Choices, int | Sequence[int]] = default((1,))
    divisor_bits: StrictInt = Field(default=16, ge=1, le=32)
    holds: Literal["N", "N-1"] = "N"
    least: StrictInt | None = Field(default=None, ge=1)
    greatest: StrictInt | None = Field(default=None, ge=1)
    fraction_bits: Input[Choices, int | Sequence[int]] = default((0,))
    accumulator_bits: StrictInt = Field(default=0, ge=0, le=48)
    extra: Input[StrictInt | tuple[str, ...], int | Sequence[str]] = default(0)
    prescaler_codes: Input[Choices | None, int | Sequence[int] | None] = default(None)
    oversampling_codes: Input[Choices | None, int | Sequence[int] | None] = default(None)
    words: Input[tuple[RegisterWord, ...], Sequence[RegisterWord | Table]] = default(())
    note: str = ""

    @model_validator(mode="after")
    def _adds_up(self) -> BaudGenerator:
        raise_mistakes([*self._wrong_choices(), *self._wrong_pattern(), *self._wrong_words()])
        return self

    @property
    def bounds(self) -> tuple[int, int]:
        """Least and greatest whole part of the divisor."""
        more = self.holds == "N-1"
        low, high = 1, (1 << self.divisor_bits) - 1 + more
        return max(low, self.least or low), min(high, self.greatest or high)

    def fraction_bits_of(self, oversampling: int) -> int:
        """Return how many bits the divisor's fraction has with one of the choices of `oversampling`.

        Parameters
        ----------
        oversampling : int
            Samples of a bit.
        """
        if len(self.fraction_bits) == 1:
            return self.fraction_bits[0]
        return self.fraction_bits[self.oversampling.index(oversampling)]

    @property
    def pattern_bits(self) -> int:
        """How many bits a free pattern of extra ticks has; 0 where there is none."""
        return self.extra if isinstance(self.extra, int) else 0

    @property
    def patterns(self) -> tuple[tuple[int, ...], ...]:
        """The patterns of extra ticks that are declared, each with 0 or 1 for every bit; none where they are free."""
        if isinstance(self.extra, int):
            return ()
        return tuple(tuple(int(letter) for letter in text.replace("_", "")) for text in self.extra)

    @property
    def stored(self) -> dict[str, int]:
        """How many bits each of divisor, fraction and pattern takes in a register; 0 for what it does not have."""
        return self._widths()

    def code_of(self, name: Literal["prescaler", "oversampling"], choice: int) -> int:
        """Return what stands in a register for a choice.

        Parameters
        ----------
        name : {"prescaler", "oversampling"}
            Of what.
        choice : int
            One of its choices.
        """
        choices, codes = self._codes(name)
        return codes[choices.index(choice)]

    def choice_of(self, name: Literal["prescaler", "oversampling"], code: int | None) -> int | None:
        """Return the choice for which a code stands, the first where no register selects it; None if none is meant.

        Parameters
        ----------
        name : {"prescaler", "oversampling"}
            Of what.
        code : int or None
            What stands in the register.
        """
        choices, codes = self._codes(name)
        if code is None:
            return choices[0]
        return choices[codes.index(code)] if code in codes else None

    def _codes(self, name: str) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Return the choices of a number, and what stands in a register for each."""
        choices: tuple[int, ...] = getattr(self, name)
        return choices, getattr(self, f"{name}_codes") or tuple(range(len(choices)))

    def _wrong_choices(self) -> list[Mistake]:
        mistakes = []
        for name in ("oversampling", "prescaler"):
            choices, codes = getattr(self, name), getattr(self, f"{name}_codes")
            if min(choices) < 1 or max(choices) > 1 << 24 or len(set(choices)) < len(choices):
                mistakes.append(Mistake(name, str(list(choices)), "must be whole numbers from 1, none of them twice"))
            if codes is not None and (len(codes) != len(choices) or len(set(codes)) < len(codes) or min(codes) < 0):
                wanted = f"must be {len(choices)} different numbers, one for each {name}"
                mistakes.append(Mistake(f"{name}_codes", str(list(codes)), wanted))
        if len(self.fraction_bits) not in (1, len(self.oversampling)):
            wanted = "must be one number, or one for each oversampling"
            mistakes.append(Mistake("fraction_bits", str(list(self.fraction_bits)), wanted))
        if min(self.fraction_bits) < 0 or max(self.fraction_bits) > 16:
            mistakes.append(Mistake("fraction_bits", str(list(self.fraction_bits)), "must be 0 to 16"))
        if self.accumulator_bits and (self.fraction_bits != (0,) or self.extra != 0 or self.holds != "N"):
            result = "does not go with fraction_bits, extra or N-1: N has all the fineness"
            mistakes.append(Mistake("accumulator_bits", f"{self.accumulator_bits}", result))
        if self.accumulator_bits and self.divisor_bits > self.accumulator_bits:
            result = f"must be {self.accumulator_bits} at most, as the accumulator"
            mistakes.append(Mistake("divisor_bits", f"{self.divisor_bits}", result))
        low, high = self.bounds
        if low > high:
            mistakes.append(Mistake("least", str(low), f"must be at most the greatest, {high}"))
        return mistakes

    def _wrong_pattern(self) -> list[Mistake]:
        if isinstance(self.extra, int):
            if 0 <= self.extra <= 32:
                return []
            return [Mistake("extra", str(self.extra), "must be 0 to 32 bits of a free pattern, or a list of patterns")]
        if not self.extra:
            return [Mistake("extra", "[]", "must have one pattern at least")]
        return [
            Mistake(f"extra[{number}]", f'"{text}"', "must be 1 to 32 of the digits 0 and 1, the start bit's first")
            for number, text in enumerate(self.extra)
            if not 1 <= len(text.replace("_", "")) <= 32 or not set(text) <= set("01_")
        ]

    def _wrong_words(self) -> list[Mistake]:
        mistakes = []
        stored: dict[str, int] = {}
        for number, word in enumerate(self.words):
            taken = 0
            for index, part in enumerate(word.holds):
                where = f"words[{number}].holds[{index}]"
                mask = ((1 << part.bits) - 1) << part.at
                if part.at + part.bits > word.bits:
                    mistakes.append(Mistake(f"{where}.bits", f"{part.bits}", f"must end within {word.bits} bits"))
                elif taken & mask:
                    mistakes.append(Mistake(f"{where}.at", f"{part.at}", "overlaps another part of the word"))
                taken |= mask
                stored[part.of] = stored.get(part.of, 0) | ((1 << part.bits) - 1) << part.from_
        if self.words:
            for name, width in self._widths().items():
                if lacking := [bit for bit in range(width) if not stored.get(name, 0) >> bit & 1]:
                    result = f"bit{'s' * (len(lacking) > 1)} {', '.join(map(str, lacking))} of the {name}"
                    mistakes.append(Mistake("words", "", f"must hold {result}, as no word does"))
        return mistakes

    def _widths(self) -> dict[str, int]:
        """Return how many bits each number takes that must stand in some word."""
        extra = self.pattern_bits or max(0, len(self.patterns) - 1).bit_length()
        return {"divisor": self.divisor_bits, "fraction": max(self.fraction_bits), "extra": extra}


def numbers_of(generator: BaudGenerator, values: Sequence[int]) -> dict[str, int]:
    """Return the numbers that stand in a generator's registers, by name.

    Parameters
    ----------
    generator : BaudGenerator
        What it is.
    values : sequence of int
        The divisor, then its fraction and the pattern of extra ticks, as far as the generator has them.

    Returns
    -------
    dict of str to int

    Raises
    ------
    RequestError
        If there are more or fewer than the generator has, or if a number does not fit.
    """
    wanted = {name: bits for name, bits in generator.stored.items() if bits or name == "divisor"}
    named = ", ".join(f"{name} ({bits} bits)" for name, bits in wanted.items())
    if len(values) != len(wanted):
        found = f"has {len(values)} numbers: {', '.join(map(str, values))}"
        raise RequestError("written", found, f"must have {len(wanted)}: {named}")
    numbers = dict(zip(wanted, values, strict=True))
    for name, value in numbers.items():
        most = len(generator.patterns) if name == "extra" and generator.patterns else 1 << wanted[name]
        if not 0 <= value < most:
            raise RequestError("written", f"has {value} as {name}", f"must have 0 to {most - 1} there")
    return numbers


def words_text(words: Sequence[tuple[str, int, int]]) -> str:
    """Write registers with their values in hexadecimal, in the order of writing; each is name, value and width."""
    return ", ".join(f"{name} = 0x{value:0{-(-bits // 4)}X}" for name, value, bits in words)


def check_words(generator: BaudGenerator, words: Sequence[Any]) -> list[Mistake]:
    """Return what is wrong with values of a generator's registers."""
    if not generator.words:
        return [Mistake("words", "", f'need [generator.{generator.key}] to name its "words"')]
    if len(words) != len(generator.words):
        names = ", ".join(word.name for word in generator.words)
        return [Mistake("words", f"{list(words)}", f"must be {len(generator.words)}, of {names}")]
    return [
        Mistake(f"words[{number}]", f"{value}", f"must fit into the {word.bits} bits of {word.name}")
        for number, (word, value) in enumerate(zip(generator.words, words, strict=True))
        if not 0 <= value < 1 << word.bits
    ]
