"""The rows of a table in text, some at a time."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError, nearest

from .content import Content
from .csv_form import CsvForm, find_form

if TYPE_CHECKING:
    import pandas as pd

ROWS = 1 << 18  # taken at a time
LOOKED_AT = 1 << 16  # bytes from which the form of a table is found


class CsvRows:
    """Reads columns of a table in text as numbers or as text, in bounded memory.

    Parameters
    ----------
    file : Content
        At its beginning.
    name : str
        What to call it in messages.
    with_times : bool
        Whether its first column must be the time.

    Raises
    ------
    CaptureError
        If it is no table of levels or voltages.
    """

    def __init__(self, file: Content, name: str, *, with_times: bool) -> None:
        self.name = name
        form = find_form(file.read(LOOKED_AT), with_times=with_times)
        if form is None:
            wanted = "its first column must be the time, as in time_us, and the others levels or voltages"
            advice = "" if not with_times else "If it holds samples without times, say how many a second"
            raise CaptureError(name, "is no table of levels or voltages", wanted, advice)
        twice = [one for one in form.columns if form.columns.count(one) > 1]
        if twice:
            raise CaptureError(name, f'has two columns "{twice[0]}"', "columns must have names of their own")
        self.form: CsvForm = form
        self.cut_off = ""
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
        `cut_off` says so.
        """
        import pandas as pd

        form, self.cut_off = self.form, ""
        options: dict[str, Any] = {
            "sep": form.separator,
            "decimal": form.decimal,
            "skiprows": form.first_row,
            "header": None,
            "names": list(form.columns),
            "index_col": False,
            "usecols": lambda one: one in columns,
            "comment": "#",
            "skipinitialspace": True,
            "encoding": "utf-8-sig",
        }
        dtypes = {one: "float64" if one in numbers else "category" for one in columns}
        lacking = {one: [""] if one in numbers else [] for one in columns}
        done = 0
        try:
            with (
                self._buffered() as text,
                pd.read_csv(
                    text, dtype=dtypes, keep_default_na=False, na_values=lacking, chunksize=ROWS, **options
                ) as reader,
            ):
                for table in reader:
                    kept = self._without_torn_row(table) if len(table) < ROWS else table
                    yield form.first_row + 1 + done, kept
                    done += len(table)
        except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
            raise CaptureError(self.name, f"is not comma-separated text: {error}") from None
        except ValueError as error:
            self._refuse(options, numbers, str(error))

    @contextmanager
    def _buffered(self) -> Iterator[io.BufferedReader[Content]]:
        """Give the file from its beginning on, in larger pieces; it stays open."""
        self._file.seek(0)
        text = io.BufferedReader(self._file, 1 << 20)
        try:
            yield text
        finally:
            text.detach()

    def _without_torn_row(self, table: pd.DataFrame) -> pd.DataFrame:
        """Leave out the last row of the file if the file ends within it."""
        if not len(table) or not table.iloc[-1].isna().any():
            return table
        self._file.seek(0, 2)
        self._file.seek(max(0, self._file.tell() - 1))
        if self._file.read(1) in (b"\n", b"\r") and not self._file.is_cut_off:
            return table
        self.cut_off = "its last row is incomplete"
        return table.iloc[:-1]

    def _refuse(self, options: dict[str, Any], numbers: Sequence[str], why: str) -> None:
        """Find the cell that is no number, and raise `CaptureError` for it."""
        import pandas as pd

        done = self.form.first_row + 1
        with (
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
