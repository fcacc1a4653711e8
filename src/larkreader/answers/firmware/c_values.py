"""A struct of a frame in the units of its fields, and the way there and back."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from typing import Literal

from larkreader.declare.frame.field_kinds import raw_limits
from larkreader.declare.frame.fields import NamedField

from .c_members import Entry, LayoutInC, Member
from .c_names import comment
from .c_writer import CWriter

Real = Literal["float", "double"]


def values_struct(layout: LayoutInC, real: Real) -> Iterator[str]:
    """Yield the members of the struct of a layout's values.

    Parameters
    ----------
    layout : LayoutInC
        The layout.
    real : {"float", "double"}
        The type of a value with a scale.
    """
    is_empty = True
    for entry in layout.entries:
        if not entry.name:
            continue
        is_empty = False
        held = [member for member in entry.members if member.name]
        if entry.is_group:
            yield "struct {"
            for member in held:
                yield f"    {_type(member, real)} {member.name}{_many(member.number)};{_unit(member)}"
            if not held:
                yield "    uint8_t unused;"
            yield f"}} {entry.name}[{entry.most}];"
        else:
            member = entry.members[0]
            yield f"{_type(member, real)} {entry.name}{_many(entry.most)};{_unit(member)}"
        if entry.is_counted:
            yield f"size_t {entry.name}_count;"
    if is_empty:
        yield "uint8_t unused;"


def values_functions(layout: LayoutInC, real: Real) -> Sequence[str]:
    """Return the lines of the functions that turn raw numbers into values, and values into raw numbers.

    Parameters
    ----------
    layout : LayoutInC
        The layout.
    real : {"float", "double"}
        The type of a value with a scale.
    """
    writer, name = CWriter(), layout.name
    with writer.function(f"void {name}_to_values(const {name} *from, {name}_values *into)"):
        writer.add("(void)from;", "memset(into, 0, sizeof *into);")
        for entry in layout.entries:
            _each(writer, entry, lambda inner, member, held: _to_value(inner, member, held, real))
    with writer.function(f"bool {name}_from_values(const {name}_values *from, {name} *into)"):
        writer.add("(void)from;", "memset(into, 0, sizeof *into);")
        for entry in layout.entries:
            _each(writer, entry, lambda inner, member, held: _from_value(inner, member, held, real))
        writer.add("return true;")
    return writer.lines


def _each(writer: CWriter, entry: Entry, body: Callable[[CWriter, Member, str], None]) -> None:
    """Write what is done with each item of an entry's members."""
    if not entry.name:
        return
    if entry.is_counted:
        writer.add(f"into->{entry.name}_count = from->{entry.name}_count;")
    for member in entry.members:
        if not member.name:
            continue
        with ExitStack() as stack:
            held = entry.name
            if entry.is_group:
                stack.enter_context(writer.block(f"for (size_t g = 0; g < {entry.most}u; g++)"))
                held += f"[g].{member.name}"
            many = member.number if entry.is_group else entry.most
            if many > 1:
                stack.enter_context(writer.block(f"for (size_t i = 0; i < {many}u; i++)"))
                held += "[i]"
            body(writer, member, held)


def _to_value(writer: CWriter, member: Member, held: str, real: Real) -> None:
    field = member.entry
    assert isinstance(field, NamedField)
    if not _is_real(member):
        writer.add(f"into->{held} = from->{held};")
        return
    value = f"({real})from->{held} * {_constant(field.scale, real)}"
    if field.offset:
        value += f" + {_constant(field.offset, real)}"
    writer.add(f"into->{held} = ({real})({value});")


def _from_value(writer: CWriter, member: Member, held: str, real: Real) -> None:
    field = member.entry
    assert isinstance(field, NamedField)
    if not _is_real(member):
        writer.add(f"into->{held} = from->{held};")
        return
    value = f"from->{held}"
    if field.offset:
        value = f"({value} - {_constant(field.offset, real)})"
    with writer.block(""):
        if field.kind == "float":
            writer.add(f"into->{held} = ({member.kind})({value} / {_constant(field.scale, real)});")
            return
        low, high = raw_limits(field.kind, field.bits or 64, field.coding)
        writer.add(f"const {real} raw = {value} / {_constant(field.scale, real)};")
        with writer.block(f"if (!(raw > {_constant(low - 0.5, real)} && raw < {_constant(high + 0.5, real)}))"):
            writer.add("return false;")
        half = _constant(0.5, real)
        if low < 0:
            writer.add(f"into->{held} = ({member.kind})(raw < 0 ? raw - {half} : raw + {half});")
        else:
            writer.add(f"into->{held} = ({member.kind})(raw + {half});")


def _is_real(member: Member) -> bool:
    field = member.entry
    return isinstance(field, NamedField) and field.is_scaled and not (field.kind == "float" and field.bits == 16)


def _type(member: Member, real: Real) -> str:
    return real if _is_real(member) else member.kind


def _many(number: int) -> str:
    return f"[{number}]" if number > 1 else ""


def _unit(member: Member) -> str:
    unit = member.entry.unit if isinstance(member.entry, NamedField) else ""
    return f" /* {comment(unit)} */" if unit else ""


def _constant(value: float, real: Real) -> str:
    return f"{float(value)!r}{'f' if real == 'float' else ''}"
