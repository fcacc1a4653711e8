"""What a field declares beside its type: how many there are, when it is there, which others it marks."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, Field, StrictInt
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input

MOST_ITEMS = 65_536
_COUNT = re.compile(r"([^\W\d]\w*)(?:\s*([*/])\s*([1-9]\d{0,3}))?(?:\s*([+-])\s*(\d{1,5}))?")


def _check_repeat(declared: Any) -> Any:
    if isinstance(declared, str) and _COUNT.fullmatch(declared.strip()):
        return declared.strip()
    if isinstance(declared, int) and not isinstance(declared, bool) and 1 <= declared <= MOST_ITEMS:
        return declared
    wanted = f'must be 1 to {MOST_ITEMS}, "rest", or the name of an earlier field, as in "size" or "size / 2 - 1".'
    raise PydanticCustomError("wanted", "{wanted}", {"wanted": wanted})


def _as_tuple(declared: Any) -> Any:
    return tuple(declared) if isinstance(declared, (list, tuple)) else (declared,)


REST = "rest"


Repeat = Annotated[int | str, BeforeValidator(_check_repeat)]
When = Mapping[str, Annotated[tuple[StrictInt | str, ...], BeforeValidator(_as_tuple)]]


class Substitutes(BaseModel, frozen=True, extra="forbid"):
    """That other fields of a frame hold substitutes, not measured values.

    Parameters
    ----------
    when : int or str
        The raw value, or the name, at which they do; 1 by default, as of a flag that is set.
    fields : tuple of str
        Which fields.
    """

    when: StrictInt | str = 1
    fields: Input[tuple[str, ...], Sequence[str]] = Field(min_length=1)


class Samples(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """That an array holds samples which an analogue to digital converter took.

    A sample is ``counts * reference / 2**bits + offset`` volts.

    Parameters
    ----------
    reference : float
        The converter's reference: what its full scale stands for, in volts.
    rate : float
        Samples a second.
    bits : int, optional
        The converter's width; the field's by default.
    offset : float
        What a sample of 0 stands for, in volts.
    """

    reference: float = Field(gt=0)
    rate: float = Field(gt=0)
    bits: int | None = Field(default=None, ge=1, le=32)
    offset: float = 0.0


@dataclass(frozen=True)
class Count:
    """How many of a field follow each other, by what an earlier field holds: ``raw * factor / divisor + addend``."""

    field: str
    factor: int = 1
    divisor: int = 1
    addend: int = 0

    @classmethod
    def parse(cls, text: str) -> Count:
        """Read a count such as ``"size / 2 - 1"``."""
        match = _COUNT.fullmatch(text.strip())
        assert match is not None, text
        name, sign, by, difference, more = match.groups()
        number = int(by or 1)
        return cls(
            name,
            number if sign == "*" else 1,
            number if sign == "/" else 1,
            int(more or 0) * (-1 if difference == "-" else 1),
        )

    def raw_of(self, count: int) -> int | None:
        """Return what the field must hold for `count` of them; None if nothing does."""
        raw, left = divmod((count - self.addend) * self.divisor, self.factor)
        return raw if left == 0 and raw >= 0 else None
