"""How long a wire keeps a level, against the bit time of the declared baud."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.judge.infer.level_widths import LevelWidths

from .style import HEADROOM, INK, LEAST, PALE, SOFT, finish, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BINS_PER_BIT = 50
BEYOND = 1.5  # bit times behind the longest stretch that a character can hold, to which is drawn


def draw_widths(widths: LevelWidths, *, ax: Axes | None = None) -> Axes:
    """Draw how many stretches between two changes have which length.

    Parameters
    ----------
    widths : LevelWidths
        As `measure_widths` returns them. Whole bit times are marked.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own if not given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.
    """
    axes, line = new_axes(ax), widths.line
    most = line.stop_position + BEYOND
    bounds = np.linspace(0, most, round(most * BINS_PER_BIT) + 1)
    for whole in range(1, int(most) + 1):
        axes.axvline(whole, color=PALE, linewidth=1.2, zorder=0)
    tallest = 1
    for lengths, name, style, color in ((widths.high, "high", "-", INK), (widths.low, "low", "--", SOFT)):
        counts, _ = np.histogram(lengths, bounds)
        tallest = max(tallest, int(counts.max()))
        axes.stairs(counts, bounds, color=color, linewidth=1.5, linestyle=style, label=f"{name} for so long")
    axes.set_ylim(LEAST, HEADROOM * tallest)
    axes.set_yscale("log")
    axes.yaxis.set_major_formatter("{x:,.0f}")
    axes.set_xlim(0, most)
    axes.set_xticks(range(int(most) + 1))
    unit, factor = time_scale(most * line.bit_time_s)
    per_bit = line.bit_time_s * factor
    above = axes.secondary_xaxis("top", functions=(partial(np.multiply, per_bit), partial(_divided, per_bit)))
    above.set_xlabel(unit, fontsize=9, color=SOFT)
    above.tick_params(labelsize=8, labelcolor=SOFT, color=SOFT)
    above.spines["top"].set_visible(False)
    axes.set_xlabel(f"length of a stretch, in bit times at the declared {line.baud:,.10g} baud")
    axes.set_ylabel("stretches")
    axes.legend(frameon=False, fontsize=9, loc="upper right")
    beyond = sum(int(np.count_nonzero(lengths > most)) for lengths in (widths.high, widths.low))
    finish(axes, _title(widths), f"{beyond:,} longer levels are not shown" if beyond else "", sides=("bottom", "left"))
    return axes


def _divided(by: float, values: Any) -> Any:
    return np.divide(values, by)


def _title(widths: LevelWidths) -> str:
    head = f"{widths.name}: " if widths.name else ""
    seen = widths.survey
    if seen.baud is None or seen.deviation_ppm is None:
        return f"{head}how long levels last; the baud is not certain"
    off = round(seen.deviation_ppm / 1e4, 2)
    return (
        f"{head}how long levels last; measured {seen.baud:,.0f} baud, {f'{off:+.2f} % off' if off else 'as declared'}"
    )
