"""What the frames of a layout hold altogether, field by field, and how regularly they come."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import UNTRUSTED, Frames
from larkreader.decode.columns.ragged_columns import every_item
from larkreader.judge.findings.finding import NOWHERE, Finding, Places, frame_subject, make_finding
from larkreader.shown import Shown

NOWHERE_RESUMED: npt.NDArray[np.int64] = np.empty(0, np.int64)
SOON = 0.6  # declared periods up to which a frame makes up for a late one before it
ON_TIME = 0.25  # declared periods by which a frame may be off where frames that are missing are counted
LATE = 1.5  # declared periods from which on a frame is late, and another frame was due


@dataclass(frozen=True)
class FieldStatistics:
    """What one field held; items of an array together.

    Parameters
    ----------
    count : int
        How many values there are: of good frames, without substitutes and values that mean that there is none.
    least, most, mean : float or None
        Of those; None without any, and for a field with names and for text.
    names : mapping of str to int
        How often each name occurred, the most frequent first.
    unit : str
        Of the values.
    """

    count: int
    least: float | None = None
    most: float | None = None
    mean: float | None = None
    names: Mapping[str, int] = field(default_factory=dict)
    unit: str = ""


@dataclass(frozen=True, repr=False)
class FrameStatistics(Shown):
    """What the frames of a layout hold altogether, and how regularly they come.

    Parameters
    ----------
    count, trusted : int
        How many frames there are, and of how many the values can be trusted: checksum, fixed values and characters are
        right.
    rate : float or None
        Frames a second, over the whole; None where the source has no times, as all that follow.
    period_s, least_s, most_s : float or None
        From one frame to the next: median, least and most.
    jitter_s : float or None
        Standard deviation of that, judged by the middle half.
    late, missing : int
        Against a declared period: how often a frame was more than half of one late, and how many were due meanwhile.
    fields : mapping of str to FieldStatistics
        By name; without checksums, counters, bytes, and fields that have one value.
    """

    count: int
    trusted: int
    rate: float | None
    period_s: float | None
    least_s: float | None
    most_s: float | None
    jitter_s: float | None
    late: int
    missing: int
    fields: Mapping[str, FieldStatistics]

    def __repr__(self) -> str:
        rate = "" if self.rate is None else f", {self.rate:.4g} a second"
        names = ", ".join(self.fields)
        return f"<FrameStatistics: {self.count} frames, {self.trusted} of them good{rate}; fields {names}>"

    def to_dict(self) -> dict[str, Any]:
        """Return the statistics as JSON has them."""
        return asdict(self)


def measure_frames(frames: Frames, *, elements: bool = False, resumed: Sequence[int] = ()) -> FrameStatistics:
    r"""Sum up the frames of a layout.

    Parameters
    ----------
    frames : Frames
        As `read_frames` or a reading gives them.
    elements : bool
        Whether each element of an array is measured by itself, as ``valve[2]``.
    resumed : sequence of int
        As `Characters.resumed`: a time in which nothing was recorded is not a period.

    Returns
    -------
    FrameStatistics
        Numbers for each field, and for the frames as a whole.

    Examples
    --------
    >>> layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 1}, fields=[{"name": "flow", "type": "uint8"}])
    >>> statistics = lr.measure_frames(lr.read_frames(b"\x02\x04\x09", layout))
    >>> statistics.fields["flow"].least, statistics.fields["flow"].mean, statistics.fields["flow"].most
    (2.0, 5.0, 9.0)
    """
    good = frames[~frames.has_fault(UNTRUSTED)]
    apart = _apart(frames.begin_s, np.searchsorted(frames.offset, np.asarray(resumed, np.int64)))
    rate = period = least = most = jitter = None
    if len(apart):
        span = float(apart.sum())
        rate = len(apart) / span if span > 0 else None
        low, middle, high = np.percentile(apart, [25, 50, 75]).tolist()
        period, least, most, jitter = middle, float(apart.min()), float(apart.max()), (high - low) / 1.349
    declared_s = frames.layout.period
    late = np.flatnonzero(apart >= LATE * declared_s) if declared_s is not None else np.empty(0, dtype=np.int64)
    return FrameStatistics(
        count=len(frames),
        trusted=len(good),
        rate=rate,
        period_s=period,
        least_s=least,
        most_s=most,
        jitter_s=jitter,
        late=len(late),
        missing=0 if declared_s is None else int(_missing(apart, late, declared_s).sum()),
        fields={key: held for name in _measurable(frames.layout) for key, held in _fields(good, name, elements)},
    )


def judge_period(
    wire: str,
    characters: Characters,
    frames: Frames,
    span_s: tuple[float, float] | None = None,
    *,
    before_s: float | None = None,
    is_open: bool = False,
) -> Iterator[Finding]:
    """Yield where frames with a declared period come late.

    Parameters
    ----------
    wire : str
        Where they travel.
    characters : Characters
        Its characters.
    frames : Frames
        Those of one layout.
    span_s : tuple of float, optional
        From when to when the wire was captured, in seconds; as long as its characters last unless given.
    before_s : float, optional
        When the last frame before these characters began, in seconds.
    is_open : bool
        Whether more characters follow, so that the next frame is not late yet.
    """
    period_s = frames.layout.period
    if period_s is None or not characters.has_times or (not len(frames) and before_s is None):
        return
    end_s = span_s[1] if span_s else float(np.nanmax(characters.end_s))
    begins_s = frames.begin_s if before_s is None else np.append(before_s, frames.begin_s)
    to_end_s = end_s - begins_s[-1]
    slack_s = frames_last_s(frames, characters) if len(frames) else characters_last_s(characters)
    apart = np.append(_apart(begins_s), 0.0 if is_open else to_end_s)
    late = np.flatnonzero(apart >= LATE * period_s)
    late = late[(late < len(apart) - 1) | (apart[late] >= LATE * period_s + slack_s)]
    if not len(late):
        return
    is_last = late == len(begins_s) - 1
    due_at_end = int(np.ceil(apart[-1] / period_s - ON_TIME)) - 1  # that frame may yet come, but is late
    missing = int(_missing(apart[:-1], late[~is_last], period_s).sum()) + (due_at_end if is_last.any() else 0)
    after = late + 1 if before_s is None else late  # the frame behind each gap
    rows = np.where(is_last, NOWHERE, after)
    offsets, times = np.full(len(late), NOWHERE), np.full(len(late), end_s)
    offsets[~is_last], times[~is_last] = frames.offset[rows[~is_last]], frames.begin_s[rows[~is_last]]
    yield make_finding(
        "late-frame",
        frame_subject(frames.layout.key, wire),
        Places.at(offsets, times, rows),
        total=len(frames),
        period_s=period_s,
        longest_s=float(apart.max()),
        missing=missing or None,
    )


def frames_last_s(frames: Frames, characters: Characters) -> float:
    """Return how long the last frame lasts, in seconds: a frame that is due then may be cut off by the capture."""
    last = int(frames.offset[-1] + frames.length[-1]) - 1
    return float(characters.end_s[last] - characters.begin_s[int(frames.offset[-1])])


def characters_last_s(characters: Characters) -> float:
    """Return how long the longest character lasts, in seconds."""
    return float(np.nanmax(characters.end_s - characters.begin_s))


def _apart(
    begins_s: npt.NDArray[np.float64], resumed: npt.NDArray[np.int64] = NOWHERE_RESUMED
) -> npt.NDArray[np.float64]:
    """Return how long after its predecessor each frame began; nothing without times, or behind a time not recorded."""
    apart = np.diff(begins_s)
    apart[resumed[(resumed > 0) & (resumed < len(begins_s))] - 1] = np.nan
    return apart[np.isfinite(apart)]


def _missing(apart: npt.NDArray[np.float64], late: npt.NDArray[np.int64], period_s: float) -> npt.NDArray[np.int64]:
    """Return how many frames did not come in each gap that is too long.

    A late frame, after which the next are in time, leaves a long gap and short gaps behind it;
    together they are as long as they should be, and nothing is missing. Where that leaves it between two numbers, the
    frame behind the gap was out of step, and the next gap decides.
    """
    behind = np.append(0.0, np.cumsum(apart / period_s - 1))
    usual = np.append(np.flatnonzero(apart >= SOON * period_s), len(apart))
    end = usual[np.searchsorted(usual, late + 1)]
    more = behind[end] - behind[late]
    further = np.minimum(end + 1, len(apart))
    after = behind[further] - behind[late]
    is_unclear = (np.abs(more - np.rint(more)) > ON_TIME) & (np.abs(after - np.rint(after)) <= ON_TIME)
    is_unclear &= np.append(apart, 0.0)[end] < LATE * period_s
    more = np.where(is_unclear, after, more)
    missing: npt.NDArray[np.int64] = np.maximum(np.floor(more + ON_TIME), 0).astype(np.int64)
    return missing


def _measurable(layout: FrameLayout) -> list[str]:
    """Name the fields of which something can be measured."""
    return [
        name
        for name, slot in layout.slot.items()
        if slot.kind not in ("checksum", "bytes")
        and slot.field is not None
        and slot.field.equals is None
        and not slot.field.counter
    ]


def _fields(good: Frames, name: str, elements: bool) -> Iterator[tuple[str, FieldStatistics]]:
    """Yield the statistics of a field, or of each element of an array."""
    slot = good.layout.slot[name]
    assert slot.field is not None
    some = good[~good.substituted(name)]
    has_names = bool(slot.field.names) or slot.kind in ("text", "word")
    column = some.labels(name) if slot.field.names else some[name]
    if not elements:
        yield name, _held(every_item(column), slot.field.unit, has_names=has_names)
    elif isinstance(column, Ragged):
        for item in range(int(column.length.max(initial=0))):
            there = column.begin[column.length > item] + item
            yield f"{name}[{item}]", _held(column.items[there], slot.field.unit, has_names=has_names)
    elif column.ndim == 2:
        for item in range(column.shape[1]):
            yield f"{name}[{item}]", _held(every_item(column[:, item]), slot.field.unit, has_names=has_names)
    else:
        yield name, _held(every_item(column), slot.field.unit, has_names=has_names)


def _held(items: npt.NDArray[Any], unit: str, *, has_names: bool) -> FieldStatistics:
    """Return the statistics of some values."""
    if has_names:
        texts, counts = np.unique(items, return_counts=True)
        often = sorted(zip(texts.tolist(), counts.tolist(), strict=True), key=lambda text: -text[1])
        return FieldStatistics(int(counts.sum()), names=dict(often))
    values = items.astype(np.float64)
    values = values[np.isfinite(values)]
    if not len(values):
        return FieldStatistics(0, unit=unit)
    return FieldStatistics(len(values), float(values.min()), float(values.max()), float(values.mean()), unit=unit)
