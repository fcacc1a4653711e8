"""The frame that is sent for some values, in C."""

from __future__ import annotations

from larkreader.declare.frame.field_kinds import bits_of, raw_limits
from larkreader.declare.frame.fields import NamedField
from larkreader.declare.frame.layout_mistakes import ends_of
from larkreader.declare.frame.shape import first_of_trailer, has_varying_number, plain_number, varies

from .c_bits import number, signed_number, u32, unsigned, width_of
from .c_checksums import result_type
from .c_code import MOST_BITS, LayoutCode
from .c_items import Item, ItemLoops
from .c_members import Entry, Member
from .c_writer import CWriter


class Packing:
    """Writes that function.

    Parameters
    ----------
    code : LayoutCode
        The layout.
    """

    def __init__(self, code: LayoutCode) -> None:
        self.code = code

    def write(self, writer: CWriter) -> None:
        """Write the frame that holds some values."""
        declared, name = self.code.layout.layout, self.code.layout.name
        walked = self.code.layout.is_walked
        with writer.function(f"size_t {name}_pack(const {name} *from, uint8_t *out, size_t size)"):
            if walked:
                self._write_walked_pack(writer)
                return
            self.code.unless(writer, f"size < {self.code.layout.upper}_LENGTH", "return 0;")
            if not any(entry.name for entry in self.code.layout.entries):
                writer.add("(void)from;")
            writer.add(f"memset(out, 0, {self.code.layout.upper}_LENGTH);")
            for place, byte in enumerate(declared.marker):
                writer.add(f"out[{place}] = 0x{byte:02X}u;")
            for place, byte in enumerate(declared.end_marker, declared.length - declared.end_from_end):
                writer.add(f"out[{place}] = 0x{byte:02X}u;")
            loops = ItemLoops(writer, self.code.layout, "out", self.code.prefix)
            for entry in self.code.layout.entries:
                loops.each(self.code.where(entry, ""), self._pack_item, _is_written)
            self._put_check(writer, loops, "")
            writer.add(f"return {self.code.layout.upper}_LENGTH;")

    def _write_walked_pack(self, writer: CWriter) -> None:
        declared = self.code.layout.layout
        ends = ends_of(declared.boundary)
        behind_end = first_of_trailer(declared.fields, declared.checksum, ends.trailer)
        counted, wanted = declared.boundary.counted, declared.boundary.fixed_length
        writer.add(f"const uint32_t most = 8u * (uint32_t)(size < {declared.longest}u ? size : {declared.longest}u);")
        writer.add(f"{self.code.layout.name}_shape shape;")
        writer.add(f"uint32_t bit = {u32(8 * len(declared.marker))};")
        for known in sorted(self.code.wanted):
            if self._is_given(known):
                writer.add(f"{self.code.held_type(known)} held_{self.code.held(known)} = 0;")
        writer.add("(void)from;", "(void)shape;", "shape.fits = true;")
        self.code.unless(writer, "bit > most", "return 0;")
        writer.add("memset(out, 0, most / 8u);")
        for place, byte in enumerate(declared.marker):
            writer.add(f"out[{place}] = 0x{byte:02X}u;")
        loops = ItemLoops(writer, self.code.layout, "out", self.code.prefix)
        for place, entry in enumerate(self.code.layout.entries):
            if place == behind_end:
                self._put_end(writer, ends.end)
            self._pack_entry(writer, loops, entry)
        writer.add("bit = (bit + 7u) / 8u * 8u;")
        if not ends.trailer:
            self._put_end(writer, ends.end)
        self.code.unless(writer, "bit > most", "return 0;")
        if wanted is not None:
            self.code.unless(writer, f"bit != {u32(8 * wanted)}", "return 0;")
        if counted and not self._is_given(counted.field):
            self._put_length(writer, loops)
        self._put_check(writer, loops, "shape.")
        writer.add("return (size_t)(bit / 8u);")

    def _put_end(self, writer: CWriter, length: int) -> None:
        """Write the end marker at the present bit, which is at a byte limit."""
        marker = self.code.layout.layout.end_marker
        if not length:
            return
        self.code.unless(writer, f"bit + {u32(8 * length)} > most", "return 0;")
        for place, byte in enumerate(marker):
            writer.add(f"out[bit / 8u + {place}u] = 0x{byte:02X}u;")
        writer.add(f"bit += {u32(8 * length)};")

    def _is_given(self, name: str) -> bool:
        """Return whether a field also decides how many there are of others, so that its value is the caller's."""
        fields = self.code.layout.layout.fields
        return any(name in entry.when for entry in fields) or any(
            entry.count is not None and entry.count.field == name for entry in self.code.layout.entries
        )

    def _pack_entry(self, writer: CWriter, loops: ItemLoops, entry: Entry) -> None:
        """Write one entry at the present bit."""
        count = f"{plain_number(entry.declared)}u"
        if entry.place >= 0:
            writer.add(f"shape.at[{entry.place}] = bit;")
        if entry.place >= 0 and varies(entry.declared):
            count = f"shape.count[{entry.place}]"
            with writer.block(""):
                self._pack_count(writer, entry)
            limit = "0u" if entry.most == 0 else f"{entry.most}u"
            self.code.unless(writer, f"{count} > {limit}", "return 0;")
        self.code.unless(writer, f"{count} > (most - bit) / {u32(entry.bits)}", "return 0;")
        name = getattr(entry.declared, "name", "")
        counted = self.code.layout.layout.boundary.counted
        is_length = counted is not None and counted.field == name and not self._is_given(name)
        if not is_length:
            loops.each(self.code.where(entry, "shape."), self._pack_item, _is_written)
        if name in self.code.wanted and not is_length:
            self._hold(writer, entry, name)
        writer.add(f"bit += (uint32_t){count} * {u32(entry.bits)};")
        if has_varying_number(entry.declared):
            writer.add("bit = (bit + 7u) / 8u * 8u;")

    def _pack_count(self, writer: CWriter, entry: Entry) -> None:
        place = entry.place
        if entry.is_counted:
            writer.add(f"shape.count[{place}] = {f'from->{entry.name}_count' if entry.name else '0'};")
        elif (by := entry.count) is not None:
            kind, held = self.code.held_type(by.field), f"held_{self.code.held(by.field)}"
            if by.divisor > 1:
                self.code.unless(writer, f"{held} % {by.divisor} != 0", "return 0;")
            total = held + (f" * {by.factor}" if by.factor > 1 else "") + (f" / {by.divisor}" if by.divisor > 1 else "")
            writer.add(f"{kind} many = {total} + ({by.addend});")
            self.code.unless(writer, f"many < 0 || many > {entry.most}", "return 0;")
            writer.add(f"shape.count[{place}] = (size_t)many;")
        else:
            writer.add(f"shape.count[{place}] = {plain_number(entry.declared)}u;")
        if entry.declared.when:
            self.code.unless(writer, f"!({self.code.is_present(entry, 'held_')})", f"shape.count[{place}] = 0;")

    def _hold(self, writer: CWriter, entry: Entry, name: str) -> None:
        """Write which number a field holds that decides about later fields."""
        held, member = f"held_{self.code.held(name)}", entry.members[0]
        value = f"from->{entry.name}" if entry.name else self.code.constant(member, entry.bits, member.fixed or 0)
        if entry.declared.when:
            writer.add(f"{held} = shape.count[{entry.place}] != 0u ? ({self.code.held_type(name)}){value} : -1;")
        else:
            writer.add(f"{held} = ({self.code.held_type(name)}){value};")

    def _pack_item(self, writer: CWriter, item: Item) -> None:
        """Write one item; a value that its bits do not hold ends the function with 0."""
        member, bits = item.member, item.bits
        entry, held = member.entry, f"from->{item.held}"
        mask, kind = (1 << bits) - 1, unsigned(bits)
        if (fixed := _fixed_bits(member)) is not None:
            self._put(writer, item, number(fixed, bits))
            return
        assert isinstance(entry, NamedField)
        if entry.kind == "float" and bits > 16:
            with writer.block(""):
                writer.add(f"{kind} bits;", f"memcpy(&bits, &{held}, sizeof bits);")
                self._put(writer, item, "bits")
            return
        if entry.kind == "flag":
            value_text = f"{held} ? 1u : 0u"
        elif entry.kind == "bcd":
            self.code.unless(writer, f"{held} > {number(10 ** (bits // 4) - 1)}", "return 0;")
            wide = 64 if bits > MOST_BITS else 32
            value_text = f"{self.code.prefix}_to_bcd{wide}({held})"
        elif entry.kind == "int":
            low, high = raw_limits("int", bits, entry.coding)
            if bits < width_of(bits):
                out = f"{held} < {signed_number(low, bits)} || {held} > {signed_number(high, bits)}"
                self.code.unless(writer, out, "return 0;")
            elif entry.coding == "sign-magnitude":
                self.code.unless(writer, f"{held} < {signed_number(low, bits)}", "return 0;")
            value_text = self._coded(entry.coding, held, bits)
        else:
            if bits < width_of(bits):
                self.code.unless(writer, f"{held} > {number(mask, bits)}", "return 0;")
            value_text = held
        with writer.block(""):
            writer.add(f"const {kind} bits = ({kind})({value_text});")
            self._put(writer, item, "bits")

    def _coded(self, coding: str, held: str, bits: int) -> str:
        """Return an expression of the bits of an integer."""
        kind, top = unsigned(bits), number(1 << bits - 1, bits)
        mask = f" & {number((1 << bits) - 1, bits)}" if bits < width_of(bits) else ""
        if coding == "offset-binary":
            return f"(({kind}){held} + {top}){mask}"
        if coding == "sign-magnitude":
            return f"{held} < 0 ? ({kind})(0u - ({kind}){held}) | {top} : ({kind}){held}"
        return f"({kind}){held}{mask}"

    def _put(self, writer: CWriter, item: Item, value: str) -> None:
        if value != "bits" and not item.bit_text:
            with writer.block(""):
                writer.add(f"const {unsigned(item.bits)} bits = {value};")
                writer.extend(item.put("bits"))
            return
        writer.extend(item.put(value))

    def _put_length(self, writer: CWriter, loops: ItemLoops) -> None:
        """Write the length of the frame into the field that holds it."""
        declared = self.code.layout.layout
        counted, check = declared.boundary.counted, declared.checksum_slot
        assert counted is not None
        entry = self.code.layout.entry_of(counted.field)
        place = self.code.places[entry]
        own = f"{u32(place.first_bit)}" if entry.place < 0 else f"shape.at[{entry.place}]"
        before = "0" if counted.counts == "all" else f"(int32_t)(({own} + {u32(entry.bits)}) / 8u)"
        behind = declared.length - check.first_bit // 8 if counted.counts == "payload" and check is not None else 0
        field = entry.declared
        assert isinstance(field, NamedField)
        _, high = raw_limits(field.kind, entry.bits)
        with writer.block(""):
            writer.add(f"const int32_t length = (int32_t)(bit / 8u) - {before} - {behind} + ({counted.offset});")
            limit = f" || length > {signed_number(high, 32)}" if high < 1 << 31 else ""
            self.code.unless(writer, f"length < 0{limit}", "return 0;")
            value = "(uint32_t)length"
            if field.kind == "bcd":
                value = f"{self.code.prefix}_to_bcd32((uint32_t)length)"

            def write(inner: CWriter, item: Item) -> None:
                inner.add(f"const {unsigned(item.bits)} bits = ({unsigned(item.bits)})({value});")
                inner.extend(item.put("bits"))

            loops.each(self.code.where(entry, "shape."), write, lambda member: True)

    def _put_check(self, writer: CWriter, loops: ItemLoops, shape: str) -> None:
        """Write the check value of what has been written."""
        check, checksum = self.code.layout.check, self.code.layout.layout.checksum
        if check is None or checksum is None:
            return

        def write(inner: CWriter, item: Item) -> None:
            inner.add(f"const {result_type(checksum.method)} bits = {self.code.checked('out', shape)};")
            inner.extend(item.put("bits"))

        with writer.block(""):
            loops.each(self.code.where(check, shape), write, lambda member: True)


def _is_written(member: Member) -> bool:
    """Return whether anything has to be written for a field, where all bits are 0 before."""
    return not member.is_checksum and _fixed_bits(member) != 0


def _fixed_bits(member: Member) -> int | None:
    """Return the bits of the only right value of a field; None where several are right."""
    entry = member.entry
    if member.fixed is None:
        return None
    if not isinstance(entry, NamedField):
        return member.fixed
    bits = entry.bits or 64
    return bits_of(member.fixed, entry.kind, bits, entry.coding) & (1 << bits) - 1
