"""Where a compiler puts the members of a struct."""

from __future__ import annotations

from collections.abc import Sequence

from .attributes import Attributes
from .targets import Target
from .tokens import Place, refuse
from .types import Array, Laid, Member, Record

MOST_BITS = 8 * 65536  # of a struct


def lay_out(
    text: str,
    members: Sequence[Member],
    attributes: Attributes,
    target: Target,
    place: Place,
    *,
    is_union: bool = False,
) -> Record:
    """Lay the members of a struct or a union out as a compiler does.

    Parameters
    ----------
    text : str
        What the header calls it.
    members : sequence of Member
        What it holds.
    attributes : Attributes
        Of the whole.
    target : Target
        Whose compiler.
    place : Place
        Where it is declared.
    is_union : bool
        Whether it is a union.

    Raises
    ------
    HeaderError
        If a member is wider than its type, or the whole has more than 65536 bytes.
    """
    layout = _OwnUnits(attributes, target) if target.own_units else _Layout(attributes, target)
    laid = []
    for member in members:
        if is_union:
            layout.begin_again()
        first = layout.put(member)
        layout.end = max(layout.end, layout.at)
        if layout.end > MOST_BITS:
            refuse(member.place, f"makes {text} longer than {MOST_BITS // 8:,} bytes")
        if member.width != 0:
            laid.append(Laid(member.name, member.type, first, member.width, member.place))
    align = max(layout.align, 8 * attributes.aligned)
    bits = -(-layout.end // align) * align
    order = attributes.order or target.byte_order
    return Record(
        text, tuple(laid), bits, align, order, is_union, place, max(layout.least_align, 8 * attributes.aligned)
    )


class _Layout:
    """The next free bit of a struct, as GCC and clang count it (the C++ ABI of Itanium, 2.4, for bit-fields)."""

    def __init__(self, attributes: Attributes, target: Target) -> None:
        self.attributes, self.target = attributes, target
        self.at = self.end = 0
        self.align = self.least_align = 8

    def begin_again(self) -> None:
        """Go back to the first bit, as each member of a union does."""
        self.at = 0

    def put(self, member: Member) -> int:
        """Place a member, and return its first bit."""
        align = self.aligned(member)
        if member.width is None:
            self.at = _up(self.at, align)
            self.align = max(self.align, align)
            first, self.at = self.at, self.at + member.type.bits
            return first
        if member.width > member.type.bits:
            refuse(
                member.place, f"{member.name or 'a bit-field'} has {member.width} bits", f"must have {member.type.bits}"
            )
        return self.put_bits(member, member.width)

    def put_bits(self, member: Member, width: int) -> int:
        """Place a bit-field."""
        unit, own = member.type.bits, min(member.type.align, self.target.most_aligned)
        aligned = 8 * member.attributes.aligned
        if width == 0:
            self.at = _up(self.at, max(own, aligned))
            if self.target.unnamed_aligns:
                self.align = max(self.align, own)
            return self.at
        pack = 8 * self.attributes.pack
        is_packed = self.attributes.packed or member.attributes.packed
        align = max(1 if is_packed and not pack else own, aligned)
        if pack:
            align = min(align, pack)
        if aligned and not pack:
            self.at = _up(self.at, aligned)
        if not (pack or is_packed or self.target.across_units) and self.at % own + width > unit:
            self.at = _up(self.at, own)
        if member.name or self.target.unnamed_aligns:
            self.align = max(self.align, align)
        first, self.at = self.at, self.at + width
        return first

    def aligned(self, member: Member) -> int:
        """Return to how many bits a member that is not a bit-field is aligned."""
        own = member.type.align
        if self.attributes.packed or member.attributes.packed:
            own = 8
        aligned, pack = 8 * member.attributes.aligned, 8 * self.attributes.pack
        if self.target.own_units:
            kind = member.type
            while isinstance(kind, Array):
                kind = kind.of
            aligned = max(aligned, kind.least_align if isinstance(kind, Record) else 8)
            self.least_align = max(self.least_align, aligned)
            return max(min(own, pack) if pack else own, aligned)
        return min(max(own, aligned), pack) if pack else max(own, aligned)


class _OwnUnits(_Layout):
    """As Microsoft's compiler counts it: only bit-fields whose types have the same width share a unit."""

    unit_end = unit = 0

    def begin_again(self) -> None:
        self.at = self.unit_end = self.unit = 0

    def put(self, member: Member) -> int:
        if member.width is None:
            self.at = max(self.at, self.unit_end)
            self.unit_end = self.unit = 0
        return super().put(member)

    def put_bits(self, member: Member, width: int) -> int:
        unit, align = member.type.bits, self.aligned(member)
        if width == 0:
            if self.unit:
                self.at, self.unit = _up(self.unit_end, align), 0
                self.align = max(self.align, align)
            return self.at
        if unit != self.unit or self.at + width > self.unit_end:
            begin = _up(max(self.at, self.unit_end if self.unit else 0), align)
            self.at, self.unit, self.unit_end = begin, unit, begin + unit
            self.align = max(self.align, align)
        first, self.at = self.at, self.at + width
        self.end = max(self.end, self.unit_end)
        return first


def _up(bit: int, align: int) -> int:
    return -(-bit // align) * align
