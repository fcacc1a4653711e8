"""What changed from one frame to the next, byte by byte and field by field."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from larkreader.capture.ragged import Ragged
from larkreader.decode.columns.frame_columns import FrameFault, Frames


@dataclass(frozen=True)
class FrameChange:
    """In what a frame differs from the frame before it of the same layout.

    Parameters
    ----------
    row : int
        Its number among the frames.
    offset : int
        Its first byte, counted from the start of the bytes read.
    begin_s : float
        When it began, in seconds; NaN where unknown.
    bytes : tuple of tuple of int, int or None, and int or None
        Place, value before and value now of each byte that differs; None where a frame has no such byte.
    fields : tuple of tuple of str, object and object
        Name, value before and value now of each field that differs, names of values where it has some; counters and
        checksums left out.
    """

    row: int
    offset: int
    begin_s: float
    bytes: tuple[tuple[int, int | None, int | None], ...]
    fields: tuple[tuple[str, Any, Any], ...]


def find_changes(frames: Frames) -> Iterator[FrameChange]:
    """Yield in what each frame differs from the frame before it.

    Parameters
    ----------
    frames : Frames
        Of one layout. Those with a wrong checksum are passed over.

    Yields
    ------
    FrameChange
        One for each frame in which a field, or a byte of no counter and no checksum, differs.
    """
    good = frames[~frames.has_fault(FrameFault.CHECKSUM_MISMATCH)]
    rows = np.flatnonzero(~frames.has_fault(FrameFault.CHECKSUM_MISMATCH))
    result = _comparable(good)
    columns = {name: _values(good, name) for name in result}
    before = b""
    for number, row in enumerate(rows.tolist()):
        data = good.data[number].tobytes()
        if number:
            fields = tuple(
                (name, values[number - 1], values[number])
                for name, values in columns.items()
                if values[number - 1] != values[number]
            )
            if fields or (not columns and data != before):
                begin_s = float(good.begin_s[number])
                yield FrameChange(row, int(good.offset[number]), begin_s, tuple(_bytes(before, data)), fields)
        before = data


def _comparable(frames: Frames) -> list[str]:
    result = []
    for name, slot in frames.layout.slot.items():
        field = slot.field
        if slot.kind != "checksum" and field is not None and not field.counter and field.equals is None:
            result.append(name)
    return result


def _values(frames: Frames, name: str) -> list[Any]:
    """Return what a field holds in each frame, as values that can be compared."""
    field = frames.layout.slot[name].field
    column = frames.labels(name) if field is not None and field.names else frames[name]
    if isinstance(column, Ragged) or (field is not None and field.kind == "bytes"):
        return [row.tolist() for row in column]
    values: list[Any] = column.tolist()
    return [None if value != value else value for value in values]


def _bytes(before: bytes, now: bytes) -> Iterator[tuple[int, int | None, int | None]]:
    for place in range(max(len(before), len(now))):
        was = before[place] if place < len(before) else None
        held = now[place] if place < len(now) else None
        if was != held:
            yield place, was, held
