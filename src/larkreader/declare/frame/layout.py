"""The declared shape of one kind of frame, and frames made by it from values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from larkreader.declare.checks.checksum import FrameChecksum
from larkreader.declare.common.given import Input, Table, default
from larkreader.errors import RequestError, nearest
from larkreader.shown import Shown, text_of

from .boundary import (
    Boundary,
)
from .encoding import pack_values, put_slot, take_slot, text_bytes
from .field_parts import REST, Count
from .fields import FieldEntry, FieldGroup, NamedField
from .frame_shape import ShapedLayout, is_present
from .shape import Shape, has_varying_number, name_of, plain_number, repeat_of
from .slot import Slot
from .text_pattern import write_line


class FrameLayout(Shown, ShapedLayout, frozen=True, extra="forbid"):
    """The declared shape of one kind of frame.

    Parameters
    ----------
    key : str
        Its name in every output; in a sheet, the key of its table.
    wire : str, optional
        The wire on which it travels. It may be left out where there is only one.
    boundary : Boundary
        How its start and end are found: a model of this package whose name ends so, or a mapping with its `kind`.
    packing : {"lsb", "msb"}
        Which end of a byte the fields fill first.
    fields : tuple of NamedField, ReservedBits or FieldGroup
        What it holds, in order. A marker stands before the first field and is not one of them. By default
        there is one field ``data`` that holds all bytes.
    checksum : FrameChecksum, optional
        Its check value, whose place is the field of type ``checksum``.
    period : float, optional
        How often it is sent, in seconds from one to the next.
    pattern : str, optional
        Of a line of text: what it consists of, with fields in braces, as in ``"temp={temperature} flow={flow}"``.
    backspace : {"keep", "apply"}
        Whether backspaces in a text have deleted the characters before them when it is matched with its pattern.
    encoding : {"latin-1", "ascii", "utf-8"}
        Of a line of text; one that is none in it matches no pattern.
    note : str
        Anything worth telling the reader.
    """

    # again, since mypy takes what a setter takes for the type of an inherited field
    boundary: Input[Boundary, Boundary | Table]
    fields: Input[tuple[FieldEntry, ...], Sequence[FieldEntry | Table]] = default(())
    checksum: Input[FrameChecksum | None, FrameChecksum | Table | None] = default(None)

    def __repr__(self) -> str:
        length = f"{self.length} bytes" if self.is_fixed else f"{self.shortest} to {self.longest} bytes"
        named = ", ".join(self.slot) or "none"
        return f'<FrameLayout "{self.key}" on {self.wire}: {length}, {self.boundary.kind}; fields {named}>'

    def __str__(self) -> str:
        """Write the layout as a table: where the bits of each field lie, and what they mean."""
        return text_of(self)

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
            The frame, marker and checksum included; its content, of a boundary that delimits: see `as_sent`.

        Raises
        ------
        RequestError
            If a name is not a field, or a value does not fit.

        Notes
        -----
        The keys for the length of the frame and the numbers of items are worked out where it is left out.
        """
        if self.text_pattern is not None:
            line = write_line(self.text_pattern, values or {}, self.checksum, self.encoding)
            frame = self.marker + line + self.end_marker
            if len(frame) > self.longest:
                raise RequestError(self.key, f"would have {len(frame)} bytes", f"must have {self.longest} at most")
            return frame
        values = self._flat_values(values or {})
        shape = self.nominal
        if self.needs_locating:
            values, shape = self._completed(values)
        number = pack_values(shape.slots, values, shape.length, self.packing)
        frame = self.bytes_of(number, shape.length)
        closing = len(frame) - self.end_from_end
        trailer = frame[closing + len(self.end_marker) :]
        frame = self.marker + frame[len(self.marker) : closing] + self.end_marker + trailer
        check = shape.checksum_slot
        if check is None or self.checksum is None or check.name in values or not check.count:
            return frame
        begin, end = shape.covered
        items = [self.checksum.method.of(frame[begin:end])]
        number = put_slot(self.number_of(frame), check, items, shape.length, self.packing)
        return self.bytes_of(number, shape.length)

    def encode_all(self, columns: Mapping[str, Sequence[Any]], *, first_count: int = 0) -> list[bytes]:
        """Make frames from columns of values.

        Parameters
        ----------
        columns : mapping of str to sequence
            A column of scaled values for each field, all of one length; see `encode` for what may be left out.
        first_count : int
            What the counter of the first frame holds, where there is one that has no column; it rises by one.

        Returns
        -------
        list of bytes
            One frame a row.

        Raises
        ------
        RequestError
            As `encode`; or if the columns differ in length, or are none.
        """
        lengths = {name: len(column) for name, column in columns.items()}
        if len(set(lengths.values())) != 1:
            raise RequestError("columns", f"have the lengths {lengths}", "must be some, all of one length")
        frames = []
        counter = self.counter
        for row in range(next(iter(lengths.values()))):
            values = {name: column[row] for name, column in columns.items()}
            if counter is not None and counter.name not in values:
                values[counter.name] = (first_count + row) % counter.cycle
            frames.append(self.encode(values))
        return frames

    def as_sent(self, frame: bytes) -> bytes:
        """Return a frame as it travels: stuffed, and with what delimits it, as far as that is bytes.

        Parameters
        ----------
        frame : bytes
            The frame; its content, with a boundary that is delimited.
        """
        return self.boundary.as_sent(frame)

    def peek(self, frame: bytes, name: str) -> list[int]:
        """Return the raw numbers of one field of one frame, an item each; floats as their bit patterns.

        The plain way, frame by frame. `read_frames` does the same for all frames at once.

        Parameters
        ----------
        frame : bytes
            The frame.
        name : str
            The field.
        """
        return take_slot(self.number_of(frame), self.shape_of(frame).slot[name], len(frame), self.packing)

    def _flat_values(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Return values by the names of columns, those of groups item by item."""
        flat: dict[str, Any] = {}
        groups = {entry.group: entry for entry in self.fields if isinstance(entry, FieldGroup)}
        for name, value in values.items():
            if name in groups:
                members = [member.name for member in groups[name].fields if isinstance(member, NamedField)]
                for item in value:
                    for member in item:
                        if member not in members:
                            raise RequestError(f"{name}.{member}", f"is not a field of {self.key}")
                for member in members:
                    slot = self.slot[f"{name}.{member}"]
                    flat[slot.name] = _in_a_row(slot, [item.get(member, _left_out(slot)) for item in value])
            elif name in self.slot:
                flat[name] = _in_a_row(self.slot[name], value) if self.slot[name].stride else value
            else:
                raise RequestError(name, f"is not a field of {self.key}", advice=nearest(name, list(self.slot)))
        return flat

    def _completed(self, values: dict[str, Any]) -> tuple[dict[str, Any], Shape]:
        """Fill in how many there are of what varies, and how long the frame is; and lay it out so."""
        numbers: dict[str, int] = {}
        for entry in self.fields:
            repeat = repeat_of(entry)
            if isinstance(repeat, int):
                continue
            numbers[name_of(entry)] = given = _items_given(entry, values)
            if repeat == REST:
                continue
            count = Count.parse(repeat)
            raw = count.raw_of(given)
            if count.field not in values:
                if raw is None:
                    raise RequestError(name_of(entry), f"has {given} items", f"must have a number that {repeat} gives")
                field = self.slot[count.field].field
                values[count.field] = raw * field.scale + field.offset if field is not None else raw
        held: dict[str, int] = {}
        wanted = self.boundary.fixed_length

        def how_many(entry: FieldEntry, bit: int, slots: Sequence[Slot]) -> int:
            held.update(_held_by(slots, held, values))
            if not is_present(entry, self.slot, held):
                return 0
            if not has_varying_number(entry):
                return plain_number(entry)
            return _agreed(entry, numbers.get(name_of(entry), 0), held, is_given=_is_given(entry, values))

        shape = self.shaped(how_many)
        if wanted is not None and shape.length != wanted:
            raise RequestError(self.key, f"would have {shape.length} bytes", f"must have {wanted}")
        if shape.length > self.longest:
            raise RequestError(self.key, f"would have {shape.length} bytes", f"must have {self.longest} at most")
        counted = self.boundary.counted
        if counted is not None and counted.field not in values:
            values[counted.field] = counted.offset + shape.length - self.uncounted(shape)
        return values, shape


def _agreed(entry: FieldEntry, given: int, held: Mapping[str, int], *, is_given: bool) -> int:
    """Return how many of an entry there are: as many as are given, which another field must hold too."""
    repeat = str(repeat_of(entry))
    if repeat == REST:
        return given
    count = Count.parse(repeat)
    many, left = divmod(held.get(count.field, 0) * count.factor, count.divisor)
    many += count.addend
    if left or many < 0 or (is_given and many != given):
        found = f"has {given} items" if is_given else "is not given"
        raise RequestError(
            name_of(entry), found, f"must have as many as {repeat} gives with {held.get(count.field, 0)}"
        )
    return many


def _is_given(entry: FieldEntry, values: Mapping[str, Any]) -> bool:
    if isinstance(entry, FieldGroup):
        return any(name.startswith(f"{entry.group}.") for name in values)
    return name_of(entry) in values


def _held_by(slots: Sequence[Slot], known: Mapping[str, int], values: Mapping[str, Any]) -> dict[str, int]:
    """Return the raw numbers that fields will hold, of those that are not known yet."""
    held = {}
    for slot in slots:
        if slot.field is not None and slot.count == 1 and slot.name not in known and slot.kind != "checksum":
            number = pack_values([_at_zero(slot)], values, -(-slot.bits // 8), "lsb")
            held[slot.name] = take_slot(number, _at_zero(slot), -(-slot.bits // 8), "lsb")[0]
    return held


def _at_zero(slot: Slot) -> Slot:
    return Slot(slot.name, slot.kind, 0, slot.bits, 1, None, slot.field, slot.value)


def _left_out(slot: Slot) -> list[float]:
    """Return what a group's member holds in an item that leaves it out: `equals` or zeros, as outside of groups."""
    field = slot.field
    assert field is not None
    raw = field.equals or 0
    return [raw * field.scale + field.offset if field.is_scaled else raw] * slot.inner


def _in_a_row(slot: Slot, value: Any) -> list[Any]:
    """Return the items of a group's member, of all the group's turns one behind the other."""
    field, items = slot.field, []
    assert field is not None
    for turn in value.tolist() if hasattr(value, "tolist") else value:
        if slot.kind == "text" and isinstance(turn, str):
            items += text_bytes(field, turn, slot.inner)
        elif isinstance(turn, Sequence) and not isinstance(turn, str):
            items += list(turn)
        else:
            items += [turn] * slot.inner if turn == 0 else [turn]
    return items


def _items_given(entry: FieldEntry, values: Mapping[str, Any]) -> int:
    """Return how many items of an entry the values give; of a text, how many bytes."""
    if isinstance(entry, FieldGroup):
        members = [member for member in entry.fields if isinstance(member, NamedField)]
        counts = set()
        for member in members:
            items = values.get(f"{entry.group}.{member.name}")
            if items is not None:
                counts.add(len(items) // int(member.repeat))
        if len(counts) > 1:
            raise RequestError(entry.group, "has members of different number", "must have as many of each")
        return counts.pop() if counts else 0
    assert isinstance(entry, NamedField)
    items = values.get(entry.name, ())
    if isinstance(items, str) and entry.kind == "text":
        return len(items.encode(entry.encoding, errors="replace"))
    return len(items) if hasattr(items, "__len__") and not isinstance(items, str) else 1
