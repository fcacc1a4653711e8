"""How full each stage of a receive path was over time, what was lost, and when the sender was paused.

A strip a stage, the stage nearest to the wire at the bottom: its fill as a grey area under a line, its size as a dashed
line. Above a strip, a hatched bar with a number stands where characters were lost there. Under them stand the wires:
when characters were on them, and when a pause was in force.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from larkreader.errors import RequestError
from larkreader.judge.setup.path_report import PathReport
from larkreader.present.tables.path_views import holds_of
from larkreader.simulate.replayed import Fate, Replay

from .style import FAULT, INK, PALE, SOFT, finish, literal, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

AREA = "#c9d3d8"
LOST_AT: dict[str, tuple[Fate, ...]] = {
    "fifo": (Fate.OVERRUN,),
    "block": (Fate.BLOCK,),
    "ring": (Fate.DROPPED, Fate.OVERWRITTEN),
}
GAP = 0.42  # between two strips, of the height of one
WIRE = 0.16  # height of a wire, of that of a strip
NEAR = 0.012  # of the width, within which losses are one bar
MOST_POINTS = 4000  # of a line that are drawn; the highest of each stretch, where there are more


def draw_fill(report: PathReport, *, begin_s: float | None = None, end_s: float | None = None,
              ax: Axes | None = None) -> Axes:  # fmt: skip
    """Draw how full each stage of a path was.

    Parameters
    ----------
    report : PathReport
        What the path made of its characters.
    begin_s, end_s : float, optional
        From when to when, in seconds on the clock of the characters; all of it by default.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If there is no character within that time.
    """
    result = report.replay
    known = result.begin_s[np.isfinite(result.begin_s)]
    if not known.size:
        raise RequestError("receive path", "has no character to draw")
    last_s = max(float(np.nanmax(result.arrived_s)), float(np.nanmax(np.append(result.taken_s, known[-1]))))
    low_s = float(known[0]) if begin_s is None else begin_s
    high_s = last_s if end_s is None else end_s
    if not low_s < high_s or not ((known >= low_s) & (known <= high_s)).any():
        raise RequestError("figure", f"has no character from {low_s:g} to {high_s:g} s")
    axes = new_axes(ax)
    unit, factor = time_scale(high_s - low_s)
    window = (low_s, high_s)
    ticks: list[tuple[float, str]] = []
    for place, stage in enumerate(result.stages):
        base = place * (1 + GAP)
        size = holds_of(stage, result)
        _draw_stage(axes, result, stage, base, size, window, factor)
        ticks += [(base, "0"), (base + 0.5, stage), (base + 1, f"{size:,}")]
    wires = _draw_wires(axes, report, window, factor)
    axes.set_xlim(low_s * factor, high_s * factor)
    axes.set_ylim(-wires * (WIRE + GAP) - 0.1, len(result.stages) * (1 + GAP))
    axes.set_yticks([at for at, _ in ticks], [text for _, text in ticks])
    axes.tick_params(axis="y", length=0)
    axes.set_xlabel(f"time, {unit}")
    finish(axes, _title(report))
    return axes


def _draw_stage(
    axes: Axes, result: Replay, stage: str, base: float, size: int, window: tuple[float, float], factor: float
) -> None:
    from matplotlib.patches import Rectangle

    times, levels = _thinned(*result.level(stage), window)
    height = base + np.minimum(levels / max(size, 1), 1.0)
    x = np.concatenate([[window[0]], times, [window[1]]]) * factor
    y = np.concatenate([[base], height, height[-1:] if len(height) else [base]])
    axes.fill_between(x, base, y, step="post", color=AREA, linewidth=0)
    axes.step(x, y, where="post", color=INK, linewidth=0.9)
    axes.plot(x[[0, -1]], [base + 1, base + 1], "--", color=SOFT, linewidth=1)
    axes.plot(x[[0, -1]], [base, base], color=INK, linewidth=0.8)
    pause = result.path.pause
    if pause is not None and pause.watches == stage and len(result.pauses_s):
        for mark, name in ((pause.at, "pause"), (pause.resume_at, "go on")):
            axes.plot(x[[0, -1]], [base + mark / size] * 2, ":", color=SOFT, linewidth=1)
            axes.text(x[-1], base + mark / size, f" {name}", fontsize=8, va="center", color=SOFT, clip_on=False)
    width = (window[1] - window[0]) * factor
    lost_s = result.lost_s[np.isin(result.fate, LOST_AT[stage])]
    for begin, end, count in _bunched(lost_s[(lost_s >= window[0]) & (lost_s <= window[1])] * factor, NEAR * width):
        wide = max(end - begin, 0.004 * width)
        axes.add_patch(Rectangle((begin, base + 1.03), wide, 0.12, facecolor="white", edgecolor=FAULT, hatch="////"))
        axes.text(begin + wide / 2, base + 1.17, f"{count:,} lost", ha="center", va="bottom", fontsize=8, color=FAULT)


def _draw_wires(axes: Axes, report: PathReport, window: tuple[float, float], factor: float) -> int:
    """Draw when characters were on the wire, and when the sender was paused; return how many rows that makes."""
    result, line = report.replay, report.line
    begins = result.begin_s[np.isfinite(result.begin_s)]
    busy = _bunched(begins, 1.5 * line.character_time_s)
    bars = [(begin, end + line.character_time_s) for begin, end, _ in busy]
    rows = [(f"{report.wire}", bars, INK)]
    if result.path.pause is not None and line.flow_control != "none":
        pauses = [(begin, min(end, window[1])) for begin, end in result.pauses_s.tolist()]
        rows.append(("XOFF" if line.flow_control == "xon-xoff" else "not clear to send", pauses, SOFT))
    for row, (name, spans, color) in enumerate(rows):
        base = -(row + 1) * (WIRE + GAP)
        shown = [(max(low, window[0]), min(high, window[1])) for low, high in spans]
        shown = [(low * factor, (high - low) * factor) for low, high in shown if high > low]
        axes.plot([window[0] * factor, window[1] * factor], [base, base], color=PALE, linewidth=1)
        axes.broken_barh(shown, (base, WIRE), facecolors=color, linewidth=0)
        axes.text(window[0] * factor, base + WIRE + 0.03, f" {literal(name)}", va="bottom", fontsize=9, color=INK)
    return len(rows)


def _thinned(
    times: npt.NDArray[np.float64], levels: npt.NDArray[np.int64], window: tuple[float, float]
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """Return the part of a line within a window; of very many points the highest and the lowest of each stretch."""
    low, high = np.searchsorted(times, window)
    first = levels[low - 1 : low] if low else np.zeros(1, np.int64)
    times = np.concatenate([[window[0]], times[low:high]])
    levels = np.concatenate([first, levels[low:high]])
    if len(times) <= MOST_POINTS:
        return times, levels
    step = -(-len(times) // (MOST_POINTS // 2))
    starts = np.arange(0, len(times), step)
    kept = np.column_stack([np.maximum.reduceat(levels, starts), np.minimum.reduceat(levels, starts)]).ravel()
    return np.repeat(times[starts], 2), kept


def _bunched(times: npt.NDArray[np.float64], near: float) -> list[tuple[float, float, int]]:
    """Return stretches of times that lie near each other: first, last, and how many."""
    if not len(times):
        return []
    ordered = np.sort(times)
    cuts = np.flatnonzero(np.diff(ordered) > near) + 1
    parts = np.split(ordered, cuts)
    return [(float(part[0]), float(part[-1]), len(part)) for part in parts]


def _title(report: PathReport) -> str:
    result = report.replay
    lost = result.lost
    how = f"{lost:,} of {len(result):,} characters lost" if lost else f"none of {len(result):,} characters lost"
    return f"{report.wire}, {report.line}: {how}"
