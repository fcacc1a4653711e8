"""Rows that differ in length, one behind the other in one array."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, overload

import numpy as np
import numpy.typing as npt

Places = npt.NDArray[np.int64]
SHOWN = 8  # items of a row in a repr


@dataclass(frozen=True, eq=False, repr=False)
class Ragged:
    """Rows that differ in length: ``rows[3]`` is the fourth, an array; ``rows[mask]`` are some of them.

    Parameters
    ----------
    items : ndarray, shape (n_items,)
        Where the rows' items lie. They need not fill it, and may lie in any order.
    begin : ndarray of int64, shape (n_rows,)
        Where the first item of each lies.
    length : ndarray of int64, shape (n_rows,)
        How many items each has; may be 0.

    Examples
    --------
    >>> rows = lr.capture.Ragged.of([[1, 2, 3], [], [4]])
    >>> rows.length, rows[0], rows.flat
    (array([3, 0, 1]), array([1, 2, 3]), array([1, 2, 3, 4]))
    """

    items: npt.NDArray[Any]
    begin: Places
    length: Places

    @classmethod
    def of(cls, rows: Any, dtype: npt.DTypeLike | None = None) -> Ragged:
        """Make rows of a sequence of sequences.

        Parameters
        ----------
        rows : sequence of sequences
            What each row holds.
        dtype : data-type, optional
            Of the items.

        Returns
        -------
        Ragged
        """
        parts = [np.asarray(row, dtype=dtype) for row in rows]
        length = np.array([len(part) for part in parts], dtype=np.int64)
        filled = [part for part in parts if len(part)]
        items = np.concatenate(filled) if filled else np.empty(0, dtype=dtype or np.int64)
        return cls(items, np.cumsum(length) - length, length)

    def __len__(self) -> int:
        return len(self.begin)

    @overload
    def __getitem__(self, rows: int | np.integer[Any]) -> npt.NDArray[Any]: ...

    @overload
    def __getitem__(self, rows: slice | npt.NDArray[Any]) -> Ragged: ...

    def __getitem__(self, rows: Any) -> Any:
        """Return one row as an array, or the rows that a slice, a mask or an array of row numbers selects."""
        if isinstance(rows, (int, np.integer)):
            begin = int(self.begin[rows])
            return self.items[begin : begin + int(self.length[rows])]
        return Ragged(self.items, self.begin[rows], self.length[rows])

    def __iter__(self) -> Iterator[npt.NDArray[Any]]:
        for begin, length in zip(self.begin.tolist(), self.length.tolist(), strict=True):
            yield self.items[begin : begin + length]

    def __array__(self, dtype: npt.DTypeLike | None = None, copy: bool | None = None) -> npt.NDArray[Any]:
        rows = np.empty(len(self), dtype=object)
        rows[:] = list(self)
        return rows

    @property
    def owner(self) -> Places:
        """The row to which each item of `flat` belongs: int64, shape (n_items,)."""
        return np.repeat(np.arange(len(self)), self.length)

    @property
    def flat(self) -> npt.NDArray[Any]:
        """The items of all rows, one row behind the other."""
        ends = np.cumsum(self.length)
        flat: npt.NDArray[Any] = self.items[:0]
        if not len(ends):
            return flat
        if np.array_equal(self.begin[1:], self.begin[:-1] + self.length[:-1]):
            begin = int(self.begin[0])
            flat = self.items[begin : begin + int(ends[-1])]
        elif (between := self.begin[1:] - self.begin[:-1] - self.length[:-1]).min() >= 0:
            begin, end = int(self.begin[0]), int(self.begin[-1] + self.length[-1])
            runs = np.zeros(2 * len(ends) - 1, np.int64)  # items of a row and items between rows in turn
            runs[::2], runs[1::2] = self.length, between
            flat = self.items[begin:end][np.repeat(np.arange(len(runs)) % 2 == 0, runs)]
        else:
            flat = self.items[np.arange(ends[-1]) + np.repeat(self.begin - ends + self.length, self.length)]
        return flat

    def with_items(self, flat: npt.NDArray[Any]) -> Ragged:
        """Return rows of the same lengths with other items, given as `flat` gives them.

        Parameters
        ----------
        flat : ndarray, shape (n_items,)
            The items of all rows, one row behind the other.
        """
        return Ragged(flat, np.cumsum(self.length) - self.length, self.length)

    def tolist(self) -> list[Any]:
        """Return the rows as lists."""
        return [row.tolist() for row in self]

    def __repr__(self) -> str:
        shown = [f"  {row[:SHOWN].tolist()}{' ...' if len(row) > SHOWN else ''}" for row in self[:6]]
        more = [f"  ... and {len(self) - 6} more"] if len(self) > 6 else []
        return "\n".join([f"<Ragged: {len(self)} row{'' if len(self) == 1 else 's'}>", *shown, *more])
