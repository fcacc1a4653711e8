"""Where the bits of each field lie in one frame.

In a layout whose fields are all there, each as often as the other time, every frame has the same shape. In another
the shape of a frame follows from what some of its fields hold; it is worked out from the first field to the last.
Behind an array whose number varies the next field begins at the next byte limit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal, NamedTuple

from larkreader.declare.checks.checksum import FrameChecksum
from larkreader.declare.common.byte_order import ByteOrder

from .field_kinds import FieldOrder
from .fields import FieldEntry, FieldGroup, NamedField, ReservedBits
from .slot import Slot

Packing = Literal["lsb", "msb"]
HowMany = Callable[[FieldEntry, int, Sequence[Slot]], int]


class Ends(NamedTuple):
    """Bytes of a frame that are not a field: of its marker and its end marker; and how many fields lie behind that."""

    marker: int = 0
    end: int = 0
    trailer: int = 0


@dataclass(frozen=True)
class Shape:
    """Where the bits of each field lie in one frame.

    Parameters
    ----------
    slots : tuple of Slot
        All of them, in order, reserved bits included; those of which there are none have a `count` of 0.
    length : int
        Length of the frame in bytes, markers and checksum included.
    packing : {"lsb", "msb"}
        Which end of a byte the fields fill first.
    checksum : FrameChecksum, optional
        Its check value.
    """

    slots: tuple[Slot, ...]
    length: int
    packing: Packing
    checksum: FrameChecksum | None

    @cached_property
    def slot(self) -> Mapping[str, Slot]:
        """Where each named field lies, by name."""
        return {slot.name: slot for slot in self.slots if slot.field is not None}

    @cached_property
    def checksum_slot(self) -> Slot | None:
        """Where the check value lies."""
        return next((slot for slot in self.slots if slot.kind == "checksum"), None)

    @cached_property
    def covered(self) -> tuple[int, int]:
        """First byte that the checksum covers, and the byte behind the last."""
        if self.checksum is None or self.checksum_slot is None:
            return 0, 0
        first, last = self.checksum.from_, self.checksum.to
        begin = 0 if first is None or first == "marker" else self.slot[first].first_bit // 8
        end = self.checksum_slot.first_bit // 8 if last is None else self.slot[last].end_bit // 8
        return begin, end


def lay_out(
    fields: Sequence[FieldEntry],
    packing: Packing,
    checksum: FrameChecksum | None,
    ends: Ends,
    how_many: HowMany,
) -> Shape:
    """Lay fields one behind the other.

    Parameters
    ----------
    fields : sequence of NamedField, ReservedBits or FieldGroup
        What the frame holds, in order.
    packing, checksum
        As in `Shape`.
    ends : Ends
        What stands before the first field, and before the last fields.
    how_many : callable
        Called with an entry, the bit at which it begins, and the slots before it; gives how many of it there are.

    Returns
    -------
    Shape
    """
    slots: list[Slot] = []
    bit = 8 * ends.marker
    behind_end = first_of_trailer(fields, checksum, ends.trailer)
    for number, entry in enumerate(fields):
        if number == behind_end:
            bit += 8 * ends.end
        count = how_many(entry, bit, slots)
        slots += slots_of(entry, bit, count, packing, checksum)
        bit += count * item_bits(entry, checksum)
        if has_varying_number(entry):
            bit = -(-bit // 8) * 8
    if behind_end == len(fields):
        bit = -(-bit // 8) * 8 + 8 * ends.end
    return Shape(tuple(slots), -(-bit // 8), packing, checksum)


def first_of_trailer(fields: Sequence[FieldEntry], checksum: FrameChecksum | None, trailer: int) -> int:
    """Return the number of the first entry behind the end marker; those that fit best where none fits."""
    number, bits = len(fields), 8 * trailer
    while bits > 0 and number > 0:
        number -= 1
        repeat = repeat_of(fields[number])
        bits -= item_bits(fields[number], checksum) * (repeat if isinstance(repeat, int) else 1)
    return number


def slots_of(
    entry: FieldEntry, bit: int, count: int, packing: Packing, checksum: FrameChecksum | None
) -> Iterator[Slot]:
    """Yield the slots of `count` of an entry that begin at a bit."""
    if not isinstance(entry, FieldGroup):
        yield _slot(entry, bit, count, packing, checksum)
        return
    stride, within = item_bits(entry, checksum), 0
    for member in entry.fields:
        inner = member.repeat if isinstance(member, NamedField) else 1
        assert isinstance(inner, int)
        slot = _slot(member, bit + within, count * inner, packing, checksum)
        name = f"{entry.group}.{slot.name}" if slot.name else ""
        yield Slot(
            name,
            slot.kind,
            slot.first_bit,
            slot.bits,
            slot.count,
            slot.order,
            slot.field,
            slot.value,
            stride,
            inner,
            count,
        )
        within += inner * slot.bits


def item_bits(entry: FieldEntry, checksum: FrameChecksum | None) -> int:
    """Return how many bits one item of an entry takes."""
    if isinstance(entry, ReservedBits):
        return entry.reserved
    if isinstance(entry, FieldGroup):
        return sum(
            item_bits(member, checksum) * int(member.repeat if isinstance(member, NamedField) else 1)
            for member in entry.fields
        )
    return entry.bits if entry.bits is not None else _checksum_bits(checksum)


def repeat_of(entry: FieldEntry) -> int | str:
    """Return how often an entry is repeated, as it was declared."""
    return 1 if isinstance(entry, ReservedBits) else entry.repeat


def name_of(entry: FieldEntry) -> str:
    """Return what an entry is called; nothing for reserved bits."""
    return entry.group if isinstance(entry, FieldGroup) else getattr(entry, "name", "")


def plain_number(entry: FieldEntry) -> int:
    """Return how many of an entry there are, 1 where that varies."""
    repeat = repeat_of(entry)
    return repeat if isinstance(repeat, int) else 1


def has_varying_number(entry: FieldEntry) -> bool:
    """Return whether what a frame holds decides how many of an entry there are, if there are any."""
    return isinstance(repeat_of(entry), str)


def varies(entry: FieldEntry) -> bool:
    """Return whether the entry takes more bits in one frame than in another."""
    return bool(entry.when) or has_varying_number(entry)


def _slot(
    entry: NamedField | ReservedBits, bit: int, count: int, packing: Packing, checksum: FrameChecksum | None
) -> Slot:
    if isinstance(entry, ReservedBits):
        return Slot("", "reserved", bit, entry.reserved, count, value=entry.value)
    order: FieldOrder | None = entry.order
    if entry.bits is None:
        order = order or (checksum.order if checksum else None)
    native: ByteOrder = "little" if packing == "lsb" else "big"
    order = order if order not in (None, native) else None
    return Slot(entry.name, entry.kind, bit, item_bits(entry, checksum), count, order, entry)


def _checksum_bits(checksum: FrameChecksum | None) -> int:
    return checksum.method.width if checksum else 8
