"""The frames of a reading in a file: as a table that all layouts share, an object a frame, or an array a field."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.capture.files.csv_text import Choice, write_csv
from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.decode.columns.frame_columns import Frames, frame_fault_names
from larkreader.errors import RequestError
from larkreader.sources import written_whole

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading


HEADINGS = ("wire", "frame", "offset", "begin_s", "faults")
FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what begins what a spreadsheet calculates
FRAME_ENDINGS = (".csv", ".jsonl", ".npz")


def check_ending(path: Path | None) -> None:
    """Raise `RequestError` if frames cannot be written into a file of this ending."""
    if path is not None and path.suffix.lower() not in FRAME_ENDINGS:
        raise RequestError(str(path), f'ends in "{path.suffix}"', f"must end in {', '.join(FRAME_ENDINGS)}")


def write_frames(path: str | Path, reading: Reading) -> None:
    r"""Write the frames of all layouts: as a table, as one JSON object a frame, or as an array a field.

    Parameters
    ----------
    path : str or pathlib.Path
        The file; ``.csv`` makes a table, ``.jsonl`` objects, ``.npz`` arrays.
    reading : Reading
        What was read.

    Raises
    ------
    RequestError
        If the file's name ends in something else.
    OSError
        If it cannot be written.

    Notes
    -----
    In JSON an array is a list, and what is not a number is null. NumPy arrays are named ``LAYOUT.FIELD``, beside
    ``LAYOUT.offset``, ``.begin_s`` and ``.faults``, which are flags; where the number of items varies there is an array
    ``LAYOUT.FIELD.length`` with it beside the items of all frames, and where a field is not in every frame an array
    ``LAYOUT.FIELD.absent``. In a table, text that a spreadsheet would take for a formula has an apostrophe in front.

    Examples
    --------
    >>> import tempfile
    >>> import larkreader as lr
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "fixed", "length": 2}, fields=[{"name": "flow", "type": "uint16"}]
    ... )
    >>> sheet = lr.Sheet(wire={"pump": {}}, frame={"flow": layout})
    >>> reading = lr.read(sheet, {"pump": lr.transmit(b"\x10\x00\x20\x00", sheet.wire["pump"].line)})
    >>> path = Path(tempfile.mkdtemp()) / "frames.csv"
    >>> lr.write_frames(path, reading)
    >>> heading, *rows = path.read_text(encoding="utf-8").splitlines()
    >>> heading, [row.split(",")[-1] for row in rows]
    ('wire,frame,offset,begin_s,faults,flow', ['16', '32'])
    """
    path = Path(path)
    check_ending(path)
    if path.suffix.lower() == ".csv":
        _write_table(path, reading)
    elif path.suffix.lower() == ".npz":
        arrays: dict[str, Any] = {}
        for key, frames in reading.frames.items():
            arrays |= {f"{key}.{name}": frames.column(name) for name in ("offset", "begin_s", "faults")}
            for name in frames.layout.slot:
                arrays |= _arrays(f"{key}.{name}", frames[name])
        with written_whole(path) as file:
            np.savez_compressed(file, allow_pickle=False, **arrays)
    else:
        rows = sorted(_objects(reading), key=lambda row: (row["begin_s"] or 0.0, row["offset"]))
        with written_whole(path) as file:
            file.writelines(json.dumps(row, ensure_ascii=False, allow_nan=False).encode() + b"\n" for row in rows)


def _arrays(name: str, column: Any) -> dict[str, Any]:
    """Return the arrays by which a column is kept."""
    if isinstance(column, Ragged):
        return {name: _plain(column.flat), f"{name}.length": column.length}
    if is_masked(column):
        return {name: _plain(column.data), f"{name}.absent": np.ma.getmaskarray(column)}
    return {name: _plain(column)}


def _plain(column: Any) -> Any:
    return column.astype(str) if column.dtype == object else column


def _objects(reading: Reading) -> Iterator[dict[str, Any]]:
    """Yield one object a frame."""
    for key, frames in reading.frames.items():
        columns = {}
        for name, slot in frames.layout.slot.items():
            values = frames.labels(name) if slot.field is not None and slot.field.names else frames[name]
            columns[name] = [_json_value(value) for value in values.tolist()]
        for row in range(len(frames)):
            begin_s = _json_value(float(frames.begin_s[row]))
            head = {"wire": frames.layout.wire, "frame": key, "offset": int(frames.offset[row]), "begin_s": begin_s}
            faults = frame_fault_names(int(frames.faults[row]))
            yield head | {"faults": faults, "fields": {name: values[row] for name, values in columns.items()}}


def _json_value(value: Any) -> Any:
    if isinstance(value, list):
        return [_json_value(item) for item in value]
    return None if isinstance(value, float) and not np.isfinite(value) else value


def _write_table(path: Path, reading: Reading) -> None:
    """Write the frames of all layouts in order of time, a column a field; empty where a layout has no such field."""
    parts = [_columns_of(key, frames) for key, frames in reading.frames.items()]
    names = list(dict.fromkeys([*HEADINGS, *(name for part in parts for name in part)]))
    begin_s, offset = (np.concatenate([np.empty(0), *(part[name] for part in parts)]) for name in ("begin_s", "offset"))
    write_csv(path, names, [[part.get(name) for name in names] for part in parts], np.lexsort((offset, begin_s)))


def _columns_of(key: str, frames: Frames) -> dict[str, Any]:
    """Return what stands in the columns of a layout, by their headings; an array's items in a column each."""
    only = np.zeros(len(frames), dtype=np.uint8)
    columns: dict[str, Any] = {
        "wire": Choice(only, [frames.layout.wire or ""]),
        "frame": Choice(only, [key]),
        "offset": frames.offset,
        "begin_s": np.round(frames.begin_s, 12),
        "faults": Choice.of(frames.faults, frame_fault_names),
    }
    for name, slot in frames.layout.slot.items():
        values = frames.labels(name) if slot.field is not None and slot.field.names else frames[name]
        if slot.kind == "bytes":
            columns[name] = np.array(
                ["" if entry is None else entry.hex(" ") for entry in frames.bytes_in(name)], object
            )
        elif not isinstance(values, Ragged) and values.ndim == 2:
            columns |= {f"{name}[{item}]": values[:, item] for item in range(values.shape[1])}
        else:
            columns[name] = _without_formulas(values)
    return columns


def _without_formulas(column: Any) -> Any:
    """Return text with an apostrophe before what a spreadsheet would calculate, such as ``=1+1``; numbers stay."""
    if isinstance(column, Ragged) or column.dtype != object:
        return column
    if is_masked(column):
        return np.ma.masked_array(_without_formulas(column.data), np.ma.getmaskarray(column))
    return np.array([_no_formula(entry) if isinstance(entry, str) else entry for entry in column], object)


def _no_formula(text: str) -> str:
    if not text.startswith(FORMULA):
        return text
    try:
        float(text)
    except ValueError:
        return f"'{text}"
    return text
