"""The result of loopbacks, as text for a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Group
from rich.table import Table
from rich.text import Text

from larkreader.exercise.loopback.matrix import MatrixResult, Tolerance
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.judge.findings.wording import duration
from larkreader.present.text.terminal import new_table

BEYOND_ANY_LINE = 1.1  # times what a line carries; no line carries so much
MOST_BEFORE = 16  # characters shown of what had arrived before anything was sent


def name_of(result: LoopbackResult, *, short: bool = False) -> str:
    """Name a run by what it was: settings, pattern, block, pause."""
    plan = result.plan
    parts = [str(result.line)] if result.line is not None and not short else []
    parts.append(plan.pattern)
    parts += [f"blocks of {plan.block:,}"] if plan.block is not None else []
    parts += [f"pauses of {duration(plan.pause_s)}"] if plan.pause_s else []
    way = [result.name] if " to " in result.name and not short else []
    return ", ".join([*way, " ".join(parts)])


def summary_of(result: LoopbackResult) -> list[str]:
    """Say in plain lines the result of a run."""
    low, high = result.error_interval
    wrong = int(result.bit_errors.sum())
    ratio = f"{result.error_ratio:.3g} ({low:.2g} to {high:.2g})" if wrong else f"below {high:.2g}"
    lines = [
        f"{result.sent:,} sent, {result.received:,} received, {result.lost:,} lost, {result.changed:,} changed, "
        f"{result.extra:,} extra, {result.doubled:,} of them doubled",
        f"bit errors {wrong:,} of {result.compared:,}: {ratio}, 95 % confidence",
    ]
    if result.faults:
        lines.append("line faults: " + ", ".join(f"{count:,} {name}" for name, count in result.faults.items()))
    if result.latency_s is not None:
        lines.append(f"round trip of a block {_spread(result)}")
    return lines + difference_of(result)


def difference_of(result: LoopbackResult) -> list[str]:
    """Show the first difference with what stands around it, each place below its like; none if there is none."""
    first = result.difference
    if first is None:
        return []
    width = 2 if result.plan.data_bits > 8 else 1
    rows = []
    for name, data in (("expected", first.sent), ("received", first.received)):
        cells = [data[at : at + width][::-1].hex().upper() for at in range(0, len(data), width)]
        rows.append(f"  {name:<9} {' '.join(cells)}")
    place = len(f"  {'received':<9} ") + (first.offset - first.begin) * (2 * width + 1)
    return [
        f"First difference at character {first.offset:,}; from character {first.begin:,} on:",
        *rows,
        " " * place + "^" * 2 * width,
    ]


def loopback(result: LoopbackResult) -> Group:
    """Show the result of one run."""
    table = new_table(">sent", ">received", ">lost", ">changed", ">extra", ">char/s", ">of the line")
    table.add_row(
        f"{result.sent:,}",
        f"{result.received:,}",
        *(_number(item) for item in (result.lost, result.changed, result.extra)),
        f"{result.characters_per_second:,.0f}",
        _share(result),
    )
    return Group(table, "", *_remarks(result), Text(_verdict_of(result), style="bold"), *difference_of(result))


def _remarks(result: LoopbackResult) -> list[Any]:
    """Say what there is to say beside the counts."""
    found: list[Any] = []
    share = result.line_share
    if share is not None and share >= BEYOND_ANY_LINE:
        found.append("That is faster than the line could be: there is none.")
    if result.before:
        shown = result.before[:MOST_BEFORE].hex(" ").upper() + (" ..." if len(result.before) > MOST_BEFORE else "")
        when = "anything was sent" if result.plan.sends else "the sequence was seen"
        found.append(f"Before {when}, {len(result.before):,} characters had arrived: {shown}")
    if result.doubled:
        found.append(f"Of the extra characters {result.doubled:,} repeat their neighbours: doubled.")
    wrong = int(result.bit_errors.sum())
    low, high = result.error_interval
    if wrong:
        places = " ".join(f"{count:,}" for count in result.bit_errors.tolist())
        found.append(
            f"Bit errors: {wrong:,} of {result.compared:,}, {result.error_ratio:.3g} ({low:.2g} to {high:.2g} with "
            f"95 % confidence). Wrong by bit, from bit 0 on: {places}."
        )
    elif result.compared:
        found.append(f"No bit error in {result.compared:,}: with 95 % confidence the ratio is below {high:.2g}.")
    if result.faults:
        found.append("Line faults: " + ", ".join(f"{count:,} {name}" for name, count in result.faults.items()) + ".")
    if result.latency_s is not None:
        found.append(f"Round trip of a block: {_spread(result)}.")
    parts = {
        "sending": result.cycle.send_s,
        "waiting": result.cycle.wait_s,
        "receiving": result.cycle.receive_s,
        "resting": result.cycle.rest_s,
        "our own time": result.cycle.own_s,
    }
    total = sum(parts.values())
    if total > 0 and result.plan.sends:
        shares = [f"{name} {100 * part / total:.0f} %" for name, part in parts.items() if part / total >= 0.005]
        found.append(f"Time: {', '.join(shares)}.")
    return [*found, ""] if found else []


def _spread(result: LoopbackResult) -> str:
    latency = result.latency_s
    assert latency is not None
    if duration(latency.shortest) == duration(latency.longest):
        return duration(latency.median)
    return (
        f"{duration(latency.shortest)} at best, {duration(latency.median)} median, {duration(latency.most)} in "
        f"99 %, {duration(latency.longest)} at worst"
    )


def _share(result: LoopbackResult) -> str:
    share = result.line_share
    return "unknown" if share is None else f"{100 * share:.1f} %" if share < BEYOND_ANY_LINE else "faster"


def _verdict_of(result: LoopbackResult) -> str:
    if result.verdict == "fail":
        return "Verdict: fail: " + "; ".join(result.failures)
    limits = result.plan.limits
    allows = limits.lost or limits.changed or limits.extra or limits.error_ratio
    spotless = not (result.lost or result.changed or result.extra)
    as_sent = "returned unchanged" if result.plan.expect == "same" else "returned altered as expected"
    what = as_sent if spotless or not allows else "what went wrong is allowed"
    return f"Verdict: pass: {what if result.plan.sends else 'the sequence arrived whole'}"


def matrix(result: MatrixResult) -> Group:
    """Show the result of many runs, a row each."""
    several = {run.name for run in result.runs}
    runs = [result.runs[number : number + 1] for number in range(len(result.runs))]
    table = _matrix_table(result.runs, shows_name=len(several) > 1)
    found = ["", "Errors: the share of wrong bits; without any, its upper limit with 95 % confidence."]
    bad = next((run for (run,) in runs if run.verdict == "fail"), None)
    if bad is not None:
        found += ["", f"The first that fails, {name_of(bad)}: {'; '.join(bad.failures)}", *difference_of(bad)]
    fastest = result.fastest
    if fastest is not None and len({run.line.baud for run in result.runs if run.line is not None}) > 1:
        found += ["", f"All runs pass up to {fastest.baud:,.10g} baud."]
    failed = sum(run.verdict == "fail" for run in result.runs)
    words = f"{failed} of {len(result.runs)} runs failed" if failed else f"all {len(result.runs)} runs passed"
    words = "interrupted: " + words if result.stopped else words
    return Group(table, *found, "", Text(f"Verdict: {result.verdict}: {words}", style="bold"))


def _matrix_table(runs: Sequence[LoopbackResult], *, shows_name: bool) -> Table:
    """Show a row a run; what all runs have in common, or none has, is left out."""
    blocks, pauses = any(run.plan.block for run in runs), any(run.plan.pause_s for run in runs)
    varying = [*([">block"] if blocks else []), *([">pause"] if pauses else [])]
    names = ["way"] if shows_name else []
    table = new_table(*names, "line", "pattern", *varying, ">lost", ">changed", ">extra", ">errors", ">of line", "")
    for run in runs:
        high = run.error_interval[1]
        ratio = f"{run.error_ratio:.2g}" if run.bit_errors.any() else f"< {high:.1g}" if run.compared else "-"
        table.add_row(
            *([run.name] if shows_name else []),
            "unknown" if run.line is None else str(run.line),
            run.plan.pattern,
            *([f"{run.plan.block:,}" if run.plan.block else "-"] if blocks else []),
            *([duration(run.plan.pause_s) if run.plan.pause_s else "-"] if pauses else []),
            *(_number(count) for count in (run.lost, run.changed, run.extra)),
            ratio,
            _share(run),
            run.verdict if run.stopped != "interrupted" else "cut off",
        )
    return table


def tolerance(found: Tolerance) -> Group:
    """Show how far a clock may be off."""
    if found.slow_ppm != found.slow_ppm:
        return Group("It does not even pass as declared.")
    return Group(
        f"With {len(found.trials)} runs: it still passes with this end's clock {-found.slow_ppm:,.0f} ppm slow "
        f"({-found.slow_ppm / 1e4:.2f} %) and {found.fast_ppm:,.0f} ppm fast ({found.fast_ppm / 1e4:.2f} %)."
    )


def _number(count: int) -> str:
    return f"{count:,}" if count else "-"
