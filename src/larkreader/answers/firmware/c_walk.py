"""The walk through the fields of a frame whose length, or whose places, depend on what it holds, in C."""

from __future__ import annotations

from larkreader.declare.frame.field_parts import MOST_ITEMS, REST
from larkreader.declare.frame.layout_mistakes import ends_of
from larkreader.declare.frame.shape import first_of_trailer, has_varying_number, plain_number, repeat_of, varies

from .c_bits import u32
from .c_code import LayoutCode
from .c_items import Item, ItemLoops
from .c_members import Entry
from .c_names import comment
from .c_writer import CWriter


class Walk:
    """Writes that walk.

    Parameters
    ----------
    code : LayoutCode
        The layout.
    """

    def __init__(self, code: LayoutCode) -> None:
        self.code = code

    def write(self, writer: CWriter) -> None:
        """Write the walk through the fields of a frame whose length or whose places depend on what it holds."""
        declared, name = self.code.layout.layout, self.code.layout.name
        writer.add(
            f"/* Finds where the fields of {comment(declared.key)} lie. Returns how many bytes it has, or needs",
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
            for known in sorted(self.code.wanted):
                writer.add(f"{self.code.held_type(known)} held_{self.code.held(known)} = 0;")
            writer.add("shape->fits = false;")
            writer.add("(void)frame;")
            with writer.block("if (!is_open && there > longest / 8u)"):
                writer.add("return 0;")
            self._reach(writer, "needed")
            for place, entry in enumerate(self.code.layout.entries):
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
        if name not in self.code.wanted:
            return
        held = f"held_{self.code.held(name)}"
        loops = ItemLoops(writer, self.code.layout, "frame", self.code.prefix)
        if entry.declared.when:
            writer.add(f"{held} = -1;")

        def read(inner: CWriter, item: Item) -> None:
            inner.add(f"{held} = ({self.code.held_type(name)}){self.code.decoded(inner, item)};")

        loops.each(self.code.where(entry, "shape->"), read, lambda member: True)
        counted = self.code.layout.layout.boundary.counted
        if counted and counted.field == name:
            self._write_exact(writer, held)

    def _write_exact(self, writer: CWriter, held: str) -> None:
        """Write what a length field makes of the length of its frame."""
        declared = self.code.layout.layout
        counted, check = declared.boundary.counted, declared.checksum_slot
        assert counted is not None
        more = f"{-counted.offset}"
        kind = self.code.held_type(counted.field)
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
        declared = self.code.layout.layout
        repeat = repeat_of(entry.declared)
        limit = MOST_ITEMS * 8
        if repeat == REST:
            behind = declared.bits_behind(entry.declared)
            ends = "exact" if declared.boundary.counted else "most"
            many = f"({ends} - bit - {u32(behind)}) / {u32(entry.bits)}"
            with writer.block(f"if ({ends} < bit + {u32(behind)} || {many} > {u32(limit)})"):
                writer.add("return 0;")
            writer.add(f"shape->count[{entry.place}] = (size_t)({many});")
        elif (by := entry.count) is not None:
            kind, held = self.code.held_type(by.field), f"held_{self.code.held(by.field)}"
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
            with writer.block(f"if (!({self.code.is_present(entry, 'held_')}))"):
                writer.add(f"shape->count[{entry.place}] = 0;")
