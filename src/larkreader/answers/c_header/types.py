"""The types that a header declares, as bits in memory: numbers, arrays, structs and unions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from larkreader.declare.common.byte_order import ByteOrder

from .attributes import Attributes
from .tokens import Place

NumberKind = Literal["uint", "int", "float", "bool", "char"]


@dataclass(frozen=True)
class Number:
    """A number in memory.

    Parameters
    ----------
    kind : {"uint", "int", "float", "bool", "char"}
        What it stands for; ``char`` is a character of a text.
    bits : int
        Its width.
    align : int
        To how many bits it is aligned.
    text : str
        What the header calls its type.
    names : mapping of str to int
        The values of an enum.
    order : {"little", "big"}, optional
        Its byte order, where its type names one.
    """

    kind: NumberKind
    bits: int
    align: int
    text: str
    names: Mapping[str, int] = field(default_factory=dict)
    order: ByteOrder | None = None


@dataclass(frozen=True)
class Array:
    """Several of a type in a row; of an unknown number at the end of a struct, `count` is 0 and `is_open` true."""

    of: CType
    count: int
    is_open: bool = False

    @property
    def bits(self) -> int:
        """Its width."""
        return self.of.bits * self.count

    @property
    def align(self) -> int:
        """To how many bits it is aligned."""
        return self.of.align

    @property
    def text(self) -> str:
        """What the header calls the type of an item."""
        return self.of.text


@dataclass(frozen=True)
class Laid:
    """A member of a struct, where it lies.

    Parameters
    ----------
    name : str
        Its name; empty for a struct or a union without, and for unnamed bits.
    type : CType
        Its type.
    first_bit : int
        Where it begins, in bits from the first of the struct. With a big byte order a bit-field's bits are counted
        from the most significant of each byte.
    width : int or None
        Of a bit-field, how many bits it has.
    place : Place
        Where it is declared.
    """

    name: str
    type: CType
    first_bit: int
    width: int | None
    place: Place

    @property
    def bits(self) -> int:
        """How many bits it takes."""
        return self.type.bits if self.width is None else self.width


@dataclass(frozen=True)
class Record:
    """A struct or a union.

    Parameters
    ----------
    text : str
        What the header calls it.
    members : tuple of Laid
        What it holds, each where it lies.
    bits, align : int
        Its width with what the compiler puts in, and to how many bits it is aligned.
    order : {"little", "big"}
        The byte order of its numbers.
    is_union : bool
        Whether its members share their place.
    place : Place
        Where it is declared.
    least_align : int
        To how many bits ``aligned`` aligns it or a member, which holds against a pack with Microsoft's compiler.
    """

    text: str
    members: tuple[Laid, ...]
    bits: int
    align: int
    order: ByteOrder
    is_union: bool
    place: Place
    least_align: int = 8


CType = Number | Array | Record


@dataclass(frozen=True)
class Member:
    """A member of a struct as it is declared; `width` is that of a bit-field."""

    name: str
    type: CType
    width: int | None
    attributes: Attributes
    place: Place
