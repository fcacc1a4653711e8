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


def draw_envelope(bursts: Bursts, *, without_mean: bool = False, ax: Axes | None = None) -> Axes:
    """Draw the last burst over what all of them span, sample by sample.

    Parameters
    ----------
    bursts : Bursts
        What `read_bursts` returns.
    without_mean : bool
        Whether the mean of each burst is taken off.
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
    axes, longest = new_axes(ax), int(bursts.count.max())
    volts = bursts.without_mean() if without_mean else bursts.volts
    least, most = bursts.envelope(volts)
    unit, factor = time_scale(longest / bursts.rate_hz)
    at = np.arange(longest) / bursts.rate_hz * factor
    axes.fill_between(at, least, most, facecolor=PALE, edgecolor=SOFT, hatch="///", linewidth=0.5)
    last = len(bursts) - 1
    axes.plot(bursts.times_s(last) * factor, volts[last], color=INK, linewidth=1.6)
    axes.set_xlim(at[0], at[-1] or 1.0)
    axes.set_xlabel(f"time since the burst's first sample, {unit}")
    axes.set_ylabel("voltage less its mean, V" if without_mean else "voltage, V")
    title = f"the last of {len(bursts):,} bursts at {bursts.rate_hz:g} samples a second"
    finish(axes, title, "hatched: what all of them span", sides=("bottom", "left"))
    return axes
