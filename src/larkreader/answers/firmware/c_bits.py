"""Expressions in C that take a number out of the bytes of a frame, and statements that put it there.

A number's bits are spread over bytes. Bits that lie together in one byte are one part: a byte, shifted down, masked,
and shifted up to where the part belongs in the number. Packing and byte order decide only which parts there are.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from larkreader.declare.frame.field_kinds import FieldOrder, bytes_from_lowest
from larkreader.declare.frame.shape import Packing


@dataclass(frozen=True)
class Part:
    """Bits of one byte: the byte, its lowest bit that counts, how many do, and where they belong in the number."""

    byte: int
    low: int
    bits: int
    at: int


def unsigned(bits: int) -> str:
    """Return the narrowest unsigned type of ``stdint.h`` that holds some bits."""
    return f"uint{width_of(bits)}_t"


def signed(bits: int) -> str:
    """Return the narrowest signed type of ``stdint.h`` that holds some bits."""
    return f"int{width_of(bits)}_t"


def width_of(bits: int) -> int:
    """Return the width of the narrowest type of ``stdint.h`` that holds some bits."""
    return next(width for width in (8, 16, 32, 64) if bits <= width)


def number(value: int, bits: int = 64) -> str:
    """Return a whole number, 0 or more, as a constant of C of some width."""
    if bits <= 16:
        return f"{value}u"
    return f"UINT{32 if bits <= 32 else 64}_C({value})"


def u32(value: int) -> str:
    """Return a whole number, 0 or more, as a constant of C for an expression of 32 bits."""
    return number(value, 16 if value < 1 << 16 else 32)


def signed_number(value: int, bits: int) -> str:
    """Return a whole number as a constant of C of some width; C has no constant for the lowest of a width."""
    if value == -(1 << width_of(bits) - 1):
        return f"({signed_number(value + 1, bits)} - 1)"
    if bits <= 16:
        return f"{value}"
    written = f"INT{32 if bits <= 32 else 64}_C({abs(value)})"
    return f"-{written}" if value < 0 else written


def parts_of(first_bit: int, bits: int, packing: Packing, order: FieldOrder | None) -> Sequence[Part]:
    """Return where the bits of a number lie.

    Parameters
    ----------
    first_bit : int
        Its first bit, counted in the order of the packing.
    bits : int
        Its width.
    packing : {"lsb", "msb"}
        Which end of a byte is filled first.
    order : str, optional
        The order of its bytes where that is not the packing's own; it then has whole, aligned bytes.

    Returns
    -------
    sequence of Part
        From the lowest bit of the number to the highest.
    """
    if order is not None:
        low = first_bit // 8
        places = bytes_from_lowest(order, bits // 8)
        return [Part(low + place, 0, 8, 8 * rank) for rank, place in enumerate(places)]
    parts: list[Part] = []
    done = 0
    while done < bits:
        if packing == "lsb":
            byte, low = divmod(first_bit + done, 8)
        else:
            last = first_bit + bits - 1 - done  # the place of bit `done` of the number
            byte, low = last // 8, 7 - last % 8
        many = min(8 - low, bits - done)
        parts.append(Part(byte, low, many, done))
        done += many
    return parts


def taken(array: str, parts: Sequence[Part], bits: int) -> str:
    """Return an expression that takes a number out of an array of bytes; of the type `unsigned(bits)`.

    Parameters
    ----------
    array : str
        The name of the array.
    parts : sequence of Part
        Where the bits lie.
    bits : int
        The width of the number.
    """
    kind = unsigned(bits)
    terms = []
    for part in parts:
        byte = f"{array}[{part.byte}]"
        if part.low:
            byte = f"({byte} >> {part.low})"
        if part.low + part.bits < 8:
            byte = f"({byte} & 0x{(1 << part.bits) - 1:02X}u)"
        if len(parts) == 1 and bits <= 8:
            return f"({kind}){byte}" if byte.startswith("(") else byte
        terms.append(f"(({kind}){byte} << {part.at})" if part.at else f"({kind}){byte}")
    return f"({kind})({' | '.join(terms)})"


def put(array: str, parts: Sequence[Part], value: str) -> Sequence[str]:
    """Return statements that add a number to an array of bytes in which its bits are 0.

    Parameters
    ----------
    array : str
        The name of the array.
    parts : sequence of Part
        Where the bits lie.
    value : str
        An expression without side effects, of an unsigned type, of which no bit above the number's width is set.
    """
    lines = []
    for part in parts:
        held = f"({value} >> {part.at})" if part.at else value
        if part.bits < 8:
            held = f"({held} & 0x{(1 << part.bits) - 1:02X}u)"
        shifted = f"(uint8_t)((uint8_t){held} << {part.low})" if part.low else f"(uint8_t){held}"
        if part.bits == 8:
            lines.append(f"{array}[{part.byte}] = {shifted};")
        else:
            lines.append(f"{array}[{part.byte}] = (uint8_t)({array}[{part.byte}] | {shifted});")
    return lines
