"""What a layout's fields add up to: where every bit of a frame lies, and how many bytes it has.

With lsb packing a frame is one string of bits, bit 0 of byte 0 first, and a field's first bit is its least
significant. With msb packing bit 7 of byte 0 is first, and a field's first bit is its most significant.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, Literal, Self

from pydantic import BaseModel, Field, model_validator

from larkreader.declare.checks.checksum import FrameChecksum
from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import raise_mistakes
from larkreader.errors import Mistake, RequestError

from .boundary import Boundary
from .encoding import take_slot
from .field_kinds import Encoding
from .field_parts import REST, Count
from .fields import FieldEntry
from .frame_boundary import LONGEST
from .layout_mistakes import ends_of, layout_mistakes
from .shape import HowMany, Packing, Shape, item_bits, lay_out, name_of, plain_number, repeat_of, slots_of, varies
from .slot import Slot
from .text_pattern import TextPattern, pattern_mistakes, pattern_of, written_mistakes


class ShapedLayout(BaseModel, frozen=True, extra="forbid"):
    """What is declared of one kind of frame, and the shape that follows from it; see `FrameLayout`."""

    key: str = "frame"
    wire: str | None = None
    boundary: Input[Boundary, Boundary | Table]
    packing: Packing = "lsb"
    fields: Input[tuple[FieldEntry, ...], Sequence[FieldEntry | Table]] = default(())
    checksum: Input[FrameChecksum | None, FrameChecksum | Table | None] = default(None)
    period: float | None = Field(default=None, gt=0, allow_inf_nan=False)
    pattern: str | None = None
    backspace: Literal["keep", "apply"] = "keep"
    encoding: Encoding = "latin-1"
    note: str = ""

    @model_validator(mode="before")
    @classmethod
    def _default_field_is_bytes(cls, table: Any) -> Any:
        if isinstance(table, Mapping) and "fields" not in table and table.get("pattern") is None:
            return {**table, "fields": [{"name": "data", "type": "bytes", "repeat": REST}]}
        return table

    @model_validator(mode="after")
    def _layout_adds_up(self) -> Self:
        if self.pattern is not None:
            claims = [*pattern_mistakes(self.pattern, self.fields, self.checksum), *self._pattern_cannot_be_found()]
        elif not self.fields:
            claims = [("fields", "", "must have at least one entry, or there must be a pattern.")]
        elif written := list(written_mistakes(self.fields)):
            claims = written
        else:
            claims = list(layout_mistakes(self.fields, self.boundary, self.packing, self.checksum))
        raise_mistakes([Mistake(place, found, wanted) for place, found, wanted in claims])
        return self

    def _pattern_cannot_be_found(self) -> Iterator[tuple[str, str, str]]:
        boundary = self.boundary
        if not boundary.is_delimited and not boundary.is_marked:
            found = f'"{boundary.kind}"'
            yield "boundary.kind", found, "does not go with a pattern; lines have a terminator, as a rule."
        elif boundary.is_marked and (not boundary.end_marker or boundary.behind_end):
            yield "boundary", "", "needs an end and no trailer, to go with a pattern."

    @cached_property
    def text_pattern(self) -> TextPattern | None:
        """What its lines are made of, where they are text."""
        return None if self.pattern is None else pattern_of(self.pattern, self.fields, self.checksum)

    @cached_property
    def marker(self) -> bytes:
        """The bytes with which every frame begins; empty where the boundary has none."""
        return self.boundary.begin_marker

    @cached_property
    def end_marker(self) -> bytes:
        """The bytes with which every frame ends; empty where the boundary has none."""
        return self.boundary.end_marker

    @property
    def end_from_end(self) -> int:
        """How many bytes before the end of a frame its end marker begins."""
        return len(self.end_marker) + ends_of(self.boundary).trailer

    @cached_property
    def is_fixed(self) -> bool:
        """Whether all frames have one shape."""
        return self.pattern is None and not any(varies(entry) for entry in self.fields)

    @cached_property
    def needs_locating(self) -> bool:
        """Whether a frame's own fields determine its length, or where others lie."""
        return not self.is_fixed or self.boundary.counted is not None

    @cached_property
    def nominal(self) -> Shape:
        """The shape of every frame; where they differ, that of one that has one of each. Of text it says no places."""
        if self.pattern is not None:
            slots = [next(slots_of(entry, 0, plain_number(entry), "lsb", self.checksum)) for entry in self.fields]
            return Shape(tuple(slots), self.shortest, "lsb", self.checksum)
        return self.shaped(lambda entry, bit, slots: plain_number(entry))

    @cached_property
    def slots(self) -> tuple[Slot, ...]:
        """Where each field lies, in order, reserved bits included; see `nominal` where frames differ."""
        return self.nominal.slots

    @cached_property
    def slot(self) -> Mapping[str, Slot]:
        """Where each named field lies, by name; see `nominal` where frames differ."""
        return self.nominal.slot

    @property
    def length(self) -> int:
        """Length of a frame in bytes, marker and checksum included; of the `nominal` shape where frames differ."""
        return self.nominal.length

    @cached_property
    def shortest(self) -> int:
        """Fewest bytes that a frame can have, marker and checksum included, stuffing and delimiters not."""
        if self.text_pattern is not None:
            return len(self.marker) + len(self.end_marker)
        return self.shaped(lambda entry, bit, slots: 0 if varies(entry) else plain_number(entry)).length

    @cached_property
    def longest(self) -> int:
        """Most bytes that a frame can have, marker and checksum included, stuffing and delimiters not."""
        if self.is_fixed:
            return self.length
        return self.boundary.longest

    @cached_property
    def counter(self) -> Slot | None:
        """The field that rises by one from frame to frame."""
        return next((slot for slot in self.slots if slot.field is not None and slot.field.counter), None)

    @cached_property
    def checksum_slot(self) -> Slot | None:
        """Where the check value lies."""
        return self.nominal.checksum_slot

    @cached_property
    def covered(self) -> tuple[int, int]:
        """First byte that the checksum covers, and the byte behind the last."""
        return self.nominal.covered

    @property
    def unit(self) -> Mapping[str, str]:
        """The unit of each named field."""
        return {name: slot.field.unit for name, slot in self.slot.items() if slot.field is not None}

    def shape_of(self, frame: bytes) -> Shape:
        """Return where the fields of one frame lie.

        Parameters
        ----------
        frame : bytes
            The frame, or its content of a boundary that delimits.

        Returns
        -------
        Shape

        Raises
        ------
        RequestError
            If the fields do not fit into it.
        """
        if self.is_fixed:
            return self.nominal
        number, length = self.number_of(frame), len(frame)

        def how_many(entry: FieldEntry, bit: int, slots: Sequence[Slot]) -> int:
            held = _Held({slot.name: slot for slot in slots if slot.count}, number, length, self.packing)
            return self._number(entry, bit, 8 * length, held)

        shape = self.shaped(how_many)
        if shape.length != length:
            found = f"has {length} bytes, of which its fields take {shape.length}"
            raise RequestError(self.key, found, "must be a frame of this layout")
        return shape

    def shaped(self, how_many: HowMany) -> Shape:
        """Lay the fields out, as many of each as `how_many` returns; see `lay_out`."""
        return lay_out(self.fields, self.packing, self.checksum, ends_of(self.boundary), how_many)

    def _number(self, entry: FieldEntry, bit: int, total_bits: int, held: Mapping[str, int]) -> int:
        """Return how many of an entry there are in a frame whose fields hold these raw numbers."""
        repeat = repeat_of(entry)
        if not is_present(entry, self.slot, held):
            return 0
        if isinstance(repeat, int):
            return plain_number(entry)
        if repeat == REST:
            behind = self.bits_behind(entry)
            room = (total_bits - bit - behind) // item_bits(entry, self.checksum)
            if room < 0:
                raise RequestError(self.key, f"has no room for {name_of(entry) or 'reserved bits'}", "must be longer")
            return room
        count = Count.parse(repeat)
        many, left = divmod(held.get(count.field, 0) * count.factor, count.divisor)
        many += count.addend
        if left or not 0 <= many <= LONGEST:
            raise RequestError(name_of(entry), f"would be there {many} times by {repeat}", f"must be 0 to {LONGEST}")
        return many

    def bits_behind(self, entry: FieldEntry) -> int:
        """Return how many bits lie behind an entry, of which there are as many as there is room for."""
        behind = self.fields[[field is entry for field in self.fields].index(True) + 1 :]
        return sum(plain_number(item) * item_bits(item, self.checksum) for item in behind) + 8 * len(self.end_marker)

    def uncounted(self, shape: Shape) -> int:
        """Return how many bytes of a frame its length field does not count."""
        counted = self.boundary.counted
        assert counted is not None
        if counted.counts == "all":
            return 0
        before = shape.slot[counted.field].end_bit // 8
        check = shape.checksum_slot
        if counted.counts == "rest" or check is None:
            return before
        return before + shape.length - check.first_bit // 8

    def bytes_of(self, number: int, length: int) -> bytes:
        """Return the bytes of a frame's number."""
        return number.to_bytes(length, "little" if self.packing == "lsb" else "big")

    def number_of(self, frame: bytes) -> int:
        """Return a frame as one number."""
        return int.from_bytes(frame, "little" if self.packing == "lsb" else "big")


class _Held(dict[str, int]):
    """The raw numbers that fields of a frame hold, read when they are asked for."""

    def __init__(self, slots: Mapping[str, Slot], number: int, length: int, packing: Packing) -> None:
        super().__init__()
        self._slots, self._where = slots, (number, length, packing)

    def get(self, name: str, default: Any = None) -> Any:
        """Return what a field holds."""
        slot = self._slots.get(name)
        number, length, packing = self._where
        return default if slot is None or slot.end_bit > 8 * length else take_slot(number, slot, length, packing)[0]


def is_present(entry: FieldEntry, slots: Mapping[str, Slot], held: Mapping[str, int]) -> bool:
    """Return whether an entry is there in a frame whose fields hold these raw numbers."""
    return all(held.get(name) in raw_values(slots[name], declared) for name, declared in entry.when.items())


def raw_values(slot: Slot, declared: Sequence[int | str]) -> list[int]:
    """Return the raw numbers that numbers and names of a field stand for."""
    assert slot.field is not None
    return [slot.field.names[item] if isinstance(item, str) else item for item in declared]
