"""What is kept of a capture: rows for the tables of a store."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from larkreader.answers.large import is_large_stream
from larkreader.answers.planning import calculate_margins
from larkreader.answers.reading import Reading, read
from larkreader.answers.summed_reading import SummedReading, judge_capture
from larkreader.capture.characters import Fault
from larkreader.capture.median import median_of
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import LarkReaderError
from larkreader.judge.calculate.margins import Margin, Timing, calculate_margin
from larkreader.judge.findings.finding import Finding
from larkreader.judge.measure.clock import measure_clock
from larkreader.judge.measure.distribution import figures_of
from larkreader.judge.measure.pair_columns import PairTimes
from larkreader.sources import hash_of

from .tables import names_of

LARGEST_WITH_LEVELS = 64 << 20  # bytes of a capture whose levels are kept, to measure clocks
MOST_TEXT = 2000  # characters of an error that are kept
Row = dict[str, Any]
Edges = tuple[float, float]


@dataclass(frozen=True)
class CaptureRows:
    """What is kept of a capture.

    Parameters
    ----------
    number : int
        Of the capture, from 1.
    path : str
        Its file.
    rows : mapping of str to sequence of tuple
        The rows of each table, in the order of its columns.
    """

    number: int
    path: str
    rows: Mapping[str, Sequence[tuple[Any, ...]]] = field(default_factory=dict)


@dataclass(frozen=True)
class HowToRead:
    """What the files do not say of themselves, and which wire is read.

    Parameters
    ----------
    kind : str, optional
        As of `read`.
    form : CaptureForm, optional
        As of `read`.
    wire : str, optional
        As of `read`.
    limits : mapping of str to tuple of float
        Between which clock errors each wire is read, as of `clock_limits`.
    """

    kind: CaptureKind | None = None
    form: CaptureForm | None = None
    wire: str | None = None
    limits: Mapping[str, Edges] = field(default_factory=dict)


def summarize(sheet: Sheet, number: int, path: str, how: HowToRead) -> CaptureRows:
    """Read a capture and return what is kept of it; an error is kept as a row.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    number : int
        Of the capture.
    path : str
        Its file.
    how : HowToRead
        What the file does not say of itself.
    """
    began = time.perf_counter()
    head: Row = {"capture": number, "path": path}
    tables: dict[str, list[Row]] = {}
    try:
        file = Path(path)
        status = file.stat()
        head |= {"bytes": status.st_size, "modified_ns": status.st_mtime_ns}
        head["sha256"] = hash_of(file)
        tables = {name: list(rows) for name, rows in _tables_of(_reading_of(sheet, file, how), how.limits).items()}
        head |= tables.pop("captures")[0]
    except (LarkReaderError, MemoryError) as error:
        head |= {"error": _cut(str(error) or "needs more memory than there is"), "error_kind": type(error).__name__}
    except OSError as error:
        head |= {"error": f"{path}: {error.strerror or error}", "error_kind": type(error).__name__}
    except Exception as error:  # one file must not end the run; the row says that it is a bug
        head |= {"error": _cut(f"a bug in Lark Reader: {error!r}"), "error_kind": type(error).__name__}
    head["read_s"] = time.perf_counter() - began
    tables["captures"] = [head]
    return CaptureRows(number, path, {name: _as_tuples(name, number, rows) for name, rows in tables.items()})


def not_read(number: int, path: str, error: str, kind: str) -> CaptureRows:
    """Return what is kept of a capture that could not be read."""
    head = {"path": path, "error": _cut(error), "error_kind": kind}
    return CaptureRows(number, path, {"captures": _as_tuples("captures", number, [head])})


def _cut(text: str) -> str:
    return text if len(text) <= MOST_TEXT else f"{text[:MOST_TEXT]} ..."


def _as_tuples(table: str, number: int, rows: Sequence[Row]) -> list[tuple[Any, ...]]:
    names = names_of(table)
    return [tuple(_plain((row | {"capture": number}).get(name)) for name in names) for row in rows]


def _plain(value: Any) -> Any:
    """Return a value as a store has it; what is not known is null."""
    value = value.item() if isinstance(value, np.generic) else value
    return None if isinstance(value, float) and not np.isfinite(value) else value


def _reading_of(sheet: Sheet, path: Path, how: HowToRead) -> Reading | SummedReading:
    form = how.form or sheet.capture
    if is_large_stream(path, how.kind, form):
        return judge_capture(sheet, path, kind=how.kind, form=form, wire=how.wire)
    keep_levels = path.stat().st_size <= LARGEST_WITH_LEVELS
    return read(sheet, path, kind=how.kind, form=form, wire=how.wire, keep_levels=keep_levels)


def _tables_of(reading: Reading | SummedReading, limits: Mapping[str, Edges]) -> dict[str, Iterator[Row]]:
    not_checked = sorted({check.what for check in reading.checked.not_checked})
    head = {"verdict": reading.verdict, "not_checked": json.dumps(not_checked)}
    return {
        "captures": iter([head]),
        "wires": _wire_rows(reading, limits),
        "frames": _frame_rows(reading),
        "findings": map(_finding_row, reading.findings),
        "pairs": _pair_rows(reading),
    }


def _wire_rows(reading: Reading | SummedReading, limits: Mapping[str, Edges]) -> Iterator[Row]:
    for wire, counts in reading.counts.items():
        line, held = reading.sheet.wire[wire].line, reading.bytes_of(wire)
        faults = counts.by_fault
        row: Row = {
            "wire": wire,
            "characters": counts.characters,
            "parity": faults.get(Fault.PARITY, 0),
            "framing": faults.get(Fault.FRAMING, 0),
            "breaks": faults.get(Fault.BREAK, 0),
            "noise": faults.get(Fault.NOISE, 0),
            "overruns": faults.get(Fault.OVERRUN, 0),
            "good_bytes": held["good"],
            "faulty_bytes": held["faulty"],
            "skipped_bytes": held["skipped"],
            "begin_s": counts.begin_s,
            "end_s": counts.end_s,
            "declared_baud": line.baud,
        }
        trace = reading.levels.get(wire) if isinstance(reading, Reading) else None
        if isinstance(reading, Reading) and trace is not None:
            clock = measure_clock(trace, reading.characters[wire], line)
            if clock is not None:
                slowest, fastest = limits.get(wire) or clock_limits(reading.sheet, wire)
                row |= {
                    "clock_error": clock.error,
                    "clock_uncertainty": clock.uncertainty,
                    "jitter_s": clock.jitter_s,
                    "slowest": slowest,
                    "fastest": fastest,
                    "headroom": min(clock.error - slowest, fastest - clock.error),
                }
        yield row


def clock_limits(sheet: Sheet, wire: str) -> Edges:
    """Return the clock errors of a sender between which every receiver of its wire reads it, as shares of the baud.

    Parameters
    ----------
    sheet : Sheet
        Declares the receivers; an ordinary receiver with 16 looks a bit where it declares none.
    wire : str
        The wire.

    Returns
    -------
    tuple of float
        The slowest and the fastest; with the receiver's clock at its nominal frequency.
    """
    line = sheet.wire[wire].line
    margins: Sequence[Margin] = calculate_margins(sheet).get(wire, ())
    if not margins:
        margins = [calculate_margin(line, Timing.even(line.baud, line), Timing.even(line.baud, line))]
    limits = [margin.tolerance for margin in margins]
    return max(slowest for slowest, _ in limits), min(fastest for _, fastest in limits)


def _frame_rows(reading: Reading | SummedReading) -> Iterator[Row]:
    sheet = reading.sheet
    wires = {layout.key: wire for wire in sheet.wire for layout in sheet.layouts_of(wire)}
    for key, counts in reading.frame_counts.items():
        row: Row = {
            "frame": key,
            "wire": wires.get(key),
            "count": counts.frames,
            "good": counts.good,
            "faults": json.dumps(counts.to_dict()["faults"]),
        }
        if isinstance(reading, Reading) and len(begins_s := reading.frames[key].begin_s) > 1:
            row["period_s"] = median_of(np.diff(begins_s))
        yield row


def _finding_row(finding: Finding) -> Row:
    document = finding.to_dict()
    return {
        **{name: document.get(name) for name in names_of("findings")},
        "subject": finding.subject.kind,
        "name": finding.subject.name,
        "evidence": json.dumps(document["evidence"], default=str),
    }


def _pair_rows(reading: Reading | SummedReading) -> Iterator[Row]:
    for key, pairs in reading.pairs.items():
        counts = {name.replace("-", "_"): count for name, count in pairs.to_dict().items()}
        times = PairTimes.of(pairs) if isinstance(reading, Reading) else pairs.times  # type: ignore[arg-type,union-attr]
        latency = figures_of(times.latency_s if times is not None else np.empty(0))
        figures = {"median": "median_s", "99": "nearly_all_s", "most": "most_s"}
        yield {
            **{name: count for name, count in counts.items() if name in names_of("pairs")},
            "pair": key,
            **{f"latency_{name}_s": latency[known] for name, known in figures.items()},
        }
