"""The rows of a table in text, some at a time."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError, nearest

from .content import LOOKED_AT, Content
from .csv_form import CsvForm, cells_of, find_form, is_number, is_row

if TYPE_CHECKING:
    import pandas as pd

ROWS = 1 << 18  # taken at a time
PIECE = 1 << 20  # bytes read at once


class CsvRows:
    """Reads columns of a table in text as numbers or as text, in bounded memory.

    Parameters
    ----------
    file : Content
        At its beginning.
    with_times : bool
        Whether its first column must be the time.

    Raises
    ------
    CaptureError
        If it is not a table of levels or voltages.
    """

    truncated: str

    def __init__(self, file: Content, *, with_times: bool) -> None:
        self.name: str = file.name
        name = self.name
        if len(file.head) == LOOKED_AT and not {10, 13} & set(file.head):
            raise CaptureError(name, f"begins with a line of more than {LOOKED_AT:,} bytes", "must have fewer columns")
        form = find_form(file.head, with_times=with_times)
        if form is None:
            wanted = "its first column must be the time, as in time_us, and the others levels or voltages"
            advice = "" if not with_times else "If it holds samples without times, add their --rate"
            raise CaptureError(name, "is not a table of levels or voltages", wanted, advice)
        twice = [column for column in form.columns if form.columns.count(column) > 1]
        if twice:
            raise CaptureError(name, f'has two columns "{twice[0]}"', "columns must have names of their own")
        self.form: CsvForm = form
        self.truncated = ""
        self._file = file

    def check_signals(self, signals: Sequence[str]) -> None:
        """Raise `CaptureError` unless all of `signals` are columns."""
        for signal in signals:
            if signal not in self.form.signals:
                advice = nearest(signal, list(self.form.signals))
                raise CaptureError(f'{self.name}: signal "{signal}"', "is not a column of the file", advice=advice)

    def blocks(self, columns: Sequence[str], numbers: Sequence[str]) -> Iterator[tuple[int, pd.DataFrame]]:
        """Yield some columns, block by block, each with the number of its first row.

        Columns named in `numbers` are float64, the others text of few kinds. An incomplete last row is left out, and
        `truncated` says so.
        """
        import pandas as pd

        form, self.truncated = self.form, ""
        options: dict[str, Any] = {
            "sep": form.separator,
            "decimal": form.decimal,
            "skiprows": form.first_row,
            "header": None,
            "names": list(form.columns),
            "index_col": False,
            "usecols": lambda item: item in columns,
            "comment": "#",
            "skipinitialspace": True,
            "encoding": "utf-8-sig",
        }
        dtypes = {column: "float64" if column in numbers else "category" for column in columns}
        lacking = {column: [""] if column in numbers else [] for column in columns}
        done = 0
        try:
            with (
                self._buffered() as text,
                pd.read_csv(
                    text, dtype=dtypes, keep_default_na=False, na_values=lacking, chunksize=ROWS, **options
                ) as reader,
            ):
                for table in reader:
                    yield form.first_row + 1 + done, table
                    done += len(table)
        except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError, IndexError) as error:
            raise CaptureError(self.name, f"is not comma-separated text: {error}") from None
        except ValueError as error:
            self._refuse(options, numbers, str(error))

    @contextmanager
    def _buffered(self) -> Iterator[io.BufferedReader[_WholeLines]]:
        """Give the file from its beginning on, in larger pieces; it stays open."""
        self._file.seek(0)
        lines = _WholeLines(self._file, self.form)
        yield io.BufferedReader(lines, 1 << 20)
        self.truncated = "its last row is incomplete" if lines.is_torn else ""

    def _refuse(self, options: dict[str, Any], numbers: Sequence[str], why: str) -> None:
        """Find the cell that is not a number, and raise `CaptureError` for it."""
        import pandas as pd

        damaged = (pd.errors.ParserError, pd.errors.EmptyDataError, IndexError)  # rows of different length, as a rule
        done = self.form.first_row + 1
        with (
            suppress(*damaged),
            self._buffered() as text,
            pd.read_csv(text, dtype=str, keep_default_na=False, chunksize=ROWS, **options) as tables,
        ):
            for table in tables:
                for column in numbers:
                    texts = table[column].str.replace(self.form.decimal, ".", regex=False)
                    wrong = np.flatnonzero(pd.to_numeric(texts, errors="coerce").isna().to_numpy())
                    if wrong.size:
                        self.refuse_cell(done, int(wrong[0]), column, table[column].iloc[wrong[0]])
                done += len(table)
        raise CaptureError(self.name, f"cannot be read: {why}")

    def refuse_cell(
        self, line: int, row: int, column: str, text: object, wanted: str = "must be a number", advice: str = ""
    ) -> None:
        """Raise `CaptureError` for one cell, `row` rows behind that on line `line`."""
        raise CaptureError(f"{self.name}: row {line + row}, column {column}", f'has "{text}"', wanted, advice)

    def refuse_lacking(self, line: int, values: npt.NDArray[np.float64], column: str) -> None:
        """Raise `CaptureError` if a number is lacking."""
        if not np.isfinite(values).all():
            row = int(np.argmin(np.isfinite(values)))
            self.refuse_cell(line, row, column, "" if np.isnan(values[row]) else values[row])


class _WholeLines(io.RawIOBase):
    """Gives the lines of a file; the last only if it is whole, though no end of line stands behind it."""

    def __init__(self, file: Content, form: CsvForm) -> None:
        self._file, self._form = file, form
        self._ready, self._held = b"", b""
        self.is_torn = False

    def readable(self) -> bool:
        """Return True."""
        return True

    def readinto(self, buffer: Any, /) -> int:
        """Read into a buffer; return how many bytes."""
        while not self._ready:
            piece = self._file.read(PIECE)
            if not piece:
                self._ready, self._held = self._held, b""
                if self._ready and not self._is_whole(self._ready):
                    self.is_torn, self._ready = True, b""
                break
            whole, end, self._held = (self._held + piece).rpartition(b"\n")
            self._ready = whole + end
        count = min(len(buffer), len(self._ready))
        buffer[:count], self._ready = self._ready[:count], self._ready[count:]
        return count

    def _is_whole(self, line: bytes) -> bool:
        cells = cells_of(line.decode("utf-8", errors="replace"), self._form.separator)
        numbers = cells if self._form.holds == "voltages" else []
        return len(cells) == len(self._form.columns) and is_row(cells) and all(map(is_number, numbers))
