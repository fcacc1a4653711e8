"""The members of a frame's struct: one for each field that holds something, with its type in C."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from larkreader.declare.frame.field_parts import MOST_ITEMS, REST, Count
from larkreader.declare.frame.fields import FieldEntry, FieldGroup, NamedField, ReservedBits
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import has_varying_number, item_bits, name_of, plain_number, repeat_of, varies
from larkreader.errors import RequestError

from .c_bits import signed, unsigned
from .c_names import Names

MOST_BCD = 15 * int("1" * 16)  # what sixteen digits of 15 make


@dataclass(frozen=True, eq=False)
class Member:
    """A field of a frame in C.

    Parameters
    ----------
    entry : NamedField or ReservedBits
        The field, or the reserved bits.
    name : str
        The name of its member; nothing where it has none, because one value alone is right.
    kind : str
        The type of the member.
    number : int
        How many there are, within one turn of its group.
    """

    entry: NamedField | ReservedBits
    name: str
    kind: str
    number: int

    @property
    def fixed(self) -> int | None:
        """The only raw value that is right; None where several are."""
        return self.entry.value if isinstance(self.entry, ReservedBits) else self.entry.equals

    @property
    def is_checksum(self) -> bool:
        """Whether it is the frame's check value."""
        return isinstance(self.entry, NamedField) and self.entry.kind == "checksum"


@dataclass(frozen=True, eq=False)
class Entry:
    """An entry of a layout in C: a field, reserved bits, or a group of them.

    Parameters
    ----------
    declared : NamedField, ReservedBits or FieldGroup
        The entry.
    name : str
        The name of its member; nothing where it has none.
    members : sequence of Member
        The field itself; of a group its fields.
    bits : int
        Bits of one item.
    most : int
        How many there may be.
    place : int
        Its number among those whose place differs from frame to frame; -1 for the others.
    """

    declared: FieldEntry
    name: str
    members: Sequence[Member]
    bits: int
    most: int
    place: int = -1

    @property
    def is_group(self) -> bool:
        """Whether it is a group."""
        return isinstance(self.declared, FieldGroup)

    @property
    def is_counted(self) -> bool:
        """Whether a member of its own holds how many there are."""
        return repeat_of(self.declared) == REST

    @property
    def count(self) -> Count | None:
        """How many there are, where an earlier field holds it."""
        repeat = repeat_of(self.declared)
        return Count.parse(repeat) if isinstance(repeat, str) and repeat != REST else None


@dataclass(frozen=True, eq=False)
class LayoutInC:
    """A layout with its names in C.

    Parameters
    ----------
    layout : FrameLayout
        What was declared.
    name, upper : str
        What its functions and its constants begin with.
    entries : sequence of Entry
        Its fields, in order.
    places : int
        How many of them have a place that differs from frame to frame.
    """

    layout: FrameLayout
    name: str
    upper: str
    entries: Sequence[Entry]
    places: int
    constants: Mapping[tuple[str, str], str] = field(default_factory=dict)

    @property
    def is_walked(self) -> bool:
        """Whether its length, or where its fields lie, depends on what it holds."""
        return self.layout.needs_locating

    def entry_of(self, name: str) -> Entry:
        """Return the entry that is a field of some name."""
        return next(entry for entry in self.entries if name_of(entry.declared) == name)

    @property
    def check(self) -> Entry | None:
        """The check value."""
        return next((entry for entry in self.entries if any(member.is_checksum for member in entry.members)), None)


def layout_in_c(layout: FrameLayout, name: str) -> LayoutInC:
    """Give the fields of a layout their names and types in C.

    Parameters
    ----------
    layout : FrameLayout
        What was declared.
    name : str
        What its functions are to begin with.

    Returns
    -------
    LayoutInC

    Raises
    ------
    RequestError
        If it is a line of text with a pattern, which is not written in C.
    """
    if layout.pattern is not None:
        raise RequestError(
            f"frame.{layout.key}", "is a line of text with a pattern", "must be a frame of bits and bytes to be emitted"
        )
    names, entries, place, moves = Names(), [], 0, False
    for declared in layout.fields:
        moves_here = moves or varies(declared)
        own = name_of(declared)
        is_held = isinstance(declared, FieldGroup) or (
            isinstance(declared, NamedField) and declared.kind != "checksum" and declared.equals is None
        )
        behind = ("", "_count") if repeat_of(declared) == REST else ("",)
        called = names.give(own, behind=behind) if is_held else ""
        members = _members(declared, called)
        bits = item_bits(declared, layout.checksum)
        entries.append(
            Entry(declared, called, members, bits, _most(layout, declared, bits), place if moves_here else -1)
        )
        place += moves_here
        moves = moves_here
    return LayoutInC(layout, name, name.upper(), entries, place)


def _members(declared: FieldEntry, called: str) -> Sequence[Member]:
    if not isinstance(declared, FieldGroup):
        return [_member(declared, called)]
    names = Names()
    result = []
    for member in declared.fields:
        is_held = isinstance(member, NamedField) and member.equals is None
        result.append(_member(member, names.give(name_of(member)) if is_held else ""))
    return result


def _member(entry: NamedField | ReservedBits, name: str) -> Member:
    if isinstance(entry, ReservedBits):
        return Member(entry, "", unsigned(entry.reserved), 1)
    number = entry.repeat if isinstance(entry.repeat, int) else 1
    return Member(entry, name, type_of(entry), number)


def type_of(entry: NamedField) -> str:
    """Return the type in C of the raw numbers of a field.

    Parameters
    ----------
    entry : NamedField
        The field.
    """
    bits = entry.bits or 64
    if entry.kind == "flag":
        return "bool"
    if entry.kind == "int":
        return signed(bits)
    if entry.kind == "float" and bits > 16:
        return "float" if bits == 32 else "lark_float64"
    if entry.kind == "bcd":
        return unsigned((MOST_BCD // 10 ** (16 - bits // 4)).bit_length())
    return unsigned(bits)


def _most(layout: FrameLayout, declared: FieldEntry, bits: int) -> int:
    """Return how many of an entry a frame can hold."""
    if not has_varying_number(declared):
        return plain_number(declared)
    most = (8 * (layout.longest - layout.shortest) + 7) // bits
    repeat = repeat_of(declared)
    if repeat != REST:
        count = Count.parse(str(repeat))
        by = layout.slot[count.field]
        highest = 15 * int("1" * (by.bits // 4)) if by.kind == "bcd" else (1 << by.bits) - 1  # wrong digits count too
        most = min(most, highest * count.factor // count.divisor + count.addend)
    return max(min(most, MOST_ITEMS * 8), 1)
