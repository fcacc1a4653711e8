"""A struct of a C header compared with a layout of the sheet, field by field.

What is compared is what a header shows: where the bits of each field lie, how wide it is, its sign, its byte order, how
many there are, and the values of an enum. Scales, ranges, fixed values and checksums are not in a header.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from larkreader.answers.c_header.bit_table import table_leaves
from larkreader.answers.c_header.contents import CHeader, outer_structs
from larkreader.answers.c_header.header import read_header
from larkreader.answers.c_header.leaves import Leaf
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.frame_shape import ShapedLayout
from larkreader.declare.frame.shape import Packing
from larkreader.errors import RequestError, nearest

from .compared import ComparedField, Difference, LayoutComparison
from .differences import differences, unseen
from .matched import Match, matches, plain_struct
from .sheet_side import Stretch, between, stretches


def check_layout(
    layout: ShapedLayout,
    header: CHeader | str | Path,
    struct: str | None = None,
    *,
    target: str = "arm",
    first: str | None = None,
    last: str | None = None,
    same: Mapping[str, str] | None = None,
) -> LayoutComparison:
    """Compare a layout of the sheet with a struct, or a table of bit fields, of a C header.

    Parameters
    ----------
    layout : FrameLayout
        The layout.
    header : CHeader, str or pathlib.Path
        The header, or its file.
    struct : str, optional
        The struct or the table: its tag, the name of its ``typedef``, that of the table; behind points the members that
        lead to a struct within. It may be left out where the header has only one.
    target : str
        Whose compiler lays the struct out, where `header` is a file; see `read_header`.
    first, last : str, optional
        The fields with which the struct begins and ends, where it is not the whole frame. Without `first` it begins
        with the marker or behind it, whichever fits better.
    same : mapping of str to str, optional
        Fields of the layout by the members that are the same, where their names differ.

    Returns
    -------
    LayoutComparison
        Field by field.

    Raises
    ------
    HeaderError
        If the header cannot be read or has no such struct.
    RequestError
        If a field or a member is not there, or the frames are lines of text.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> file = pathlib.Path(tempfile.mkdtemp(), "pump.h")
    >>> _ = file.write_text("struct flow { uint8_t count; uint16_t rate; };")
    >>> fields = [{"name": "count", "type": "uint8"}, {"name": "rate", "type": "uint16"}]
    >>> layout = lr.FrameLayout(key="flow", boundary={"kind": "cobs"}, fields=fields)
    >>> found = lr.answers.check_layout(layout, file)
    >>> found.verdict, [row.outcome for row in found.rows]
    ('differs', ['same', 'only in C', 'differs'])
    """
    read = header if isinstance(header, CHeader) else read_header(header, target)
    name = struct or _only(read)
    leaves, bits = _members(read, name, layout.packing)
    whole = stretches(layout)
    compared = between(whole, first, last)
    begin = compared[0].first_bit
    if first is None and compared[0].kind == "marker" and len(compared) > 1:
        begin, compared = _better(compared, leaves, same or {}, bits)
    found = matches(compared, leaves, begin, same or {})
    rows = tuple(_rows(found, leaves, begin, read))
    end = compared[-1].end_bit
    is_fixed = layout.is_fixed and layout.pattern is None
    return LayoutComparison(
        layout=layout.key,
        struct=name,
        header=read.name,
        target=str(read.target),
        begins_at=begin // 8,
        sheet_length=-(-(end - begin) // 8),
        c_length=-(-bits // 8),
        is_fixed=is_fixed and name not in read.tables,
        rows=rows,
        left_out=tuple(item.name for item in whole if item not in compared),
        notes=tuple(read.notes),
    )


def check_layouts(
    sheet: Sheet,
    header: CHeader,
    frame: str | None = None,
    struct: str | None = None,
    *,
    first: str | None = None,
    last: str | None = None,
    same: Mapping[str, str] | None = None,
) -> tuple[list[LayoutComparison], list[str]]:
    """Compare the frames of a sheet with the structs of their names; see `check_layout`.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    header : CHeader
        The header.
    frame, struct : str, optional
        A single frame, and its struct. With a struct alone it is compared with the frame of its name, or the only one.
    first, last : str, optional
        As in `check_layout`.
    same : mapping of str to str, optional
        As in `check_layout`.

    Returns
    -------
    comparisons : list of LayoutComparison
        One for each frame that has a struct.
    without : list of str
        The frames that have none.

    Raises
    ------
    HeaderError, RequestError
        As `check_layout`; or if no frame has a struct.
    """
    if frame is not None and frame not in sheet.frame:
        raise RequestError(f'frame "{frame}"', "is not on the sheet", "", nearest(frame, list(sheet.frame)))
    chosen = [frame] if frame is not None else list(sheet.frame)
    pairs: dict[str, str] = {}
    if struct is not None:
        fitting = chosen if len(chosen) == 1 else [key for key in chosen if _fits(key, struct)]
        if len(fitting) != 1:
            raise RequestError("frame", "is not given", f"must be {' or '.join(chosen)}")
        pairs = {fitting[0]: struct}
    else:
        pairs = {key: name for key in chosen if (name := _named_as(key, header)) is not None}
        if not pairs and len(chosen) == 1:
            pairs = {chosen[0]: _only(header)}
    if not pairs:
        names = ", ".join(_names(header))
        found = "has no struct named as a frame of the sheet" if names else "declares no struct"
        raise RequestError(
            header.name, found, f"must be {names}" if names else "", "Name both, the frame and the struct"
        )
    if len(pairs) > 1 and (first is not None or last is not None or same):
        found = f"is not given, and {len(pairs)} frames have a struct"
        raise RequestError("frame", found, "must be given with the fields or members of a single frame")
    options: dict[str, Any] = {"first": first, "last": last, "same": same}
    results = [check_layout(sheet.frame[key], header, name, **options) for key, name in pairs.items()]
    return results, [key for key in chosen if key not in pairs]


def _names(header: CHeader) -> list[str]:
    return [name.removeprefix("struct ") for name in [*header.structs, *header.tables]]


def _named_as(frame: str, header: CHeader) -> str | None:
    """Return the struct that is named as a frame, or the table; None if there is none."""
    structs = [name.removeprefix("struct ") for name in header.structs]
    for names in (structs, [*header.tables]):
        fitting = [name for name in names if _fits(frame, name)]
        exact = [name for name in fitting if plain_struct(name).lower() == frame.lower()]
        if len(fitting) > 1 and len(exact) != 1:
            raise RequestError(
                "struct", f"{' and '.join(fitting)} are all named as {frame}", "must be given", "Name both"
            )
        if fitting:
            return exact[0] if exact else fitting[0]
    header.raise_broken(lambda name: _fits(frame, name))
    return None


def _fits(frame: str, struct: str) -> bool:
    """Return whether a struct is named as a frame, with a prefix or an ending such as `_t`, or without."""
    key = frame.lower()
    whole = struct.rsplit(".", 1)[-1].lower()
    names = {whole, whole.removesuffix("_t"), plain_struct(struct).lower()}
    return any(name == key or name.endswith("_" + key) or _joined(name) == _joined(key) for name in names)


def _joined(name: str) -> str:
    return name.replace("_", "")


def _only(header: CHeader) -> str:
    """Return the struct of a header that has only one which no other struct holds, or its only table."""
    outer = outer_structs(header) or [*header.tables]
    if len(outer) == 1:
        return outer[0]
    known = ", ".join(_names(header))
    header.raise_broken()
    raise RequestError("struct", "is not named", f"must be one of {known}" if known else f"must be in {header.name}")


def _members(header: CHeader, name: str, packing: Packing) -> tuple[list[Leaf], int]:
    """Return the members of a struct, or the rows of a table, and how many bits it has."""
    if name in header.tables:
        leaves = table_leaves(header, name, packing)
        return leaves, max(leaf.first_bit + leaf.bits for leaf in leaves)
    record = header.record(name)
    return sorted(header.leaves(name), key=lambda leaf: leaf.first_bit), record.bits


def _better(
    compared: list[Stretch], leaves: Sequence[Leaf], same: Mapping[str, str], bits: int
) -> tuple[int, list[Stretch]]:
    """Return where a struct begins, and what it is compared with: with the marker, or without it."""

    def fit(items: list[Stretch]) -> tuple[int, bool]:
        begin = items[0].first_bit
        found = matches(items, leaves, begin, same)
        named = [match for match in found if match.leaves and match.stretch.kind != "marker"]
        good = sum(begin + match.leaves[0].first_bit == match.stretch.first_bit for match in named)
        return good, items[-1].end_bit - begin == bits

    behind = compared[1:]
    choice = max((behind, compared), key=fit)
    return choice[0].first_bit, choice


def _rows(found: Sequence[Match], leaves: Sequence[Leaf], begin: int, header: CHeader) -> Iterator[ComparedField]:
    """Yield the fields in order, with what only C has between them."""
    order = {id(leaf): number for number, leaf in enumerate(leaves)}
    matched = {id(leaf) for match in found for leaf in match.leaves}
    firsts = [min(order[id(leaf)] for leaf in match.leaves) for match in found if match.leaves]
    kept = _longest_rising(firsts)
    at = 0  # the next member of C
    shift = _Shift()
    for match in found:
        item = match.stretch
        if not match.leaves:
            shift.skip(item.end_bit - item.first_bit)
            yield ComparedField(
                item.name, "", "only in sheet", item.text, "", (item.first_bit, item.end_bit), None, item.packing
            )
            continue
        first = min(order[id(leaf)] for leaf in match.leaves)
        in_order = first in kept
        while in_order and at < first:
            leaf = leaves[at]
            at += 1
            if id(leaf) not in matched:
                yield _only_in_c(leaf, begin)
            if id(leaf) not in matched or order[id(leaf)] not in kept:
                shift.skip(0, leaf.bits, leaf.bits * leaf.count)
        row = _row(match, begin, shift, header, in_order=in_order)
        if in_order:
            at = max(order[id(leaf)] for leaf in match.leaves) + (0 if match.is_part else 1)
            shift.behind(match, begin)
        else:
            shift.skip(item.end_bit - item.first_bit)
        yield row
    yield from (_only_in_c(leaf, begin) for leaf in leaves[at:] if id(leaf) not in matched)


class _Shift:
    """By how many bits C lies later than the sheet, as far as it was shown: within a group, and behind it."""

    def __init__(self) -> None:
        self.known = {0}

    def skip(self, in_sheet: int, *in_c: int) -> None:
        """Pass over what only one side has: of an array, the first or all of it."""
        self.known = {bits - in_sheet + more for bits in self.known for more in in_c or (0,)}

    def behind(self, match: Match, begin: int) -> None:
        """Pass over a field and its member."""
        item, leaf = match.stretch, match.leaves[-1]
        if leaf.is_open or item.varies or match.is_part:
            return
        places = leaf.first_bits()
        of_first = begin + places[0] + leaf.bits - (item.first_bits[0] + item.bits)
        self.known = {of_first, begin + places[-1] + leaf.bits - item.end_bit}


def _row(match: Match, begin: int, shift: _Shift, header: CHeader, *, in_order: bool) -> ComparedField:
    """Return a field beside its member."""
    item, leaf = match.stretch, match.leaves[0]
    first = begin + min(part.first_bit for part in match.leaves)
    end = begin + max((part.first_bits() or [part.first_bit])[-1] + part.bits for part in match.leaves)
    found = list(differences(match, begin, header.target))
    if not in_order:
        found.insert(0, Difference("order", item.first_bit, first))
    elif first != item.first_bit and not match.is_part and not item.moves:
        found.insert(0, Difference("place", item.first_bit, first, follows=first - item.first_bit in shift.known))
    hidden = tuple(unseen(match, begin, header.target))
    return ComparedField(
        field=item.name,
        member=", ".join(part.path for part in match.leaves if part.path),
        outcome="differs" if found else "not shown" if hidden else "same",
        in_sheet=item.text,
        in_c="; ".join(part.text for part in match.leaves),
        sheet_bits=(item.first_bit, item.end_bit),
        c_bits=(first, end),
        packing=item.packing,
        c_packing=_packing(leaf),
        differences=tuple(found),
        unseen=hidden,
        line=leaf.place.line,
    )


def _only_in_c(leaf: Leaf, begin: int) -> ComparedField:
    places = leaf.first_bits() or [leaf.first_bit]
    bits = (begin + places[0], begin + places[-1] + leaf.bits)
    return ComparedField(
        "", leaf.path, "only in C", "", leaf.text, None, bits, c_packing=_packing(leaf), line=leaf.place.line
    )


def _packing(leaf: Leaf) -> Packing:
    return "msb" if leaf.is_bit_field and leaf.order == "big" else "lsb"


def _longest_rising(numbers: Sequence[int]) -> set[int]:
    """Return the most numbers that rise in their order, each once (patience sorting)."""
    ends: list[int] = []
    before: dict[int, int | None] = {}
    for number in dict.fromkeys(numbers):
        at = bisect_left(ends, number)
        before[number] = ends[at - 1] if at else None
        ends[at : at + 1] = [number]
    kept: set[int] = set()
    last = ends[-1] if ends else None
    while last is not None:
        kept.add(last)
        last = before[last]
    return kept
