"""Characters in comma-separated text, in the columns ``begin_s,end_s,wire,value,faults``.

``faults`` is empty, or names joined by ``+``; times may be left empty.
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import FAULT_NAMES, Characters, fault_names
from larkreader.errors import CaptureError, nearest
from larkreader.sources import Target

from .character_pieces import Pieces, blocks_of
from .content import Content
from .csv_text import Choice, Computed, write_csv

if TYPE_CHECKING:
    import pandas as pd

_LINE = re.compile(r"\bline (\d+)")
CHARACTER_COLUMNS = ("begin_s", "end_s", "wire", "value", "faults")


def character_pieces(file: Content) -> Pieces:
    """Read characters, by wire, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.

    Yields
    ------
    dict of str to Characters

    Returns
    -------
    str
        That the last row is left out, which is incomplete.

    Raises
    ------
    CaptureError
        If the file is not of this form.
    """
    header, rows, lines, truncated = b"", 0, 0, ""
    for block in blocks_of(file, cut_at=b"\n"):
        whole = block
        if not block.endswith(b"\n"):
            whole, truncated = _whole_rows(block)
        table = _table(header + whole, file.name, lines_before=lines - bool(header))
        if not header:
            if tuple(table.columns) != CHARACTER_COLUMNS:
                wanted = f"must have {','.join(CHARACTER_COLUMNS)}"
                raise CaptureError(file.name, f"has the columns {list(table.columns)}", wanted)
            header = ",".join(CHARACTER_COLUMNS).encode() + b"\n"
        yield _wires_of(table, file.name, rows)
        rows += len(table)
        lines += block.count(b"\n")
    return truncated


def _wires_of(table: pd.DataFrame, name: str, before: int) -> dict[str, Characters]:
    """Make characters of rows, so many behind the first."""
    value = _numbers(table, "value", name, before)
    wrong = np.flatnonzero((value < 0) | (value > 511) | (value != np.floor(value)))
    if wrong.size:
        row = before + wrong[0] + 2
        raise CaptureError(f"{name}: row {row}", f"has the value {value[wrong[0]]:g}", "must be 0 to 511")
    begin, end = (_numbers(table, column, name, before, may_lack=True) for column in ("begin_s", "end_s"))
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
        values = value[rows].astype(np.uint16)
        wires[str(wire)] = Characters(begin[rows], end[rows], values, faults[rows], np.empty(0), has_line=False)
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
    order = None
    if len(wires) > 1:
        begin = np.concatenate([characters.begin_s for characters in wires.values()])
        order = None if np.all(begin[:-1] <= begin[1:]) else np.argsort(begin, kind="stable")
    write_csv(target, CHARACTER_COLUMNS, [_columns_of(wire, characters) for wire, characters in wires.items()], order)


def _columns_of(wire: str, characters: Characters) -> list[Any]:
    return [
        Computed(characters.begin_s, _rounded),
        Computed(characters.end_s, _rounded),
        Choice(np.broadcast_to(np.uint8(0), (len(characters),)), [wire]),
        _values_of(characters),
        Choice.of(characters.faults, fault_names),
    ]


def _whole_rows(block: bytes) -> tuple[bytes, str]:
    """Leave out an incomplete last row of a file that does not end with a line's end, and say so."""
    begin = block.rfind(b"\n") + 1
    *cells, faults = block[begin:].decode("latin-1").split(",")
    if len(cells) < 4 or not set(faults.strip().split("+")) <= {"", *FAULT_NAMES.values()}:
        return block[:begin], "its last row is incomplete"
    return block, ""


def _table(data: bytes, name: str, lines_before: int) -> pd.DataFrame:
    """Read all columns as text."""
    import pandas as pd

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)
            table = pd.read_csv(
                io.BytesIO(data),
                dtype=str,
                comment="#",
                keep_default_na=False,
                skipinitialspace=True,
                index_col=False,
                encoding="utf-8-sig",
            )
    except pd.errors.ParserWarning:
        line = lines_before + 2
        found = f"has a row with more than {len(CHARACTER_COLUMNS)} cells, at line {line} or soon behind it"
        raise CaptureError(name, found, f"must have {','.join(CHARACTER_COLUMNS)}") from None
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + lines_before + 1
        raise CaptureError(f"{name}: line {line}", "is not text in UTF-8") from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        found = _LINE.sub(lambda match: f"line {int(match[1]) + lines_before}", str(error))
        raise CaptureError(name, f"is not comma-separated text: {found}") from None
    return table.rename(columns=str.strip)


def _numbers(table: pd.DataFrame, column: str, name: str, before: int, *, may_lack: bool = False) -> Any:
    import pandas as pd

    texts = table[column]
    numbers = pd.to_numeric(texts, errors="coerce").to_numpy(dtype=np.float64)
    missing = ~np.isfinite(numbers)
    if may_lack:
        missing &= (texts != "").to_numpy()
    if missing.any():
        row = int(np.argmax(missing))
        raise CaptureError(
            f"{name}: row {before + row + 2}, column {column}", f'has "{texts.iloc[row]}"', "must be a number"
        )
    return numbers


def _rounded(times: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return times to a picosecond."""
    return np.round(times, 12)


def _values_of(characters: Characters) -> npt.NDArray[np.uint16]:
    """Return the values; an address mark adds a ninth bit."""
    marks = characters.address_mark
    return characters.value if marks is None else characters.value + (marks.astype(np.uint16) << 8)
