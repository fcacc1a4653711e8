"""The kinds of fields: how their bits are read, and in which order their bytes are stored."""

from __future__ import annotations

from typing import Literal

FieldOrder = Literal["little", "big", "big-low-word-first", "little-high-word-first"]
Kind = Literal[
    "uint", "int", "float", "bcd", "bytes", "text", "flag", "checksum", "reserved", "decimal", "integer", "hex", "word"
]


Encoding = Literal["ascii", "utf-8", "latin-1"]
Coding = Literal["twos-complement", "sign-magnitude", "offset-binary"]


def raw_limits(kind: Kind, bits: int, coding: Coding = "twos-complement") -> tuple[int, int]:
    """Return the lowest and highest whole number that `bits` bits of an integer field hold."""
    if kind == "bcd":
        return 0, 10 ** (bits // 4) - 1
    if kind != "int":
        return 0, (1 << bits) - 1
    most = (1 << bits - 1) - 1
    return (-most if coding == "sign-magnitude" else -most - 1), most


def bytes_from_lowest(order: FieldOrder, size: int) -> list[int]:
    """Return in which place of a field each of its bytes lies, the least significant one first."""
    places = list(range(size))
    if order == "big":
        return places[::-1]
    words = [places[low : low + 2] for low in range(0, size, 2)]
    if order == "big-low-word-first":
        return [place for word in words for place in word[::-1]]
    return places if order == "little" else [place for word in words[::-1] for place in word]
