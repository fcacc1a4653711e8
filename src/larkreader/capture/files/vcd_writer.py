"""Traces to VCD files (IEEE 1364-2005, clause 18)."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import TextIO

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError
from larkreader.sources import Target, opened_to_write

from .levels import Levels, Ticks, reports_of

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
        is 1, 10 or 100 of a unit of time; else 1 ns or 1 ps, to which changes are rounded.
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
    ticks = {trace.tick_s for trace in traces.values()}
    tick_s = min(ticks)
    if len(ticks) > 1 or _timescale(tick_s) is None:
        tick_s = 1e-9 if tick_s >= COARSE_S else 1e-12
        traces = {name: trace.in_ticks_of(tick_s) for name, trace in traces.items()}
    with opened_to_write(path) as binary:
        file = io.TextIOWrapper(binary, encoding="ascii", errors="replace", newline="\n", write_through=True)
        try:
            _write(file, traces, f"{_timescale(tick_s)}", comment)
        finally:
            file.detach()


def _write(file: TextIO, traces: Mapping[str, Trace], timescale: str, comment: str) -> None:
    if comment:
        file.write(f"$comment {comment} $end\n")
    file.write(f"$timescale {timescale} $end\n")
    codes = {name: _code(number) for number, name in enumerate(traces)}
    open_scopes: list[str] = []
    for name in sorted(traces, key=lambda item: item.split(".")[:-1]):
        *scopes, reference = name.split(".")
        while open_scopes != scopes[: len(open_scopes)]:
            open_scopes.pop()
            file.write("$upscope $end\n")
        for scope in scopes[len(open_scopes) :]:
            open_scopes.append(scope)
            file.write(f"$scope module {scope} $end\n")
        file.write(f"$var wire 1 {codes[name]} {reference.replace(' ', '_')} $end\n")
    file.write("$upscope $end\n" * len(open_scopes) + "$enddefinitions $end\n")
    reports = {name: reports_of(trace) for name, trace in traces.items()}
    begin = min(int(at[0]) for at, _ in reports.values())
    if begin < 0:
        raise CaptureError("trace", f"begins at tick {begin}", "the first level of a VCD file stands at 0 or later")
    file.write(f"#{begin}\n$dumpvars\n")
    file.writelines(f"{'01x'[levels[0]]}{codes[name]}\n" for name, (_, levels) in reports.items())
    file.write("$end\n")
    _write_changes(file, reports, codes, begin)
    ends = [trace.end for trace in traces.values() if trace.end is not None]
    last = max(int(at[-1]) for at, _ in reports.values())
    if ends and max(ends) > last:
        file.write(f"#{max(ends)}\n")


def _write_changes(
    file: TextIO, reports: Mapping[str, tuple[Ticks, Levels]], codes: Mapping[str, str], begin: int
) -> None:
    at = np.concatenate([times[1:] for times, _ in reports.values()])
    change = np.concatenate(
        [3 * number + levels[1:].astype(np.int64) for number, (_, levels) in enumerate(reports.values())]
    )
    texts = [f"{level}{codes[name]}" for name in reports for level in "01x"]
    order = np.argsort(at, kind="stable")
    now = begin
    for low in range(0, len(order), BLOCK):
        rows = order[low : low + BLOCK]
        lines: list[str] = []
        for time, number in zip(at[rows].tolist(), change[rows].tolist(), strict=True):
            if time != now:
                now = time
                lines.append(f"#{now}")
            lines.append(texts[number])
        file.write("\n".join([*lines, ""]))


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
