"""Bursts of samples overlaid: volts over the time since each burst's first sample."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.errors import RequestError
from larkreader.judge.measure.bursts import Bursts

from .style import INK, PALE, SOFT, finish, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

STYLES = ("-", "--", "-.", ":")
MOST_NAMED = 6  # bursts that the legend names


def draw_bursts(bursts: Bursts, *, ax: Axes | None = None) -> Axes:
    """Draw bursts over each other, the last the strongest.

    Parameters
    ----------
    bursts : Bursts
        What `read_bursts` returns.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If there is no sample to draw.
    """
    if not len(bursts) or not bursts.count.any():
        raise RequestError("bursts", "hold no sample", "there is nothing to draw")
    axes = new_axes(ax)
    longest_s = float(bursts.count.max()) / bursts.rate_hz
    unit, factor = time_scale(longest_s)
    for row in range(len(bursts)):
        is_last = row == len(bursts) - 1
        named = row < MOST_NAMED - 1 or is_last
        begin_s = float(bursts.begin_s[row])
        label = f"burst {row}" if np.isnan(begin_s) else f"burst {row}, at {begin_s:.3f} s"
        axes.plot(
            bursts.times_s(row) * factor,
            bursts.volts[row],
            STYLES[row % len(STYLES)],
            color=INK if is_last else SOFT,
            linewidth=1.6 if is_last else 0.9,
            alpha=1.0 if is_last else 0.7,
            label=label if named else None,
        )
    axes.set_xlabel(f"time since the burst's first sample, {unit}")
    axes.set_ylabel("voltage, V")
    axes.grid(visible=True, color=PALE)
    finish(axes, f"{len(bursts)} bursts at {bursts.rate_hz:g} samples a second", sides=("bottom", "left"))
    axes.legend(frameon=False, fontsize=9, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return axes
