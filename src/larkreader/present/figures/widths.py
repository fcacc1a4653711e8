"""How long a wire keeps a level, against the bit time of the declared baud."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError
from larkreader.judge.infer.survey import measure_wire

from .style import HEADROOM, INK, LEAST, PALE, SOFT, finish, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BINS_PER_BIT = 50
BEYOND = 1.5  # bit times behind the longest stretch that a character can hold, to which is drawn


def draw_widths(trace: Trace, line: LineSettings, *, ax: Axes | None = None) -> Axes:
    """Draw how many stretches between two changes have which length.

    Parameters
    ----------
    trace : Trace
        The level changes of a wire.
    line : LineSettings
        What was declared. At its baud stretches within characters are whole bit times, which are marked.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If the wire changes less than twice.
    """
    if len(trace) < 2:
        raise RequestError("trace", f"has {len(trace)} changes", "must have two at least, to have a stretch between")
    axes = new_axes(ax)
    widths = np.diff(trace.edges_s) * line.baud
    is_high = (trace.first_level + np.arange(1, len(trace))) % 2 == 1
    most = line.stop_position + BEYOND
    bounds = np.linspace(0, most, round(most * BINS_PER_BIT) + 1)
    for whole in range(1, int(most) + 1):
        axes.axvline(whole, color=PALE, linewidth=1.2, zorder=0)
    tallest = 1
    for chosen, name, style, color in ((is_high, "high", "-", INK), (~is_high, "low", "--", SOFT)):
        counts, _ = np.histogram(widths[chosen], bounds)
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
    beyond = int(np.count_nonzero(widths > most))
    finish(
        axes, _title(trace, line), f"{beyond:,} longer ones are not shown" if beyond else "", sides=("bottom", "left")
    )
    return axes


def _divided(by: float, values: Any) -> Any:
    return np.divide(values, by)


def _title(trace: Trace, line: LineSettings) -> str:
    head = f"{trace.name}: " if trace.name else ""
    seen = measure_wire(trace, line)
    if seen.baud is None or seen.deviation_ppm is None:
        return f"{head}how long levels last; the baud cannot be told"
    off = round(seen.deviation_ppm / 1e4, 2)
    return (
        f"{head}how long levels last; measured {seen.baud:,.0f} baud, {f'{off:+.2f} % off' if off else 'as declared'}"
    )
