"""The changes of a wire folded on the bit time: one row a bit boundary, how much earlier or later each change is.

Above the line of a row stand the changes to high, below it those to low. Both ends of the axis are the instants at
which a receiver judges the line: what arrives near to them is misread. A wrong baud moves the rows apart, from one to
the next further; unequal edges part what is above from what is below; jitter makes all of it wide.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.errors import RequestError
from larkreader.judge.measure.edge_phases import EdgePhases

from .style import INK, PALE, SOFT, finish, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BINS = 201  # of a whole bit time
HEIGHT = 0.42  # of the highest bar, where rows are 1 apart
AREA = "#9fb0b8"


def draw_folded(phases: EdgePhases, *, name: str = "", ax: Axes | None = None) -> Axes:
    """Draw where changes lie against the bit boundaries.

    Parameters
    ----------
    phases : EdgePhases
        As of `measure_edge_phases`.
    name : str
        What the wire is called.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If there is no change to draw.
    """
    if not len(phases):
        raise RequestError("edges", "are none inside of characters", "there is nothing to draw")
    axes = new_axes(ax, height_px=640)
    line = phases.line
    rows = range(1, line.stop_position + 1)
    bounds = np.linspace(-50, 50, BINS + 1)
    tallest = max(
        int(np.histogram(100 * phases.offset_bits[(phases.boundary == row) & (phases.rises == up)], bounds)[0].max())
        for row in rows
        for up in (True, False)
    )
    for row in rows:
        axes.axhline(row, color=PALE, linewidth=0.8, zorder=0)
        for is_rise in (True, False):
            own = 100 * phases.offset_bits[(phases.boundary == row) & (phases.rises == is_rise)]
            counts = np.sqrt(np.histogram(own, bounds)[0] / tallest) * HEIGHT
            filled = counts > 0
            away = -counts[filled] if is_rise else counts[filled]  # the axis is turned over
            axes.bar(bounds[:-1][filled], away, 100 / BINS, bottom=row, align="edge", edgecolor=INK, linewidth=0.7,
                     facecolor=AREA if is_rise else "white")  # fmt: skip
        own = 100 * phases.offset_bits[phases.boundary == row]
        result = (
            f"{round(float(own.mean()), 1) + 0.0:+.1f} % \u00b1 {own.std():.1f}, {len(own):,}" if len(own) else "none"
        )
        axes.text(51.5, row, result, ha="left", va="center", fontsize=9, color=INK)
    axes.text(51.5, 0.35, "mean, spread, changes", ha="left", va="center", fontsize=8, color=SOFT)
    axes.set_yticks(list(rows), _names(line.data_bits, has_parity=line.has_parity))
    axes.set_ylim(line.stop_position + 0.7, 0.1)
    axes.set_xlim(-50, 50)
    axes.set_xticks([-50, -25, 0, 25, 50], ["judged", "-25", "0", "+25", "judged"])
    axes.tick_params(axis="y", length=0)
    axes.axvline(0, color=SOFT, linewidth=0.8, linestyle="--", zorder=0)
    axes.set_xlabel(f"earlier or later than the bit boundary, in % of a bit of {line.bit_time_s * 1e6:.4g} \u00b5s")
    axes.set_ylabel("boundary before")
    head = f"{name}: " if name else ""
    finish(axes, f"{head}changes folded on the bit time at {line}", "filled, up: to high; open, down: to low")
    return axes


def _names(data_bits: int, *, has_parity: bool) -> list[str]:
    return [*(f"bit {number}" for number in range(data_bits)), *(["parity"] if has_parity else []), "stop"]
