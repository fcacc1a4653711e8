"""A layout of the sheet as stretches of bits, to be compared with the members of a struct."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from larkreader.declare.frame.field_kinds import bytes_from_lowest
from larkreader.declare.frame.frame_shape import ShapedLayout
from larkreader.declare.frame.shape import Packing, has_varying_number, repeat_of, slots_of, varies
from larkreader.declare.frame.slot import Slot
from larkreader.errors import RequestError, nearest


@dataclass(frozen=True)
class Stretch:
    """A field of a layout, a marker or reserved bits.

    Parameters
    ----------
    name : str
        What the sheet calls it; ``marker``, ``end marker``, or ``reserved``.
    kind : str
        The kind of the field; ``marker`` or ``reserved``.
    text : str
        Its type, as the sheet has it.
    first_bits : tuple of int
        Where each of its items begins, counted in the order of the packing.
    bits : int
        How wide an item is.
    packing : {"lsb", "msb"}
        Of the layout.
    slot : Slot or None
        Where it lies; None for a marker.
    moves : bool
        Whether it lies elsewhere in other frames.
    varies : bool
        Whether the number of its items differs from frame to frame.
    """

    name: str
    kind: str
    text: str
    first_bits: tuple[int, ...]
    bits: int
    packing: Packing
    slot: Slot | None = None
    moves: bool = False
    varies: bool = False

    @property
    def first_bit(self) -> int:
        """Where it begins, counted in the order of the packing."""
        return self.first_bits[0] if self.first_bits else 0

    @property
    def end_bit(self) -> int:
        """The bit behind its last."""
        return self.first_bits[-1] + self.bits if self.first_bits else 0

    @property
    def is_free(self) -> bool:
        """Whether it carries no value of its own."""
        return self.kind in ("marker", "reserved")

    def places(self, first_bit: int) -> list[int]:
        """Return where the bits of an item lie, the least significant first, as 8 times the byte plus the bit."""
        order = self.slot.order if self.slot is not None else None
        if order is not None:
            return [first_bit + 8 * byte + bit for byte in bytes_from_lowest(order, self.bits // 8) for bit in range(8)]
        if self.packing == "lsb":
            return list(range(first_bit, first_bit + self.bits))
        return [bit // 8 * 8 + 7 - bit % 8 for bit in range(first_bit + self.bits - 1, first_bit - 1, -1)]

    def all_places(self) -> list[int]:
        """Return where the bits of all items lie, in their order."""
        return [place for first in self.first_bits for place in self.places(first)]


def stretches(layout: ShapedLayout) -> list[Stretch]:
    """Return what a layout holds, in order.

    Parameters
    ----------
    layout : ShapedLayout
        The layout.

    Raises
    ------
    RequestError
        If its frames are lines of text, which no struct holds.
    """
    if layout.pattern is not None:
        raise RequestError(
            f'frame "{layout.key}"', "is a line of text", "must have fields of bits, to be compared with C"
        )
    return list(_stretches(layout))


def _stretches(layout: ShapedLayout) -> Iterator[Stretch]:
    packing = layout.packing
    if layout.marker:
        yield Stretch("marker", "marker", layout.marker.hex(" ").upper(), (0,), 8 * len(layout.marker), packing)
    moved = False
    laid = iter(layout.slots)
    closing = 8 * (layout.length - layout.end_from_end) if layout.end_marker else None
    for entry in layout.fields:
        for _ in slots_of(entry, 0, 1, packing, layout.checksum):
            slot = next(laid)
            if closing is not None and slot.first_bit > closing:
                yield _closing(layout, closing, moves=moved)
                closing = None
            first_bits = tuple(map(slot.bit_of, range(slot.count)))
            name, kind = slot.name or "reserved", slot.kind
            open_ = has_varying_number(entry) or bool(entry.when)
            yield Stretch(name, kind, _text(slot, repeat_of(entry)), first_bits, slot.bits, packing, slot, moved, open_)
        moved |= varies(entry)
    if closing is not None:
        yield _closing(layout, closing, moves=moved)


def _closing(layout: ShapedLayout, bit: int, *, moves: bool) -> Stretch:
    data = layout.end_marker
    return Stretch("end marker", "marker", data.hex(" ").upper(), (bit,), 8 * len(data), layout.packing, None, moves)


def _text(slot: Slot, repeat: int | str) -> str:
    if slot.field is None:
        return f"{slot.bits} bit" + "s" * (slot.bits > 1)
    kind = slot.field.type if slot.kind != "checksum" else f"checksum {slot.bits}"
    order = f" {slot.order}" if slot.order else ""
    times = repeat if isinstance(repeat, str) else slot.count
    return f"{kind}{order}" + ("" if times == 1 else f" x {times}")


def between(found: Sequence[Stretch], first: str | None, last: str | None) -> list[Stretch]:
    """Return the stretches from a field to another; all from the first, or to the last, where that is not given.

    Raises
    ------
    RequestError
        If there is no such field, or the second stands before the first.
    """
    names = [item.name for item in found]
    for name in (first, last):
        if name is not None and name not in names:
            raise RequestError(name, "is not a field of the layout", "must be", nearest(name, names))
    begin = names.index(first) if first is not None else 0
    end = len(names) - 1 - names[::-1].index(last) if last is not None else len(names) - 1
    if end < begin:
        raise RequestError("to", f"{last} stands before {first}", "must not be before it")
    return list(found[begin : end + 1])
