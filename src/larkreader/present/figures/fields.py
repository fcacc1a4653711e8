"""The fields of a layout over time, each in a strip of its own with its own scale; what cannot be trusted is marked."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.decode.columns.frame_columns import Frames
from larkreader.errors import RequestError

from .strips import MOST_STRIPS, Points, Strip, columns_of, strips_of, usual_fields
from .style import FAULT, INK, PALE, WIRES, finish, literal, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_DOTTED = 60  # points of a line, from which on they are not drawn as dots too
GAP = 0.28  # between two strips, of the height of one
MEANINGS = {
    "x": "cross: checksum or character wrong, not drawn",
    "o": "ring: out of range or without a name",
    "s": "square: declared a substitute",
}
MARKS: dict[str, dict[str, Any]] = {
    "x": {"marker": "x", "linestyle": "", "color": FAULT, "markersize": 7, "markeredgewidth": 1.6},
    "o": {"marker": "o", "linestyle": "", "color": FAULT, "fillstyle": "none", "markersize": 9, "markeredgewidth": 1.4},
    "s": {
        "marker": "s",
        "linestyle": "",
        "color": WIRES[1],
        "fillstyle": "none",
        "markersize": 6,
        "markeredgewidth": 1.2,
    },
}


def draw_fields(
    frames: Frames,
    names: Sequence[str] = (),
    *,
    begin_s: float | None = None,
    end_s: float | None = None,
    ax: Axes | None = None,
) -> Axes:
    r"""Draw fields over time.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    names : sequence of str
        Which fields, from top to bottom; those that change and are numbers, flags or have names, at most six by
        default. Items of an array are drawn one by one; ``valve[2]`` names one of them.
    begin_s, end_s : float, optional
        From when to when, in seconds.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        Over the number of the frame where the source has no times. A cross stands at the edge of a strip where a
        frame's checksum or one of its characters is wrong, whose value is not drawn; a ring at a value that is out of
        range, or has no name; a square at a value that a flag declares a substitute. The line is broken where frames
        are missing.

    Raises
    ------
    RequestError
        If there is no such field, or no frame in that time.

    Examples
    --------
    >>> layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 1}, fields=[{"name": "flow", "type": "uint8"}])
    >>> line = lr.LineSettings()
    >>> frames = lr.read_frames(lr.receive(lr.transmit(b"\x02\x04\x09", line), line), layout)
    >>> lr.draw_fields(frames, ["flow"], ax=lr.new_figure().add_subplot()).get_xlabel()
    'time, µs'
    """
    is_timed = bool(len(frames)) and bool(np.isfinite(frames.begin_s[0]))
    at = frames.begin_s if is_timed else np.arange(len(frames), dtype=np.float64)
    inside = np.ones(len(frames), np.bool_)
    if is_timed:
        inside = (at >= (-np.inf if begin_s is None else begin_s)) & (at <= (np.inf if end_s is None else end_s))
    if not inside.any():
        raise RequestError(frames.layout.key, "has no frame in that time", "there is nothing to draw")
    shown, at = frames[inside], at[inside]
    span = float(at[-1] - at[0])
    unit, factor = time_scale(span) if is_timed and span else ("s", 1.0)
    strips = strips_of(shown, names, at * factor)
    if not strips:
        raise RequestError(frames.layout.key, "has no field that is a number", "there is nothing to draw")
    axes = new_axes(ax, height_px=strips_height(len(strips)))
    ticks: list[tuple[float, str]] = []
    for strip, base in zip(strips, bases(len(strips)), strict=True):
        axes.plot(strip.line[0], base + strip.line[1], **line_style(strip))
        draw_edges(axes, strip, base)
        ticks += [(base + place, text) for place, text in strip.ticks]
        for mark, (x, y) in marks_of(strip).items():
            axes.plot(x, base + y, **MARKS[mark])
    set_ticks(axes, ticks, len(strips))
    margin = 0.01 * span * factor if span else 0.5
    axes.set_xlim(at[0] * factor - margin, at[-1] * factor + margin)
    axes.set_xlabel(f"time, {unit}" if is_timed else "number of the frame")
    finish(axes, f"{frames.layout.key}: {len(shown):,} frames", remark(strips))
    return axes


def count_strips(frames: Frames, names: Sequence[str] = ()) -> int:
    """Return how many strips a figure of fields has."""
    return min(sum(len(columns_of(frames, name)) for name in names or usual_fields(frames)), MOST_STRIPS)


def strips_height(strips: int) -> int:
    """Return how high a figure of so many strips is, in pixels."""
    return max(300, 105 * strips + 110)


def bases(count: int) -> list[float]:
    """Return where the lower edges of so many strips lie, from the uppermost strip down."""
    return [(count - 1 - place) * (1 + GAP) for place in range(count)]


def line_style(strip: Strip) -> dict[str, Any]:
    """Return how the line of a strip is drawn."""
    marker = "." if len(strip.line[0]) < MOST_DOTTED else ""
    drawn = "steps-post" if strip.is_stepped else "default"
    return {"color": INK, "linewidth": 1.3, "drawstyle": drawn, "marker": marker, "markersize": 4}


def marks_of(strip: Strip) -> dict[str, Points]:
    """Return where what cannot be trusted is marked, by the mark; marks without a place are left out."""
    places = {"x": (strip.damaged, np.zeros(len(strip.damaged))), "o": strip.odd, "s": strip.substituted}
    return {mark: points for mark, points in places.items() if len(points[0])}


def draw_edges(axes: Axes, strip: Strip, base: float) -> None:
    """Draw the edges of a strip, and its label."""
    for edge in (base, base + 1):
        axes.axhline(edge, color=PALE, linewidth=1, zorder=0)
    axes.text(0.004, base + 1.03, literal(strip.label), transform=axes.get_yaxis_transform(), fontsize=10, va="bottom",
              fontweight="bold", color=INK)  # fmt: skip


def set_ticks(axes: Axes, ticks: Sequence[tuple[float, str]], strips: int) -> None:
    """Write the texts beside strips, of which there are so many."""
    axes.set_yticks([tick for tick, _ in ticks], [literal(text) for _, text in ticks], fontsize=9)
    axes.tick_params(axis="y", length=0, labelcolor=INK)
    axes.set_ylim(-0.2, strips * (1 + GAP) + 0.1)


def remark(strips: Sequence[Strip]) -> str:
    """Return what the marks in some strips mean."""
    marked = {mark for strip in strips for mark in marks_of(strip)}
    return "; ".join(text for mark, text in MEANINGS.items() if mark in marked)
