"""Captures in comma-separated text: level changes, and characters.

Level changes have a first column of times, such as ``time_us`` or ``Time [s]``, and one column a signal; a row holds
the levels from its time on, 0, 1, x or z, empty where nothing changed, so that a table with a row for each sample is
one too. The first row holds the levels with which recording began; a last row that changes nothing says when it ended.
Lines that begin with ``#`` are comments; commas, semicolons or tabs stand between cells.

Characters have the columns ``begin_s,end_s,wire,value,faults``; faults is empty, or names joined by ``+``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.capture.characters import FAULT_NAMES, Characters, fault_names
from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError, nearest

from .csv_form import CsvForm, find_form
from .levels import UNDRIVEN, UNKNOWN, trace_of_changes

if TYPE_CHECKING:
    import pandas as pd

CHARACTER_COLUMNS = ("begin_s", "end_s", "wire", "value", "faults")
LOOKED_AT = 1 << 16  # bytes from which the form of a table is found
TICK_S = 1e-12  # of a trace read from decimal numbers
LONGEST_S = 9e6  # beyond it, times no longer fit into 64 bits of such ticks
_LEVELS: Mapping[str, int] = {"0": 0, "1": 1, "x": UNKNOWN, "X": UNKNOWN, "z": UNDRIVEN, "Z": UNDRIVEN}


def read_levels(path: Path, signals: Sequence[str], *, name: str | None = None) -> dict[str, Trace]:
    """Read the level changes of some signals.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    signals : sequence of str
        Names of columns.
    name : str, optional
        What to call the file in messages.

    Returns
    -------
    dict of str to Trace

    Raises
    ------
    CaptureError
        If the file is not of this form, or lacks a column.
    """
    name = name or path.name
    table, form = _levels_table(path, name)
    for signal in signals:
        if signal not in table.columns[1:]:
            advice = nearest(signal, list(table.columns[1:]))
            raise CaptureError(f'{name}: signal "{signal}"', "is not a column of the file", advice=advice)
    if not len(table):
        raise CaptureError(name, "has a header but no rows")
    seconds = _numbers(table, table.columns[0], name) * form.unit
    if (back := np.flatnonzero(np.diff(seconds) < 0)).size:
        raise CaptureError(f"{name}: row {back[0] + 3}", "goes back in time")
    tick_s = TICK_S if abs(seconds).max() < LONGEST_S else 1e-9
    at = np.rint(seconds / tick_s).astype(np.int64)
    columns = {signal: _levels(table, signal, name) for signal in signals}
    everything = {signal: _levels(table, signal, name) for signal in table.columns[1:]}
    end_is_known = len(table) > 1 and all(
        level[-1] == -1 or level[-1] == _before_last(level) for level in everything.values()
    )
    traces = {}
    for signal, level in columns.items():
        told = level >= 0
        traces[signal] = trace_of_changes(
            at[told],
            level[told].astype(np.uint8),
            tick_s=tick_s,
            begin=int(at[0]),
            last=int(at[-1]),
            end_is_known=end_is_known,
            name=signal,
        )
    return traces


def level_columns(path: Path, name: str) -> list[str]:
    """Name the signals of a file of level changes.

    Raises
    ------
    CaptureError
        If the file is not of this form.
    """
    return list(_form_of(path, name).columns[1:])


def write_levels(path: str | Path, traces: Mapping[str, Trace]) -> None:
    """Write traces as level changes, times in nanoseconds.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    traces : mapping of str to Trace
        The signals, by the names of their columns.
    """
    import pandas as pd

    parts = []
    for name, trace in traces.items():
        at = np.concatenate([[trace.begin], trace.edges]) * (trace.tick_s / 1e-9)
        levels = (np.arange(len(at)) + trace.first_level) % 2
        parts.append(pd.Series(levels, index=np.round(at, 3), name=name))
    table = pd.concat(parts, axis=1).sort_index()
    ends = [trace.end * (trace.tick_s / 1e-9) for trace in traces.values() if trace.end is not None]
    if ends and max(ends) > table.index[-1]:
        table.loc[round(max(ends), 3)] = [float("nan")] * len(parts)
    table.index.name = "time_ns"
    table.astype("Int8").to_csv(path, lineterminator="\n")


def read_characters(path: Path, *, name: str | None = None) -> dict[str, Characters]:
    """Read characters, by wire.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    name : str, optional
        What to call the file in messages.

    Returns
    -------
    dict of str to Characters

    Raises
    ------
    CaptureError
        If the file is not of this form.
    """
    name = name or path.name
    table = _table(path, name)
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
            begin[rows], end[rows], value[rows].astype(np.uint16), faults[rows], np.empty(0), has_line=False
        )
    return wires


def write_characters(target: str | Path, wires: Mapping[str, Characters]) -> None:
    """Write characters of several wires in order of time.

    Parameters
    ----------
    target : str or pathlib.Path
        The file.
    wires : mapping of str to Characters
        The characters, by wire.
    """
    characters_table(wires).to_csv(target, index=False, lineterminator="\n")


def characters_table(wires: Mapping[str, Characters]) -> pd.DataFrame:
    """Return the characters of several wires as one data frame, in order of time."""
    import pandas as pd

    names = np.array([fault_names(faults) for faults in range(256)], dtype=object)
    parts = [
        pd.DataFrame(
            {
                "begin_s": np.round(characters.begin_s, 12),
                "end_s": np.round(characters.end_s, 12),
                "wire": wire,
                "value": characters.value,
                "faults": names[characters.faults],
            }
        )
        for wire, characters in wires.items()
    ]
    return pd.concat(parts, ignore_index=True).sort_values("begin_s", kind="stable", ignore_index=True)


def _form_of(path: Path, name: str) -> CsvForm:
    with path.open("rb") as file:
        form = find_form(file.read(LOOKED_AT))
    if form is None:
        wanted = "its first column must be the time, as in time_us, and the others levels: 0, 1, x, z or nothing"
        raise CaptureError(name, "is no table of level changes", wanted)
    return form


def _levels_table(path: Path, name: str) -> tuple[pd.DataFrame, CsvForm]:
    """Read a table of levels, whatever its form, with a point before the decimals of its times."""
    form = _form_of(path, name)
    table = _table(path, name, separator=form.separator, skipped=form.header_line)
    table.columns = [column.strip('"').strip() for column in table.columns]
    if form.decimal == ",":
        table[table.columns[0]] = table[table.columns[0]].str.replace(",", ".")
    return table, form


def _table(path: Path, name: str, *, separator: str = ",", skipped: int = 0) -> pd.DataFrame:
    import pandas as pd

    try:
        table = pd.read_csv(
            path,
            sep=separator,
            skiprows=skipped,
            dtype=str,
            comment="#",
            keep_default_na=False,
            skipinitialspace=True,
            encoding="utf-8-sig",
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
        raise CaptureError(name, f"is not comma-separated text: {error}") from None
    return table.rename(columns=str.strip)


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


def _levels(table: pd.DataFrame, signal: str, name: str) -> Any:
    """Return one column as level codes, -1 where the cell is empty."""
    texts = table[signal].str.strip()
    codes = texts.map({**_LEVELS, "": -1})
    if codes.isna().any():
        row = int(np.argmax(codes.isna().to_numpy()))
        found = f'has "{texts.iloc[row]}"'
        raise CaptureError(f"{name}: row {row + 2}, column {signal}", found, "must be 0, 1, x, z or empty")
    return codes.to_numpy(dtype=np.int8)


def _before_last(level: Any) -> int:
    told = level[:-1][level[:-1] >= 0]
    return int(told[-1]) if len(told) else -1
