"""What the functions of one layout share in C: where its fields lie, what decides, how a number is read."""

from __future__ import annotations

from larkreader.declare.frame.fields import NamedField
from larkreader.declare.frame.frame_shape import raw_values
from larkreader.declare.frame.shape import varies
from larkreader.decode.columns.places import deciding_fields

from .c_bits import number, signed_number, u32, unsigned, width_of
from .c_items import Item, Where, placed
from .c_members import Entry, LayoutInC, Member
from .c_writer import CWriter

MOST_BITS = 32  # of a number that is calculated in 32 bits


class LayoutCode:
    """What the functions of one layout share.

    Parameters
    ----------
    layout : LayoutInC
        The layout.
    prefix : str
        What the names of shared functions begin with.
    checksum : str
        The name of the function that calculates its checksum; nothing without one.
    """

    def __init__(self, layout: LayoutInC, prefix: str, checksum: str) -> None:
        self.layout, self.prefix, self.upper, self.checksum = layout, prefix, prefix.upper(), checksum
        self.places = dict(placed(layout))
        self.wanted = deciding_fields(layout.layout)

    def where(self, entry: Entry, shape: str) -> Where:
        """Return where an entry lies; `shape` stands before what holds the places of one frame, as in ``shape->``."""
        if entry.place < 0:
            return Where(entry, self.places[entry])
        count = f"{shape}count[{entry.place}]" if varies(entry.declared) else ""
        return Where(entry, self.places[entry], f"{shape}at[{entry.place}]", count)

    def is_present(self, entry: Entry, held: str) -> str:
        """Return the condition under which an entry is there."""
        terms = []
        for name, declared in entry.declared.when.items():
            slot = self.layout.layout.slot[name]
            bits = 64 if self.held_type(name) == "int64_t" else 32
            values = [signed_number(raw, bits) for raw in raw_values(slot, declared)]
            terms.append("(" + " || ".join(f"{held}{self.held(name)} == {value}" for value in values) + ")")
        return " && ".join(terms)

    def held(self, name: str) -> str:
        """Return the number of a field that decides about later fields, by which its variable is named."""
        return f"{sorted(self.wanted).index(name)}"

    def held_type(self, name: str) -> str:
        """Return the type of the variable of a field that decides about later fields."""
        return "int32_t" if self.layout.layout.slot[name].bits <= 16 else "int64_t"

    def decoded(self, writer: CWriter, item: Item) -> str:
        """Return an expression of the raw number of an item, and write what it needs."""
        entry, bits = item.member.entry, item.bits
        held = item.take()
        if not isinstance(entry, NamedField) or entry.kind in ("uint", "bytes", "text", "checksum"):
            return held
        if entry.kind == "flag":
            return f"({held} != 0u)"
        if entry.kind == "bcd":
            wide = 64 if bits > MOST_BITS else 32
            return f"({item.member.kind}){self.prefix}_from_bcd{wide}({held})"
        if entry.kind == "float":
            return held
        width, top = width_of(bits), number(1 << bits - 1, bits)
        function = "of_magnitude" if entry.coding == "sign-magnitude" else "of_twos"
        if entry.coding == "offset-binary":
            held = f"({unsigned(bits)})({held} ^ {top})"
        return f"{self.prefix}_{function}{width}({held}, {top})"

    def covered(self, shape: str) -> tuple[str, str]:
        """Return expressions of the first byte that the checksum covers, and of the byte behind the last."""
        checksum, check = self.layout.layout.checksum, self.layout.check
        assert checksum is not None
        assert check is not None
        begin = "0u"
        if checksum.from_ not in (None, "marker"):
            begin = self.byte_of(self.layout.entry_of(str(checksum.from_)), shape)
        if checksum.to is None:
            return begin, self.byte_of(check, shape)
        last = self.layout.entry_of(checksum.to)
        if last.place < 0:
            return begin, f"{(self.places[last].first_bit + last.most * last.bits + 7) // 8}u"
        count = f"{shape}count[{last.place}]" if varies(last.declared) else f"{last.most}u"
        return begin, f"(size_t)(({shape}at[{last.place}] + (uint32_t){count} * {u32(last.bits)} + 7u) / 8u)"

    def checked(self, frame: str, shape: str) -> str:
        """Return a call that calculates the checksum of a frame."""
        begin, end = self.covered(shape)
        length = f"{end} - {begin}"
        if begin[:-1].isdecimal() and end[:-1].isdecimal():
            length = u32(int(end[:-1]) - int(begin[:-1]))
        return f"{self.checksum}({frame} + {begin}, {length})"

    def byte_of(self, entry: Entry, shape: str) -> str:
        """Return an expression of the byte at which an entry begins."""
        if entry.place < 0:
            return f"{self.places[entry].first_bit // 8}u"
        return f"(size_t)({shape}at[{entry.place}] / 8u)"

    def constant(self, member: Member, bits: int, value: int) -> str:
        """Return a raw number of a field as a constant of its type."""
        entry = member.entry
        if isinstance(entry, NamedField) and entry.kind == "int":
            return signed_number(value, bits)
        if isinstance(entry, NamedField) and entry.kind == "flag":
            return "true" if value else "false"
        return number(value, bits)

    def unless(self, writer: CWriter, condition: str, *then: str) -> None:
        """Write what is done where something is so."""
        with writer.block(f"if ({condition})"):
            writer.extend(then)
