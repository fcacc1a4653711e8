"""The fields of a layout over time, each in a strip of its own with its own scale; what cannot be trusted is marked."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.decode.check.verify import names_known, within_range
from larkreader.decode.columns.frame_columns import DAMAGED, Frames
from larkreader.errors import RequestError, nearest

from .style import FAULT, INK, PALE, WIRES, finish, literal, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_STRIPS = 10
USUAL_STRIPS = 6
GAP = 0.28  # between two strips, of the height of one
BREAK = 3.0  # median periods without a frame, over which no line is drawn
MOST_NAMES = 6  # of a field, that stand beside its strip


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
    chosen = list(names) or _usual(shown)
    columns = [column for name in chosen for column in _columns_of(shown, name)][:MOST_STRIPS]
    if not columns:
        raise RequestError(frames.layout.key, "has no field that is a number", "there is nothing to draw")
    axes = new_axes(ax, height_px=strips_height(len(columns)))
    span = float(at[-1] - at[0])
    unit, factor = time_scale(span) if is_timed and span else ("s", 1.0)
    ticks: list[tuple[float, str]] = []
    marked = set()
    for place, column in enumerate(columns):
        base = (len(columns) - 1 - place) * (1 + GAP)
        ticks += _draw_strip(axes, shown, at * factor, base, column)
        marked |= _mark(axes, shown, at * factor, base, column)
    axes.set_yticks([tick for tick, _ in ticks], [literal(text) for _, text in ticks], fontsize=9)
    axes.tick_params(axis="y", length=0, labelcolor=INK)
    axes.set_ylim(-0.2, len(columns) * (1 + GAP) + 0.1)
    margin = 0.01 * span * factor if span else 0.5
    axes.set_xlim(at[0] * factor - margin, at[-1] * factor + margin)
    axes.set_xlabel(f"time, {unit}" if is_timed else "number of the frame")
    meanings = {"x": "cross: checksum or character wrong, not drawn", "o": "ring: out of range or without a name",
                "s": "square: declared a substitute"}  # fmt: skip
    result = "; ".join(text for mark, text in meanings.items() if mark in marked)
    finish(axes, f"{frames.layout.key}: {len(shown):,} frames", result)
    return axes


def count_strips(frames: Frames, names: Sequence[str] = ()) -> int:
    """Return how many strips a figure of fields has."""
    return min(sum(len(_columns_of(frames, name)) for name in names or _usual(frames)), MOST_STRIPS)


def strips_height(strips: int) -> int:
    """Return how high a figure of so many strips is, in pixels."""
    return max(300, 105 * strips + 110)


def _usual(frames: Frames) -> list[str]:
    """Name the fields that are drawn by default: those that can change and hold one number; no counter, no check."""
    layout = frames.layout
    result = [
        name
        for name, slot in layout.slot.items()
        if slot.kind not in ("checksum", "bytes", "text", "word")
        and slot.field is not None
        and slot.field.equals is None
        and not slot.field.counter
        and slot.count == 1
        and not isinstance(frames.raw(name), Ragged)
    ]
    return result[:USUAL_STRIPS]


class _Column(NamedTuple):
    """What is drawn in one strip: a value a frame, their names, and which of them make no sense or are substitutes."""

    label: str
    values: npt.NDArray[np.float64]
    texts: dict[float, str]
    odd: npt.NDArray[np.bool_]
    substituted: npt.NDArray[np.bool_]


def _columns_of(frames: Frames, name: str) -> list[_Column]:
    """Return what is drawn of a field; of an array, item by item."""
    plain, _, item = name.partition("[")
    slot = frames.layout.slot.get(plain)
    if slot is None or slot.kind in ("checksum", "bytes", "text", "word"):
        known = [
            entry for entry, other in frames.layout.slot.items() if other.kind not in ("checksum", "bytes", "text")
        ]
        raise RequestError(f'field "{name}"', f"is not a number of {frames.layout.key}", "", nearest(plain, known))
    column = frames[plain]
    names = dict(slot.field.names) if slot.field is not None else {}
    texts = {float(value): text for text, value in names.items()}
    values = frames.raw(plain) if texts else column
    if is_masked(values):
        values = np.where(np.ma.getmaskarray(values), np.nan, values.data.astype(np.float64))
    if not isinstance(values, np.ndarray):
        raise RequestError(f'field "{name}"', "has a varying number of items", "a strip needs one value a frame")
    values = values.reshape(len(frames), -1).astype(np.float64)
    unit = slot.field.unit if slot.field is not None else ""
    raw = frames.raw(plain)
    odd = np.zeros(len(frames), np.bool_)
    if isinstance(raw, np.ndarray) and slot.field is not None and not is_masked(raw):
        odd = ~within_range(raw, slot) if slot.field.range is not None else odd
        odd = ~names_known(raw, slot) if slot.field.names else odd
    items = range(values.shape[1])
    if item:
        number = item.removesuffix("]")
        if not number.isdigit() or int(number) not in items:
            raise RequestError(
                f'field "{name}"', "has no such item", f"must be {plain}[0] to {plain}[{len(items) - 1}]"
            )
        items = range(int(number), int(number) + 1)
    if texts:  # what has names has no scale: each value that occurs has a step of its own
        seen = np.unique(values[np.isfinite(values)])
        steps = {float(value): float(place) for place, value in enumerate(seen.tolist())}
        texts = {steps[value]: texts.get(value, f"{value:g}") for value in steps}
        values = np.where(np.isfinite(values), np.searchsorted(seen, values), np.nan)
    return [
        _Column(
            (plain if values.shape[1] == 1 else f"{plain}[{entry}]") + (f", {unit}" if unit else ""),
            values[:, entry],
            texts if texts else {0.0: "0", 1.0: "1"} if slot.kind == "flag" else {},
            odd,
            frames.substituted(plain),
        )
        for entry in items
    ]


def _trusted(frames: Frames) -> npt.NDArray[np.bool_]:
    trusted: npt.NDArray[np.bool_] = ~frames.has_fault(DAMAGED)
    return trusted


def _limits(frames: Frames, values: npt.NDArray[np.float64]) -> tuple[float, float]:
    known = values[_trusted(frames) & np.isfinite(values)]
    if not len(known):
        return 0.0, 1.0
    low, high = float(known.min()), float(known.max())
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def _draw_strip(
    axes: Axes,
    frames: Frames,
    at: npt.NDArray[np.float64],
    base: float,
    column: _Column,
) -> list[tuple[float, str]]:
    """Draw one field; return where which text stands beside it."""
    label, values, texts = column.label, column.values, column.texts
    low, high = _limits(frames, values)
    for edge in (base, base + 1):
        axes.axhline(edge, color=PALE, linewidth=1, zorder=0)
    good = _trusted(frames)
    x, y = at[good], base + (values[good] - low) / (high - low)
    if len(x) > 2:
        far = np.flatnonzero(np.diff(x) > BREAK * np.median(np.diff(x)))
        x, y = np.insert(x, far + 1, np.nan), np.insert(y, far + 1, np.nan)
    style = "steps-post" if texts else "default"
    axes.plot(x, y, color=INK, linewidth=1.3, drawstyle=style, marker="." if len(x) < 60 else None, markersize=4)
    axes.text(0.004, base + 1.03, literal(label), transform=axes.get_yaxis_transform(), fontsize=10, va="bottom",
              fontweight="bold", color=INK)  # fmt: skip
    seen = sorted({value for value in values[good].tolist() if value in texts})
    if texts and 0 < len(seen) <= MOST_NAMES:
        return _apart([(base + (value - low) / (high - low), texts[value]) for value in seen])
    return [(base, f"{low:.4g}"), (base + 1, f"{high:.4g}")]


def _apart(ticks: list[tuple[float, str]]) -> list[tuple[float, str]]:
    """Return ticks without those that would overlap the tick below."""
    kept: list[tuple[float, str]] = []
    for tick in ticks:
        if not kept or tick[0] - kept[-1][0] > 0.22:
            kept.append(tick)
    return kept


def _mark(axes: Axes, frames: Frames, at: npt.NDArray[np.float64], base: float, column: _Column) -> set[str]:
    """Mark what is not to be trusted, and what makes no sense; return the marks that were needed."""
    values = column.values
    low, high = _limits(frames, values)
    good, marks = _trusted(frames), set()
    if not good.all():
        axes.plot(at[~good], np.full(int((~good).sum()), base), "x", color=FAULT, markersize=7, markeredgewidth=1.6)
        marks.add("x")
    odd = good & column.odd & np.isfinite(values)
    if odd.any():
        y = base + (values[odd] - low) / (high - low)
        axes.plot(at[odd], y, "o", color=FAULT, fillstyle="none", markersize=9, markeredgewidth=1.4)
        marks.add("o")
    held = good & column.substituted & np.isfinite(values)
    if held.any():
        y = base + (values[held] - low) / (high - low)
        axes.plot(at[held], y, "s", color=WIRES[1], fillstyle="none", markersize=6, markeredgewidth=1.2)
        marks.add("s")
    return marks
