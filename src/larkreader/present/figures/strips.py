"""What stands in the strips of fields: values between 0 and 1, the texts beside them, and what cannot be trusted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.decode.check.verify import names_known, within_range
from larkreader.decode.columns.frame_columns import DAMAGED, Frames
from larkreader.errors import RequestError, nearest

MOST_STRIPS = 10
USUAL_STRIPS = 6
MOST_NAMES = 6  # of a field, that stand beside its strip
BREAK = 3.0  # median periods without a frame, over which no line is drawn
APART = 0.22  # of a strip's height, that texts beside it keep from each other

Points = tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]
Limits = tuple[float, float]


class Strip(NamedTuple):
    """A field as it is drawn in a strip whose lower edge is 0 and whose upper edge is 1.

    Attributes
    ----------
    label : str
        The field, and its unit.
    line : tuple of ndarray
        Where the line goes: float64 each, with NaN where it is broken.
    is_stepped : bool
        Whether the line goes in steps.
    ticks : tuple of (float, str)
        Which texts stand beside it.
    damaged : ndarray
        When frames are damaged, float64.
    odd, substituted : tuple of ndarray
        Where values are out of range or without a name; where a flag declares them substitutes.
    """

    label: str
    line: Points
    is_stepped: bool
    ticks: tuple[tuple[float, str], ...]
    damaged: npt.NDArray[np.float64]
    odd: Points
    substituted: Points


def strips_of(
    frames: Frames,
    names: Sequence[str],
    at: npt.NDArray[np.float64],
    limits: Callable[[str, Limits], Limits] = lambda _, limits: limits,
    least_break: float = 0.0,
) -> list[Strip]:
    """Return the strips of some fields.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    names : sequence of str
        Which fields; the usual fields by default.
    at : ndarray
        Where each frame stands, float64.
    limits : callable
        Takes a field's label, and its least and highest value, and returns which values the edges of its strip mean.
    least_break : float
        How long at least frames are missing where a line is broken.

    Raises
    ------
    RequestError
        If there is no such field.
    """
    columns = [column for name in names or usual_fields(frames) for column in columns_of(frames, name)]
    good = ~frames.has_fault(DAMAGED)
    breaks = _breaks(at[good], least_break)
    return [_strip(column, at, good, breaks, limits) for column in columns[:MOST_STRIPS]]


def _breaks(at: npt.NDArray[np.float64], least: float) -> npt.NDArray[np.int64]:
    """Return the numbers of the points before which a line is broken; those of one time count as one."""
    apart = np.diff(at)
    periods = apart[apart > 0]
    if len(at) < 3 or not len(periods):
        return np.zeros(0, np.int64)
    return np.flatnonzero(apart > max(BREAK * float(np.median(periods)), least)) + 1


def _strip(
    column: Column,
    at: npt.NDArray[np.float64],
    good: npt.NDArray[np.bool_],
    breaks: npt.NDArray[np.int64],
    limits: Callable[[str, Limits], Limits],
) -> Strip:
    values, texts = column.values, column.texts
    finite = np.isfinite(values)
    known = values[good & finite]
    low, high = (float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)
    low, high = limits(column.label, (low, high) if high > low else (low - 0.5, high + 0.5))
    placed = (values - low) / (high - low)
    x, y = (np.insert(points, breaks, np.nan) for points in (at[good], placed[good]))
    odd, substituted = good & column.odd & finite, good & column.substituted & finite
    ticks = [(0.0, f"{low:.4g}"), (1.0, f"{high:.4g}")]
    seen = [value for value in np.unique(known).tolist() if value in texts] if texts else []
    if 0 < len(seen) <= MOST_NAMES:
        ticks = _apart([((value - low) / (high - low), texts[value]) for value in seen])
    return Strip(
        column.label,
        (x, y),
        bool(texts),
        tuple(ticks),
        at[~good],
        (at[odd], placed[odd]),
        (at[substituted], placed[substituted]),
    )


def _apart(ticks: list[tuple[float, str]]) -> list[tuple[float, str]]:
    """Return ticks without those that would overlap the tick below."""
    kept: list[tuple[float, str]] = []
    for tick in ticks:
        if not kept or tick[0] - kept[-1][0] > APART:
            kept.append(tick)
    return kept


def usual_fields(frames: Frames) -> list[str]:
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


class Column(NamedTuple):
    """What is drawn in one strip: a value a frame, their names, and which of them make no sense or are substitutes."""

    label: str
    values: npt.NDArray[np.float64]
    texts: dict[float, str]
    odd: npt.NDArray[np.bool_]
    substituted: npt.NDArray[np.bool_]


def columns_of(frames: Frames, name: str) -> list[Column]:
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
        if number not in map(str, items):
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
        Column(
            (plain if values.shape[1] == 1 else f"{plain}[{entry}]") + (f", {unit}" if unit else ""),
            values[:, entry],
            texts if texts else {0.0: "0", 1.0: "1"} if slot.kind == "flag" else {},
            odd,
            frames.substituted(plain),
        )
        for entry in items
    ]
