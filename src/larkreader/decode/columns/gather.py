"""Fields from frames that differ: bits from any place of a long array of bytes, each item from its own.

Where all frames have one shape `unpack` cuts whole columns at once. Here each item says at which bit it begins.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.field_kinds import bytes_from_lowest
from larkreader.declare.frame.slot import Slot

from .unpack import narrowest, number_of

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Packing = Literal["lsb", "msb"]


def items_at(stream: Bytes, bit: Places, slot: Slot, packing: Packing) -> npt.NDArray[Any]:
    """Read one item of a field at each of some places.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where frames lie.
    bit : ndarray of int64, shape (n_items,)
        The first bit of each item, counted in the order of the packing; all of it lies in `stream`.
    slot : Slot
        What the field is; where it lies in a frame does not matter.
    packing : {"lsb", "msb"}
        Which end of a byte is filled first.

    Returns
    -------
    ndarray, shape (n_items,)
        The raw numbers, of the types that `raw_column` gives.
    """
    kind = f"u{narrowest(slot.bits) // 8}"
    first = bit >> 3
    if slot.order is not None:
        number = _joined(stream, first, bytes_from_lowest(slot.order, slot.bits // 8))
    else:
        number = _bits(stream, bit, first, slot.bits, packing)
    return number_of(number.astype(kind), slot)


def _joined(stream: Bytes, first: Places, from_lowest: list[int]) -> npt.NDArray[np.uint64]:
    number = np.zeros(len(first), dtype=np.uint64)
    for significance, place in enumerate(from_lowest):
        number |= stream.take(first + place).astype(np.uint64) << np.uint64(8 * significance)
    return number


def _bits(stream: Bytes, bit: Places, first: Places, bits: int, packing: Packing) -> npt.NDArray[np.uint64]:
    within = (bit & 7).astype(np.uint64)
    number = np.zeros(len(bit), dtype=np.uint64)
    if not len(bit):
        return number
    deepest = int(within.max())
    most = (deepest + bits + 7) // 8  # bytes that an item may touch
    if deepest == int(within.min()):
        return _bits_alike(stream, first, deepest, bits, most, packing)
    behind = np.uint64(8 * most - bits) - within if packing == "msb" else within  # bits below it in those bytes
    for place in range(most):
        shift = 8 * (place if packing == "lsb" else most - 1 - place) - behind.astype(np.int64)
        part = stream.take(first + place, mode="clip").astype(np.uint64)  # beyond the end only where no bit is needed
        left = np.clip(shift, 0, 63).astype(np.uint64)
        right = np.clip(-shift, 0, 63).astype(np.uint64)
        number |= np.where(shift > 63, np.uint64(0), part << left >> right)
    if bits < 64:
        number &= np.uint64((1 << bits) - 1)
    return number


def _bits_alike(
    stream: Bytes, first: Places, within: int, bits: int, most: int, packing: Packing
) -> npt.NDArray[np.uint64]:
    """Read items that all begin at the same bit of their first byte."""
    number = np.zeros(len(first), dtype=np.uint64)
    behind = 8 * most - bits - within if packing == "msb" else within
    for place in range(most):
        shift = 8 * (place if packing == "lsb" else most - 1 - place) - behind
        part = stream.take(first + place, mode="clip").astype(np.uint64)
        if shift < 64:
            number |= part << np.uint64(shift) if shift >= 0 else part >> np.uint64(-shift)
    return number & np.uint64((1 << bits) - 1)
