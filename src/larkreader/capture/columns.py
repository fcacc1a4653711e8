"""Equal-length named columns, one row a measured thing."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any, Self

import numpy as np
import numpy.typing as npt

from larkreader.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

SHOWN_ROWS = 6  # rows of a repr


class Columns(Shown):
    """Base of dataclasses whose fields named in `COLUMNS` are arrays of one length."""

    COLUMNS: tuple[str, ...] = ()

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

    def __getitem__(self, rows: int | slice | npt.NDArray[Any]) -> Self:
        """Return the rows that a number, a slice, a mask or an array of row numbers selects."""
        if isinstance(rows, (int, np.integer)):
            rows = np.array([rows])
        chosen = {name: self.column(name)[rows] for name in self.names}
        return replace(self, **chosen)  # type: ignore[type-var]  # every heir is a dataclass

    def to_pandas(self) -> pd.DataFrame:
        """Return the columns as a data frame."""
        import pandas as pd

        return pd.DataFrame({name: self.column(name) for name in self.names})

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


def _short(value: Any) -> str:
    return f"{value:.9g}" if isinstance(value, (float, np.floating)) else str(value)
