"""Traces to VCD files (IEEE 1364-2005, clause 18)."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TextIO

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.errors import CaptureError


def write_vcd(path: str | Path, traces: Mapping[str, Trace], *, comment: str = "") -> None:
    """Write traces as a VCD file.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    traces : mapping of str to Trace
        The signals by name; dots in a name make nested scopes. All must have one `tick_s`, which must be 1, 10 or
        100 of a unit of time.
    comment : str
        Stands at the top of the file.

    Raises
    ------
    CaptureError
        If the ticks differ or are no VCD timescale, or a level changes the moment recording begins, where VCD has its
        first level.
    """
    with Path(path).open("w", encoding="ascii", newline="\n") as file:
        _write(file, traces, comment)


def _write(file: TextIO, traces: Mapping[str, Trace], comment: str) -> None:
    ticks = {trace.tick_s for trace in traces.values()}
    if len(ticks) != 1:
        raise CaptureError("tick_s", f"differs between the traces: {sorted(ticks)}", "must be the same")
    if comment:
        file.write(f"$comment {comment} $end\n")
    file.write(f"$timescale {_timescale(ticks.pop())} $end\n")
    codes = {name: _code(number) for number, name in enumerate(traces)}
    open_scopes: list[str] = []
    for name in sorted(traces, key=lambda one: one.split(".")[:-1]):
        *scopes, reference = name.split(".")
        while open_scopes != scopes[: len(open_scopes)]:
            open_scopes.pop()
            file.write("$upscope $end\n")
        for scope in scopes[len(open_scopes) :]:
            open_scopes.append(scope)
            file.write(f"$scope module {scope} $end\n")
        file.write(f"$var wire 1 {codes[name]} {reference} $end\n")
    file.write("$upscope $end\n" * len(open_scopes) + "$enddefinitions $end\n")
    begin = min(trace.begin for trace in traces.values())
    first = min((int(trace.edges[0]) for trace in traces.values() if len(trace)), default=begin + 1)
    begin = min(begin, first - 1)
    if begin < 0:
        raise CaptureError(
            "trace",
            f"begins at tick {begin}",
            "the first level of a VCD file stands at 0 or later, before the first change",
        )
    file.write(f"#{begin}\n$dumpvars\n")
    file.writelines(f"{trace.first_level}{codes[name]}\n" for name, trace in traces.items())
    file.write("$end\n")
    _write_changes(file, traces, codes, begin)
    ends = [trace.end for trace in traces.values() if trace.end is not None]
    last = max((int(trace.edges[-1]) for trace in traces.values() if len(trace)), default=begin)
    if ends and max(ends) > last:
        file.write(f"#{max(ends)}\n")


def _write_changes(file: TextIO, traces: Mapping[str, Trace], codes: Mapping[str, str], begin: int) -> None:
    at = np.concatenate([trace.edges for trace in traces.values()])
    texts: list[str] = []
    for name, trace in traces.items():
        to = (f"{trace.first_level ^ 1}{codes[name]}", f"{trace.first_level}{codes[name]}")
        texts += [to[place & 1] for place in range(len(trace))]
    now = begin
    lines: list[str] = []
    for place in np.argsort(at, kind="stable").tolist():
        if at[place] != now:
            now = int(at[place])
            lines.append(f"#{now}")
        lines.append(texts[place])
    file.write("\n".join([*lines, ""]))


def _code(number: int) -> str:
    """Return a short code of printable characters for signal number `number`."""
    code = chr(33 + number % 94)
    return code if number < 94 else code + _code(number // 94 - 1)


def _timescale(tick_s: float) -> str:
    for unit, exponent in (("s", 0), ("ms", 3), ("us", 6), ("ns", 9), ("ps", 12), ("fs", 15)):
        count = tick_s * 10**exponent
        if round(count) in (1, 10, 100) and abs(count - round(count)) < 1e-6:
            return f"{round(count)} {unit}"
    raise CaptureError("tick_s", f"is {tick_s:g} s", "must be 1, 10 or 100 of a unit of time from s to fs")
