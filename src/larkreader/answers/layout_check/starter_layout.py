"""A layout of the sheet to begin with, from a struct of a C header."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from pydantic import ValidationError

from larkreader.answers.c_header.contents import CHeader, outer_structs
from larkreader.answers.c_header.leaves import view_of
from larkreader.answers.c_header.tokens import refuse
from larkreader.answers.c_header.types import Array, CType, Laid, Number, Record
from larkreader.declare.common.byte_order import ByteOrder
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import Packing
from larkreader.errors import HeaderError

from .differences import plain_names
from .matched import is_free_name, plain_struct

NOT_FIELDS = ("marker", "faults", "offset")  # names that every column set has
_CHECKS = re.compile(r"(crc|checksum|chksum|cksum|fcs|bcc|lrc)\d*$")
_NOTE = 'its check value? Then type = "checksum", with a checksum of the frame'


def layout_of_struct(header: CHeader, name: str, key: str | None = None) -> FrameLayout:
    """Return the layout that a struct is.

    Parameters
    ----------
    header : CHeader
        The header.
    name : str
        The struct; see `CHeader.record`.
    key : str, optional
        What the layout is called; as the struct by default, without endings such as `_t` and `_frame`.

    Returns
    -------
    FrameLayout
        With a field for each number, named as in C; a group for an array of structs; reserved bits for padding and for
        members that are called reserved; the values of enums as names. A rest of the line is taken to stand between
        frames, as no header contains how their beginning is found.

    Raises
    ------
    HeaderError
        If there is no such struct, or a layout cannot express it.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> file = pathlib.Path(tempfile.mkdtemp(), "pump.h")
    >>> _ = file.write_text("typedef struct { uint8_t count; int16_t rate; } flow_t;")
    >>> lr.answers.layout_of_struct(lr.answers.read_header(file, "avr"), "flow_t")
    <FrameLayout "flow" on None: 3 bytes, idle; fields count, rate>
    """
    record = header.record(name)
    entries = list(_Entries(record.order).of(record))
    packing: Packing = "lsb" if record.order == "little" else "msb"
    called = key or plain_struct(name)
    try:
        return FrameLayout(key=called, boundary={"kind": "idle", "characters": 3.5}, packing=packing, fields=entries)
    except ValidationError as error:
        problems = "; ".join(item["msg"].rstrip(".") for item in error.errors())
        raise HeaderError(str(record.place), f"{name}: {problems}", "must be what a layout can express") from error


def layouts_of_structs(
    header: CHeader, names: Sequence[str] = ()
) -> tuple[dict[str, FrameLayout], dict[str, HeaderError]]:
    """Return the layouts that the structs of a header are.

    Parameters
    ----------
    header : CHeader
        The header.
    names : sequence of str
        Which structs; by default all that are not within others.

    Returns
    -------
    layouts : dict of str to FrameLayout
        By name; see `layout_of_struct`.
    left_out : dict of str to HeaderError
        The structs that a layout cannot express, where they were not named.

    Raises
    ------
    HeaderError
        If a struct that is named is not there, or a layout cannot express it; or if there is none at all.
    """
    layouts: dict[str, FrameLayout] = {}
    left_out: dict[str, HeaderError] = {}
    for name in names or outer_structs(header):
        try:
            layout = layout_of_struct(header, name)
        except HeaderError as error:
            if names:
                raise
            left_out[name] = error
            continue
        layouts[layout.key] = layout
    if not layouts:
        if left_out:
            raise next(iter(left_out.values()))
        header.raise_broken()
        raise HeaderError(header.name, "declares no struct", "must declare at least one")
    return layouts, left_out


class _Entries:
    """Turns the members of a struct into the entries of a layout."""

    def __init__(self, order: ByteOrder) -> None:
        self.order = order
        self.used: set[str] = set()

    def of(self, record: Record, prefix: str = "", *, in_group: bool = False) -> Iterator[dict[str, Any]]:
        """Yield the entries of a struct, padding included."""
        at = 0
        for member in [view_of(record)] if record.is_union else record.members:
            yield from _reserved(member.first_bit - at)
            at = member.first_bit + member.bits
            yield from self._member(member, record.order, prefix, in_group=in_group)
        yield from _reserved(record.bits - at)

    def _member(self, member: Laid, order: ByteOrder, prefix: str, *, in_group: bool) -> Iterator[dict[str, Any]]:
        kind: CType = member.type
        counts: list[int] = []
        is_open = False
        while isinstance(kind, Array):
            is_open |= kind.is_open
            counts.append(kind.count)
            kind = kind.of
        path = "_".join(filter(None, (prefix, member.name)))
        count = 1
        for many in counts:
            count *= many
        if isinstance(kind, Record):
            yield from self._struct(member, kind, path, counts, is_open=is_open, in_group=in_group)
        elif not member.name or is_free_name(member.name):
            yield from _reserved(member.bits)
        elif is_open and in_group:
            refuse(member.place, f"{member.name} has an unknown number in an array of structs", "must have a number")
        else:
            yield self._field(member, kind, path, order, "rest" if is_open else count, is_array=bool(counts))

    def _struct(
        self, member: Laid, kind: Record, path: str, counts: list[int], *, is_open: bool, in_group: bool
    ) -> Iterator[dict[str, Any]]:
        """Yield a struct within: its own members, or a group of them for an array."""
        if not counts:
            yield from self.of(kind, path, in_group=in_group)
        elif in_group or len(counts) > 1:
            refuse(
                member.place,
                f"{member.name} is an array of structs in another array",
                "must be a single one, for a layout",
                "Write its fields out in the sheet",
            )
        else:
            used, self.used = self.used, set()
            fields = list(self.of(kind, in_group=True))
            self.used = used
            yield {"group": self._name(path), "repeat": "rest" if is_open else counts[0], "fields": fields}

    def _field(
        self, member: Laid, number: Number, path: str, order: ByteOrder, repeat: int | str, *, is_array: bool
    ) -> dict[str, Any]:
        bits = member.width if member.width is not None else number.bits
        kind = number.kind
        word = f"int{bits}" if kind == "int" and bits > 1 else f"uint{bits}"
        if kind == "float":
            word = f"float{bits}"
        elif kind == "char" and is_array:
            word = "text"
        elif bits == 1 and not number.names:
            word = "flag"
        field: dict[str, Any] = {"name": self._name(path), "type": word}
        held: ByteOrder = number.order or order
        if held != self.order and bits > 8:
            if member.width is not None or bits % 8:
                found = f"{member.name} is a bit-field in another byte order"
                refuse(member.place, found, "must be in that of the frame")
            field["order"] = held
        if number.names:
            low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if word.startswith("int") else (0, (1 << bits) - 1)
            names = plain_names(number.names, member.name)
            field["names"] = {name: value for name, value in names.items() if low <= value <= high}
        if kind == "bool" and bits == 8:
            field["names"] = {"false": 0, "true": 1}
        if repeat != 1:
            field["repeat"] = repeat
        if _CHECKS.search(member.name.lower()):
            field["note"] = _NOTE
        return field

    def _name(self, path: str) -> str:
        name = re.sub(r"\W", "_", path) or "field"
        if name[0].isdigit() or name in NOT_FIELDS:
            name = f"{name}_" if name in NOT_FIELDS else f"_{name}"
        while name in self.used:
            name += "_"
        self.used.add(name)
        return name


def _reserved(bits: int) -> Iterator[dict[str, Any]]:
    """Yield reserved bits, at most 64 in an entry."""
    while bits > 0:
        part = min(bits, 64)
        yield {"reserved": part}
        bits -= part
