"""The kinds of fields: their words and widths, which numbers their bits stand for, in which order bytes are stored."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal

FieldOrder = Literal["little", "big", "big-low-word-first", "little-high-word-first"]
Kind = Literal[
    "uint", "int", "float", "bcd", "bytes", "text", "flag", "checksum", "reserved", "decimal", "integer", "hex", "word"
]
Encoding = Literal["ascii", "utf-8", "latin-1"]
Coding = Literal["twos-complement", "sign-magnitude", "offset-binary"]

WIDTHS: Mapping[str, range | tuple[int, ...]] = {
    "uint": range(1, 65),
    "int": range(2, 65),
    "float": (16, 32, 64),
    "bcd": range(4, 65, 4),
}
"""Kinds whose word has a width behind it, with the widths there are."""
WHOLE = ("uint", "int", "bcd")  # of these, those that hold whole numbers
WRITTEN = ("decimal", "integer", "hex", "word")  # only in a text pattern
NUMBERS = ("decimal", "integer", "hex")
WIDTHLESS: Mapping[str, int | None] = {
    "flag": 1,
    "bytes": 8,
    "text": 8,
    "checksum": None,
    **dict.fromkeys(WRITTEN, 64),
}
"""Kinds whose word stands alone, with their width; None where something else decides it."""
TYPE_WANTED = (
    "must be uint1 to uint64, int2 to int64, bcd4 to bcd64 (four bits a digit), float16, float32, float64, bytes, "
    "text, flag or checksum; in a text pattern decimal, integer, hex, word, text or checksum"
)
TYPE_PATTERN = "|".join([*(f"{kind}({'|'.join(map(str, widths))})" for kind, widths in WIDTHS.items()), *WIDTHLESS])


def is_type(text: str) -> bool:
    """Return whether a text is the type of a field."""
    return re.fullmatch(TYPE_PATTERN, text) is not None


def raw_limits(kind: Kind, bits: int, coding: Coding = "twos-complement") -> tuple[int, int]:
    """Return the lowest and highest whole number that `bits` bits of an integer field hold."""
    if kind == "bcd":
        return 0, 10 ** (bits // 4) - 1
    if kind != "int":
        return 0, (1 << bits) - 1
    most = (1 << bits - 1) - 1
    return (-most if coding == "sign-magnitude" else -most - 1), most


def bits_of(number: int, kind: Kind, bits: int, coding: Coding) -> int:
    """Return the bits that hold a whole number; what lies above `bits` is to be cut off."""
    if kind == "bcd":
        return int(str(number), 16)
    if kind == "int" and coding == "sign-magnitude":
        return abs(number) | (number < 0) << bits - 1
    return number + (1 << bits - 1) if kind == "int" and coding == "offset-binary" else number


def number_of(held: int, kind: Kind, bits: int, coding: Coding) -> int:
    """Return the whole number that some bits hold; a digit beyond 9 counts as what it is."""
    if kind == "bcd":
        return sum((held >> 4 * place & 0xF) * 10**place for place in range(bits // 4))
    top = 1 << bits - 1
    if kind != "int":
        return held
    if coding == "offset-binary":
        return held - top
    if coding == "sign-magnitude":
        return -(held - top) if held & top else held
    return held - 2 * top if held & top else held


def bytes_from_lowest(order: FieldOrder, size: int) -> list[int]:
    """Return in which place of a field each of its bytes lies, the least significant one first."""
    places = list(range(size))
    if order == "big":
        return places[::-1]
    words = [places[low : low + 2] for low in range(0, size, 2)]
    if order == "big-low-word-first":
        return [place for word in words for place in word[::-1]]
    return places if order == "little" else [place for word in words[::-1] for place in word]
