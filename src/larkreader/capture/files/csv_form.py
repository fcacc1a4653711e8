"""What form a table in text has: what stands between its cells, where its header is, which column is the time."""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

SEPARATORS = (",", ";", "\t")
COMMENTS = ("#", "//", "%")
UNITS = {
    "s": 1.0, "sec": 1.0, "second": 1.0, "seconds": 1.0, "ms": 1e-3, "us": 1e-6, "\u00b5s": 1e-6, "\u03bcs": 1e-6,
    "ns": 1e-9, "ps": 1e-12,
}  # fmt: skip
VOLTS = {"v": 1.0, "volt": 1.0, "volts": 1.0, "mv": 1e-3}
LOOKED_AT = 40  # lines, in which the header and a row must lie
MOST = 0.9  # of the cells, which decide whether a table holds levels or voltages
FEWEST_STEPS = 3  # even times, by which a column without a name is known to be the time
_IN_UNIT = r"[ _]*[\[(/]?[ ]*(?P<unit>[a-z\u00b5\u03bc]{1,7})[ ]*[\])]?"
_TIMES = "time(?:stamp)?|t|zeit|temps|tiempo|tempo|tid|tijd|aika|czas"  # as programs in other languages head it
_TIME = re.compile(rf"(?:{_TIMES})(?:{_IN_UNIT})?", re.IGNORECASE)
_VOLTS = re.compile(rf"(?P<name>.*?\w)[ _]*[\[(/_][ ]*(?P<unit>{'|'.join(VOLTS)})[ ]*[\])]?", re.IGNORECASE)
_UNIT = re.compile(r"[\[(]?([a-z\u00b5\u03bc]{1,7})[\])]?", re.IGNORECASE)
_NUMBER = re.compile(r"[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?")
_LEVEL = re.compile(r"[01xXzZ]?")


@dataclass(frozen=True)
class CsvForm:
    """The form of a table of levels or voltages, a row a change or a sample.

    Parameters
    ----------
    separator : str
        What stands between cells.
    decimal : {".", ","}
        What stands before the decimals of a number.
    first_row : int
        Number of the line with the first row, counted from 0.
    columns : tuple of str
        Names of the columns; where the file has none, the numbers of the columns that are not the time, from 0.
    unit : float or None
        Of the times, which are in the first column, in seconds; None if there are none.
    holds : {"levels", "voltages"}
        What the other columns hold.
    scales : tuple of float
        Volts of 1 in each column.
    """

    separator: str
    decimal: str
    first_row: int
    columns: tuple[str, ...]
    unit: float | None
    holds: Literal["levels", "voltages"]
    scales: tuple[float, ...]

    @property
    def signals(self) -> tuple[str, ...]:
        """The columns beside the time."""
        return self.columns if self.unit is None else self.columns[1:]


def find_form(head: bytes, *, with_times: bool = True) -> CsvForm | None:
    """Find the form of a table from how it begins.

    Parameters
    ----------
    head : bytes
        The beginning of a file.
    with_times : bool
        Whether its first column must be the time: called so, or named with a unit of time in a line of units, or
        rising by even steps. Other columns must hold 0, 1, x, z or nothing, or numbers.

    Returns
    -------
    CsvForm or None
        None if it is not such a table.
    """
    lines = head.removeprefix(b"\xef\xbb\xbf").decode("utf-8", errors="replace").splitlines()
    if len(lines) > 1 and not head.endswith((b"\n", b"\r")):
        lines.pop()  # it may be cut off
    kept = [(number, line) for number, line in enumerate(lines[: 2 * LOOKED_AT]) if not _is_remark(line)]
    for separator in SEPARATORS:
        rows = [(number, cells_of(line, separator)) for number, line in kept[:LOOKED_AT]]
        first = next((place for place, (_, cells) in enumerate(rows) if is_row(cells)), None)
        if first is None:
            if len(rows) == 1 and len(rows[0][1]) > 1 and _time_unit(rows[0][1], None, []) is not None:
                columns = tuple(rows[0][1])  # a header and nothing below
                return CsvForm(separator, ".", rows[0][0] + 1, columns, 1.0, "levels", (1.0,) * len(columns))
            continue
        body = [cells for _, cells in rows[first:] if is_row(cells)]
        names = rows[first - 1][1] if first else None
        units = None
        if first > 1 and names is not None and _UNIT.fullmatch(names[0]) and _unit_of(names[0]) is not None:
            names, units = rows[first - 2][1], names  # a line of units stands below the names
        form = _form_of(separator, rows[first][0], names, units, body, with_times=with_times)
        if form is not None:
            return form
    return None


def cells_of(line: str, separator: str) -> list[str]:
    """Split a line into cells, without the space and the quotes around them."""
    return [cell.strip().strip('"').strip() for cell in line.split(separator)]


def _form_of(
    separator: str,
    first_row: int,
    names: list[str] | None,
    units: list[str] | None,
    body: list[list[str]],
    *,
    with_times: bool,
) -> CsvForm | None:
    width = len(body[0])
    if any(heading is not None and len(heading) != width for heading in (names, units)):
        return None
    unit = _time_unit(names, units, body)
    if (unit is None and with_times) or (unit is not None and width < 2):
        return None
    values = [cell for row in body for cell in row[unit is not None :]]
    if not values or (unit is None and not any(values)):
        return None
    levels = sum(map(bool, map(_LEVEL.fullmatch, values)))
    holds: Literal["levels", "voltages"] = "levels" if levels >= MOST * len(values) else "voltages"
    if names is None:
        numbers = [str(number) for number in range(width - (unit is not None))]
        names = ["time", *numbers] if unit is not None else numbers
    scales = [1.0] * width
    if holds == "voltages":
        for place, name in enumerate(names):
            result = None if units is None else _UNIT.fullmatch(units[place])
            if result is not None:
                scales[place] = VOLTS.get(result[1].lower(), 1.0)
            elif (match := _VOLTS.fullmatch(name)) and not (place == 0 and unit is not None):
                names = [*names[:place], match["name"], *names[place + 1 :]]
                scales[place] = VOLTS[match["unit"].lower()]
    numbers_in = [cell for row in body for cell in (row if holds == "voltages" else row[:1])]
    decimal = "," if separator != "," and any("," in cell for cell in numbers_in) else "."
    return CsvForm(separator, decimal, first_row, tuple(names), unit, holds, tuple(scales))


def _time_unit(names: list[str] | None, units: list[str] | None, body: list[list[str]]) -> float | None:
    """Return the unit of the first column in seconds, None if it is not the time."""
    if units is not None:
        return _unit_of(units[0])
    if names is not None:
        match = _TIME.fullmatch(names[0])
        return None if match is None else 1.0 if match["unit"] is None else _unit_of(match["unit"])
    if len(body[0]) < 2 or len(body) <= FEWEST_STEPS or not all(_NUMBER.fullmatch(row[0]) for row in body):
        return None
    times = [float(row[0].replace(",", ".")) for row in body]
    steps = [later - earlier for earlier, later in pairwise(times)]
    return 1.0 if min(steps) > 0 and max(steps) < 1.5 * min(steps) and max(times) != len(times) - 1 else None


def _unit_of(text: str) -> float | None:
    return UNITS.get(text.strip("()[] ").lower())


def _is_remark(line: str) -> bool:
    return not line.strip() or line.lstrip().startswith(COMMENTS)


def is_number(text: str) -> bool:
    """Return whether a cell holds a number."""
    return _NUMBER.fullmatch(text) is not None


def is_row(cells: list[str]) -> bool:
    """Return whether a line may be a row: damage in single cells is reported later, with its place."""
    return bool(_NUMBER.fullmatch(cells[0])) and (
        len(cells) == 1 or any(_LEVEL.fullmatch(cell) or _NUMBER.fullmatch(cell) for cell in cells[1:])
    )
