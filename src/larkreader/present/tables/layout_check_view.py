"""A layout beside a struct of C, as text for a terminal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Group
from rich.text import Text

from larkreader.present.text.terminal import Paragraph, new_table

from .layout_table import place_of

if TYPE_CHECKING:
    from larkreader.answers.layout_check.compared import ComparedField, Difference, LayoutComparison

_DIFFERS, _HIDDEN = "bold #b23a17", "#a9741a"
_STYLES = {"same": "", "not shown": _HIDDEN, "differs": _DIFFERS, "only in sheet": _DIFFERS, "only in C": _DIFFERS}
_FIX_PADDING = "Fix: pack the struct, or declare reserved bits."
VERDICTS = {
    "same": "same: C has each field where the sheet has it",
    "partly shown": "same, as far as a header shows it",
    "differs": "differs",
}


def layout_check(result: LayoutComparison) -> Group:
    """Show a layout and a struct field by field, then in sentences what differs and what a header does not show."""
    table = new_table("byte.bit", "field", "in the sheet", "in C", "")
    for row in result.rows:
        place = _sheet_place(row) or f"({_c_place(row)})"
        outcome = "moved" if row.follows else row.outcome
        table.add_row(place, row.field or "-", row.in_sheet, _c_text(row), Text(outcome, style=_STYLES[row.outcome]))
    sentences = [Paragraph(text) for text in sentences_of(result)]
    return Group(
        table, *([""] if sentences else []), *sentences, "", Text(f"Verdict: {verdict_of(result)}", style="bold")
    )


def heading_of(result: LayoutComparison) -> str:
    """Say what is compared with what, and for which compiler."""
    behind = f", from byte {result.begins_at} of the frame on" if result.begins_at else ""
    without = f", without {', '.join(result.left_out)}" if result.left_out else ""
    return f"{result.layout}{without}, and {result.struct} of {result.header}{behind}; compiled for {result.target}"


def verdict_of(result: LayoutComparison) -> str:
    """Say in a line whether layout and struct are the same."""
    if result.verdict != "differs":
        return VERDICTS[result.verdict]
    causes, followers = result.causes, sum(row.follows for row in result.rows)
    moved = f", {followers} more moved by them" if followers else ""
    what = f"{len(causes)} difference" + "s" * (len(causes) != 1) if causes else "the length"
    return f"differs: {what}{moved}"


def sentences_of(result: LayoutComparison) -> Iterator[str]:
    """Yield what differs, in sentences that begin with the field, and what a header does not show."""
    yield from (row_text(row) for row in result.causes if not row.is_padding)
    padding = [_c_place(row) for row in result.causes if row.is_padding]
    if padding:
        yield f"The compiler puts padding at {', '.join(padding)}. {_FIX_PADDING}"
    moved = [row.field for row in result.rows if row.follows]
    if moved:
        yield f"Moved by what differs before: {', '.join(moved)}."
    if result.lengths_differ:
        yield f"The sheet has {_bytes(result.sheet_length)}, C has {_bytes(result.c_length)}."
    hidden: dict[str, list[str]] = {}
    for row in result.rows:
        for text in row.unseen:
            hidden.setdefault(text, []).append(row.field)
    yield from (f"{', '.join(fields)}: {text}." for text, fields in hidden.items())
    yield from (f"Note: {text}." for text in result.notes)


def row_text(row: ComparedField) -> str:
    """Say how a field and its member differ, the sheet first.

    Parameters
    ----------
    row : ComparedField
        A field that differs, or that only one side has.
    """
    line = f" (line {row.line})" if row.line and row.in_c else ""
    if row.outcome == "only in sheet":
        return f"{row.field}: C has no member for it. Fix: add it, or take it from the sheet."
    if row.outcome == "only in C":
        place = _c_place(row)
        if row.is_padding:
            return f"The compiler puts {row.in_c} at {place}. {_FIX_PADDING}"
        name = row.member or "unnamed bits"
        return f"{name}: the sheet has nothing for it, at {place}{line}. Fix: declare it, or reserved bits."
    shown = [item for item in row.differences if not item.follows] or row.differences
    swap = any(item.kind == "byte order" for item in shown)
    fix = " Fix: swap its bytes in the firmware, or correct its order in the sheet." if swap else ""
    return f"{row.field}: {'; '.join(_difference_text(row, item) for item in shown)}{line}.{fix}"


def _difference_text(row: ComparedField, difference: Difference) -> str:
    """Say in which thing a field differs."""
    ours, theirs = difference.in_sheet, difference.in_c
    if difference.kind == "place":
        return f"the sheet has it at {_sheet_place(row)}, C at {_c_place(row)}"
    if difference.kind == "order":
        return f"C has it in another order, at {_c_place(row)} in place of {_sheet_place(row)}"
    if difference.kind == "width":
        return f"{_bits(ours)} in the sheet, {_bits(theirs)} in C"
    if difference.kind == "number":
        return f"{ours} of them in the sheet, {theirs} in C"
    if difference.kind == "spacing":
        return f"its items lie {_bits(ours)} apart in the sheet, {_bits(theirs)} in C"
    if difference.kind == "byte order":
        return f"{ours} endian in the sheet, {theirs} endian in C"
    return f"{ours} in the sheet, {theirs} in C"


def _c_text(row: ComparedField) -> str:
    place = ""
    if row.c_bits is not None and row.sheet_bits is not None and row.c_bits[0] != row.sheet_bits[0] and row.member:
        place = f" at {_c_place(row)}"
    return row.in_c + place


def _sheet_place(row: ComparedField) -> str:
    return "" if row.sheet_bits is None else place_of(*row.sheet_bits, row.packing)


def _c_place(row: ComparedField) -> str:
    return "" if row.c_bits is None else place_of(*row.c_bits, row.c_packing)


def _bits(count: int | str) -> str:
    return f"{count} bit" + "s" * (count != 1)


def _bytes(count: int) -> str:
    return f"{count:,} byte" + "s" * (count != 1)
