"""Frames to field columns: any width, at any bit, from either end.

A field is read from all frames at once as one word that covers its bytes, wherever in the frame they lie; shifting
and masking leave its bits.
"""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.field_kinds import bytes_from_lowest
from larkreader.declare.frame.fields import NamedField
from larkreader.declare.frame.slot import Slot

Column = npt.NDArray[Any]
Packing = Literal["lsb", "msb"]
WIDTHS = (8, 16, 32, 64)


def rows_at(stream: npt.NDArray[np.uint8], offset: npt.NDArray[np.int64], length: int) -> npt.NDArray[np.uint8]:
    """Copy the frames that begin at `offset`: uint8, shape (n_frames, length)."""
    if not len(offset):
        return np.empty((0, length), np.uint8)
    items = np.ndarray((len(stream) - length + 1,), dtype=f"V{length}", buffer=stream.data, strides=(1,))
    return items[offset].view(np.uint8).reshape(-1, length)


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
        floating for a ``float``. A digit of a ``bcd`` beyond 9 counts as what it is; see `digits_sound`.
    """
    items = [number_of(_item(rows, slot, slot.bit_of(place), packing), slot) for place in range(slot.count)]
    return items[0] if slot.count == 1 else np.stack(items, axis=1)


def digits_sound(rows: npt.NDArray[np.uint8], slot: Slot, packing: Packing) -> npt.NDArray[np.bool_]:
    """Return in which frames all digits of a ``bcd`` are 0 to 9: bool, shape (n_frames,)."""
    sound = np.ones(len(rows), dtype=np.bool_)
    for place in range(slot.count):
        sound &= digits_of(_item(rows, slot, slot.bit_of(place), packing), slot.bits)
    return sound


def digits_of(items: Column, bits: int) -> npt.NDArray[np.bool_]:
    """Return of which unsigned items all digits of four bits are 0 to 9."""
    wide = items.astype(np.uint64)
    sound = np.ones(len(items), dtype=np.bool_)
    for digit in range(bits // 4):
        sound &= wide >> np.uint64(4 * digit) & np.uint64(0xF) <= 9
    return sound


def scaled(raw: Column, slot: Slot) -> Column:
    """Return the values that the raw numbers of a slot stand for.

    float64 where there is a scale or an offset, or a raw value that means that there is none, for which it is NaN;
    text as objects of shape (n_frames,), where a byte that is none is U+FFFD.
    """
    field = slot.field
    if field is not None and slot.kind == "text":
        return _texts(raw, field)
    if field is not None and field.invalid:
        result = _scaled(raw, slot).astype(np.float64)
        result[np.isin(raw, field.invalid)] = np.nan
        return result
    return _scaled(raw, slot)


def has_raw_values(slot: Slot) -> bool:
    """Return whether the values of a slot are its raw numbers."""
    field = slot.field
    return field is None or not (slot.kind == "text" or field.invalid or field.is_scaled)


def texts_sound(texts: Column) -> npt.NDArray[np.bool_]:
    """Return which texts, or rows of them, hold no byte that is none in their encoding."""
    sound = np.array(["\ufffd" not in text for text in texts.reshape(-1).tolist()], dtype=np.bool_)
    sound = sound.reshape(texts.shape)
    every: npt.NDArray[np.bool_] = sound if sound.ndim == 1 else np.all(sound, axis=1)
    return every


def _texts(raw: Column, field: NamedField) -> Column:
    """Decode the texts of all frames, equal texts once, without what fills them up."""
    if not len(raw):
        return np.empty(0, dtype=object)
    rows = np.ascontiguousarray(raw.reshape(len(raw), -1))
    different, which = np.unique(rows, axis=0, return_inverse=True)
    texts = [row.tobytes().rstrip(b"\0 ").decode(field.encoding, errors="replace") for row in different]
    result: Column = np.array(texts, dtype=object)[which.reshape(-1)]
    return result


def _scaled(raw: Column, slot: Slot) -> Column:
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
    """Cut one item of a slot out of all frames, as unsigned bits."""
    kind = f"u{narrowest(slot.bits) // 8}"
    low, size = first_bit // 8, slot.bits // 8
    if slot.order in ("little", "big") and slot.bits in WIDTHS:
        return _words(rows, low, size, slot.order).astype(kind)
    if slot.order is not None:
        from_lowest = [low + place for place in bytes_from_lowest(slot.order, size)]
        return _bits(np.ascontiguousarray(rows[:, from_lowest]), 0, slot.bits, "lsb").astype(kind)
    return _bits(rows, first_bit, slot.bits, packing).astype(kind)


def number_of(bits: Column, slot: Slot) -> Column:
    """Return the numbers that the bits of a slot hold."""
    width = narrowest(slot.bits)
    if slot.kind == "flag":
        bits = bits.astype(np.bool_)
    elif slot.kind == "float":
        bits = bits.view(f"f{width // 8}")
    elif slot.kind == "int" and slot.coding == "offset-binary":
        bits = (bits ^ bits.dtype.type(1 << slot.bits - 1)).view(f"i{width // 8}") << width - slot.bits
        bits = bits >> width - slot.bits
    elif slot.kind == "int" and slot.coding == "sign-magnitude":
        top = bits.dtype.type(1 << slot.bits - 1)
        size = (bits & ~top).view(f"i{width // 8}")
        bits = np.where(bits & top, -size, size)
    elif slot.kind == "int":
        bits = bits.view(f"i{width // 8}") << width - slot.bits >> width - slot.bits
    elif slot.kind == "bcd":
        digits = bits.astype(np.uint64)
        number = np.zeros(len(bits), dtype=np.uint64)
        for place in range(slot.bits // 4):
            number += (digits >> np.uint64(4 * place) & np.uint64(0xF)) * np.uint64(10**place)
        bits = number.astype(f"u{width // 8}")
    return bits


def _bits(rows: npt.NDArray[np.uint8], first_bit: int, bits: int, packing: Packing) -> Column:
    """Return some bits of each frame as unsigned numbers of a type that holds the bytes they lie in."""
    low, high = first_bit // 8, (first_bit + bits - 1) // 8
    length = rows.shape[1]
    size = narrowest(min(8 * (high + 1 - low), 64)) // 8
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


def narrowest(bits: int) -> int:
    """Return the width of the narrowest NumPy type that holds some bits."""
    return next(width for width in WIDTHS if bits <= width)
