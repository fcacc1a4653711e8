"""Frames to field columns: any width, at any bit, from either end.

A field is read from all frames at once as one word that covers its bytes, wherever in the frame they lie; shifting
and masking leave its bits.
"""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from larkreader.declare.fields import Slot

Column = npt.NDArray[Any]
Packing = Literal["lsb", "msb"]
WIDTHS = (8, 16, 32, 64)


def raw_column(rows: npt.NDArray[np.uint8], slot: Slot, packing: Packing) -> Column:
    """Cut the raw numbers of one slot out of all frames.

    Parameters
    ----------
    rows : ndarray of uint8, shape (n_frames, n_bytes), C-contiguous
        One frame a row.
    slot : Slot
        Where the bits lie.
    packing : {"lsb", "msb"}
        Which end of a byte is filled first.

    Returns
    -------
    ndarray, shape (n_frames,), or (n_frames, count) for an array
        bool for a flag, else of the narrowest type of 8, 16, 32 or 64 bits: unsigned, signed for an ``int``,
        floating for a ``float``.
    """
    items = [_item(rows, slot, slot.first_bit + place * slot.bits, packing) for place in range(slot.count)]
    return items[0] if slot.count == 1 else np.stack(items, axis=1)


def scaled(raw: Column, slot: Slot) -> Column:
    """Return the values that the raw numbers of a slot stand for: float64 where there is a scale or an offset."""
    field = slot.field
    if field is None or not field.is_scaled:
        return raw
    if slot.kind == "float":
        return raw * np.float64(field.scale) + field.offset
    # As a fraction of whole numbers, which rounds once: 1712 / 10 is 171.2, but 1712 * 0.1 is 171.20000000000002.
    scale, offset = Decimal(repr(field.scale)), Decimal(repr(field.offset))
    unit = Decimal(10) ** max(_decimals(scale), _decimals(offset))
    value: Column = raw * np.float64(scale * unit)
    if offset:
        value += float(offset * unit)
    if unit != 1:
        value /= float(unit)
    return value


def _decimals(number: Decimal) -> int:
    """Return how many decimals a number is written with."""
    return max(-int(number.normalize().as_tuple().exponent), 0)


def _item(rows: npt.NDArray[np.uint8], slot: Slot, first_bit: int, packing: Packing) -> Column:
    """Cut one item of a slot out of all frames."""
    width = _narrowest(slot.bits)
    if slot.order is not None and slot.bits in WIDTHS:
        bits = _words(rows, first_bit // 8, slot.bits // 8, slot.order).astype(f"u{width // 8}")
    elif slot.order is not None:
        low = first_bit // 8
        rows = np.ascontiguousarray(rows[:, low : low + slot.bits // 8][:, ::-1])
        bits = _bits(rows, 0, slot.bits, packing).astype(f"u{width // 8}")
    else:
        bits = _bits(rows, first_bit, slot.bits, packing).astype(f"u{width // 8}")
    if slot.kind == "flag":
        bits = bits.astype(np.bool_)
    elif slot.kind == "float":
        bits = bits.view(f"f{width // 8}")
    elif slot.kind == "int":
        bits = bits.view(f"i{width // 8}") << width - slot.bits >> width - slot.bits
    return bits


def _bits(rows: npt.NDArray[np.uint8], first_bit: int, bits: int, packing: Packing) -> Column:
    """Return some bits of each frame as unsigned numbers of a type that holds the bytes they lie in."""
    low, high = first_bit // 8, (first_bit + bits - 1) // 8
    length = rows.shape[1]
    size = _narrowest(min(8 * (high + 1 - low), 64)) // 8
    if high + 1 - low > 8 or size > length:
        return _byte_by_byte(rows, first_bit, bits, packing)
    low = min(low, length - size)
    word = _words(rows, low, size, "little" if packing == "lsb" else "big")
    below = first_bit - 8 * low if packing == "lsb" else 8 * (low + size) - first_bit - bits
    if below:
        word = word >> below
    if bits + below < 8 * size:
        word = word & word.dtype.type((1 << bits) - 1)
    return word


def _words(rows: npt.NDArray[np.uint8], first: int, size: int, order: Literal["little", "big"]) -> Column:
    """Return the `size` bytes from byte `first` of each frame on as one unsigned number in native byte order."""
    count, length = rows.shape
    if not count:
        return np.empty(0, dtype=f"u{size}")
    stored = np.dtype(f"{'<' if order == 'little' else '>'}u{size}")
    words = np.ndarray((count,), dtype=stored, buffer=rows.data, offset=first, strides=(length,))
    return words.astype(f"u{size}")


def _byte_by_byte(rows: npt.NDArray[np.uint8], first_bit: int, bits: int, packing: Packing) -> Column:
    """Shift bytes together where no word covers them: nine of them, or a frame shorter than the word."""
    low, high = first_bit // 8, (first_bit + bits - 1) // 8
    places = range(low, high + 1) if packing == "lsb" else range(high, low - 1, -1)
    below = first_bit - 8 * low if packing == "lsb" else 8 * (high + 1) - first_bit - bits
    number = np.zeros(len(rows), dtype=np.uint64)
    for significance, place in enumerate(places):
        shift = 8 * significance - below
        part = rows[:, place].astype(np.uint64)
        number |= part << np.uint64(shift) if shift >= 0 else part >> np.uint64(-shift)
    return number & np.uint64((1 << bits) - 1)


def _narrowest(bits: int) -> int:
    return next(width for width in WIDTHS if bits <= width)
