"""Where the items of a layout's fields lie, as C that goes through all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Literal

from larkreader.declare.frame.field_kinds import FieldOrder
from larkreader.declare.frame.fields import NamedField, ReservedBits
from larkreader.declare.frame.layout_mistakes import ends_of
from larkreader.declare.frame.shape import Packing, first_of_trailer, has_varying_number, varies

from .c_bits import parts_of, put, taken, u32, unsigned
from .c_members import Entry, LayoutInC, Member
from .c_writer import CWriter


@dataclass(frozen=True)
class Item:
    """One item of a field, within the loops that go through all of them.

    Parameters
    ----------
    member : Member
        The field.
    bits : int
        Its width.
    array : str
        The bytes in which it lies.
    bit : int
        Its first bit within them, where that is known.
    bit_text : str
        Its first bit as an expression, where it is not known; else nothing.
    packing, order
        Of its bits and bytes.
    held : str
        The member of the struct that holds it, behind the name of the struct.
    prefix : str
        What the names of functions begin with.
    """

    member: Member
    bits: int
    array: str
    bit: int
    bit_text: str
    packing: Packing
    order: FieldOrder | None
    held: str
    prefix: str

    def take(self) -> str:
        """Return an expression of its bits, of the type `unsigned(bits)`."""
        if self.bit_text:
            wide = 64 if self.bits > 32 else 32
            function = f"{self.prefix}_take{wide}_{self.packing}"
            return f"({unsigned(self.bits)}){function}({self.array}, {self.bit_text}, {self.bits}u)"
        return taken(self.array, parts_of(self.bit, self.bits, self.packing, self.order), self.bits)

    def put(self, value: str) -> Sequence[str]:
        """Return statements that write some bits where there are none yet; `value` is a variable or a constant."""
        if self.bit_text:
            wide = 64 if self.bits > 32 else 32
            return [f"{self.prefix}_put{wide}_{self.packing}({self.array}, {self.bit_text}, {self.bits}u, {value});"]
        return put(self.array, parts_of(self.bit, self.bits, self.packing, self.order), value)


@dataclass(frozen=True)
class Placed:
    """Where an entry begins: its first bit, and its place within a byte where that is the same in all frames."""

    first_bit: int
    within: int | None


def placed(layout: LayoutInC) -> Iterator[tuple[Entry, Placed]]:
    """Yield each entry of a layout with where it begins; of those that move, `first_bit` means nothing."""
    declared, ends = layout.layout, ends_of(layout.layout.boundary)
    behind_end = first_of_trailer(declared.fields, declared.checksum, ends.trailer)
    bit, within = 8 * ends.marker, frozenset({0})
    for number, entry in enumerate(layout.entries):
        if number == behind_end:
            bit += 8 * ends.end
        yield entry, Placed(bit, next(iter(within)) if len(within) == 1 else None)
        if has_varying_number(entry.declared):
            within = frozenset({0})
        else:
            behind = frozenset((place + entry.most * entry.bits) % 8 for place in within)
            within = behind | within if varies(entry.declared) else behind
        bit += entry.most * entry.bits


@dataclass(frozen=True)
class Where:
    """Where the items of an entry lie in one frame; `base` and `count` are expressions of C, for frames that differ."""

    entry: Entry
    placed: Placed
    base: str = ""
    count: str = ""


@dataclass(frozen=True)
class ItemLoops:
    """Writes what is to be done with each item of some entries, in loops where there are several.

    Parameters
    ----------
    writer : CWriter
        Where it is written.
    layout : LayoutInC
        The layout.
    array : {"frame", "out"}
        The bytes of the frame: read, or written.
    prefix : str
        What the names of functions begin with.
    """

    writer: CWriter
    layout: LayoutInC
    array: Literal["frame", "out"]
    prefix: str

    def each(self, where: Where, body: Callable[[CWriter, Item], None], wanted: Callable[[Member], bool]) -> None:
        """Write what is to be done with each item of an entry.

        Parameters
        ----------
        where : Where
            The entry, and where it lies.
        body : callable
            Called with the writer and each item; writes what is to be done.
        wanted : callable
            Returns whether anything is to be done with a field of it.
        """
        entry, within = where.entry, 0
        for member in entry.members:
            bits = _bits(member) if entry.is_group else entry.bits
            if wanted(member):
                self._go_through(where, member, bits, within, body)
            within += member.number * bits

    def _go_through(
        self, where: Where, member: Member, bits: int, within: int, body: Callable[[CWriter, Item], None]
    ) -> None:
        entry, place, packing = where.entry, where.placed, self.layout.layout.packing
        loops = _loops(where, member, bits)
        held = entry.name
        if entry.is_group:
            held += f"[{'g' if any(name == 'g' for name, _, _ in loops) else '0'}].{member.name}"
            held += "[i]" if member.number > 1 else ""
        elif entry.most > 1:
            held += "[i]"
        order = self._order(member)
        known = place.within
        moves = entry.place >= 0
        with ExitStack() as stack:
            if where.count and entry.most == 1 and not entry.is_group:
                stack.enter_context(self.writer.block(f"if ({where.count} != 0u)"))
            elif moves and not loops:
                stack.enter_context(self.writer.block(""))
            for variable, many, _ in loops:
                stack.enter_context(
                    self.writer.block(f"for (size_t {variable} = 0; {variable} < {many}; {variable}++)")
                )
            array: str = self.array
            bit, text = place.first_bit + within, ""
            if all(step % 8 == 0 for _, _, step in loops) and (known is not None or not moves):
                if loops or moves:
                    first = f"(size_t)({where.base} >> 3)" if moves else f"{place.first_bit // 8}u"
                    steps = "".join(f" + {step // 8}u * {variable}" for variable, _, step in loops)
                    kind = "const uint8_t" if array == "frame" else "uint8_t"
                    self.writer.add(f"{kind} *at = {array} + {first}{steps};")
                    array, bit = "at", ((known or 0) if moves else place.first_bit % 8) + within
            else:
                steps = "".join(f" + {u32(step)} * (uint32_t){variable}" for variable, _, step in loops)
                text = (f"{where.base} + {u32(within)}" if moves else f"{u32(place.first_bit + within)}") + steps
            body(self.writer, Item(member, bits, array, bit, text, packing, order, held, self.prefix))

    def _order(self, member: Member) -> FieldOrder | None:
        """Return the order of a field's bytes where it is not the packing's own."""
        layout = self.layout.layout
        order = member.entry.order if isinstance(member.entry, NamedField) else None
        if member.is_checksum and layout.checksum:
            order = order or layout.checksum.order
        return None if order == ("little" if layout.packing == "lsb" else "big") else order


def _loops(where: Where, member: Member, bits: int) -> list[tuple[str, str, int]]:
    """Return the loops around an item: the variable of each, how often it is gone through, bits from turn to turn."""
    entry, loops = where.entry, []
    if entry.is_group:
        if entry.most > 1 or where.count:
            loops.append(("g", where.count or f"{entry.most}u", entry.bits))
        if member.number > 1:
            loops.append(("i", f"{member.number}u", bits))
    elif entry.most > 1:
        loops.append(("i", where.count or f"{entry.most}u", bits))
    return loops


def _bits(member: Member) -> int:
    entry = member.entry
    if isinstance(entry, ReservedBits):
        return entry.reserved
    assert entry.bits is not None, "a checksum is in no group"
    return entry.bits
