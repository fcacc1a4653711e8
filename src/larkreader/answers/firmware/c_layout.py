"""The functions of one layout in C: does a frame fit, is it right, what does it hold, and what is sent for values."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from larkreader.declare.frame.field_kinds import bits_of, raw_limits
from larkreader.declare.frame.field_parts import MOST_ITEMS, REST
from larkreader.declare.frame.fields import FieldGroup, NamedField
from larkreader.declare.frame.frame_shape import raw_values
from larkreader.declare.frame.layout_mistakes import ends_of
from larkreader.declare.frame.shape import first_of_trailer, has_varying_number, plain_number, repeat_of, varies
from larkreader.declare.frame.slot import Slot
from larkreader.decode.check.verify import within_range
from larkreader.decode.columns.places import deciding_fields

from .c_bits import number, signed_number, u32, unsigned, width_of
from .c_checksums import result_type
from .c_items import Item, ItemLoops, Where, placed
from .c_members import Entry, LayoutInC, Member
from .c_writer import CWriter

MOST_BITS = 32  # of a number that is calculated in 32 bits


class LayoutSource:
    """Writes the functions of one layout.

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
        self._placed = dict(placed(layout))
        self._wanted = deciding_fields(layout.layout)

    def functions(self, *, with_begins: bool) -> Sequence[str]:
        """Return the lines of all functions.

        Parameters
        ----------
        with_begins : bool
            Whether that of the fixed values at the beginning is needed, by which damaged packets are sorted.
        """
        writer = CWriter()
        if self.layout.is_walked:
            self._write_fit(writer)
        self._write_right(writer)
        self._write_judge(writer)
        if with_begins:
            self._write_begins(writer)
        self._write_unpack(writer)
        self._write_pack(writer)
        return writer.lines

    # Where the fields lie

    def _where(self, entry: Entry, shape: str) -> Where:
        if entry.place < 0:
            return Where(entry, self._placed[entry])
        count = f"{shape}count[{entry.place}]" if varies(entry.declared) else ""
        return Where(entry, self._placed[entry], f"{shape}at[{entry.place}]", count)

    def _write_fit(self, writer: CWriter) -> None:
        """Write the walk through the fields of a frame whose length or whose places depend on what it holds."""
        declared, name = self.layout.layout, self.layout.name
        writer.add(
            f"/* Finds where the fields of {self.layout.layout.key} lie. Returns how many bytes the frame has, or needs",
            "   at least; 0 where none can begin so. `shape->fits` holds whether all of it is there and adds up. */",
        )
        head = f"static size_t {name}_fit(const uint8_t *frame, size_t there, bool is_open, {name}_shape *shape)"
        ends = ends_of(declared.boundary)
        behind_end = first_of_trailer(declared.fields, declared.checksum, ends.trailer)
        counted = declared.boundary.counted
        with writer.function(head):
            writer.add(f"const uint32_t longest = {u32(8 * declared.longest)};")
            writer.add("const uint32_t bits = there < longest / 8u ? (uint32_t)there * 8u : longest;")
            writer.add("const uint32_t most = is_open ? longest : bits;")
            writer.add(f"uint32_t needed = {u32(8 * declared.shortest)};")
            writer.add(f"uint32_t bit = {u32(8 * len(declared.marker))};")
            if counted:
                writer.add("uint32_t exact = 0;")
            for known in sorted(self._wanted):
                writer.add(f"{self._held_type(known)} held_{self._held(known)} = 0;")
            writer.add("shape->fits = false;")
            writer.add("(void)frame;")
            with writer.block("if (!is_open && there > longest / 8u)"):
                writer.add("return 0;")
            self._reach(writer, "needed")
            for place, entry in enumerate(self.layout.entries):
                if place == behind_end:
                    writer.add(f"bit += {u32(8 * ends.end)};")
                self._write_step(writer, entry)
            if not ends.trailer:
                writer.add(f"bit = (bit + 7u) / 8u * 8u + {u32(8 * ends.end)};")
            else:
                writer.add("bit = (bit + 7u) / 8u * 8u;")
            self._reach(writer, "bit")
            if counted:
                with writer.block("if (bit != exact)"):
                    writer.add("return 0;")
            with writer.block("if (!is_open && bit != most)"):
                writer.add("return 0;")
            writer.add("shape->fits = true;", "return (size_t)(bit / 8u);")

    def _reach(self, writer: CWriter, ends: str) -> None:
        """Write that a frame cannot be longer than it may, and needs the bytes before some bit."""
        with writer.block(f"if ({ends} > most)"):
            writer.add("return 0;")
        if ends != "needed":
            with writer.block(f"if ({ends} > needed)"):
                writer.add(f"needed = ({ends} + 7u) / 8u * 8u;")
        with writer.block(f"if ({ends} > bits)"):
            writer.add("return (size_t)(needed / 8u);")

    def _write_step(self, writer: CWriter, entry: Entry) -> None:
        """Write how one entry is passed: how many there are of it, where it ends, and what it holds that decides."""
        count = f"{plain_number(entry.declared)}u"
        if entry.place >= 0 and varies(entry.declared):
            with writer.block(""):
                self._write_count(writer, entry)
            count = f"shape->count[{entry.place}]"
        if entry.place >= 0:
            writer.add(f"shape->at[{entry.place}] = bit;")
        with writer.block(f"if ({count} > (most - bit) / {u32(entry.bits)})"):
            writer.add("return 0;")
        writer.add(f"bit += (uint32_t){count} * {u32(entry.bits)};")
        if has_varying_number(entry.declared):
            writer.add("bit = (bit + 7u) / 8u * 8u;")
        self._reach(writer, "bit")
        name = getattr(entry.declared, "name", "")
        if name not in self._wanted:
            return
        held = f"held_{self._held(name)}"
        loops = ItemLoops(writer, self.layout, "frame", self.prefix)
        if entry.declared.when:
            writer.add(f"{held} = -1;")

        def read(inner: CWriter, item: Item) -> None:
            inner.add(f"{held} = ({self._held_type(name)}){self._decoded(inner, item)};")

        loops.each(self._where(entry, "shape->"), read, lambda member: True)
        counted = self.layout.layout.boundary.counted
        if counted and counted.field == name:
            self._write_exact(writer, held)

    def _write_exact(self, writer: CWriter, held: str) -> None:
        """Write what a length field makes of the length of its frame."""
        declared = self.layout.layout
        counted, check = declared.boundary.counted, declared.checksum_slot
        assert counted is not None
        more = f"{-counted.offset}"
        kind = self._held_type(counted.field)
        with writer.block(""):
            writer.add(f"{kind} length = {held} + ({more});")
            if counted.counts != "all":
                writer.add(f"length += ({kind})(bit / 8u);")
            if counted.counts == "payload" and check is not None:
                writer.add(f"length += {declared.length - check.first_bit // 8};")
            with writer.block(f"if (length < 0 || length > {declared.longest} || (uint32_t)length * 8u < bit)"):
                writer.add("return 0;")
            writer.add("exact = (uint32_t)length * 8u;")
            self._reach(writer, "exact")

    def _write_count(self, writer: CWriter, entry: Entry) -> None:
        """Write how many of an entry there are."""
        declared = self.layout.layout
        repeat = repeat_of(entry.declared)
        limit = MOST_ITEMS * 8
        if repeat == REST:
            behind = declared.bits_behind(entry.declared)
            ends = "exact" if declared.boundary.counted else "most"
            with writer.block(f"if ({ends} < bit + {u32(behind)} || ({ends} - bit - {u32(behind)}) / {u32(entry.bits)} > {u32(limit)})"):
                writer.add("return 0;")
            writer.add(f"shape->count[{entry.place}] = (size_t)(({ends} - bit - {u32(behind)}) / {u32(entry.bits)});")
        elif (by := entry.count) is not None:
            kind, held = self._held_type(by.field), f"held_{self._held(by.field)}"
            if by.divisor > 1:
                with writer.block(f"if ({held} % {by.divisor} != 0)"):
                    writer.add("return 0;")
            sum_ = held + (f" * {by.factor}" if by.factor > 1 else "") + (f" / {by.divisor}" if by.divisor > 1 else "")
            writer.add(f"{kind} many = {sum_} + ({by.addend});")
            with writer.block(f"if (many < 0 || many > {limit})"):
                writer.add("return 0;")
            writer.add(f"shape->count[{entry.place}] = (size_t)many;")
        else:
            writer.add(f"shape->count[{entry.place}] = {plain_number(entry.declared)}u;")
        if entry.declared.when:
            with writer.block(f"if (!({self._is_present(entry, 'held_')}))"):
                writer.add(f"shape->count[{entry.place}] = 0;")

    def _is_present(self, entry: Entry, held: str) -> str:
        """Return the condition under which an entry is there."""
        terms = []
        for name, declared in entry.declared.when.items():
            slot = self.layout.layout.slot[name]
            bits = 64 if self._held_type(name) == "int64_t" else 32
            values = [signed_number(raw, bits) for raw in raw_values(slot, declared)]
            terms.append("(" + " || ".join(f"{held}{self._held(name)} == {value}" for value in values) + ")")
        return " && ".join(terms)

    def _held(self, name: str) -> str:
        return f"{[known for known in sorted(self._wanted)].index(name)}"

    def _held_type(self, name: str) -> str:
        return "int32_t" if self.layout.layout.slot[name].bits <= 16 else "int64_t"

    # What a frame holds

    def _decoded(self, writer: CWriter, item: Item) -> str:
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

    def _write_right(self, writer: CWriter) -> None:
        """Write which fixed values and whether the checksum of a frame that fits are right."""
        declared, name = self.layout.layout, self.layout.name
        shape = f", const {name}_shape *shape" if self.layout.is_walked else ""
        with writer.function(f"static uint8_t {name}_right(const uint8_t *frame, size_t length{shape})"):
            writer.add(f"uint8_t right = {self.upper}_FIXED_RIGHT;")
            writer.add("(void)frame;", "(void)length;")
            if self.layout.is_walked:
                writer.add("(void)shape;")
            for place, byte in enumerate(declared.marker):
                self._unless(writer, f"frame[{place}] != 0x{byte:02X}u", "right = 0;")
            for place, byte in enumerate(declared.end_marker):
                at = f"length - {declared.end_from_end - place}u"
                self._unless(writer, f"frame[{at}] != 0x{byte:02X}u", "right = 0;")
            loops = ItemLoops(writer, self.layout, "frame", self.prefix)
            for entry in self.layout.entries:
                loops.each(self._where(entry, "shape->"), self._compare_fixed, lambda member: member.fixed is not None)
            if declared.checksum is None:
                writer.add(f"return (uint8_t)(right | {self.upper}_CHECK_RIGHT);")
                return
            check = self.layout.check
            assert check is not None
            begin, end = self._covered("shape->")

            def compare(inner: CWriter, item: Item) -> None:
                calculated = f"{self.checksum}(frame + {begin}, {end} - {begin})"
                with inner.block(f"if ({calculated} == {item.take()})"):
                    inner.add(f"right = (uint8_t)(right | {self.upper}_CHECK_RIGHT);")

            loops.each(self._where(check, "shape->"), compare, lambda member: True)
            writer.add("return right;")

    def _write_judge(self, writer: CWriter) -> None:
        """Write whether a content of known length fits, and what of it is right."""
        name, up = self.layout.name, self.upper
        with writer.function(f"static uint8_t {name}_judge(const uint8_t *frame, size_t length)"):
            if self.layout.is_walked:
                writer.add(f"{name}_shape shape;")
                with writer.block(f"if ({name}_fit(frame, length, false, &shape) != length || !shape.fits)"):
                    writer.add(f"return {up}_MISFIT;")
                writer.add(f"return {name}_right(frame, length, &shape);")
            else:
                self._unless(writer, f"length != {self.layout.upper}_LENGTH", f"return {up}_MISFIT;")
                writer.add(f"return {name}_right(frame, length);")

    def _unless(self, writer: CWriter, condition: str, *then: str) -> None:
        with writer.block(f"if ({condition})"):
            writer.extend(then)

    def _covered(self, shape: str) -> tuple[str, str]:
        """Return expressions of the first byte that the checksum covers, and of the byte behind the last."""
        checksum, check = self.layout.layout.checksum, self.layout.check
        assert checksum is not None
        assert check is not None
        begin = "0u"
        if checksum.from_ not in (None, "marker"):
            begin = self._byte_of(self.layout.entry_of(str(checksum.from_)), shape)
        if checksum.to is None:
            return begin, self._byte_of(check, shape)
        last = self.layout.entry_of(checksum.to)
        if last.place < 0:
            return begin, f"{(self._placed[last].first_bit + last.most * last.bits + 7) // 8}u"
        count = f"{shape}count[{last.place}]" if varies(last.declared) else f"{last.most}u"
        return begin, f"(size_t)(({shape}at[{last.place}] + (uint32_t){count} * {u32(last.bits)} + 7u) / 8u)"

    def _byte_of(self, entry: Entry, shape: str) -> str:
        if entry.place < 0:
            return f"{self._placed[entry].first_bit // 8}u"
        return f"(size_t)({shape}at[{entry.place}] / 8u)"

    def _constant(self, member: Member, bits: int, value: int) -> str:
        """Return a raw number of a field as a constant of its type."""
        entry = member.entry
        if isinstance(entry, NamedField) and entry.kind == "int":
            return signed_number(value, bits)
        if isinstance(entry, NamedField) and entry.kind == "flag":
            return "true" if value else "false"
        return number(value, bits)

    def _compare_fixed(self, writer: CWriter, item: Item) -> None:
        wanted = item.member.fixed
        assert wanted is not None
        self._unless(
            writer, f"{self._decoded(writer, item)} != {self._constant(item.member, item.bits, wanted)}", "right = 0;"
        )

    def _write_begins(self, writer: CWriter) -> None:
        """Write whether a content holds the fixed values whose place is the same in every frame, as far as it goes."""
        name, known = self.layout.name, []
        for entry in self.layout.entries:
            if varies(entry.declared) or entry.is_group:
                break
            known.append(entry)
        fixed = [entry for entry in known if entry.members[0].fixed is not None]
        with writer.function(f"static bool {name}_begins(const uint8_t *frame, size_t length)"):
            if not fixed:
                writer.add("(void)frame;", "(void)length;", "return false;")
                return
            last = fixed[-1]
            ends = -(-(self._placed[last].first_bit + last.most * last.bits) // 8)
            writer.add("uint8_t right = 1;")
            self._unless(writer, f"length < {ends}u", "return false;")
            loops = ItemLoops(writer, self.layout, "frame", self.prefix)
            for entry in fixed:
                loops.each(Where(entry, self._placed[entry]), self._compare_fixed, lambda member: True)
            writer.add("return right != 0;")

    def _write_unpack(self, writer: CWriter) -> None:
        """Write what a frame holds, and its faults."""
        name, up = self.layout.name, self.upper
        entries = self.layout.entries
        with writer.function(f"uint8_t {name}_unpack(const uint8_t *frame, size_t length, {name} *into)"):
            if self.layout.is_walked:
                writer.add(f"{name}_shape shape;")
            writer.add("uint8_t right;", "bool is_known = true;", "bool is_in_range = true;")
            writer.add("memset(into, 0, sizeof *into);")
            if self.layout.is_walked:
                with writer.block(f"if ({name}_fit(frame, length, false, &shape) != length || !shape.fits)"):
                    writer.add(f"return {up}_MISFIT;")
                for entry in entries:
                    if varies(entry.declared) and entry.name and entry.most > 1:
                        self._unless(writer, f"shape.count[{entry.place}] > {entry.most}u", f"return {up}_MISFIT;")
                writer.add(f"right = {name}_right(frame, length, &shape);")
            else:
                self._unless(writer, f"length != {self.layout.upper}_LENGTH", f"return {up}_MISFIT;")
                writer.add(f"right = {name}_right(frame, length);")
            loops = ItemLoops(writer, self.layout, "frame", self.prefix)
            for entry in entries:
                where = self._where(entry, "shape.")
                if entry.is_counted and entry.name:
                    writer.add(f"into->{entry.name}_count = shape.count[{entry.place}];")
                loops.each(where, self._unpack_item, lambda member: bool(member.name) or _has_digits(member))
                self._judge_texts(writer, entry)
            self._unless(writer, f"(right & {up}_CHECK_RIGHT) == 0u", f"return {up}_CHECKSUM_MISMATCH;")
            writer.add(
                f"return (uint8_t)(((right & {up}_FIXED_RIGHT) == 0u || !is_known ? {up}_UNKNOWN_VALUE : 0u)",
                f"    | (is_in_range ? 0u : {up}_OUT_OF_RANGE));",
            )

    def _unpack_item(self, writer: CWriter, item: Item) -> None:
        entry, held = item.member.entry, f"into->{item.held}"
        assert isinstance(entry, NamedField)
        if entry.kind == "bcd":
            wide = 64 if item.bits > MOST_BITS else 32
            fits = f"{self.prefix}_is_decimal{wide}({item.take()})"
            writer.add(f"is_known = is_known && {fits};")
            if not item.member.name:
                return
        if entry.kind == "float" and item.bits > 16:
            with writer.block(""):
                writer.add(f"{unsigned(item.bits)} bits = {item.take()};", f"memcpy(&{held}, &bits, sizeof bits);")
        else:
            writer.add(f"{held} = {self._decoded(writer, item)};")
        if entry.kind == "text" and entry.encoding == "ascii":
            writer.add(f"is_known = is_known && {held} < 0x80u;")
        if entry.names:
            known = {*entry.names.values(), *entry.invalid}
            equal = " || ".join(
                f"{held} == {self._constant(item.member, item.bits, value)}" for value in sorted(known)
            )
            writer.add(f"is_known = is_known && ({equal});")
        if entry.range is not None and (condition := self._in_range(item, held)):
            writer.add(f"is_in_range = is_in_range && ({condition});")

    def _in_range(self, item: Item, held: str) -> str:
        """Return the condition under which a value makes sense; nothing where all do."""
        field = item.member.entry
        assert isinstance(field, NamedField)
        assert field.range is not None
        if field.kind == "float":
            low, high = field.range
            margin = 1e-9 * abs(field.scale)
            value = f"{self.prefix}_of_half({held})" if item.bits == 16 else f"(double){held}"
            if field.is_scaled:
                value = f"{value} * {field.scale!r} + {field.offset!r}"
            return f"{value} >= {low - margin!r} && {value} <= {high + margin!r}"
        lowest, highest = raw_limits(field.kind, item.bits, field.coding)
        if field.kind == "bcd":
            highest = 15 * int("1" * (item.bits // 4))
        found = limits_of(field, item.bits, lowest, highest)
        others = " || ".join(
            f"{held} == {self._constant(item.member, item.bits, value)}" for value in sorted(set(field.invalid))
        )
        if found is None:
            return others or "false"
        wide = item.bits if field.kind != "bcd" else 64
        terms = []
        if found[0] > lowest:
            terms.append(f"{held} >= {self._constant(item.member, wide, found[0])}")
        if found[1] < highest:
            terms.append(f"{held} <= {self._constant(item.member, wide, found[1])}")
        inside = " && ".join(terms)
        return f"({inside}) || {others}" if others and inside else inside

    def _judge_texts(self, writer: CWriter, entry: Entry) -> None:
        """Write whether texts in UTF-8 are that."""
        field = entry.declared
        if isinstance(field, FieldGroup):
            for member in entry.members:
                if isinstance(member.entry, NamedField) and _is_utf8(member.entry):
                    count = f"shape.count[{entry.place}]" if varies(field) else f"{entry.most}u"
                    with writer.block(f"for (size_t g = 0; g < {count}; g++)"):
                        array = f"into->{entry.name}[g].{member.name}"
                        array = array if member.number > 1 else f"&{array}"
                        writer.add(f"is_known = is_known && {self.prefix}_is_utf8({array}, {member.number}u);")
        elif isinstance(field, NamedField) and _is_utf8(field):
            array = f"into->{entry.name}" if entry.most > 1 else f"&into->{entry.name}"
            count = f"shape.count[{entry.place}]" if varies(field) else f"{entry.most}u"
            writer.add(f"is_known = is_known && {self.prefix}_is_utf8({array}, {count});")

    # What is sent for values

    def _write_pack(self, writer: CWriter) -> None:
        """Write the frame that holds some values."""
        declared, name = self.layout.layout, self.layout.name
        walked = self.layout.is_walked
        with writer.function(f"size_t {name}_pack(const {name} *from, uint8_t *out, size_t size)"):
            if walked:
                self._write_walked_pack(writer)
                return
            self._unless(writer, f"size < {self.layout.upper}_LENGTH", "return 0;")
            if not any(entry.name for entry in self.layout.entries):
                writer.add("(void)from;")
            writer.add(f"memset(out, 0, {self.layout.upper}_LENGTH);")
            for place, byte in enumerate(declared.marker):
                writer.add(f"out[{place}] = 0x{byte:02X}u;")
            for place, byte in enumerate(declared.end_marker, declared.length - declared.end_from_end):
                writer.add(f"out[{place}] = 0x{byte:02X}u;")
            loops = ItemLoops(writer, self.layout, "out", self.prefix)
            for entry in self.layout.entries:
                loops.each(self._where(entry, ""), self._pack_item, _is_written)
            self._put_check(writer, loops, "")
            writer.add(f"return {self.layout.upper}_LENGTH;")

    def _write_walked_pack(self, writer: CWriter) -> None:
        declared = self.layout.layout
        ends = ends_of(declared.boundary)
        behind_end = first_of_trailer(declared.fields, declared.checksum, ends.trailer)
        counted, wanted = declared.boundary.counted, declared.boundary.fixed_length
        writer.add(f"const uint32_t most = 8u * (uint32_t)(size < {declared.longest}u ? size : {declared.longest}u);")
        writer.add(f"{self.layout.name}_shape shape;")
        writer.add(f"uint32_t bit = {u32(8 * len(declared.marker))};")
        for known in sorted(self._wanted):
            if self._is_given(known):
                writer.add(f"{self._held_type(known)} held_{self._held(known)} = 0;")
        writer.add("(void)from;", "(void)shape;", "shape.fits = true;")
        self._unless(writer, "bit > most", "return 0;")
        writer.add("memset(out, 0, most / 8u);")
        for place, byte in enumerate(declared.marker):
            writer.add(f"out[{place}] = 0x{byte:02X}u;")
        loops = ItemLoops(writer, self.layout, "out", self.prefix)
        for place, entry in enumerate(self.layout.entries):
            if place == behind_end:
                self._put_end(writer, ends.end)
            self._pack_entry(writer, loops, entry)
        writer.add("bit = (bit + 7u) / 8u * 8u;")
        if not ends.trailer:
            self._put_end(writer, ends.end)
        self._unless(writer, "bit > most", "return 0;")
        if wanted is not None:
            self._unless(writer, f"bit != {u32(8 * wanted)}", "return 0;")
        if counted and not self._is_given(counted.field):
            self._put_length(writer, loops)
        self._put_check(writer, loops, "shape.")
        writer.add("return (size_t)(bit / 8u);")

    def _put_end(self, writer: CWriter, length: int) -> None:
        """Write the end marker at the present bit, which is at a byte limit."""
        marker = self.layout.layout.end_marker
        if not length:
            return
        self._unless(writer, f"bit + {u32(8 * length)} > most", "return 0;")
        for place, byte in enumerate(marker):
            writer.add(f"out[bit / 8u + {place}u] = 0x{byte:02X}u;")
        writer.add(f"bit += {u32(8 * length)};")

    def _is_given(self, name: str) -> bool:
        """Return whether a field also decides how many there are of others, so that its value is the caller's."""
        fields = self.layout.layout.fields
        return any(name in entry.when for entry in fields) or any(
            entry.count is not None and entry.count.field == name for entry in self.layout.entries
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
            self._unless(writer, f"{count} > {limit}", "return 0;")
        self._unless(writer, f"{count} > (most - bit) / {u32(entry.bits)}", "return 0;")
        name = getattr(entry.declared, "name", "")
        counted = self.layout.layout.boundary.counted
        is_length = counted is not None and counted.field == name and not self._is_given(name)
        if not is_length:
            loops.each(self._where(entry, "shape."), self._pack_item, _is_written)
        if name in self._wanted and not is_length:
            self._hold(writer, entry, name)
        writer.add(f"bit += (uint32_t){count} * {u32(entry.bits)};")
        if has_varying_number(entry.declared):
            writer.add("bit = (bit + 7u) / 8u * 8u;")

    def _pack_count(self, writer: CWriter, entry: Entry) -> None:
        place = entry.place
        if entry.is_counted:
            writer.add(f"shape.count[{place}] = {f'from->{entry.name}_count' if entry.name else '0'};")
        elif (by := entry.count) is not None:
            kind, held = self._held_type(by.field), f"held_{self._held(by.field)}"
            if by.divisor > 1:
                self._unless(writer, f"{held} % {by.divisor} != 0", "return 0;")
            total = held + (f" * {by.factor}" if by.factor > 1 else "") + (f" / {by.divisor}" if by.divisor > 1 else "")
            writer.add(f"{kind} many = {total} + ({by.addend});")
            self._unless(writer, f"many < 0 || many > {entry.most}", "return 0;")
            writer.add(f"shape.count[{place}] = (size_t)many;")
        else:
            writer.add(f"shape.count[{place}] = {plain_number(entry.declared)}u;")
        if entry.declared.when:
            self._unless(writer, f"!({self._is_present(entry, 'held_')})", f"shape.count[{place}] = 0;")

    def _hold(self, writer: CWriter, entry: Entry, name: str) -> None:
        """Write which number a field holds that decides about later ones."""
        held, member = f"held_{self._held(name)}", entry.members[0]
        value = f"from->{entry.name}" if entry.name else self._constant(member, entry.bits, member.fixed or 0)
        if entry.declared.when:
            writer.add(f"{held} = shape.count[{entry.place}] != 0u ? ({self._held_type(name)}){value} : -1;")
        else:
            writer.add(f"{held} = ({self._held_type(name)}){value};")

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
            self._unless(writer, f"{held} > {number(10 ** (bits // 4) - 1)}", "return 0;")
            wide = 64 if bits > MOST_BITS else 32
            value_text = f"{self.prefix}_to_bcd{wide}({held})"
        elif entry.kind == "int":
            low, high = raw_limits("int", bits, entry.coding)
            if bits < width_of(bits):
                out = f"{held} < {signed_number(low, bits)} || {held} > {signed_number(high, bits)}"
                self._unless(writer, out, "return 0;")
            elif entry.coding == "sign-magnitude":
                self._unless(writer, f"{held} < {signed_number(low, bits)}", "return 0;")
            value_text = self._coded(entry.coding, held, bits)
        else:
            if bits < width_of(bits):
                self._unless(writer, f"{held} > {number(mask, bits)}", "return 0;")
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
        declared = self.layout.layout
        counted, check = declared.boundary.counted, declared.checksum_slot
        assert counted is not None
        entry = self.layout.entry_of(counted.field)
        place = self._placed[entry]
        own = f"{u32(place.first_bit)}" if entry.place < 0 else f"shape.at[{entry.place}]"
        before = "0" if counted.counts == "all" else f"(int32_t)(({own} + {u32(entry.bits)}) / 8u)"
        behind = declared.length - check.first_bit // 8 if counted.counts == "payload" and check is not None else 0
        field = entry.declared
        assert isinstance(field, NamedField)
        _, high = raw_limits(field.kind, entry.bits)
        with writer.block(""):
            writer.add(f"const int32_t length = (int32_t)(bit / 8u) - {before} - {behind} + ({counted.offset});")
            limit = f" || length > {signed_number(high, 32)}" if high < 1 << 31 else ""
            self._unless(writer, f"length < 0{limit}", "return 0;")
            value = "(uint32_t)length"
            if field.kind == "bcd":
                value = f"{self.prefix}_to_bcd32((uint32_t)length)"

            def write(inner: CWriter, item: Item) -> None:
                inner.add(f"const {unsigned(item.bits)} bits = ({unsigned(item.bits)})({value});")
                inner.extend(item.put("bits"))

            loops.each(self._where(entry, "shape."), write, lambda member: True)

    def _put_check(self, writer: CWriter, loops: ItemLoops, shape: str) -> None:
        """Write the check value of what has been written."""
        check, checksum = self.layout.check, self.layout.layout.checksum
        if check is None or checksum is None:
            return
        begin, end = self._covered(shape)

        def write(inner: CWriter, item: Item) -> None:
            inner.add(f"const {result_type(checksum.method)} bits = {self.checksum}(out + {begin}, {end} - {begin});")
            inner.extend(item.put("bits"))

        with writer.block(""):
            loops.each(self._where(check, shape), write, lambda member: True)


def limits_of(field: NamedField, bits: int, lowest: int, highest: int) -> tuple[int, int] | None:
    """Return the lowest and highest raw number whose value lies in the declared range; None if none does.

    Parameters
    ----------
    field : NamedField
        A field of whole numbers with a range.
    bits : int
        Its width.
    lowest, highest : int
        What it can hold.
    """
    slot = Slot(field.name, field.kind, 0, bits, 1, None, field.model_copy(update={"invalid": ()}))
    dtype = np.int64 if lowest < 0 else np.uint64
    low, high = field.range or (0.0, 0.0)

    def value(raw: int) -> float:
        return raw * field.scale + field.offset

    def fits(raw: int) -> bool:
        return bool(within_range(np.array([raw], dtype=dtype), slot)[0])

    rising = field.scale > 0

    def first(is_past: Callable[[int], bool]) -> int:
        """Return the first raw number of which something holds that holds of all behind it."""
        below, above = lowest - 1, highest + 1
        while above - below > 1:
            middle = (below + above) // 2
            below, above = (below, middle) if is_past(middle) else (middle, above)
        return above

    centre = (low + high) / 2
    begins = first(lambda raw: fits(raw) or (value(raw) > centre) == rising)
    ends = first(lambda raw: not fits(raw) and (value(raw) > centre) == rising) - 1
    return (begins, ends) if begins <= ends else None


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


def _has_digits(member: Member) -> bool:
    return isinstance(member.entry, NamedField) and member.entry.kind == "bcd"


def _is_utf8(field: NamedField) -> bool:
    return field.kind == "text" and field.encoding == "utf-8"
