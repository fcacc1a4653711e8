"""How long a wire rests: between the characters of a message, and between messages."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError
from larkreader.judge.measure.gaps import Gaps

from .style import HEADROOM, INK, LEAST, PALE, SOFT, finish, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BINS_PER_DECADE = 12
LEAST_BITS = 0.1  # of a rest that is one; less is none


def draw_gaps(gaps: Gaps, line: LineSettings, *, ax: Axes | None = None) -> Axes:
    """Draw how many rests have which length, on an axis whose steps are factors.

    Parameters
    ----------
    gaps : Gaps
        As of `measure_gaps`.
    line : LineSettings
        The wire's settings, for the length of a character.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        Characters that follow each other without a rest are counted over "none".

    Raises
    ------
    RequestError
        If there are fewer than two characters.
    """
    every = np.concatenate([gaps.within_s, gaps.between_s])
    if not len(every):
        raise RequestError("gaps", "are none", "there must be two characters at least")
    axes = new_axes(ax)
    least_s = LEAST_BITS * line.bit_time_s
    longest_s = max(float(every.max()), 2 * line.character_time_s)
    unit, factor = time_scale(longest_s)
    decades = np.log10(longest_s / least_s)
    bounds = least_s * np.logspace(0, decades, int(decades * BINS_PER_DECADE) + 2) * factor
    none = bounds[0] / bounds[1] * bounds[0], bounds[0]  # one bin more, for no rest at all
    width = none[1] / none[0]
    none = none[0] / width**2, none[0] / width
    kinds = ((gaps.within_s, "between characters of a message", "-", INK, "////"),
             (gaps.between_s, "between messages", "--", SOFT, ""))  # fmt: skip
    tallest = 1
    for times_s, name, style, color, hatch in kinds:
        counts, _ = np.histogram(times_s * factor, bounds)
        label = f"{name}: {len(times_s):,}" + (f", median {_duration_text(times_s)}" if len(times_s) else "")
        axes.stairs(counts, bounds, color=color, linewidth=1.6, linestyle=style, label=label)
        tallest = max(tallest, int(counts.max()), int(np.count_nonzero(times_s < least_s)))
        if at_once := int(np.count_nonzero(times_s < least_s)):
            axes.bar(none[0], at_once, none[1] - none[0], align="edge", fill=False, edgecolor=color, linestyle=style,
                     hatch=hatch, linewidth=1.6)  # fmt: skip
    axes.axvline(line.character_time_s * factor, color=PALE, linewidth=2, zorder=0)
    axes.text(line.character_time_s * factor, 0.6, " one character", transform=axes.get_xaxis_transform(), fontsize=9,
              va="top", color=SOFT)  # fmt: skip
    axes.set_xscale("log")
    axes.set_ylim(LEAST, HEADROOM * tallest)
    axes.set_yscale("log")
    axes.set_xlim(none[0] / width, bounds[-1] * width)
    axes.minorticks_off()
    low, high = int(np.ceil(np.log10(bounds[0]))), int(np.floor(np.log10(bounds[-1])))
    decades_at = [10.0**power for power in range(low, high + 1)]
    axes.set_xticks([np.sqrt(none[0] * none[1]), *decades_at], ["none", *(f"{item:,.10g}" for item in decades_at)])
    axes.yaxis.set_major_formatter("{x:,.0f}")
    axes.set_xlabel(f"rest of the wire, {unit}")
    axes.set_ylabel("rests")
    axes.legend(
        facecolor="white", edgecolor="none", framealpha=1, fontsize=9, loc="upper left", bbox_to_anchor=(0.12, 1.0)
    )
    finish(axes, f"{gaps.wire}: how long it rests, at {line}", sides=("bottom", "left"))
    return axes


def _duration_text(times_s: np.ndarray) -> str:
    from larkreader.judge.findings.wording import duration

    return duration(float(np.median(times_s)))
