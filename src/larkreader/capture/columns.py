"""Equal-length named columns, one row a measured thing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, is_dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Self, overload

import numpy as np
import numpy.typing as npt

from larkreader.errors import RequestError, nearest
from larkreader.shown import Shown

from .masked import is_masked

if TYPE_CHECKING:
    import pandas as pd

SHOWN_ROWS = 6  # rows of a repr


class Columns(Shown):
    """Base of dataclasses whose fields named in `COLUMNS` are arrays of one length."""

    COLUMNS: ClassVar[tuple[str, ...]] = ()

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the columns that there are."""
        return self.COLUMNS

    def column(self, name: str) -> npt.NDArray[Any]:
        """Return one column by its name."""
        values: npt.NDArray[Any] = getattr(self, name)
        return values

    def __len__(self) -> int:
        return len(self.column(self.COLUMNS[0]))

    def keys(self) -> tuple[str, ...]:
        """Return the names of the columns, so that ``dict(columns)`` has them by name."""
        return self.names

    def __contains__(self, name: object) -> bool:
        return name in self.keys()

    def __iter__(self) -> Iterator[dict[str, Any]]:
        """Yield each row as a mapping."""
        return self.rows()

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield each row as a mapping of plain Python values by column."""
        columns = {name: self[name].tolist() for name in self.keys()}
        for row in range(len(self)):
            yield {name: values[row] for name, values in columns.items()}

    @overload
    def __getitem__(self, rows: str) -> npt.NDArray[Any]: ...

    @overload
    def __getitem__(self, rows: int | slice | npt.NDArray[Any]) -> Self: ...

    def __getitem__(self, rows: Any) -> Any:
        """Return a column by its name, or the rows that a number, a slice, a mask or row numbers select.

        Raises
        ------
        RequestError
            If there is no column of that name.
        """
        if isinstance(rows, str):
            if rows not in self.names:
                advice = nearest(rows, list(self.keys()))
                raise RequestError(f'column "{rows}"', f"is not in {type(self).__name__}", advice=advice)
            return self.column(rows)
        if isinstance(rows, (int, np.integer)):
            rows = np.array([rows])
        chosen = {name: self.column(name)[rows] for name in self.names}
        return replace(self, **chosen)  # type: ignore[type-var]  # every heir is a dataclass

    def to_pandas(self) -> pd.DataFrame:
        """Return the columns as a data frame."""
        import pandas as pd

        return pd.DataFrame({name: self.column(name) for name in self.names})

    def to_numpy(self) -> npt.NDArray[Any]:
        """Return the rows as one structured array with a field a column; `numpy.asarray` gives the same.

        Numbers that a row does not have are NaN, a text it does not have is empty.

        Raises
        ------
        RequestError
            If a column's rows differ in length, as those of an array field with a count can.
        """
        columns = {name: _plain(self[name], name) for name in self.keys()}
        records = np.zeros(len(self), [(name, values.dtype, values.shape[1:]) for name, values in columns.items()])
        for name, values in columns.items():
            records[name] = values
        return records

    @property
    def __array_interface__(self) -> dict[str, Any]:
        """What NumPy asks for. There is no ``__array__``, which pandas would take before rows by name."""
        records = self.to_numpy()
        return records.__array_interface__ | {"data": memoryview(records.view(np.uint8).data) if len(records) else b""}

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """Return the columns as an Arrow stream, of `to_pandas`; needs the package pyarrow.

        Raises
        ------
        ImportError
            If pyarrow is not installed.
        """
        return self.to_pandas().__arrow_c_stream__(requested_schema)

    def __dask_tokenize__(self) -> tuple[Any, ...]:
        """Return what makes these rows the same as others, in another process too."""
        return (type(self).__qualname__, *(_token(getattr(self, field.name)) for field in fields(self)))  # type: ignore[arg-type]  # every heir is a dataclass

    def check_lengths(self) -> None:
        """Raise `ValueError` unless all columns have one length."""
        lengths = {name: len(self.column(name)) for name in self.names}
        if len(set(lengths.values())) > 1:
            raise ValueError(f"columns differ in length: {lengths}")

    def about(self) -> str:
        """Say in a few words what the rows are of; nothing where the type says it all."""
        return ""

    def shown(self) -> dict[str, npt.NDArray[Any]]:
        """Return the columns that a repr shows, for its first rows."""
        return {name: self.column(name)[:SHOWN_ROWS] for name in self.names}

    def __repr__(self) -> str:
        count, about = len(self), self.about()
        columns = self.shown()
        rows = [
            "  " + "  ".join(f"{name}={_short(values[row])}" for name, values in columns.items())
            for row in range(min(count, SHOWN_ROWS))
        ]
        if count > SHOWN_ROWS:
            rows.append(f"  ... and {count - SHOWN_ROWS} more")
        head = f"<{type(self).__name__}{about and ' ' + about}: {count} row{'' if count == 1 else 's'}>"
        return "\n".join([head, *rows])


def _plain(values: Any, name: str) -> npt.NDArray[Any]:
    """Return a column as an array that a structured array can hold."""
    if not isinstance(values, np.ndarray):
        advice = f'Take it alone, as ["{name}"], or use to_pandas()'
        raise RequestError(f'column "{name}"', "has rows that differ in length, which no array holds", advice=advice)
    if is_masked(values):
        if values.dtype.kind in "iub":
            values = values.astype(np.float64)
        values = values.filled("" if values.dtype.kind == "O" else np.nan)
    return values.astype(str) if values.dtype.kind == "O" else np.asarray(values)


def _token(value: Any) -> Any:
    if hasattr(value, "__dask_tokenize__"):
        return value.__dask_tokenize__()
    if hasattr(value, "model_dump_json"):
        return type(value).__qualname__, value.model_dump_json()
    if is_dataclass(value):
        return (type(value).__qualname__, *(_token(getattr(value, field.name)) for field in fields(value)))
    return value


def _short(value: Any) -> str:
    return f"{value:.9g}" if isinstance(value, (float, np.floating)) else str(value)
