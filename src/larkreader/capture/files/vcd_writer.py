"""Traces to VCD files (IEEE 1364-2005, clause 18)."""

from __future__ import annotations

import io
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TextIO

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError
from larkreader.sources import Target, opened_to_write

from .levels import UNKNOWN, Levels, Ticks
from .reports import ReportedPiece, last_tick, reported_pieces

BLOCK = 1 << 16  # changes that are written at once
COARSE_S = 1e-8  # ticks from which rounding to 1 ns is fine enough


def write_vcd(path: Target, traces: Mapping[str, Trace], *, comment: str = "") -> None:
    """Write traces as a VCD file.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    traces : mapping of str to Trace
        The signals by name; dots in a name make nested scopes. The timescale is their `tick_s`, if that is one and
        is 1, 10 or 100 of a unit of time; else 1 ns or 1 ps, to which changes are rounded. The level of a signal that
        begins later than another is written as ``x`` until it does.
    comment : str
        Stands at the top of the file.

    Raises
    ------
    CaptureError
        If a trace begins before tick 0, or has no tick before its first change, where VCD has its first level.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd"
    >>> lr.write_vcd(path, {"pump_tx": lr.Trace(np.array([100, 200]), 1e-6, first_level=1)})
    >>> "pump_tx" in path.read_text(encoding="ascii")
    True
    """
    write_vcd_pieces(
        path, list(traces), [traces], file_tick({trace.tick_s for trace in traces.values()}), comment=comment
    )


def file_tick(ticks_s: Collection[float]) -> float:
    """Return the timescale of a VCD file for traces with some ticks, in seconds.

    Parameters
    ----------
    ticks_s : collection of float
        The lengths of the ticks, in seconds.
    """
    finest_s = min(ticks_s)
    if len(ticks_s) == 1 and _timescale(finest_s) is not None:
        return finest_s
    return 1e-9 if finest_s >= COARSE_S else 1e-12


def write_vcd_pieces(
    path: Target, names: Sequence[str], pieces: Iterable[Mapping[str, Trace]], tick_s: float, *, comment: str = ""
) -> None:
    """Write a VCD file of pieces of a capture, in bounded memory.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    names : sequence of str
        The signals.
    pieces : iterable of mapping of str to Trace
        What happened on them, as `CaptureFile.pieces` yields it; one at least.
    tick_s : float
        The timescale, in seconds: 1, 10 or 100 of a unit of time.
    comment : str
        Stands at the top of the file.

    Raises
    ------
    CaptureError
        As `write_vcd`.
    """
    with opened_to_write(path) as binary:
        file = io.TextIOWrapper(binary, encoding="ascii", errors="replace", newline="\n", write_through=True)
        try:
            codes = _write_header(file, names, f"{_timescale(tick_s)}", comment)
            in_ticks = ({name: _in_ticks(trace, tick_s) for name, trace in some.items()} for some in pieces)
            _write_pieces(file, codes, reported_pieces(names, in_ticks))
        finally:
            file.detach()


def _in_ticks(trace: Trace, tick_s: float) -> Trace:
    return trace if trace.tick_s == tick_s else trace.in_ticks_of(tick_s)


def _write_header(file: TextIO, names: Sequence[str], timescale: str, comment: str) -> dict[str, str]:
    """Write what stands before the first time; return the code of each signal."""
    if comment:
        file.write(f"$comment {comment} $end\n")
    file.write(f"$timescale {timescale} $end\n")
    codes = {name: _code(number) for number, name in enumerate(names)}
    open_scopes: list[str] = []
    for name in sorted(names, key=lambda item: item.split(".")[:-1]):
        *scopes, reference = name.split(".")
        while open_scopes != scopes[: len(open_scopes)]:
            open_scopes.pop()
            file.write("$upscope $end\n")
        for scope in scopes[len(open_scopes) :]:
            open_scopes.append(scope)
            file.write(f"$scope module {scope} $end\n")
        file.write(f"$var wire 1 {codes[name]} {reference.replace(' ', '_')} $end\n")
    file.write("$upscope $end\n" * len(open_scopes) + "$enddefinitions $end\n")
    return codes


def _write_pieces(file: TextIO, codes: Mapping[str, str], pieces: Iterable[ReportedPiece]) -> None:
    """Write the first level of each signal, then the changes, and when the capture ends."""
    now: int | None = None
    for piece in pieces:
        reports = piece.reports
        if now is None:
            now = begin = min(int(at[0]) for at, _ in reports.values())
            if begin < 0:
                wanted = "the first level of a VCD file stands at 0 or later"
                raise CaptureError("trace", f"begins at tick {begin}", wanted)
            first = {name: int(level[0]) if at[0] == begin else UNKNOWN for name, (at, level) in reports.items()}
            file.write(f"#{begin}\n$dumpvars\n")
            file.writelines(f"{'01x'[first[name]]}{codes[name]}\n" for name in reports)
            file.write("$end\n")
            reports = {
                name: (at[level_from:], level[level_from:])
                for name, (at, level) in reports.items()
                for level_from in (int(at[0] == begin),)
            }
        now = _write_changes(file, reports, codes, now)
        if piece.is_last and (last := max(map(last_tick, piece.traces.values()))) > now:
            file.write(f"#{last}\n")


def _write_changes(
    file: TextIO, reports: Mapping[str, tuple[Ticks, Levels]], codes: Mapping[str, str], now: int
) -> int:
    """Write changes behind the time `now`; return the last time."""
    at = np.concatenate([times for times, _ in reports.values()])
    change = np.concatenate(
        [3 * number + levels.astype(np.int64) for number, (_, levels) in enumerate(reports.values())]
    )
    texts = [f"{level}{codes[name]}" for name in reports for level in "01x"]
    order = np.argsort(at, kind="stable")
    for low in range(0, len(order), BLOCK):
        rows = order[low : low + BLOCK]
        lines: list[str] = []
        for time, number in zip(at[rows].tolist(), change[rows].tolist(), strict=True):
            if time != now:
                now = time
                lines.append(f"#{now}")
            lines.append(texts[number])
        file.write("\n".join([*lines, ""]))
    return now


def _code(number: int) -> str:
    """Return a short code of printable characters for signal number `number`."""
    code = chr(33 + number % 94)
    return code if number < 94 else code + _code(number // 94 - 1)


def _timescale(tick_s: float) -> str | None:
    """Write a length of tick as VCD does; None if that cannot."""
    for unit, exponent in (("s", 0), ("ms", 3), ("us", 6), ("ns", 9), ("ps", 12), ("fs", 15)):
        count = tick_s * 10**exponent
        if round(count) in (1, 10, 100) and abs(count - round(count)) < 1e-6:
            return f"{round(count)} {unit}"
    return None
