"""Frames to field columns: any width, at any bit, from either end."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from ..declare.fields import Slot

Column = npt.NDArray[Any]
WIDTHS = (8, 16, 32, 64)


def raw_column(columns: npt.NDArray[np.uint8], slot: Slot, packing: Literal["lsb", "msb"]) -> Column:
    """Cut the raw numbers of one slot out of all frames.

    Parameters
    ----------
    columns : ndarray of uint8, shape (n_bytes, n_frames)
        The frames, a byte place a row.
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
    items = [_item(columns, slot, slot.first_bit + place * slot.bits, packing) for place in range(slot.count)]
    return items[0] if slot.count == 1 else np.stack(items, axis=1)


def scaled(raw: Column, slot: Slot) -> Column:
    """Return the values that the raw numbers of a slot stand for: float64 where there is a scale or an offset."""
    field = slot.field
    if field is None or not field.is_scaled:
        return raw
    return raw * np.float64(field.scale) + field.offset


def _item(columns: npt.NDArray[np.uint8], slot: Slot, first_bit: int, packing: str) -> Column:
    width = next(one for one in WIDTHS if slot.bits <= one)
    if slot.is_whole_bytes and first_bit % 8 == 0 and slot.bits in WIDTHS:
        bits = _whole(columns, slot, first_bit // 8, packing)
    elif slot.is_whole_bytes and slot.order is not None:
        swapped = columns[first_bit // 8 : (first_bit + slot.bits) // 8][::-1]
        bits = _gather(swapped, 0, slot.bits, packing).astype(f"u{width // 8}")
    else:
        bits = _gather(columns, first_bit, slot.bits, packing).astype(f"u{width // 8}")
    if slot.kind == "flag":
        return bits.astype(np.bool_)
    if slot.kind == "float":
        return bits.view(f"f{width // 8}")
    if slot.kind == "int":
        signed = bits.view(f"i{width // 8}")
        unused = width - slot.bits
        return signed << unused >> unused if unused else signed
    return bits


def _whole(columns: npt.NDArray[np.uint8], slot: Slot, first: int, packing: str) -> Column:
    """Put whole bytes of a native width side by side."""
    size = slot.bits // 8
    if size == 1:
        return columns[first].copy()
    order = slot.order or ("little" if packing == "lsb" else "big")
    together = np.ascontiguousarray(columns[first : first + size].T).view(
        f"{'<' if order == 'little' else '>'}u{size}"
    )
    return together[:, 0].astype(f"u{size}")


def _gather(columns: npt.NDArray[np.uint8], first_bit: int, bits: int, packing: str) -> Column:
    """Shift the bytes that hold some bits together; uint64, or the narrowest type that holds all of the bytes."""
    low, high = first_bit // 8, (first_bit + bits - 1) // 8
    span = high - low + 1
    kind = next((one for one in WIDTHS if 8 * span <= one), 64)
    parts = columns[low : high + 1] if packing == "lsb" else columns[low : high + 1][::-1]
    # parts run from the least significant byte on; the field begins `lead` bits above the lowest bit of the first
    lead = first_bit - 8 * low if packing == "lsb" else 8 * (high + 1) - first_bit - bits
    number = parts[0].astype(f"u{kind // 8}") >> lead
    for place in range(1, span):
        number |= parts[place].astype(number.dtype) << 8 * place - lead
    if bits < kind:
        number &= number.dtype.type((1 << bits) - 1)
    return number
