"""One row a frame: where it lay, its faults, and a column for each of its fields."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import IntEnum, IntFlag
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self, overload

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import SHOWN_ROWS, Columns
from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.slot import Slot
from larkreader.errors import RequestError, nearest

from .places import Located, locate
from .ragged_columns import over_items, ragged_column
from .text_columns import Matched, match_lines, text_column
from .unpack import has_raw_values, raw_column, scaled

if TYPE_CHECKING:
    import pandas as pd

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]


class FrameFault(IntFlag):
    """The faults of a frame; 0 is a good frame."""

    CHECKSUM_MISMATCH = 1
    """The stored check value is not the computed one. The fields of such a frame are not judged."""
    UNKNOWN_VALUE = 2
    """A field or reserved bits do not have the value that they must, or one that has no name."""
    OUT_OF_RANGE = 4
    """A value lies outside the range in which it makes sense."""
    CHARACTER_FAULT = 8
    """A character of the frame has a fault of its own."""


DAMAGED = FrameFault.CHECKSUM_MISMATCH | FrameFault.CHARACTER_FAULT
"""Faults of a frame whose bytes are not those that were sent."""
CONTRADICTED = FrameFault.CHECKSUM_MISMATCH | FrameFault.UNKNOWN_VALUE
"""Faults of a frame whose own content shows that it is wrong."""
UNTRUSTED = DAMAGED | CONTRADICTED
"""Faults of a frame whose values are not to be used."""


class Skip(IntEnum):
    """Why bytes belong to no frame."""

    NO_MARKER = 0
    """No marker stands at their beginning."""
    TRUNCATED_FRAME = 1
    """A marker, but the next frame begins before this frame can be whole."""
    LENGTH_MISMATCH = 2
    """A marker, but what follows is not a frame, and the next begins later than it should."""
    UNFINISHED = 3
    """The capture ends inside a frame, or begins inside one."""
    FILL = 4
    """Delimiters with nothing between them."""
    UNDECLARED = 5
    """A packet that no layout's fixed values fit."""
    BAD_STUFFING = 6
    """A packet that no sender can have stuffed so."""
    TOO_LONG = 7
    """More bytes without a delimiter than a frame can have."""
    STARTUP = 8
    """What the wire did before its first idle time, and is not a message."""


FRAME_FAULT_NAMES = {fault: str(fault.name).lower().replace("_", "-") for fault in FrameFault}
SKIP_NAMES = {skip: skip.name.lower().replace("_", "-") for skip in Skip}


def frame_fault_names(faults: int) -> str:
    """Write the flags of one frame as names joined by ``+``; nothing for a good frame."""
    return "+".join(name for fault, name in FRAME_FAULT_NAMES.items() if faults & fault)


@dataclass(frozen=True, eq=False, repr=False)
class Spans(Columns):
    """Stretches of bytes that belong to no frame; all columns have shape (n_spans,).

    Parameters
    ----------
    offset : ndarray of int64
        First byte of each.
    length : ndarray of int64
        Bytes in each, 1 or more.
    reason : ndarray of uint8
        Why, as `Skip`.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("offset", "length", "reason")

    offset: Places
    length: Places
    reason: npt.NDArray[np.uint8]

    def __post_init__(self) -> None:
        self.check_lengths()


ROW_HEAD = ("offset", "length", "begin_s", "faults")  # what stands before the fields of a frame


@dataclass(frozen=True, eq=False, repr=False)
class Frames(Columns):
    """The frames of one layout, in order; ``frames["flow"]`` is the column of a field.

    Parameters
    ----------
    layout : FrameLayout
        What they are declared to be.
    offset : ndarray of int64, shape (n_frames,)
        First byte of each, counted from the start of the bytes read.
    begin_s : ndarray of float64, shape (n_frames,)
        When its first character began, in seconds on the clock of the capture; NaN where the source has no times.
    faults : ndarray of uint8, shape (n_frames,)
        Its faults, as flags of `FrameFault`; 0 is a good frame.
    data : ndarray of uint8, shape (n_frames, n_bytes), or Ragged of uint8
        Its bytes, with stuffing turned back and without delimiters; rows of their own where frames differ in length.
    skipped : Spans
        The stretches that belong to no frame of any layout that was looked for.
    length : ndarray of int64, shape (n_frames,)
        Bytes that it took on the wire, with stuffing and delimiters.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("offset", "length", "begin_s", "faults", "data")

    layout: FrameLayout
    offset: Places
    begin_s: npt.NDArray[np.float64]
    faults: npt.NDArray[np.uint8]
    data: Bytes | Ragged
    skipped: Spans
    length: Places

    def __post_init__(self) -> None:
        self.check_lengths()

    def keys(self) -> tuple[str, ...]:
        """Return the names of what `rows` has of each frame: where and when, its faults, and its fields."""
        return tuple(dict.fromkeys((*ROW_HEAD, *self.layout.slot)))

    @overload
    def __getitem__(self, rows: str) -> npt.NDArray[Any]: ...

    @overload
    def __getitem__(self, rows: int | slice | npt.NDArray[Any]) -> Self: ...

    def __getitem__(self, rows: Any) -> Any:
        """Return a field's column by its name, or the frames that a slice, a mask or row numbers select.

        ``offset``, ``length``, ``begin_s``, ``faults`` and ``data`` are columns too; a field of such a name goes first.

        A column has shape (n_frames,), or (n_frames, n_items) for an array: bool for a flag, float64 where the
        field has a scale, an offset or invalid values, for which it is NaN; objects of shape (n_frames,) for a text;
        else the narrowest NumPy type that holds its bits. It is a `Ragged` where the number of items varies, and a
        masked array where the field is not in every frame.

        Raises
        ------
        RequestError
            If there is no field of that name.
        """
        if isinstance(rows, str):
            if rows in self.COLUMNS and rows not in self.layout.slot:
                return self.column(rows)
            slot = self._slot(rows)
            is_text = slot.kind in ("word", "text") and self.layout.pattern is not None
            if is_text or has_raw_values(slot):
                return self.raw(rows)
            return over_items(self.raw(rows), lambda raw: scaled(raw, slot), slot)
        return super().__getitem__(rows)

    @classmethod
    def joined(cls, pieces: Sequence[Frames]) -> Frames:
        """Make one table of pieces that follow each other, such as what `FrameReader` returns.

        Parameters
        ----------
        pieces : sequence of Frames
            At least one, of one layout.
        """
        first = pieces[0]
        if len(pieces) == 1:
            return first
        offset, length, begin_s, faults = (
            np.concatenate([piece.column(name) for piece in pieces])
            for name in ("offset", "length", "begin_s", "faults")
        )
        rows = [piece.data for piece in pieces]
        data: Bytes | Ragged
        if isinstance(rows[0], Ragged):
            data = Ragged.of([row for some in rows for row in some], np.uint8)
        else:
            data = np.concatenate([np.asarray(some) for some in rows])
        spans = (np.concatenate([piece.skipped.column(name) for piece in pieces]) for name in Spans.COLUMNS)
        return Frames(first.layout, offset, begin_s, faults, data, Spans(*spans), length)

    def raw(self, name: str) -> Any:
        """Return a field's raw numbers, before scale and offset.

        Parameters
        ----------
        name : str
            The field.
        """
        slot = self._slot(name)
        if self.layout.pattern is not None:
            return text_column(self.matched, name, self.layout)
        if isinstance(self.data, Ragged):
            return ragged_column(self.data, self.located.of(name), self.layout)
        return raw_column(np.ascontiguousarray(self.data), slot, self.layout.packing)

    @cached_property
    def matched(self) -> Matched:
        """What each line holds, where frames are text."""
        assert isinstance(self.data, Ragged)
        return match_lines(self.data, self.layout)

    @cached_property
    def located(self) -> Located:
        """Where each field of each frame lies, where frames differ."""
        assert isinstance(self.data, Ragged)
        return locate(self.data.items, self.data.begin, self.data.length, self.layout)

    def substituted(self, name: str) -> npt.NDArray[np.bool_]:
        """Return in which frames another field says that a field holds a substitute: bool, shape (n_frames,).

        Parameters
        ----------
        name : str
            The field.
        """
        self._slot(name)
        result = np.zeros(len(self), dtype=np.bool_)
        for other, slot in self.layout.slot.items():
            field = slot.field
            if field is not None and field.substitutes is not None and name in field.substitutes.fields:
                result |= self.raw(other) == field.substituting
        return result

    def has_fault(self, fault: FrameFault) -> npt.NDArray[np.bool_]:
        """Return which frames have `fault`, bool of shape (n_frames,).

        Parameters
        ----------
        fault : FrameFault
            One fault, or several combined, of which any will do.
        """
        mask: npt.NDArray[np.bool_] = self.faults & np.uint8(fault) != 0
        return mask

    def labels(self, name: str) -> Any:
        """Return the names that a field's values have; the number as text where it has none.

        Parameters
        ----------
        name : str
            The field.
        """
        field = self._slot(name).field
        if field is not None and field.kind in ("text", "word"):
            return self[name]
        by_value = {value: label for label, value in (field.names if field else {}).items()}
        return over_items(self.raw(name), lambda raw: _labels(raw, by_value))

    def bytes_in(self, name: str) -> npt.NDArray[np.object_]:
        """Return what a field of bytes holds in each frame.

        Parameters
        ----------
        name : str
            The field.

        Returns
        -------
        ndarray of object, shape (n_frames,)
            `bytes`, or None where a frame lacks the field.
        """
        values = self[name]
        held = np.empty(len(self), dtype=object)
        if is_masked(values):
            held[:] = [None if value is np.ma.masked else bytes([int(value)]) for value in values]
        else:
            held[:] = [np.atleast_1d(row).astype(np.uint8).tobytes() for row in values]
        return held

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield each frame as a mapping: offset, length, begin_s, names of its faults, and its fields by name.

        A named value is its name, an array a list, and what is not in the frame None.
        """
        columns = {
            name: self.labels(name).tolist() if slot.field is not None and slot.field.names else self[name].tolist()
            for name, slot in self.layout.slot.items()
        }
        for row in range(len(self)):
            head = {
                "offset": int(self.offset[row]),
                "length": int(self.length[row]),
                "begin_s": float(self.begin_s[row]),
                "faults": frame_fault_names(int(self.faults[row])),
            }
            yield head | {name: values[row] for name, values in columns.items()}

    def to_pandas(self) -> pd.DataFrame:
        """Return a data frame of offset, begin_s, the fields by name (an array's items apart), and fault names.

        Fields of bytes are `bytes`, those of text `str`.

        Its ``attrs["units"]`` has the units of the fields that have one.
        """
        import pandas as pd

        columns: dict[str, Any] = {"offset": self.offset, "begin_s": np.round(self.begin_s, 12)}
        for name, slot in self.layout.slot.items():
            values = self.labels(name) if slot.field is not None and slot.field.names else self[name]
            if slot.kind == "bytes":
                columns[name] = self.bytes_in(name)
            elif isinstance(values, Ragged):
                columns[name] = np.asarray(values)
            elif is_masked(values):
                columns[name] = values.data.astype(object)
                columns[name][np.ma.getmaskarray(values)] = None
            elif values.ndim == 1:
                columns[name] = values
            else:
                columns |= {f"{name}[{item}]": values[:, item] for item in range(values.shape[1])}
        texts = {faults: frame_fault_names(faults) for faults in np.unique(self.faults).tolist()}
        columns["faults"] = [texts[faults] for faults in self.faults.tolist()]
        table = pd.DataFrame(columns)
        table.attrs["units"] = {name: unit for name, unit in self.layout.unit.items() if unit}
        return table

    def about(self) -> str:
        """Name the layout."""
        return f'"{self.layout.key}"'

    def shown(self) -> dict[str, npt.NDArray[Any]]:
        """Return what a repr shows of the first rows: offset, fields and faults."""
        head = super().__getitem__(slice(SHOWN_ROWS))
        fields = {
            name: head.labels(name) if slot.field and slot.field.names else head[name]
            for name, slot in self.layout.slot.items()
        }
        return {
            "offset": head.offset,
            **fields,
            "faults": np.array([frame_fault_names(fault) or "none" for fault in head.faults]),
        }

    def _slot(self, name: str) -> Slot:
        if name not in self.layout.slot:
            advice = nearest(name, list(self.layout.slot))
            raise RequestError(f'field "{name}"', f"is not a field of {self.layout.key}", advice=advice)
        return self.layout.slot[name]


def _labels(raw: npt.NDArray[Any], by_value: dict[int, str]) -> npt.NDArray[np.object_]:
    texts = [by_value.get(value, str(value)) for value in raw.reshape(-1).tolist()]
    return np.array(texts, dtype=object).reshape(raw.shape)
