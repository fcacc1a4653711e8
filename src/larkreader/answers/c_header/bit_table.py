"""Tables of bit fields in C: an array whose rows name a field, its first bit and its width.

That is how firmware which packs and unpacks by itself declares a frame: ``{"flow", 16, 12}``, or ``{.name = "flow",
.first_bit = 16, .bits = 12}``. Bits are counted as the layout counts them, from the first of the frame or of the part
that the table describes.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from pycparser import c_ast

from larkreader.declare.common.byte_order import ByteOrder
from larkreader.declare.frame.shape import Packing

from .constants import Evaluation
from .contents import CHeader
from .leaves import Leaf
from .tokens import Place, refuse
from .types import Number, NumberKind

_COLUMNS: Mapping[str, Sequence[str]] = {
    "name": ("name", "field", "label", "id", "signal"),
    "first": (
        "first_bit",
        "first",
        "bit",
        "start",
        "start_bit",
        "offset",
        "bit_offset",
        "pos",
        "position",
        "shift",
        "lsb",
    ),
    "bits": ("bits", "width", "size", "length", "len", "bit_count", "nbits", "num_bits", "bit_width"),
    "sign": ("signed", "is_signed", "sign", "has_sign"),
    "float": ("float", "is_float", "real"),
    "count": ("count", "repeat", "items", "elements"),
}
_WANTED = (
    "must be a struct with a name (name, field, label), a first bit (first_bit, start, offset, pos), a width (bits, "
    "width, size, length), and by choice is_signed, is_float and count"
)


def table_leaves(header: CHeader, name: str, packing: Packing) -> list[Leaf]:
    """Return the rows of a table as members that lie where it says, in the order of their first bits.

    Parameters
    ----------
    header : CHeader
        The header.
    name : str
        The table.
    packing : {"lsb", "msb"}
        How the layout counts bits.

    Raises
    ------
    HeaderError
        If its columns do not name fields and bits, or a value is not a constant.
    """
    node, members, place = header.tables[name]
    columns = _columns(members, place)
    leaves = [_leaf(header, row, members, columns, packing, place) for row in node.init.exprs if _is_row(row)]
    if not leaves:
        refuse(place, f"has no rows in {name}", _WANTED)
    return sorted(leaves, key=lambda leaf: leaf.first_bit)


def _columns(members: Sequence[str], place: Place) -> dict[str, str]:
    """Return which member of a row holds what."""
    columns = {}
    for what, known in _COLUMNS.items():
        found = next(
            (
                member
                for word in known
                for member in members
                if member.lower().replace("_", "") == word.replace("_", "")
            ),
            None,
        )
        if found is not None:
            columns[what] = found
    if not {"name", "first", "bits"} <= columns.keys():
        refuse(place, f"is a table with {', '.join(members) or 'no members'}", _WANTED)
    return columns


def _is_row(row: Any) -> bool:
    """Return whether a row holds something; a last row of zeros marks the end of a table."""
    return not (
        isinstance(row, c_ast.InitList)
        and (not row.exprs or (isinstance(row.exprs[0], (c_ast.ID, c_ast.Constant)) and _is_nothing(row.exprs[0])))
    )


def _is_nothing(node: Any) -> bool:
    return getattr(node, "name", "") == "NULL" or getattr(node, "value", "") == "0"


def _leaf(
    header: CHeader, row: Any, members: Sequence[str], columns: Mapping[str, str], packing: Packing, place: Place
) -> Leaf:
    if not isinstance(row, c_ast.InitList):
        refuse(place, "has a row that is not in braces", _WANTED)
    values: dict[str, Any] = {}
    at = 0
    for item in row.exprs:
        if isinstance(item, c_ast.NamedInitializer):
            called = item.name[0].name
            at = list(members).index(called) if called in members else len(members)
            item = item.expr
        if at < len(members):
            values[members[at]] = item
        at += 1
    where = Place(place.file, row.coord.line if row.coord is not None else place.line)
    evaluation = Evaluation(where, header.enumerators)

    def number(what: str, default: int | None = None) -> int:
        node = values.get(columns.get(what, ""))
        if node is None:
            if default is None:
                refuse(where, f"has a row without {columns[what]}", _WANTED)
            return default
        return evaluation.of(node)

    text = values.get(columns["name"])
    if isinstance(text, c_ast.Constant) and text.type == "string":
        name = text.value.strip('"')
    elif isinstance(text, c_ast.ID):
        name = text.name
    else:
        refuse(where, "has a row without the name of a field", _WANTED)
    if not re.fullmatch(r"\w[\w. ]*", name):
        refuse(where, f'names the field "{name}"', "must be a name of letters and digits")
    first, bits, count = number("first"), number("bits"), number("count", 1)
    if not (0 <= first <= 8 * 65536 and 1 <= bits <= 64 and 1 <= count <= 65536):
        refuse(where, f"has bit {first}, {bits} bits, {count} times", "must be 1 to 64 bits of a frame")
    kind: NumberKind = "float" if number("float", 0) else "int" if number("sign", 0) else "uint"
    order: ByteOrder = "little" if packing == "lsb" else "big"
    turns = ((count, bits),) if count > 1 else ()
    held = Number(
        kind, bits, 8, {"int": "signed", "float": "float"}.get(kind, "unsigned" if "sign" in columns else "bits")
    )
    shown = name + (f"[{count}]" if count > 1 else "")
    unknown = {what for what, column in (("sign", "sign"), ("kind", "float")) if column not in columns}
    return Leaf(
        name, held, first, bits, order, is_bit_field=True, place=where, turns=turns, shown=shown,
        unknown=frozenset({*unknown, "order"}),
    )  # fmt: skip
