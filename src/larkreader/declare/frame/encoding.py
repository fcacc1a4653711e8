"""Values into the bits of one frame and back, in plain integers.

A frame is one large number: its bytes read in the order of the packing (little-endian for lsb, big-endian for
msb). A slot is then a run of bits in it.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from larkreader.errors import RequestError

from .field_kinds import bits_of, bytes_from_lowest, number_of, raw_limits
from .fields import NamedField
from .slot import Slot

MOST_BITS = 1000  # of a value in Python
FLOAT_CODES: Mapping[int, str] = {16: "<e", 32: "<f", 64: "<d"}


def pack_values(slots: Sequence[Slot], values: Mapping[str, Any], length: int, packing: Literal["lsb", "msb"]) -> int:
    """Return the number of a frame of `length` bytes that holds `values`; the checksum is left at 0."""
    number = 0
    for slot in slots:
        field = slot.field
        if field is None:
            items = [slot.value] * slot.count
        elif slot.name in values:
            items = _raw_items(slot, field, values[slot.name])
        else:
            items = [field.equals or 0] * slot.count
        number = put_slot(number, slot, items, length, packing)
    return number


def put_slot(number: int, slot: Slot, items: Sequence[int], length: int, packing: Literal["lsb", "msb"]) -> int:
    """Write the raw `items` of a slot into a frame's number."""
    mask = (1 << slot.bits) - 1
    for place, item in enumerate(items):
        shift = _shift(slot, place, length, packing)
        bits = bits_of(item, slot.kind, slot.bits, slot.coding) & mask
        number = number & ~(mask << shift) | _stored(bits, slot, packing) << shift
    return number


def take_slot(number: int, slot: Slot, length: int, packing: Literal["lsb", "msb"]) -> list[int]:
    """Read the raw items of a slot from a frame's number; negative where an ``int`` is."""
    items = []
    for place in range(slot.count):
        stored = number >> _shift(slot, place, length, packing) & (1 << slot.bits) - 1
        items.append(number_of(_loaded(stored, slot, packing), slot.kind, slot.bits, slot.coding))
    return items


def _shift(slot: Slot, place: int, length: int, packing: Literal["lsb", "msb"]) -> int:
    first = slot.bit_of(place)
    return first if packing == "lsb" else 8 * length - first - slot.bits


def _stored(item: int, slot: Slot, packing: Literal["lsb", "msb"]) -> int:
    """Put the bytes of an item that is stored against the packing's own order where they belong."""
    if slot.order is None:
        return item
    size = slot.bits // 8
    stored = bytearray(size)
    for place, byte in zip(bytes_from_lowest(slot.order, size), item.to_bytes(size, "little"), strict=True):
        stored[place] = byte
    return int.from_bytes(stored, "little" if packing == "lsb" else "big")


def _loaded(stored: int, slot: Slot, packing: Literal["lsb", "msb"]) -> int:
    """Return the item whose bytes were stored so."""
    if slot.order is None:
        return stored
    size = slot.bits // 8
    data = stored.to_bytes(size, "little" if packing == "lsb" else "big")
    return int.from_bytes(bytes(data[place] for place in bytes_from_lowest(slot.order, size)), "little")


def _raw_items(slot: Slot, field: NamedField, value: Any) -> list[int]:
    items = list(value) if isinstance(value, Sequence) and not isinstance(value, str) else [value]
    if hasattr(value, "tolist"):  # an array or a scalar of NumPy, which this stage does not import
        items = value.tolist() if isinstance(value.tolist(), list) else [value.tolist()]
    if slot.kind == "text" and len(items) == 1 and isinstance(items[0], str):
        items = text_bytes(field, items[0], slot.count)
    if len(items) != slot.count:
        raise RequestError(field.name, f"has {len(items)} items", f"must have {slot.count}")
    return [_raw_item(slot, field, item) for item in items]


def text_bytes(field: NamedField, text: str, length: int) -> list[int]:
    """Return the bytes of a text, filled up to some length."""
    try:
        data = text.encode(field.encoding)
    except UnicodeEncodeError as error:
        found = f'"{text[error.start]}" does not exist in {field.encoding}'
        raise RequestError(field.name, found) from None
    if len(data) > length:
        raise RequestError(field.name, f'"{text}" takes {len(data)} bytes', f"must take {length} at most")
    return list(data.ljust(length, b"\0" if field.pad == "nul" else b" "))


def _raw_item(slot: Slot, field: NamedField, value: Any) -> int:
    if isinstance(value, str):
        if value not in field.names:
            raise RequestError(field.name, f'"{value}" is none of its names', f"must be one of {list(field.names)}")
        return field.names[value]
    if isinstance(value, int) and value.bit_length() > MOST_BITS:
        raise RequestError(
            field.name, f"has {value.bit_length():,} bits", f"must be a number that a {field.type} holds"
        )
    if slot.kind == "float":
        return _float_bits(slot, field, value)
    if value != value and field.invalid:
        return field.invalid[0]
    if not math.isfinite(value):
        raise RequestError(field.name, f"{value} is not finite", f"must be a number that a {field.type} holds")
    raw = round((value - field.offset) / field.scale) if field.is_scaled else value
    if raw != int(raw):
        raise RequestError(field.name, f"{value} has a fraction", f"must be a whole number for a {field.type}")
    low, high = raw_limits(slot.kind, slot.bits, slot.coding)
    if not low <= raw <= high:
        limits = sorted(limit * field.scale + field.offset for limit in (low, high))
        wanted = f"must be {limits[0]:g} to {limits[1]:g} {field.unit}".rstrip()
        raise RequestError(field.name, f"{value} does not fit into its {slot.bits} bits", wanted)
    return int(raw)


def _float_bits(slot: Slot, field: NamedField, value: float) -> int:
    try:
        stored = struct.pack(FLOAT_CODES[slot.bits], (value - field.offset) / field.scale)
    except OverflowError:
        raise RequestError(field.name, f"{value} does not fit into a {field.type}") from None
    return int.from_bytes(stored, "little")
