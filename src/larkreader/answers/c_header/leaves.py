"""The numbers of a struct, each with all of its bits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from larkreader.declare.common.byte_order import ByteOrder

from .tokens import Place, refuse
from .types import Array, CType, Laid, Number, Record


@dataclass(frozen=True)
class Leaf:
    """A number of a struct, or several in a row, where it lies.

    Parameters
    ----------
    path : str
        Its name, with those of the members around it: ``valve.state``.
    number : Number
        Its type.
    first_bit : int
        Where the first begins, in bits from the first of the struct; see `Laid`.
    bits : int
        How wide it is.
    order : {"little", "big"}
        Its byte order.
    is_bit_field : bool
        Whether it is a bit-field.
    place : Place
        Where it is declared.
    turns : tuple of tuple of int
        Of arrays, from the outermost: how many, and how many bits apart.
    is_open : bool
        Whether it is the first of an array of unknown length.
    shown : str
        Its path with the numbers of arrays: ``valve[4].state``.
    unknown : frozenset of str
        Of a row of a table, what it does not show: ``sign``, ``kind``, ``order``.
    """

    path: str
    number: Number
    first_bit: int
    bits: int
    order: ByteOrder
    is_bit_field: bool
    place: Place
    turns: tuple[tuple[int, int], ...] = ()
    is_open: bool = False
    shown: str = ""
    unknown: frozenset[str] = frozenset()

    @property
    def count(self) -> int:
        """How many there are."""
        count = 1
        for many, _ in self.turns:
            count *= many
        return count

    @property
    def name(self) -> str:
        """Its own name."""
        return self.path.rsplit(".", 1)[-1]

    @property
    def text(self) -> str:
        """What the header has: type, name, number and width."""
        if self.is_padding:
            return self.number.text
        width = f" : {self.bits}" if self.is_bit_field else ""
        return f"{self.number.text} {self.shown}".rstrip() + width

    @property
    def is_padding(self) -> bool:
        """Whether no member lies there: what a compiler puts in."""
        return self.number.text.startswith("padding")

    def first_bits(self) -> list[int]:
        """Return where each of them begins."""
        places = [self.first_bit]
        for many, apart in self.turns:
            places = [place + item * apart for place in places for item in range(many)]
        return places

    def places(self, first_bit: int) -> list[int]:
        """Return where the bits of an item lie, the least significant first, as 8 times the byte plus the bit."""
        if self.is_bit_field:
            if self.order == "little":
                return list(range(first_bit, first_bit + self.bits))
            return [bit // 8 * 8 + 7 - bit % 8 for bit in range(first_bit + self.bits - 1, first_bit - 1, -1)]
        count = self.bits // 8
        numbers = range(count) if self.order == "little" else range(count - 1, -1, -1)
        return [first_bit + 8 * byte + bit for byte in numbers for bit in range(8)]


def leaves(record: Record, path: str = "", first_bit: int = 0, shown: str = "") -> Iterator[Leaf]:
    """Yield the numbers of a struct in the order of their places, unnamed bits and padding too, with an empty path.

    Raises
    ------
    HeaderError
        If a union has several structs, or none, so that it is open what lies there.
    """
    at = 0
    for member in [view_of(record)] if record.is_union else record.members:
        yield from _padding(record, first_bit, at, member.first_bit)
        at = max(at, member.first_bit + member.bits)
        yield from _of_member(member, record.order, path, first_bit, shown)
    yield from _padding(record, first_bit, at, record.bits)


def _of_member(member: Laid, order: ByteOrder, path: str, first_bit: int, shown: str) -> Iterator[Leaf]:
    """Yield the numbers of a member."""
    kind: CType = member.type
    turns: list[tuple[int, int]] = []
    is_open = False
    while isinstance(kind, Array):
        is_open |= kind.is_open
        if not kind.is_open:
            turns.append((kind.count, kind.of.bits))
        kind = kind.of
    name, called = path, shown
    if member.name:
        name = f"{path}.{member.name}" if path else member.name
        numbers = "".join(f"[{many}]" for many, _ in turns) + ("[]" if is_open else "")
        called = (f"{shown}." if shown else "") + member.name + numbers
    first_bit += member.first_bit
    if isinstance(kind, Record):
        for leaf in leaves(kind, name, first_bit, called):
            yield replace(leaf, turns=(*turns, *leaf.turns), is_open=leaf.is_open or is_open)
        return
    width = kind.bits if member.width is None else member.width
    own, called = (name, called) if member.name else ("", "")
    held: ByteOrder = kind.order or order
    is_bit_field = member.width is not None
    yield Leaf(own, kind, first_bit, width, held, is_bit_field, member.place, tuple(turns), is_open, called)


def _padding(record: Record, first_bit: int, at: int, end: int) -> Iterator[Leaf]:
    """Yield the bits between two members, if there are any."""
    bits = end - at
    if bits > 0:
        count, unit = (bits // 8, "byte") if bits % 8 == 0 else (bits, "bit")
        number = Number("uint", bits, 8, f"padding of {count} {unit}" + "s" * (count != 1))
        yield Leaf("", number, first_bit + at, bits, record.order, is_bit_field=True, place=record.place)


def view_of(union: Record) -> Laid:
    """Return the member of a union that names what lies there: its only struct, or its only member.

    Raises
    ------
    HeaderError
        If it has several structs, or none beside several others.
    """
    structs = [member for member in union.members if isinstance(member.type, Record)]
    if len(structs) == 1:
        return structs[0]
    if len(union.members) == 1:
        return union.members[0]
    names = ", ".join(member.name for member in union.members)
    refuse(
        union.place,
        f"has a union of {names or 'nothing'}",
        "must have a single struct in it, beside views as bytes or numbers",
        "Name the member that is meant, as in STRUCT.MEMBER",
    )
