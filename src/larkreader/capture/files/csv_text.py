"""Tables to comma-separated text, thousands of rows at a time.

The cells of a column are written into as many bytes as its widest needs, all rows at once, with `FILL`, which no text
has in UTF-8, where a cell is shorter. Columns side by side make one block, from which the fill is then deleted. Digits
come four at a time from a table of 10,000 groups; one with the zeros dropped that a number does not begin with, and one
without those that it does not end with, stand beside it.

A number with a fraction is found to be a whole number of trillionths, billionths, millionths or thousandths, if
dividing that whole number gives it back to the last bit: as that takes at most 15 digits, they are also the fewest that
distinguish it. What is none of these is left to `repr`.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.sources import Target, opened_to_write

Cells = npt.NDArray[np.uint8]
FILL = 0xFF
ROWS = 1 << 13
BLOCK_BYTES = 1 << 25  # of a block with its fill, beyond which its rows are divided
GROUP = 10_000
PLACES = 12
EXACT = ((12, 1e15), (3, 1e15), (9, 1e15), (6, 1e15), (12, 2.0**53))  # decimal places, and what their number is below


@dataclass(frozen=True)
class Choice:
    """A column of few different texts: ``texts[codes]``."""

    codes: npt.NDArray[Any]
    texts: Sequence[str]

    def __len__(self) -> int:
        return len(self.codes)

    def __getitem__(self, rows: Any) -> Choice:
        return Choice(self.codes[rows], self.texts)

    @classmethod
    def of(cls, values: npt.NDArray[Any], text_of: Any) -> Choice:
        """Make one of values of which few differ, and a function that gives the text of one."""
        if values.dtype == np.uint8:  # without sorting them
            is_there = np.zeros(256, dtype=np.bool_)
            is_there[values] = True
            different = np.flatnonzero(is_there)
            codes = (np.cumsum(is_there) - 1).astype(np.uint8)[values]
        else:
            different, codes = np.unique(values, return_inverse=True)
        return cls(codes, [text_of(value) for value in different.tolist()])


@dataclass(frozen=True)
class Computed:
    """A column that is calculated from another, so many rows at a time as are written at once."""

    source: npt.NDArray[Any]
    calculate: Callable[[npt.NDArray[Any]], npt.NDArray[Any]]

    def __len__(self) -> int:
        return len(self.source)

    def __getitem__(self, rows: Any) -> npt.NDArray[Any]:
        return self.calculate(self.source[rows])


def write_csv(
    target: Target, names: Sequence[str], parts: Sequence[Sequence[Any]], order: npt.NDArray[np.intp] | None = None
) -> None:
    """Write a table whose rows come from one or several sources.

    Parameters
    ----------
    target : str, pathlib.Path or binary file
        The file.
    names : sequence of str
        The heading of each column.
    parts : sequence of sequences
        Of each source, one entry a column, the first of them not None: an array of numbers or of objects, a masked one,
        a `Ragged`, a `Choice`, a `Computed`, or None for cells that are empty. NaN and what is masked is an empty cell
        too.
    order : ndarray of intp, shape (n_rows,), optional
        In which order the rows of all sources, counted through, are to stand; as they come if left out.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    with opened_to_write(target) as file:
        file.write(csv_heading(names))
        file.writelines(csv_lines(parts, order))


def csv_heading(names: Sequence[str]) -> bytes:
    """Return the first line of a table: the heading of each column."""
    return b",".join(map(_quoted, names)) + b"\n"


def csv_lines(parts: Sequence[Sequence[Any]], order: npt.NDArray[np.intp] | None = None) -> Iterator[bytes]:
    """Yield the lines of `write_csv`, many at a time, without the headings."""
    first = np.cumsum([0, *(len(columns[0]) for columns in parts)])
    for begin in range(0, int(first[-1]), ROWS):
        block = slice(begin, begin + ROWS)
        if len(parts) == 1:
            yield _lines(parts[0], block if order is None else order[block])
            continue
        rows = np.arange(begin, min(begin + ROWS, first[-1])) if order is None else order[block]
        owner = np.searchsorted(first, rows, side="right") - 1
        if (owner == owner[0]).all():
            yield _lines(parts[owner[0]], rows - first[owner[0]])
            continue
        lines = np.empty(len(rows), dtype=object)
        for part in np.unique(owner).tolist():
            mine = owner == part
            lines[mine] = _lines(parts[part], rows[mine] - first[part]).split(b"\n")[:-1]
        yield b"\n".join(lines.tolist()) + b"\n"


def _lines(columns: Sequence[Any], rows: Any) -> bytes:
    """Return the lines of some rows of one source."""
    cells = [None if column is None else _cells(column[rows]) for column in columns]
    first = cells[0]
    assert first is not None
    return _joined(cells, len(first))


def _joined(cells: Sequence[Cells | list[bytes] | None], count: int) -> bytes:
    """Put cells side by side, with commas between them; few rows at a time where that makes the block too large."""
    width = sum(1 + _width(column) for column in cells)
    if count > 1 and count * width > BLOCK_BYTES:
        halves = slice(count // 2), slice(count // 2, count)
        return b"".join(
            _joined([None if column is None else column[half] for column in cells], len(range(count)[half]))
            for half in halves
        )
    block = np.empty((count, width), dtype=np.uint8)
    place = 0
    for column in cells:
        end = place + _width(column)
        if column is not None:
            block[:, place:end] = _block_of(column) if isinstance(column, list) else column
        block[:, end] = ord(",")
        place = end + 1
    block[:, -1] = ord("\n")
    return block.tobytes().translate(None, bytes([FILL]))


def _width(column: Cells | list[bytes] | None) -> int:
    if column is None:
        return 0
    return max(map(len, column), default=0) if isinstance(column, list) else column.shape[1]


def _cells(column: Any) -> Cells | list[bytes]:
    """Return the cells of a column: bytes of shape (n_rows, width), or a list of them where they may differ widely."""
    cells: Cells | list[bytes]
    if isinstance(column, Choice):
        cells = _block_of([_quoted(text) for text in column.texts])[column.codes]
        return cells
    if isinstance(column, Ragged):
        return _rows_of_items(column)
    if is_masked(column):
        cells = _cells(column.data)
        absent = np.ma.getmaskarray(column)
        if isinstance(cells, list):
            return [b"" if is_absent else cell for cell, is_absent in zip(cells, absent.tolist(), strict=True)]
        cells[absent] = FILL
        return cells
    if column.dtype == np.bool_:
        return _cells(Choice(column.view(np.uint8), ("False", "True")))
    if column.dtype.kind in "iu":
        return _whole(column)
    if column.dtype.kind == "f":
        wide = column if column.dtype == np.float64 else _with_fewest_digits(column)
        return _decimals(wide)
    return [b"" if value is None else _quoted(str(value)) for value in column.tolist()]


def _quoted(text: str) -> bytes:
    """Return a text as RFC 4180 writes it: in quotation marks, doubled within, where it would be misread without."""
    if any(special in text for special in ',"\r\n'):
        text = '"' + text.replace('"', '""') + '"'
    return text.encode("utf-8", "surrogateescape")


def _block_of(texts: Sequence[bytes]) -> Cells:
    """Return texts as rows of bytes, filled up."""
    lengths = np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))
    width = int(lengths.max(initial=0))
    block = np.full((len(texts), width), FILL, dtype=np.uint8)
    block[np.arange(width) < lengths[:, None]] = np.frombuffer(b"".join(texts), dtype=np.uint8)
    return block


def _rows_of_items(column: Ragged) -> list[bytes]:
    """Return the items of each row, with a space between them."""
    cells = _cells(column.flat)
    if isinstance(cells, list):
        return [_quoted(" ".join(map(str, row.tolist()))) for row in column]
    cells = np.column_stack([cells, np.full(len(cells), ord(" "), dtype=np.uint8)])
    ends = np.concatenate([[0], np.cumsum(np.count_nonzero(cells != FILL, axis=1))])
    text = cells.tobytes().translate(None, bytes([FILL]))
    bounds = ends[np.concatenate([[0], np.cumsum(column.length)])].tolist()
    return [text[begin : max(begin, end - 1)] for begin, end in itertools.pairwise(bounds)]


def _tables() -> tuple[npt.NDArray[np.uint32], ...]:
    """Return groups of four digits with all zeros (first), and with those dropped that the number does not need.

    Each table has the groups twice, whole and then stripped: of zeros in front; the same but for the last digit; of
    zeros behind; the same but for the first digit.
    """
    digits = np.arange(GROUP)[:, None] // (1000, 100, 10, 1) % 10
    whole = (digits + ord("0")).astype(np.uint8)
    leading = np.maximum.accumulate(digits > 0, axis=1)
    trailing = np.maximum.accumulate(digits[:, ::-1] > 0, axis=1)[:, ::-1]
    tables = []
    for is_kept, always in ((leading, None), (leading, 3), (trailing, None), (trailing, 0)):
        stripped = np.where(is_kept | (np.arange(4) == always), whole, FILL).astype(np.uint8)
        tables.append(np.concatenate([whole, stripped]).view(np.uint32)[:, 0])
    return tuple(tables)


_LEADING, _LAST_OF_WHOLE, _TRAILING, _FIRST_OF_FRACTION = _tables()


def _whole(values: npt.NDArray[Any], is_negative: npt.NDArray[np.bool_] | None = None) -> Cells:
    """Write whole numbers; `is_negative` has the signs where they are known apart."""
    if is_negative is None:
        is_negative = values < 0
        if is_negative.any():
            values = np.where(is_negative, ~values.astype(np.int64), values).astype(np.uint64) + is_negative
    greatest = int(values.max(initial=0))
    left = values.astype(np.uint32 if greatest < 1 << 32 else np.uint64)
    count = max(1, -(-len(str(greatest)) // 4))
    groups = np.empty((len(values), count), dtype=np.uint32)
    table = _LAST_OF_WHOLE
    for place in range(count - 1, -1, -1):
        above = left // GROUP
        index = (left % GROUP).astype(np.intp)
        index += (above == 0) * GROUP
        groups[:, place] = table.take(index, mode="clip")
        left, table = above, _LEADING
    cells = groups.view(np.uint8)
    if not is_negative.any():
        return cells
    return np.column_stack([np.where(is_negative, ord("-"), FILL).astype(np.uint8), cells])


def _with_fewest_digits(values: npt.NDArray[Any]) -> npt.NDArray[np.float64]:
    """Return the decimal numbers of the fewest digits that are narrow floats, which 9 digits always distinguish."""
    wide = values.astype(np.float64)
    result = wide.copy()
    magnitude = np.abs(wide)
    left = np.flatnonzero((magnitude > 1e-9) & (magnitude < 1e9))  # where all powers of ten below are exact
    first = np.floor(np.log10(magnitude[left])).astype(np.int64)
    for digits in range(3, 10):
        power = 10.0 ** np.abs(digits - 1 - first)
        is_fraction = first < digits
        some = np.where(is_fraction, np.rint(wide[left] * power) / power, np.rint(wide[left] / power) * power)
        fits = some.astype(values.dtype) == values[left]
        result[left[fits]] = some[fits]
        left, first = left[~fits], first[~fits]
        if not left.size:
            break
    others = np.flatnonzero((magnitude <= 1e-9) | (magnitude >= 1e9))
    result[others] = values[others].astype(str).astype(np.float64)
    return result


def _decimals(values: npt.NDArray[Any]) -> Cells:
    """Write numbers with as many decimal places as they have."""
    whole, trillionths, is_found = _whole_and_fraction(values)
    fraction = np.empty((len(values), PLACES // 4), dtype=np.uint32)
    left, is_last = trillionths, np.ones(len(values), dtype=np.bool_)
    for place in range(PLACES // 4 - 1, -1, -1):
        above = left // np.uint64(GROUP)
        group = left - above * np.uint64(GROUP)
        table = _TRAILING if place else _FIRST_OF_FRACTION
        fraction[:, place] = table.take(group.astype(np.intp) + is_last * GROUP, mode="clip")
        is_last &= group == 0
        left = above
    point = np.full(len(values), ord("."), dtype=np.uint8)
    cells = np.column_stack([_whole(whole, np.signbit(values)), point, fraction.view(np.uint8)])
    if is_found.all():
        return cells
    others = np.flatnonzero(~is_found)
    texts = _block_of([b"" if value != value else str(value).encode() for value in values[others]])
    cells = np.pad(cells, ((0, 0), (0, max(0, texts.shape[1] - cells.shape[1]))), constant_values=FILL)
    cells[others] = FILL
    cells[others, : texts.shape[1]] = texts
    return cells


def _whole_and_fraction(
    values: npt.NDArray[Any],
) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint64], npt.NDArray[np.bool_]]:
    """Return the whole part and the trillionths of the numbers' magnitudes, and which of them are exactly that."""
    magnitude = np.abs(values)
    whole = np.zeros(len(values), dtype=np.uint64)
    trillionths = np.zeros(len(values), dtype=np.uint64)
    is_found = np.zeros(len(values), dtype=np.bool_)
    rows: Any = slice(None)
    for places, bound in EXACT:
        some = magnitude[rows]
        with np.errstate(over="ignore", invalid="ignore"):
            number = np.rint(some * 10.0**places)
            fits = (number < bound) & (number / 10.0**places == some)
        number = np.where(fits, number, 0).astype(np.uint64)
        unit = np.uint64(10**places)
        whole[rows] = number // unit
        trillionths[rows] = (number - whole[rows] * unit) * np.uint64(10 ** (PLACES - places))
        is_found[rows] = fits
        if is_found.all():
            break
        if is_found.any():
            rows = np.flatnonzero(~is_found)
    return whole, trillionths, is_found
