"""What many captures show together: kinds of findings by label, and numbers that move with a label."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.answers.campaign.campaign import Campaign
from larkreader.answers.campaign.campaign_tables import MEASURES
from larkreader.answers.campaign.movements import MeasuredTrend
from larkreader.errors import RequestError

from .losses import DARKEST
from .style import FAULT, INK, PALE, SOFT, finish, literal, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_KINDS = 16
MOST_VALUES = 24  # of a label
REACH = 1.25  # times the way to a limit, that a figure shows


def draw_kinds(campaign: Campaign, by: str, *, ax: Axes | None = None) -> Axes:
    """Draw in how many captures each kind of finding occurs, by the values of a label.

    Parameters
    ----------
    campaign : Campaign
        The captures.
    by : str
        The label.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        A table of numbers, the darker the larger the share of captures; ``-`` for none.

    Raises
    ------
    RequestError
        If no capture has the label, or none has an error or a warning.
    """
    from matplotlib.patches import Rectangle

    counts = campaign.kinds(by)
    *every, totals = counts.to_numpy()[:, :MOST_VALUES].tolist()
    rows = every[:MOST_KINDS]
    if not rows:
        raise RequestError("campaign", "has no error and no warning", "there is nothing to draw")
    values = [str(value) for value in counts.columns[:MOST_VALUES]]
    axes = new_axes(ax, height_px=kinds_height(len(rows)))
    for row, numbers in enumerate(rows):
        for column, number in enumerate(numbers):
            share = number / max(totals[column], 1)
            grey = str(1 - DARKEST * share**0.5) if number else "white"
            axes.add_patch(Rectangle((column, row), 1, 1, facecolor=grey, edgecolor=PALE, linewidth=1))
            axes.text(column + 0.5, row + 0.5, f"{number:,}" if number else "-", ha="center", va="center",
                      fontsize=10, color=INK)  # fmt: skip
    names = [f"{kind} on {wire}" if wire else kind for kind, wire in counts.index.tolist()[: len(rows)]]
    axes.set_xlim(0, len(values))
    axes.set_ylim(len(rows), 0)
    heads = [literal(f"{value}\n{int(total):,}") for value, total in zip(values, totals, strict=True)]
    axes.set_xticks(np.arange(len(values)) + 0.5, heads)
    axes.set_yticks(np.arange(len(rows)) + 0.5, [literal(name) for name in names])
    axes.tick_params(length=0)
    axes.set_xlabel(literal(f"{by}, and how many captures have it"))
    finish(axes, f"captures with each finding, by {by}", "the darker, the larger the share", sides=())
    return axes


def kinds_height(kinds: int) -> int:
    """Return how high a figure of so many kinds is, in pixels."""
    return max(220, 42 * min(kinds, MOST_KINDS) + 130)


def draw_trend(campaign: Campaign, item: MeasuredTrend, *, ax: Axes | None = None) -> Axes:
    """Draw a number that moves with a label: every capture, the line, and where it reaches its limit.

    Parameters
    ----------
    campaign : Campaign
        The captures.
    item : MeasuredTrend
        Of `Campaign.trends`.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        Dots are the captures that the line was taken from, small crosses the others; a dashed line is the limit, and
        hatching the interval of 95 % in which the line reaches it.
    """
    axes = new_axes(ax)
    series = campaign.measured(item.measure, item.subject)
    captures = campaign.captures.set_index("capture").loc[series.index]
    at = campaign.numbers_of(item.over).loc[series.index].to_numpy()
    own = np.ones(len(at), np.bool_) if not item.label else (captures[item.label] == item.value).to_numpy()
    unit, factor = _scale(item.measure, series.to_numpy())
    values = factor * series.to_numpy()
    axes.plot(at[~own], values[~own], "x", color=SOFT, markersize=4, alpha=0.6)
    axes.plot(at[own], values[own], "o", color=INK, markersize=5)
    trend = item.trend
    ends = [trend.begin, trend.end]
    if item.crossing is not None and item.limit is not None and item.severity != "note":
        crossing = item.crossing
        ends[1] = max(trend.end, trend.end + REACH * (crossing.at - trend.end))
        axes.axhline(factor * item.limit, color=FAULT, linestyle="--", linewidth=1.3)
        low, high = min(crossing.low, crossing.high), max(crossing.low, crossing.high)
        top = factor * max(item.limit, item.limit + 0.25 * abs(item.limit))  # room for its text
        axes.set_ylim(top=max(axes.get_ylim()[1], top))
        axes.axvspan(low, high, facecolor="none", edgecolor=FAULT, hatch="////", linewidth=0.8)
        axes.annotate(
            f"limit reached at {crossing.at:.4g}\n({low:.4g} to {high:.4g})",
            (crossing.at, factor * item.limit),
            xytext=(-8, 6),
            textcoords="offset points",
            ha="right",
            va="bottom",
            fontsize=9,
            color=FAULT,
        )
    line = [trend.at_begin + trend.slope * (end - trend.begin) for end in ends]
    axes.plot(ends, [factor * value for value in line], color=INK, linewidth=1.3)
    name = MEASURES[item.measure].name
    among = f", {item.label} {item.value}" if item.label else ""
    axes.set_xlabel(literal(item.over))
    axes.set_ylabel(f"{name}, {unit}")
    axes.grid(visible=True, color=PALE)
    remark = f"dots: {item.label} {item.value}; crosses: the others" if item.label else ""
    finish(axes, f"{name} of {item.subject}{among}", remark, sides=("bottom", "left"))
    return axes


def _scale(measure: str, values: Any) -> tuple[str, float]:
    """Return the unit in which a measure is drawn, and the factor to it."""
    if MEASURES[measure].unit == "s":
        return time_scale(float(np.nanmax(np.abs(values))) if len(values) else 1.0)
    return "%", 100.0
