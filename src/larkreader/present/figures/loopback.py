"""Loopbacks drawn: a matrix of the results by baud and format, and how long the blocks took."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.present.tables.loopback_views import name_of

from .style import DASHES, FAULT, INK, PALE, finish, literal, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

DARKEST = 0.55  # of black, where every second bit is wrong
WIDE = 20  # times as long as the shortest the longest may be on a plain axis
MOST_LINES = 8  # runs that can be distinguished in one figure


def draw_matrix(result: MatrixResult, *, ax: Axes | None = None) -> Axes:
    """Draw the result of a matrix: a row a format, a column a baud, the worst run in each cell.

    Parameters
    ----------
    result : MatrixResult
        Its runs.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        A cell says the error ratio, or its upper bound, and what was lost or extra; hatched, where a run failed.
    """
    from matplotlib.patches import Rectangle

    axes = new_axes(ax)
    known = [run for run in result.runs if run.line is not None]
    bauds = sorted({item.line.baud for item in known if item.line})
    formats = sorted({item.line.format for item in known if item.line})
    for row, form in enumerate(formats):
        for column, baud in enumerate(bauds):
            there = [item for item in known if item.line and (item.line.baud, item.line.format) == (baud, form)]
            if not there:
                continue
            worst = max(there, key=lambda item: (item.verdict == "fail", item.lost + item.extra, _ratio(item)))
            failed = sum(item.verdict == "fail" for item in there)
            grey = str(1 - DARKEST * min(2 * _ratio(worst), 1.0) ** 0.25) if worst.bit_errors.any() else "white"
            edge, hatch = (FAULT, "//") if failed else (PALE, None)
            axes.add_patch(Rectangle((column, row), 1, 1, facecolor=grey, edgecolor=edge, linewidth=1, hatch=hatch))
            text = "\n".join(_cell_lines(worst, failed, len(there)))
            axes.text(column + 0.5, row + 0.5, text, ha="center", va="center", fontsize=10, color=INK,
                      fontweight="bold" if not failed else "normal",
                      bbox={"facecolor": "white", "edgecolor": "none", "pad": 2.5})  # fmt: skip
    axes.set_xlim(0, max(len(bauds), 1))
    axes.set_ylim(0, max(len(formats), 1))
    axes.set_xticks([place + 0.5 for place in range(len(bauds))], [f"{baud:,.10g}" for baud in bauds])
    axes.set_yticks([place + 0.5 for place in range(len(formats))], formats)
    axes.tick_params(length=0)
    axes.set_xlabel("baud")
    axes.set_ylabel("format")
    finish(axes, _title(result), sides=())
    return axes


def _title(result: MatrixResult) -> str:
    names = sorted({run.name for run in result.runs})
    return f"{', '.join(names)}: error ratio of the worst run; hatched: failed"


def _ratio(result: LoopbackResult) -> float:
    return result.error_ratio if result.bit_errors.any() else 0.0


def _cell_lines(result: LoopbackResult, failed: int, runs: int) -> list[str]:
    lines = [f"{result.error_ratio:.1e}" if result.bit_errors.any() else f"< {result.error_interval[1]:.0e}"]
    if not result.received:
        lines = ["nothing received"]
    elif result.lost or result.extra:
        lines.append(
            ", ".join(f"{count:,} {what}" for what, count in (("lost", result.lost), ("extra", result.extra)) if count)
        )
    if runs > 1:
        lines.append(f"{runs - failed} of {runs} pass")
    return lines


def draw_latency(result: MatrixResult, *, ax: Axes | None = None) -> Axes:
    """Draw how long blocks took: for each run the share that was back within a time.

    Parameters
    ----------
    result : MatrixResult
        Its runs.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        One line a run, distinguished by grey and dashes; a tick at the median and at 99 %.
    """
    axes = new_axes(ax)
    runs = [run for run in result.runs if run.latency_s is not None]
    longest = max((run.latency_s.longest for run in runs if run.latency_s), default=1.0)
    unit, factor = time_scale(longest)
    for number, run in enumerate(runs[:MOST_LINES]):
        taken = np.sort(run.latencies_s[~np.isnan(run.latencies_s)]) * factor
        share = np.arange(1, len(taken) + 1) / len(taken)
        grey = str(0.15 + 0.45 * (number // len(DASHES)) / max((len(runs) - 1) // len(DASHES), 1))
        style = DASHES[number % len(DASHES)]
        axes.step(
            [taken[0], *taken],
            [0.0, *share],
            where="post",
            linestyle=style,
            color=grey,
            linewidth=1.6,
            label=literal(name_of(run)),
        )
        for part in (0.5, 0.99):
            at = float(np.quantile(taken, part, method="higher"))
            axes.plot([at], [part], marker="|", markersize=10, color=grey)
    axes.set_ylim(0, 1.02)
    axes.set_yticks([0, 0.25, 0.5, 0.75, 0.99], ["0", "25 %", "50 %", "75 %", "99 %"])
    shortest = min((run.latency_s.shortest for run in runs if run.latency_s), default=longest)
    if longest > WIDE * shortest > 0:
        axes.set_xscale("log")
        axes.xaxis.set_major_formatter("{x:g}")
    else:
        axes.set_xlim(left=0)
    axes.set_xlabel(f"from the write of a block to the return of its last character, {unit}")
    axes.set_ylabel("share of the blocks")
    axes.grid(axis="y", color=PALE, linewidth=0.8)
    more = f"; {len(runs) - MOST_LINES} more runs are not shown" if len(runs) > MOST_LINES else ""
    finish(axes, f"How long blocks took{more}", sides=("bottom", "left"))
    if runs:
        axes.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9)
    return axes
