"""The declared shape of a frame: its fields in order, its boundary, its checksum.

From these follows where every bit lies. With lsb packing a frame is one string of bits, bit 0 of byte 0
first, and a field's first bit is its least significant. With msb packing bit 7 of byte 0 comes first, and a
field's first bit is its most significant.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Any, Literal

from pydantic import BaseModel, Field, model_validator
from pydantic_core import PydanticCustomError

from larkreader.errors import Mistake, RequestError, nearest

from .boundary import Boundary, MarkerBoundary
from .checksum import FrameChecksum
from .encoding import pack_values, put_slot, take_slot
from .fields import ByteOrder, FieldEntry, FieldOrder, NamedField, ReservedBits, Slot

Packing = Literal["lsb", "msb"]
LONGEST_FRAME = 65_536  # bytes; a longer one is a mistake in the sheet, not a message


class FrameLayout(BaseModel, frozen=True, extra="forbid"):
    """The declared shape of one kind of frame.

    Parameters
    ----------
    key : str
        Its name in every output; in a sheet, the key of its table.
    wire : str, optional
        The wire on which it travels. It may be left out where there is only one.
    boundary : MarkerBoundary or FixedBoundary
        How its start and end are found.
    packing : {"lsb", "msb"}
        Which end of a byte the fields fill first.
    fields : tuple of NamedField or ReservedBits
        What it holds, in order. A marker stands before the first field and is not one of them.
    period : float, optional
        How often it is sent, in seconds from one to the next.
    checksum : FrameChecksum, optional
        Its check value, whose place is the field of type ``checksum``.
    note : str
        Anything worth telling the reader.
    """

    key: str = "frame"
    wire: str | None = None
    boundary: Boundary
    packing: Packing = "lsb"
    fields: tuple[FieldEntry, ...] = Field(min_length=1)
    checksum: FrameChecksum | None = None
    period: float | None = Field(default=None, gt=0)
    note: str = ""

    @model_validator(mode="after")
    def _layout_adds_up(self) -> FrameLayout:
        claims = list(_layout_mistakes(self))
        if claims:
            raise PydanticCustomError(
                "mistakes",
                "{text}",
                {
                    "text": "; ".join(f"{place}: {found} {wanted}" for place, found, wanted in claims),
                    "mistakes": lambda where: [
                        Mistake(f"{where}.{place}".rstrip("."), found, wanted) for place, found, wanted in claims
                    ],
                },
            )
        return self

    @cached_property
    def marker(self) -> bytes:
        """The bytes with which every frame begins; empty where the boundary has none."""
        return self.boundary.data if isinstance(self.boundary, MarkerBoundary) else b""

    @cached_property
    def slots(self) -> tuple[Slot, ...]:
        """Where each field lies, in order, reserved bits included."""
        slots, bit = [], 8 * len(self.marker)
        for entry in self.fields:
            slot = self._slot(entry, bit)
            slots.append(slot)
            bit = slot.end_bit
        return tuple(slots)

    @cached_property
    def slot(self) -> Mapping[str, Slot]:
        """Where each named field lies, by name."""
        return {slot.name: slot for slot in self.slots if slot.field is not None}

    @cached_property
    def length(self) -> int:
        """Length of a frame in bytes, marker and checksum included."""
        return -(-self.slots[-1].end_bit // 8)

    @cached_property
    def counter(self) -> Slot | None:
        """The field that rises by one from frame to frame."""
        return next((slot for slot in self.slots if slot.field is not None and slot.field.counter), None)

    @cached_property
    def checksum_slot(self) -> Slot | None:
        """Where the check value lies."""
        return next((slot for slot in self.slots if slot.kind == "checksum"), None)

    @cached_property
    def covered(self) -> tuple[int, int]:
        """First byte that the checksum covers, and the one behind the last."""
        if self.checksum is None or self.checksum_slot is None:
            return 0, 0
        first, last = self.checksum.from_, self.checksum.to
        begin = 0 if first is None or first == "marker" else self.slot[first].first_bit // 8
        end = self.checksum_slot.first_bit // 8 if last is None else self.slot[last].end_bit // 8
        return begin, end

    @property
    def unit(self) -> Mapping[str, str]:
        """The unit of each named field."""
        return {name: slot.field.unit for name, slot in self.slot.items() if slot.field is not None}

    def encode(self, values: Mapping[str, Any] | None = None) -> bytes:
        """Make one frame from the values of its fields.

        Parameters
        ----------
        values : mapping of str to number, str, bool or sequence
            Scaled values by field name, a name for a named value, a sequence for an array. Left out: fields
            that `equals` fixes and the checksum, which are computed; everything else is then 0.

        Returns
        -------
        bytes
            The frame, marker and checksum included.

        Raises
        ------
        RequestError
            If a name is not a field, or a value does not fit.
        """
        values = dict(values or {})
        for name in values:
            if name not in self.slot:
                raise RequestError(name, f"is not a field of {self.key}", advice=nearest(name, list(self.slot)))
        number = pack_values(self.slots, values, self.length, self.packing)
        frame = self._bytes_of(number)
        frame = self.marker + frame[len(self.marker) :]
        check = self.checksum_slot
        if check is None or self.checksum is None or check.name in values:
            return frame
        begin, end = self.covered
        return self._bytes_of(
            put_slot(
                self._number_of(frame),
                check,
                [self.checksum.method.of(frame[begin:end])],
                self.length,
                self.packing,
            )
        )

    def peek(self, frame: bytes, name: str) -> list[int]:
        """Return the raw numbers of one field of one frame, an item each; floats as their bit patterns.

        The plain way, frame by frame. `read_frames` does the same for all frames at once.
        """
        return take_slot(self._number_of(frame), self.slot[name], self.length, self.packing)

    def _slot(self, entry: NamedField | ReservedBits, bit: int) -> Slot:
        if isinstance(entry, ReservedBits):
            return Slot("", "reserved", bit, entry.reserved, value=entry.value)
        bits = entry.bits
        order: FieldOrder | None = entry.order
        if bits is None:
            bits = self.checksum.method.width if self.checksum else 8
            order = order or (self.checksum.order if self.checksum else None)
        native: ByteOrder = "little" if self.packing == "lsb" else "big"
        return Slot(
            entry.name,
            entry.kind,
            bit,
            bits,
            entry.repeat,
            order if order not in (None, native) else None,
            entry,
        )

    def _bytes_of(self, number: int) -> bytes:
        return number.to_bytes(self.length, "little" if self.packing == "lsb" else "big")

    def _number_of(self, frame: bytes) -> int:
        return int.from_bytes(frame, "little" if self.packing == "lsb" else "big")


def _layout_mistakes(layout: FrameLayout) -> Iterator[tuple[str, str, str]]:
    """Yield place, what was found and what is wanted for all that does not add up."""
    names: dict[str, int] = {}
    for place, entry in enumerate(layout.fields):
        if isinstance(entry, NamedField):
            if entry.name in names:
                yield (
                    f"fields[{place}].name",
                    f'"{entry.name}"',
                    f"is the name of fields[{names[entry.name]}] too.",
                )
            names.setdefault(entry.name, place)
    bits = layout.slots[-1].end_bit
    whole = bits % 8 == 0  # else every place behind the wrong width is wrong, which would be told again and again
    yield from _checksum_mistakes(layout, whole)
    for place, slot in enumerate(layout.slots):
        if slot.order is not None and (slot.bits % 8 or (whole and slot.first_bit % 8)):
            yield (
                f"fields[{place}]",
                f'"{slot.name}"',
                f"has a byte order, which needs whole bytes that begin at a byte limit; "
                f"this one takes bits {slot.first_bit} to {slot.end_bit - 1} of the frame.",
            )
    for place, entry in enumerate(layout.fields):
        told = entry.substitutes.fields if isinstance(entry, NamedField) and entry.substitutes else ()
        for number, name in enumerate(told):
            if name not in names:
                where = f"fields[{place}].substitutes.fields[{number}]"
                yield where, f'"{name}"', f"is not a field of this frame. {nearest(name, list(names))}"
    counters = [slot.name for slot in layout.slots if slot.field is not None and slot.field.counter]
    if len(counters) > 1:
        yield (
            "fields",
            "",
            f"have {len(counters)} counters ({', '.join(counters)}), but a frame has one at most.",
        )
    if not whole:
        spare = 8 - bits % 8
        yield (
            "fields",
            "",
            f"add up to {bits} bits with the marker, which is {bits // 8} bytes and {bits % 8} bits. "
            f"Add {{ reserved = {spare} }} or correct a width.",
        )
    declared = getattr(layout.boundary, "length", None)
    if declared is not None and declared * 8 != bits:
        yield (
            "boundary.length",
            f"{declared}",
            f"must be what the fields add up to, which is {bits / 8:g} bytes.",
        )
    if layout.length > LONGEST_FRAME:
        yield "fields", "", f"add up to {layout.length} bytes; a frame has {LONGEST_FRAME} at most."


def _checksum_mistakes(layout: FrameLayout, whole: bool) -> Iterator[tuple[str, str, str]]:
    fields = [entry for entry in layout.fields if isinstance(entry, NamedField) and entry.type == "checksum"]
    if len(fields) > 1:
        yield "fields", "", f"have {len(fields)} checksums, but a frame has one at most."
    if fields and layout.checksum is None:
        yield "checksum", "", f'is missing: the field "{fields[0].name}" needs an algorithm.'
    if layout.checksum is None:
        return
    if not fields:
        yield "checksum", "", 'has no place: add a field { name = "crc", type = "checksum" }.'
        return
    check = layout.checksum_slot
    assert check is not None
    spans = {"from": layout.checksum.from_, "to": layout.checksum.to}
    unknown = {
        key: name
        for key, name in spans.items()
        if name is not None and name not in layout.slot and not (key == "from" and name == "marker")
    }
    for key, name in unknown.items():
        yield (
            f"checksum.{key}",
            f'"{name}"',
            f"is not a field of this frame. {nearest(name, list(layout.slot))}",
        )
    if unknown or not whole:
        return
    first, last = (layout.slot.get(name or "") for name in spans.values())
    if first is not None and first.first_bit % 8:
        yield "checksum.from", f'"{first.name}"', "does not begin at a byte limit."
    if last is not None and last.end_bit % 8:
        yield "checksum.to", f'"{last.name}"', "does not end at a byte limit."
    if last is None and check.first_bit % 8:
        yield (
            "checksum",
            "",
            "does not begin at a byte limit; say with to which field is the last one covered.",
        )
    begin, end = layout.covered
    if begin >= end or (begin * 8 < check.end_bit and check.first_bit < end * 8):
        yield (
            "checksum",
            "",
            f"covers bytes {begin} to {end - 1}, which must be some, and not the checksum itself.",
        )
