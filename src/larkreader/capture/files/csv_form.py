"""What form a table in text has: what stands between its cells, where its header is, which column is the time."""

from __future__ import annotations

import re
from dataclasses import dataclass

SEPARATORS = (",", ";", "\t")
COMMENTS = ("#", "//", "%")
UNITS = {"s": 1.0, "sec": 1.0, "ms": 1e-3, "us": 1e-6, "\u00b5s": 1e-6, "\u03bcs": 1e-6, "ns": 1e-9, "ps": 1e-12}
LOOKED_AT = 40  # lines, in which the header and a row must lie
_TIME = re.compile(
    r"(?:time(?:stamp)?|t)(?:[ _]*[\[(/]?[ ]*(?P<unit>[a-z\u00b5\u03bc]{1,3})[ ]*[\])]?)?", re.IGNORECASE
)
_NUMBER = re.compile(r"[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?")
_LEVEL = re.compile(r"[01xXzZ]?")


@dataclass(frozen=True)
class CsvForm:
    """The form of a table of levels over time.

    Parameters
    ----------
    separator : str
        What stands between cells.
    decimal : {".", ","}
        What stands before the decimals of a number.
    header_line : int
        Number of the line with the names of the columns, counted from 0.
    columns : tuple of str
        Those names, stripped.
    unit : float
        Of the times, which are in the first column, in seconds.
    """

    separator: str
    decimal: str
    header_line: int
    columns: tuple[str, ...]
    unit: float


def find_form(head: bytes) -> CsvForm | None:
    """Find the form of a table of levels over time from how it begins.

    Parameters
    ----------
    head : bytes
        The beginning of a file.

    Returns
    -------
    CsvForm or None
        None if it is no such table: its first column must be called time, with a unit if it is not seconds, and hold
        numbers; the others must hold 0, 1, x, z or nothing.
    """
    lines = head.removeprefix(b"\xef\xbb\xbf").decode("utf-8", errors="replace").splitlines()[:LOOKED_AT]
    for number, line in enumerate(lines):
        if not line.strip() or line.lstrip().startswith(COMMENTS):
            continue
        for separator in SEPARATORS:
            columns = cells_of(line, separator)
            match = _TIME.fullmatch(columns[0])
            if len(columns) < 2 or match is None or (unit := _unit_of(match["unit"])) is None:
                continue
            rows = [cells_of(row, separator) for row in lines[number + 1 :] if row.strip()]
            rows = [row for row in rows if not row[0].startswith(COMMENTS)]
            if all(_is_row(row, len(columns)) for row in rows[:1]):
                decimal = "," if separator != "," and any("," in row[0] for row in rows) else "."
                return CsvForm(separator, decimal, number, tuple(columns), unit)
    return None


def cells_of(line: str, separator: str) -> list[str]:
    """Split a line into cells, without the space and the quotes around them."""
    return [cell.strip().strip('"').strip() for cell in line.split(separator)]


def _unit_of(text: str | None) -> float | None:
    return 1.0 if text is None else UNITS.get(text.lower())


def _is_row(cells: list[str], width: int) -> bool:
    """Tell whether a line may be a row: damage in single cells is told later, with its place."""
    return len(cells) == width and bool(_NUMBER.fullmatch(cells[0])) and any(map(_LEVEL.fullmatch, cells[1:]))
