"""What does not add up in a declared layout."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from larkreader.declare.checks.checksum import FrameChecksum
from larkreader.errors import nearest

from .boundary import Boundary
from .field_parts import REST, Count
from .fields import FieldEntry, FieldGroup, NamedField
from .frame_boundary import LONGEST, Counted
from .shape import (
    Ends,
    Packing,
    Shape,
    first_of_trailer,
    has_varying_number,
    item_bits,
    lay_out,
    name_of,
    plain_number,
    repeat_of,
    slots_of,
    varies,
)
from .slot import Slot

Claim = tuple[str, str, str]  # where, what was found, what is wanted


class _Placed(NamedTuple):
    """An entry of a layout, with the places within a byte at which it may begin, as bits."""

    place: str
    entry: FieldEntry
    begins: frozenset[int]
    ends: frozenset[int]


def layout_mistakes(
    fields: Sequence[FieldEntry], boundary: Boundary, packing: Packing, checksum: FrameChecksum | None
) -> Iterator[Claim]:
    """Yield place, what was found and what is wanted for all that does not add up.

    Parameters
    ----------
    fields, boundary, packing, checksum
        As in `FrameLayout`.
    """
    ends = ends_of(boundary)
    shape = lay_out(fields, packing, checksum, ends, lambda entry, bit, slots: plain_number(entry))
    names = _names(fields)
    yield from _twice(fields)
    yield from _reference_mistakes(fields, names)
    yield from _rest_mistakes(fields, boundary)
    if ends.trailer:
        behind = fields[first_of_trailer(fields, checksum, ends.trailer) :]
        bits = sum(plain_number(entry) * item_bits(entry, checksum) for entry in behind)
        if bits != 8 * ends.trailer or any(varies(entry) for entry in behind):
            yield (
                "boundary.trailer",
                f"{ends.trailer}",
                "must be what some of the last fields take, none of which varies.",
            )
    if boundary.counted is not None:
        yield from _length_field_mistakes(fields, boundary.counted, names)
    placed = list(_placed(fields, checksum, 8 * ends.marker))
    is_fixed = not any(varies(entry) for entry in fields)
    left = placed[-1].ends - {0}  # else every place behind the wrong width is wrong, which would be reported repeatedly
    yield from _checksum_mistakes(shape, checksum, placed, whole=not left)
    laid = iter(shape.slots)
    for item in placed:
        for alone, slot in zip(slots_of(item.entry, 0, 1, packing, checksum), laid, strict=False):
            yield from _order_mistake(item, slot, alone.first_bit, whole=not left, is_fixed=is_fixed)
    for place, entry in enumerate(fields):
        result = entry.substitutes.fields if isinstance(entry, NamedField) and entry.substitutes else ()
        for number, name in enumerate(result):
            if name not in names:
                where = f"fields[{place}].substitutes.fields[{number}]"
                yield where, f'"{name}"', f"is not a field of this frame. {nearest(name, list(names))}"
    counters = [slot.name for slot in shape.slots if slot.field is not None and slot.field.counter]
    if len(counters) > 1:
        found = f"have {len(counters)} counters ({', '.join(counters)}), but a frame has at most one."
        yield "fields", "", found
    if left and is_fixed:
        bits = shape.slots[-1].end_bit + (0 if ends.trailer else 8 * ends.end)
        spare = 8 - bits % 8
        yield (
            "fields",
            "",
            f"add up to {bits} bits with the marker, which is {bits // 8} bytes and {bits % 8} bits. "
            f"Add {{ reserved = {spare} }} or correct a width.",
        )
    elif left:
        yield (
            "fields",
            "",
            "do not add up to whole bytes in every frame: correct the width of a field that may be absent.",
        )
    if is_fixed and boundary.fixed_length not in (None, shape.length):
        wanted = f"must be what the fields add up to, which is {shape.length} bytes."
        yield "boundary.length", f"{boundary.fixed_length}", wanted
    most = LONGEST if boundary.is_marked or boundary.is_back_to_back else boundary.longest
    least = lay_out(fields, packing, checksum, ends, lambda entry, *_: 0 if varies(entry) else plain_number(entry))
    if least.length > most:
        yield "fields", "", f"add up to {least.length} bytes; a frame has {most} at most."


def ends_of(boundary: Boundary) -> Ends:
    """Return what of a frame is not a field."""
    return Ends(len(boundary.begin_marker), len(boundary.end_marker), boundary.behind_end)


def _names(fields: Sequence[FieldEntry]) -> dict[str, int]:
    """Return in which place each named field stands; of a group its members."""
    names: dict[str, int] = {}
    for place, entry in enumerate(fields):
        if isinstance(entry, FieldGroup):
            for member in entry.fields:
                if isinstance(member, NamedField):
                    names.setdefault(f"{entry.group}.{member.name}", place)
        elif isinstance(entry, NamedField):
            names.setdefault(entry.name, place)
    return names


def _twice(fields: Sequence[FieldEntry]) -> Iterator[Claim]:
    seen: dict[str, str] = {}
    for place, entry in enumerate(fields):
        inner = list(enumerate(entry.fields)) if isinstance(entry, FieldGroup) else []
        own = [] if not isinstance(entry, NamedField | FieldGroup) else [(f"fields[{place}]", name_of(entry))]
        own += [
            (f"fields[{place}].fields[{number}]", f"{name_of(entry)}.{member.name}")
            for number, member in inner
            if isinstance(member, NamedField)
        ]
        for where, name in own:
            if name in seen:
                key = "group" if isinstance(entry, FieldGroup) and "." not in name else "name"
                yield f"{where}.{key}", f'"{name}"', f"is the name of {seen[name]} too."
            seen.setdefault(name, where)


def _reference_mistakes(fields: Sequence[FieldEntry], names: dict[str, int]) -> Iterator[Claim]:
    """Yield what is wrong with the fields that say how many there are of others, and whether they are there."""
    for place, entry in enumerate(fields):
        repeat = repeat_of(entry)
        asked = [("when", name, declared) for name, declared in entry.when.items()]
        if isinstance(repeat, str) and repeat != REST:
            asked.append(("repeat", Count.parse(repeat).field, ()))
        for key, name, declared in asked:
            where = f"fields[{place}].{key}"
            if name not in names or "." in name:
                advice = nearest(name, [item for item in names if "." not in item])
                yield where, f'"{name}"', f"is not a field of this frame. {advice}"
                continue
            teller = fields[names[name]]
            assert isinstance(teller, NamedField)
            if names[name] >= place:
                yield where, f'"{name}"', "must be an earlier field: the length must be known when the field begins."
            elif teller.repeat != 1 or teller.kind not in ("uint", "int", "bcd", "flag"):
                yield where, f'"{name}"', f"is of type {teller.type}, but only a single whole number can hold it."
            elif key == "repeat" and teller.kind not in ("uint", "bcd"):
                yield where, f'"{name}"', f"is of type {teller.type}, but a number of items is a uint or a bcd."
            for item in declared:
                if isinstance(item, str) and item not in teller.names:
                    yield where, f'"{item}"', f"is not a name of {name}. {nearest(item, list(teller.names))}"


def _rest_mistakes(fields: Sequence[FieldEntry], boundary: Boundary) -> Iterator[Claim]:
    """Yield what is wrong with a field of which there are as many as there is room for."""
    fillers = [place for place, entry in enumerate(fields) if repeat_of(entry) == REST]
    for place in fillers[1:]:
        yield f"fields[{place}].repeat", '"rest"', f"stands in fields[{fillers[0]}] too; only one can take the rest."
    for place in fillers[:1]:
        where = f"fields[{place}].repeat"
        if boundary.is_marked and not boundary.end_marker:
            wanted = "needs an end of the frame: give the marker an end, or use another kind of boundary."
            yield where, '"rest"', wanted
        behind = [number for number in range(place + 1, len(fields)) if varies(fields[number])]
        if behind:
            yield where, '"rest"', f"needs what lies behind it to be of one length, but fields[{behind[0]}] is not."
        if fields[place].when:
            yield where, '"rest"', "cannot be absent at times."
    if boundary.is_back_to_back and boundary.fixed_length is None and any(varies(entry) for entry in fields):
        yield "boundary.length", "", "is missing: the fields do not add up to the same in every frame."


def _length_field_mistakes(fields: Sequence[FieldEntry], boundary: Counted, names: dict[str, int]) -> Iterator[Claim]:
    name = boundary.field
    if name not in names or "." in name:
        yield "boundary.field", f'"{name}"', f"is not a field of this frame. {nearest(name, list(names))}"
        return
    teller = fields[names[name]]
    assert isinstance(teller, NamedField)
    if teller.kind not in ("uint", "bcd") or teller.repeat != 1 or teller.when or teller.is_scaled:
        yield "boundary.field", f'"{name}"', "must be a uint or bcd without scale that every frame has."
    if any(repeat_of(entry) == REST for entry in fields[: names[name]]):
        yield "boundary.field", f'"{name}"', "must stand before the field that takes the rest."


def _placed(fields: Sequence[FieldEntry], checksum: FrameChecksum | None, bit: int) -> Iterator[_Placed]:
    """Yield where within a byte each entry may begin and end, whatever frames hold."""
    here = frozenset({bit % 8})
    for place, entry in enumerate(fields):
        size = item_bits(entry, checksum)
        ends = {(begin + plain_number(entry) * size) % 8 for begin in here}
        if has_varying_number(entry):
            ends = {0}
        behind = frozenset(ends | here if entry.when else ends)
        yield _Placed(f"fields[{place}]", entry, here, behind)
        here = behind


def _order_mistake(placed: _Placed, slot: Slot, shift: int, *, whole: bool, is_fixed: bool) -> Iterator[Claim]:
    if slot.order is None:
        return
    if slot.bits % 8 or (whole and {(begin + shift) % 8 for begin in placed.begins} != {0}) or slot.stride % 8:
        begin = f"this field takes bits {slot.first_bit} to {slot.end_bit - 1} of the frame."
        yield (
            placed.place,
            f'"{slot.name}"',
            "has a byte order, which needs whole bytes that begin at a byte limit; "
            + (begin if is_fixed else "this field does not in every frame."),
        )


def _checksum_mistakes(
    shape: Shape, checksum: FrameChecksum | None, placed: list[_Placed], *, whole: bool
) -> Iterator[Claim]:
    fields = [slot for slot in shape.slots if slot.kind == "checksum"]
    if len(fields) > 1:
        yield "fields", "", f"have {len(fields)} checksums, but a frame has at most one."
    if fields and checksum is None:
        yield "checksum", "", f'is missing: the field "{fields[0].name}" needs an algorithm.'
    if checksum is None:
        return
    if not fields:
        yield "checksum", "", 'has no place: add a field { name = "crc", type = "checksum" }.'
        return
    check = fields[0]
    unknown = {
        key: name
        for key, name in (("from", checksum.from_), ("to", checksum.to))
        if name is not None and name not in shape.slot and not (key == "from" and name == "marker")
    }
    for key, name in unknown.items():
        yield f"checksum.{key}", f'"{name}"', f"is not a field of this frame. {nearest(name, list(shape.slot))}"
    if unknown or not whole:
        return
    at = {name_of(item.entry): item for item in placed if name_of(item.entry)}
    first, last = at.get(checksum.from_ or ""), at.get(checksum.to or "")
    if any("." in (name or "") for name in (checksum.from_, checksum.to)):
        yield "checksum", "", "covers a part of a group; name a field, or leave from and to out."
    if first is not None and first.begins != {0}:
        yield "checksum.from", f'"{checksum.from_}"', "does not begin at a byte limit."
    if last is not None and last.ends != {0}:
        yield "checksum.to", f'"{checksum.to}"', "does not end at a byte limit."
    if last is None and at[check.name].begins != {0}:
        yield "checksum", "", "does not begin at a byte limit; name the last covered field with to."
    if at[check.name].entry.when:
        yield "checksum", "", "cannot be absent at times."
    begin, end = shape.covered
    if begin >= end or (begin * 8 < check.end_bit and check.first_bit < end * 8):
        found = f"covers bytes {begin} to {end - 1}, which must be some, and not the checksum itself."
        yield "checksum", "", found
