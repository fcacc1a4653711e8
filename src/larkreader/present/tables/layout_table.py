"""A layout as a table: where the bits of each field lie, and what they mean."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from larkreader.declare.frame.fields import FieldEntry, FieldGroup, NamedField
from larkreader.declare.frame.frame_shape import ShapedLayout
from larkreader.declare.frame.shape import Packing, repeat_of, slots_of, varies
from larkreader.declare.frame.slot import Slot

MOST_ELEMENTS = 8  # of an array, of which each has a row


@dataclass(frozen=True)
class LayoutRow:
    """One field of a layout.

    Parameters
    ----------
    place : str
        Where its bits lie: first and last, as bytes or as byte.bit, where bit 0 of a byte is its least significant.
        With a ``+`` where they lie so in a frame of one of each, and elsewhere in others.
    name : str
        Its name; ``-`` for reserved bits.
    type : str
        Its type, and how many there are.
    meaning : str
        Unit, scale, range, names, and what else is declared of it.
    slot : Slot or None
        Where it lies in a frame of one of each; None for a marker.
    first_bit : int or None
        Its first bit, counted in the order of the packing; None in a line of text.
    bits : int
        How many bits one has.
    moves : bool
        Whether it lies elsewhere in frames that are not of one of each.
    """

    place: str
    name: str
    type: str
    meaning: str
    slot: Slot | None = None
    first_bit: int | None = None
    bits: int = 0
    moves: bool = False


def layout_document(layout: ShapedLayout) -> dict[str, Any]:
    """Return a layout as JSON has it: where each field lies, in bits, and what is declared of it.

    Parameters
    ----------
    layout : ShapedLayout

    Returns
    -------
    dict
        ``length`` is None where frames differ; bits are counted in the order of ``packing``.
    """
    fields = []
    for row in layout_rows(layout):
        field = None if row.slot is None else row.slot.field
        fields.append(
            {
                "name": None if row.name == "-" else row.name,
                "type": row.type,
                "first_bit": row.first_bit,
                "bits": row.bits,
                "element_bits": _element_bits(row),
                "count": 1 if row.slot is None else row.slot.count,
                "moves": row.moves,
                "order": None if row.slot is None else row.slot.order,
                "unit": "" if field is None else field.unit,
                "scale": 1.0 if field is None else field.scale,
                "offset": 0.0 if field is None else field.offset,
                "range": None if field is None or field.range is None else list(field.range),
                "equals": None if field is None else field.equals,
                "names": {} if field is None else dict(field.names),
                "meaning": row.meaning,
            }
        )
    return {
        "length": layout.length if layout.is_fixed else None,
        "shortest": layout.shortest,
        "longest": layout.longest,
        "packing": layout.packing,
        "boundary": layout.boundary.model_dump(mode="json"),
        "fields": fields,
    }


def _element_bits(row: LayoutRow) -> list[int]:
    """Return the first bit of each element of an array; nothing for one value, and in a line of text."""
    slot = row.slot
    return [] if slot is None or row.first_bit is None or slot.count < 2 else [*map(slot.bit_of, range(slot.count))]


def layout_rows(layout: ShapedLayout) -> Iterator[LayoutRow]:
    """Yield a row for each field of a layout, its markers included; of lines of text without places."""
    moved = False
    if layout.marker:
        bits = 8 * len(layout.marker)
        yield LayoutRow(place_of(0, bits, layout.packing), "marker", "", _hex(layout.marker), None, 0, bits)
    laid = iter(layout.slots)
    closing = 8 * (layout.length - layout.end_from_end) if layout.end_marker else None
    for entry in layout.fields:
        for _ in slots_of(entry, 0, 1, layout.packing, layout.checksum):
            slot = next(laid)
            if closing is not None and slot.first_bit > closing:
                yield _end_row(layout, closing, moved=moved)
                closing = None
            place = "" if layout.pattern is not None else place_of(slot.first_bit, slot.end_bit, layout.packing)
            later = "+" if moved and place else ""
            name, kind, meaning = slot.name or "-", _type(entry, slot), _meaning(slot)
            first_bit = slot.first_bit if place else None
            yield LayoutRow(place + later, name, kind, meaning, slot, first_bit, slot.bits, moved and bool(place))
        moved |= varies(entry)
    if closing is not None:
        yield _end_row(layout, closing, moved=moved)


def element_rows(row: LayoutRow, packing: Packing) -> list[tuple[str, str]]:
    """Return place and name of the elements of an array: of all, or of a long one the first, second and last.

    Parameters
    ----------
    row : LayoutRow
        A field.
    packing : {"lsb", "msb"}
        Of the layout.

    Returns
    -------
    list of tuple of str
        Nothing for a field that has one element, for text and bytes, and where the place is not known.
    """
    slot = row.slot
    if slot is None or slot.count < 2 or row.first_bit is None or slot.kind in ("text", "bytes"):
        return []
    later = "+" if row.moves else ""
    places = [
        (place_of(bit, bit + slot.bits, packing) + later, f"{row.name}[{item}]")
        for item, bit in enumerate(map(slot.bit_of, range(slot.count)))
    ]
    return places if len(places) <= MOST_ELEMENTS else [*places[:2], ("...", "..."), places[-1]]


def layout_text(layout: ShapedLayout) -> str:
    """Write a layout as a table of plain text, a heading first."""
    cells = [("byte.bit", "field", "type", "meaning")]
    cells += [(row.place, row.name, row.type, row.meaning) for row in layout_rows(layout)]
    if layout.pattern is not None:
        cells = [("", *cell[1:]) for cell in cells]
    widths = [max(len(cell[column]) for cell in cells) for column in range(3)]
    lines = [
        "  " + "  ".join([*(text.ljust(width) for text, width in zip(cell, widths, strict=False)), cell[3]]).rstrip()
        for cell in cells
    ]
    return "\n".join([layout_heading(layout), *lines])


def layout_heading(layout: ShapedLayout) -> str:
    """Say how long the frames of a layout are, and how they are found."""
    size = f"{layout.length} bytes" if layout.is_fixed else f"{layout.shortest} to {layout.longest} bytes"
    heading = f"{layout.key}: {size}, {layout.boundary.place}"
    if layout.pattern is not None:
        heading += f'\n  "{layout.pattern}"'
    elif any(slot.bits % 8 for slot in layout.slots):
        heading += f", filled from the {'least' if layout.packing == 'lsb' else 'most'} significant bit"
    return heading


def place_of(first: int, behind: int, packing: Packing) -> str:
    """Write where bits lie: bytes, or byte.bit, the bits numbered as in a byte, 0 for the least significant."""
    if first % 8 == 0 and behind % 8 == 0:
        low, high = first // 8, behind // 8 - 1
        return f"{low}" if low >= high else f"{low}-{high}"
    ends = []
    for bit in (first, behind - 1):
        byte, within = divmod(bit, 8)
        ends.append(f"{byte}.{within if packing == 'lsb' else 7 - within}")
    return "-".join(dict.fromkeys(ends))


def _end_row(layout: ShapedLayout, bit: int, *, moved: bool) -> LayoutRow:
    bits = 8 * len(layout.end_marker)
    place = place_of(bit, bit + bits, layout.packing) + "+" * moved
    return LayoutRow(place, "end marker", "", _hex(layout.end_marker), None, bit, bits, moved)


def _hex(data: bytes) -> str:
    return data.hex(" ").upper()


def _type(entry: FieldEntry, slot: Slot) -> str:
    if slot.field is None:
        return f"reserved {slot.bits}"
    kind = slot.field.type if slot.kind != "checksum" else f"checksum {slot.bits}"
    order = f" {slot.order} endian" if slot.order in ("little", "big") else f" {slot.order}" if slot.order else ""
    repeat = repeat_of(entry)
    times = [str(slot.inner)] * (slot.inner > 1) if isinstance(entry, FieldGroup) else []
    times += [] if repeat == 1 else ["as many as fit" if repeat == "rest" else str(repeat)]
    return f"{kind}{order}{''.join(f' x {time}' for time in times)}"


def _meaning(slot: Slot) -> str:
    """Say what is declared of a field."""
    field = slot.field
    if field is None:
        return f"must be {slot.value}"
    given = []
    if field.equals is not None:
        given.append(f"must be 0x{field.equals:02X}" if field.equals > 9 else f"must be {field.equals}")
    if field.is_scaled:
        offset = f" {'+' if field.offset > 0 else '-'} {abs(field.offset):g}" if field.offset else ""
        given.append(f"raw x {field.scale:g}{offset} {field.unit}".rstrip())
    elif field.unit:
        given.append(field.unit)
    if field.range is not None:
        given.append(f"{field.range[0]:g} to {field.range[1]:g}")
    if field.names:
        given.append(", ".join(f"{value} {name}" for name, value in field.names.items()))
    given += [f"{value} for none" for value in field.invalid]
    given += ["counts frames"] if field.counter else []
    given += [f"only with {_conditions(field)}"] if field.when else []
    given += [f"marks substitutes in {', '.join(field.substitutes.fields)}"] if field.substitutes else []
    if field.samples is not None:
        given.append(f"samples at {field.samples.rate:g} Hz, full scale {field.samples.reference:g} V")
    given += [field.coding] if field.coding != "twos-complement" else []
    return "; ".join([*given, *([field.note] if field.note else [])])


def _conditions(field: NamedField) -> str:
    return " and ".join(f"{name} {' or '.join(map(str, values))}" for name, values in field.when.items())
