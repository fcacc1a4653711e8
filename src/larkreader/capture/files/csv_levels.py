"""Levels in comma-separated text: a row a change, or a row a sample.

A first column of times, such as ``time_us`` or ``Time [s]``, and one column a signal. A row holds the levels from its
time on, 0, 1, x or z, empty where nothing changed, so that a table with a row for each sample is one too. The first row
holds the levels with which recording began; a last row that changes nothing says when it ended. Lines that begin with
``#`` are comments; commas, semicolons or tabs stand between cells. A table without times has a row for each sample.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import LAST_TICK, Trace
from larkreader.errors import CaptureError
from larkreader.sources import Target, opened_to_write

from .content import Content
from .csv_rows import CsvRows
from .csv_text import Choice, csv_heading, csv_lines
from .levels import UNDRIVEN, UNKNOWN, TraceBuilder
from .reports import ReportedPiece, last_tick, reported_pieces

if TYPE_CHECKING:
    import pandas as pd

TICK_S = 1e-12  # of a trace read from decimal numbers
LONGEST_S = 9e6  # beyond it, times no longer fit into 64 bits of such ticks
NOTHING = 255  # an empty cell
_LEVELS: Mapping[str, int] = {
    "0": 0, "1": 1, "x": UNKNOWN, "X": UNKNOWN, "z": UNDRIVEN, "Z": UNDRIVEN, "": NOTHING,
}  # fmt: skip
LEVEL_TEXTS = ("0", "1", "x", "")  # by what a report states; the last for none


def level_pieces(file: Content, signals: Sequence[str], *, rate: float | None) -> Iterator[dict[str, Trace]]:
    """Read the level changes of some signals, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.
    signals : sequence of str
        Names of columns.
    rate : float or None
        Rows a second, where the file has no times.

    Yields
    ------
    dict of str to Trace

    Raises
    ------
    CaptureError
        If the file is not of this form, or lacks a column.
    """
    rows = CsvRows(file, with_times=rate is None)
    rows.check_signals(signals)
    form = rows.form
    time = form.columns[0] if form.unit is not None else None
    tick_s = 1 / rate if time is None and rate else TICK_S
    builders: dict[str, TraceBuilder] = {}
    before = dict.fromkeys(form.signals, NOTHING)  # the last level that was reported of each
    begin, last, changes_last = None, 0, False
    for line, table in rows.blocks(form.columns, [] if time is None else [time]):
        if time is None:
            first = 0 if begin is None else last + 1
            at = np.arange(first, first + len(table), dtype=np.int64)
        else:
            seconds = table[time].to_numpy() * form.unit
            rows.refuse_lacking(line, seconds, time)
            if begin is None and len(seconds) and abs(seconds).max() >= LONGEST_S:
                tick_s = 1e-9
            if (far := np.flatnonzero(abs(seconds) >= LAST_TICK * tick_s)).size:
                wanted = f"must be less than {LAST_TICK * tick_s:.2g} s from 0"
                rows.refuse_cell(line, int(far[0]), time, f"{seconds[far[0]]:g}", wanted)
            at = np.rint(seconds / tick_s).astype(np.int64)
            if (back := np.flatnonzero(np.diff(at, prepend=at[:1] if begin is None else last) < 0)).size:
                raise CaptureError(f"{rows.name}: row {line + back[0]}", "goes back in time")
        if not len(at):
            continue
        builders = builders or {signal: TraceBuilder(tick_s, signal) for signal in signals}
        begin = int(at[0]) if begin is None else begin
        last, changes_last = int(at[-1]), False
        for signal in form.signals:
            levels = _levels(rows, table, signal, line)
            result = np.flatnonzero(levels[:-1] != NOTHING)
            old = int(levels[result[-1]]) if result.size else before[signal]
            changes_last |= levels[-1] not in (NOTHING, old)
            before[signal] = old if levels[-1] == NOTHING else int(levels[-1])
            if signal in builders:
                is_reported = levels != NOTHING
                builders[signal].add(at[is_reported], levels[is_reported])
        pieces = {signal: builder.piece(begin, last) for signal, builder in builders.items()}
        yield {signal: piece for signal, piece in pieces.items() if piece is not None}
    if begin is None:
        raise CaptureError(rows.name, "has a header but no rows")
    truncated = rows.truncated or file.truncated
    is_known = time is None or bool(truncated) or (last > begin and not changes_last)
    ends = {signal: builder.last(begin, last, end_is_known=is_known) for signal, builder in builders.items()}
    yield {signal: replace(piece, truncated=truncated) for signal, piece in ends.items()}


def write_levels(path: Target, traces: Mapping[str, Trace]) -> None:
    """Write traces as level changes, times in nanoseconds.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    traces : mapping of str to Trace
        The signals, by the names of their columns.
    """
    write_level_pieces(path, list(traces), [traces])


def write_level_pieces(path: Target, names: Sequence[str], pieces: Iterable[Mapping[str, Trace]]) -> None:
    """Write pieces of a capture as level changes, in bounded memory; see `write_levels`.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    names : sequence of str
        The signals, which name their columns.
    pieces : iterable of mapping of str to Trace
        What happened on them, as `CaptureFile.pieces` yields it.
    """
    with opened_to_write(path) as file:
        file.write(csv_heading(["time_ns", *names]))
        for piece in reported_pieces(names, pieces):
            file.writelines(csv_lines([_columns(piece)]))


def _columns(piece: ReportedPiece) -> list[Any]:
    """Return the rows of a piece, with one at the end of the capture."""
    tick_s = {name: trace.tick_s for name, trace in piece.traces.items()}
    other = next(iter(tick_s.values()))  # of signals that are not known yet
    times = {name: _nanoseconds(at, tick_s.get(name, other)) for name, (at, _) in piece.reports.items()}
    traces = piece.traces.values() if piece.is_last else ()
    end = max((_nanoseconds(last_tick(trace), trace.tick_s) for trace in traces), default=None)
    every = np.unique(np.concatenate([*times.values(), [] if end is None else [end]]))
    columns: list[Any] = [every]
    for name, (_, levels) in piece.reports.items():
        codes = np.full(len(every), len(LEVEL_TEXTS) - 1, dtype=np.uint8)
        codes[np.searchsorted(every, times[name])] = levels
        columns.append(Choice(codes, LEVEL_TEXTS))
    return columns


def _nanoseconds(ticks: Any, tick_s: float) -> Any:
    return np.round(ticks * (tick_s / 1e-9), 3)


def _levels(rows: CsvRows, table: pd.DataFrame, signal: str, line: int) -> npt.NDArray[np.uint8]:
    """Return one column as level codes, `NOTHING` where the cell is empty."""
    column = table[signal].cat
    texts = [str(text).strip().strip('"') for text in column.categories]
    codes = np.array([_LEVELS.get(text, NOTHING - 1) for text in [*texts, ""]], dtype=np.uint8)
    numbers = column.codes.to_numpy()
    levels = codes[numbers]
    if (NOTHING - 1) in codes or (numbers < 0).any():
        wrong = np.flatnonzero((levels == NOTHING - 1) | (numbers < 0))
        if wrong.size:
            row = int(wrong[0])
            text = "" if numbers[row] < 0 else texts[numbers[row]]
            advice = "If the file holds voltages, add --kind voltages"
            rows.refuse_cell(line, row, signal, text, "must be 0, 1, x, z or empty", advice)
    return levels
