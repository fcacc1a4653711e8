"""Whether a frame is right, and what it holds, in C."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from larkreader.declare.frame.field_kinds import raw_limits
from larkreader.declare.frame.fields import FieldGroup, NamedField
from larkreader.declare.frame.shape import varies
from larkreader.declare.frame.slot import Slot
from larkreader.decode.check.verify import within_range

from .c_bits import unsigned
from .c_code import MOST_BITS, LayoutCode
from .c_items import Item, ItemLoops, Where
from .c_members import Entry, Member
from .c_writer import CWriter


class Unpacking:
    """Writes the functions that look at a frame.

    Parameters
    ----------
    code : LayoutCode
        The layout.
    """

    def __init__(self, code: LayoutCode) -> None:
        self.code = code

    def write(self, writer: CWriter, *, with_begins: bool) -> None:
        """Write the functions that look at a frame."""
        self._write_right(writer)
        self._write_judge(writer)
        if with_begins:
            self._write_begins(writer)
        self._write_unpack(writer)

    def _write_right(self, writer: CWriter) -> None:
        """Write which fixed values and whether the checksum of a frame that fits are right."""
        declared, name = self.code.layout.layout, self.code.layout.name
        shape = f", const {name}_shape *shape" if self.code.layout.is_walked else ""
        with writer.function(f"static uint8_t {name}_right(const uint8_t *frame, size_t length{shape})"):
            writer.add(f"uint8_t right = {self.code.upper}_FIXED_RIGHT;")
            writer.add("(void)frame;", "(void)length;")
            if self.code.layout.is_walked:
                writer.add("(void)shape;")
            for place, byte in enumerate(declared.marker):
                self.code.unless(writer, f"frame[{place}] != 0x{byte:02X}u", "right = 0;")
            for place, byte in enumerate(declared.end_marker):
                at = f"length - {declared.end_from_end - place}u"
                self.code.unless(writer, f"frame[{at}] != 0x{byte:02X}u", "right = 0;")
            loops = ItemLoops(writer, self.code.layout, "frame", self.code.prefix)
            for entry in self.code.layout.entries:
                loops.each(
                    self.code.where(entry, "shape->"), self._compare_fixed, lambda member: member.fixed is not None
                )
            if declared.checksum is None:
                writer.add(f"return (uint8_t)(right | {self.code.upper}_CHECK_RIGHT);")
                return
            check = self.code.layout.check
            assert check is not None

            def compare(inner: CWriter, item: Item) -> None:
                calculated = self.code.checked("frame", "shape->")
                with inner.block(f"if ({calculated} == {item.take()})"):
                    inner.add(f"right = (uint8_t)(right | {self.code.upper}_CHECK_RIGHT);")

            loops.each(self.code.where(check, "shape->"), compare, lambda member: True)
            writer.add("return right;")

    def _compare_fixed(self, writer: CWriter, item: Item) -> None:
        wanted = item.member.fixed
        assert wanted is not None
        self.code.unless(
            writer,
            f"{self.code.decoded(writer, item)} != {self.code.constant(item.member, item.bits, wanted)}",
            "right = 0;",
        )

    def _write_judge(self, writer: CWriter) -> None:
        """Write whether a content of known length fits, and what of it is right."""
        name, up = self.code.layout.name, self.code.upper
        with writer.function(f"static uint8_t {name}_judge(const uint8_t *frame, size_t length)"):
            if self.code.layout.is_walked:
                writer.add(f"{name}_shape shape;")
                with writer.block(f"if ({name}_fit(frame, length, false, &shape) != length || !shape.fits)"):
                    writer.add(f"return {up}_MISFIT;")
                writer.add(f"return {name}_right(frame, length, &shape);")
            else:
                self.code.unless(writer, f"length != {self.code.layout.upper}_LENGTH", f"return {up}_MISFIT;")
                writer.add(f"return {name}_right(frame, length);")

    def _write_begins(self, writer: CWriter) -> None:
        """Write whether a content holds the fixed values whose place is the same in every frame, as far as it goes."""
        name, known = self.code.layout.name, []
        for entry in self.code.layout.entries:
            if varies(entry.declared) or entry.is_group:
                break
            known.append(entry)
        fixed = [entry for entry in known if entry.members[0].fixed is not None]
        with writer.function(f"static bool {name}_begins(const uint8_t *frame, size_t length)"):
            if not fixed:
                writer.add("(void)frame;", "(void)length;", "return false;")
                return
            last = fixed[-1]
            ends = -(-(self.code.places[last].first_bit + last.most * last.bits) // 8)
            writer.add("uint8_t right = 1;")
            self.code.unless(writer, f"length < {ends}u", "return false;")
            loops = ItemLoops(writer, self.code.layout, "frame", self.code.prefix)
            for entry in fixed:
                loops.each(Where(entry, self.code.places[entry]), self._compare_fixed, lambda member: True)
            writer.add("return right != 0;")

    def _write_unpack(self, writer: CWriter) -> None:
        """Write what a frame holds, and its faults."""
        name, up = self.code.layout.name, self.code.upper
        entries = self.code.layout.entries
        with writer.function(f"uint8_t {name}_unpack(const uint8_t *frame, size_t length, {name} *into)"):
            if self.code.layout.is_walked:
                writer.add(f"{name}_shape shape;")
            writer.add("uint8_t right;", "bool is_known = true;", "bool is_in_range = true;")
            writer.add("memset(into, 0, sizeof *into);")
            if self.code.layout.is_walked:
                with writer.block(f"if ({name}_fit(frame, length, false, &shape) != length || !shape.fits)"):
                    writer.add(f"return {up}_MISFIT;")
                for entry in entries:
                    if varies(entry.declared) and entry.name and entry.most > 1:
                        self.code.unless(writer, f"shape.count[{entry.place}] > {entry.most}u", f"return {up}_MISFIT;")
                writer.add(f"right = {name}_right(frame, length, &shape);")
            else:
                self.code.unless(writer, f"length != {self.code.layout.upper}_LENGTH", f"return {up}_MISFIT;")
                writer.add(f"right = {name}_right(frame, length);")
            loops = ItemLoops(writer, self.code.layout, "frame", self.code.prefix)
            for entry in entries:
                where = self.code.where(entry, "shape.")
                if entry.is_counted and entry.name:
                    writer.add(f"into->{entry.name}_count = shape.count[{entry.place}];")
                loops.each(where, self._unpack_item, lambda member: bool(member.name) or _has_digits(member))
                self._judge_texts(writer, entry)
            self.code.unless(writer, f"(right & {up}_CHECK_RIGHT) == 0u", f"return {up}_CHECKSUM_MISMATCH;")
            writer.add(
                f"return (uint8_t)(((right & {up}_FIXED_RIGHT) == 0u || !is_known ? {up}_UNKNOWN_VALUE : 0u)",
                f"    | (is_in_range ? 0u : {up}_OUT_OF_RANGE));",
            )

    def _unpack_item(self, writer: CWriter, item: Item) -> None:
        entry, held = item.member.entry, f"into->{item.held}"
        assert isinstance(entry, NamedField)
        if entry.kind == "bcd":
            wide = 64 if item.bits > MOST_BITS else 32
            fits = f"{self.code.prefix}_is_decimal{wide}({item.take()})"
            writer.add(f"is_known = is_known && {fits};")
            if not item.member.name:
                return
        if entry.kind == "float" and item.bits > 16:
            with writer.block(""):
                writer.add(f"{unsigned(item.bits)} bits = {item.take()};", f"memcpy(&{held}, &bits, sizeof bits);")
        else:
            writer.add(f"{held} = {self.code.decoded(writer, item)};")
        if entry.kind == "text" and entry.encoding == "ascii":
            writer.add(f"is_known = is_known && {held} < 0x80u;")
        if entry.names:
            known = {*entry.names.values(), *entry.invalid}
            equal = " || ".join(
                f"{held} == {self.code.constant(item.member, item.bits, value)}" for value in sorted(known)
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
            value = f"{self.code.prefix}_of_half({held})" if item.bits == 16 else f"(double){held}"
            if field.is_scaled:
                value = f"{value} * {field.scale!r} + {field.offset!r}"
            return f"{value} >= {low - margin!r} && {value} <= {high + margin!r}"
        lowest, highest = raw_limits(field.kind, item.bits, field.coding)
        if field.kind == "bcd":
            highest = 15 * int("1" * (item.bits // 4))
        found = limits_of(field, item.bits, lowest, highest)
        others = " || ".join(
            f"{held} == {self.code.constant(item.member, item.bits, value)}" for value in sorted(set(field.invalid))
        )
        if found is None:
            return others or "false"
        wide = item.bits if field.kind != "bcd" else 64
        terms = []
        if found[0] > lowest:
            terms.append(f"{held} >= {self.code.constant(item.member, wide, found[0])}")
        if found[1] < highest:
            terms.append(f"{held} <= {self.code.constant(item.member, wide, found[1])}")
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
                        writer.add(f"is_known = is_known && {self.code.prefix}_is_utf8({array}, {member.number}u);")
        elif isinstance(field, NamedField) and _is_utf8(field):
            array = f"into->{entry.name}" if entry.most > 1 else f"&into->{entry.name}"
            count = f"shape.count[{entry.place}]" if varies(field) else f"{entry.most}u"
            writer.add(f"is_known = is_known && {self.code.prefix}_is_utf8({array}, {count});")


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


def _has_digits(member: Member) -> bool:
    return isinstance(member.entry, NamedField) and member.entry.kind == "bcd"


def _is_utf8(field: NamedField) -> bool:
    return field.kind == "text" and field.encoding == "utf-8"
