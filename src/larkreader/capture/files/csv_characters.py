"""Characters in comma-separated text, in the columns ``begin_s,end_s,wire,value,faults``.

``faults`` is empty, or names joined by ``+``; times may be left empty.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.capture.characters import FAULT_NAMES, Characters, fault_names
from larkreader.errors import CaptureError, nearest
from larkreader.sources import Target

from .csv_text import Choice, write_csv

if TYPE_CHECKING:
    import pandas as pd

CHARACTER_COLUMNS = ("begin_s", "end_s", "wire", "value", "faults")


def read_characters(data: bytes, name: str) -> dict[str, Characters]:
    """Read characters, by wire.

    Parameters
    ----------
    data : bytes
        The content of a file.
    name : str
        What to call it in messages.

    Returns
    -------
    dict of str to Characters

    Raises
    ------
    CaptureError
        If the file is not of this form.
    """
    table, truncated = _table(data, name)
    if tuple(table.columns) != CHARACTER_COLUMNS:
        raise CaptureError(name, f"has the columns {list(table.columns)}", f"must have {','.join(CHARACTER_COLUMNS)}")
    value = _numbers(table, "value", name)
    wrong = np.flatnonzero((value < 0) | (value > 511) | (value != np.floor(value)))
    if wrong.size:
        raise CaptureError(f"{name}: row {wrong[0] + 2}", f"has the value {value[wrong[0]]:g}", "must be 0 to 511")
    begin, end = (_numbers(table, column, name, may_lack=True) for column in ("begin_s", "end_s"))
    known = {text: int(fault) for fault, text in FAULT_NAMES.items()}
    faults = np.zeros(len(table), dtype=np.uint8)
    for text in table["faults"].unique():
        for part in filter(None, str(text).split("+")):
            if part not in known:
                raise CaptureError(f"{name}: column faults", f'has "{part}"', advice=nearest(part, list(known)))
            faults[(table["faults"] == text).to_numpy()] |= known[part]
    wires = {}
    for wire in table["wire"].unique():
        rows = np.flatnonzero((table["wire"] == wire).to_numpy())
        wires[str(wire)] = Characters(
            begin[rows],
            end[rows],
            value[rows].astype(np.uint16),
            faults[rows],
            np.empty(0),
            has_line=False,
            truncated=truncated,
        )
    return wires


def write_characters(target: Target, wires: Mapping[str, Characters]) -> None:
    """Write characters of several wires in order of time.

    Parameters
    ----------
    target : str, pathlib.Path or binary file
        The file.
    wires : mapping of str to Characters
        The characters, by wire.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    begin = np.concatenate([np.empty(0), *(characters.begin_s for characters in wires.values())])
    order = None if np.all(begin[:-1] <= begin[1:]) else np.argsort(begin, kind="stable")
    write_csv(target, CHARACTER_COLUMNS, [_columns_of(wire, characters) for wire, characters in wires.items()], order)


def _columns_of(wire: str, characters: Characters) -> list[Any]:
    return [
        np.round(characters.begin_s, 12),
        np.round(characters.end_s, 12),
        Choice(np.zeros(len(characters), dtype=np.uint8), [wire]),
        characters.value + _marks_of(characters),
        Choice.of(characters.faults, fault_names),
    ]


def _table(data: bytes, name: str) -> tuple[pd.DataFrame, str]:
    """Read all columns as text; leave out an incomplete last row, and say so."""
    import pandas as pd

    truncated, begin = "", data.rfind(b"\n") + 1
    *cells, faults = data[begin:].decode("latin-1").split(",")
    if begin < len(data) and (len(cells) < 4 or not set(faults.strip().split("+")) <= {"", *FAULT_NAMES.values()}):
        data, truncated = data[:begin], "its last row is incomplete"
    try:
        table = pd.read_csv(
            io.BytesIO(data),
            dtype=str,
            comment="#",
            keep_default_na=False,
            skipinitialspace=True,
            encoding="utf-8-sig",
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
        raise CaptureError(name, f"is not comma-separated text: {error}") from None
    return table.rename(columns=str.strip), truncated


def _numbers(table: pd.DataFrame, column: str, name: str, *, may_lack: bool = False) -> Any:
    import pandas as pd

    texts = table[column]
    numbers = pd.to_numeric(texts, errors="coerce").to_numpy(dtype=np.float64)
    missing = ~np.isfinite(numbers)
    if may_lack:
        missing &= (texts != "").to_numpy()
    if missing.any():
        row = int(np.argmax(missing))
        raise CaptureError(f"{name}: row {row + 2}, column {column}", f'has "{texts.iloc[row]}"', "must be a number")
    return numbers


def _marks_of(characters: Characters) -> Any:
    """Return what address marks add to the values: a ninth bit."""
    return 0 if characters.address_mark is None else characters.address_mark.astype(np.uint16) << 8
