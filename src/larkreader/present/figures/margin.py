"""One character with the receiver's samples against the sender's bits, at nominal and at both extremes of the clocks.

Three rows show the sender's bits: as slow as the clocks allow against the receiver's, nominal, and as fast. Through all
of them stand the receiver's samples: a band for each bit, from the earliest to the latest instant at which it may be
judged. A bit that the band leaves is hatched.
"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from larkreader.declare.common.percent import change_text, percent_text
from larkreader.judge.calculate.margins import Margin

from .style import FAULT, INK, PALE, finish, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BAND = "#b9c7ce"
HEIGHT = 0.56


def draw_margin(margin: Margin, *, ax: Axes | None = None) -> Axes:
    """Draw what is left between one end's bits and the other end's samples.

    Parameters
    ----------
    margin : Margin
        The two ends.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.
    """
    axes = new_axes(ax)
    least, greatest = margin.worst
    early = margin.receiver.samples_s * margin.line.baud
    late = early + margin.receiver.sample_interval_s * margin.line.baud
    for begin, end in zip(early, late, strict=True):
        axes.axvspan(begin, end, ymax=0.87, color=BAND, linewidth=0)
    for row, (title, stretch) in enumerate((("fastest", least), ("nominal", 1.0), ("slowest", greatest))):
        _draw_bits(axes, margin, float(row), title, stretch)
    names = ["start", *(str(number) for number in range(margin.line.data_bits))]
    names += ["parity"] * margin.line.has_parity + ["stop"]
    for middle, name in zip((early + late) / 2, names, strict=True):
        axes.text(middle, 2.6, name, ha="center", va="bottom", fontsize=9, color=INK)
    axes.set_xlim(-0.25, len(names) + 0.35)
    axes.set_ylim(-0.75, 3.0)
    axes.set_xticks(np.arange(len(names) + 1))
    axes.set_yticks([])
    axes.set_xlabel("bit times after the start edge, at the declared baud")
    finish(axes, _title(margin))
    return axes


def _draw_bits(axes: Axes, margin: Margin, row: float, title: str, stretch: float) -> None:
    from matplotlib.patches import Rectangle

    edges = margin.sender.boundaries_s * stretch * margin.line.baud
    within = margin.samples_within(stretch)
    for bit, (begin, end) in enumerate(pairwise(edges)):
        is_missed = within[bit, 0] <= 0 or within[bit, 1] >= 1
        area = (begin, row - HEIGHT / 2), end - begin, HEIGHT
        axes.add_patch(Rectangle(*area, fill=False, edgecolor=INK, linewidth=1.4, zorder=3))
        if is_missed:
            axes.add_patch(Rectangle(*area, fill=False, edgecolor=FAULT, hatch="xxxx", linewidth=0, zorder=2))
    spare = margin.left_at(stretch)
    result = f"{title}: {change_text(1 / stretch - 1)} against the receiver's clock; " if stretch != 1 else f"{title}; "
    result += f"{percent_text(spare)} left" if spare >= 0 else f"{percent_text(-spare)} too much"
    axes.text(0, row - HEIGHT / 2 - 0.05, result, ha="left", va="top", fontsize=9, color=INK,
              bbox={"facecolor": "white", "edgecolor": PALE, "pad": 1.5})  # fmt: skip


def _title(margin: Margin) -> str:
    names = f"{margin.sender.name or 'sender'} to {margin.receiver.name or 'receiver'}"
    return f"{names}, {margin.line}: bits as sent; grey: when each is judged; hatched: misread"
