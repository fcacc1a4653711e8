"""What the voltages of a wire look like: levels, noise, overshoot, edges, and which logic would read them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.capture.voltages import SUBTICKS, Voltages
from larkreader.judge.findings.finding import Finding, make_finding

MOST_EDGES = 20_000  # of which overshoot and steepness are measured
FEWEST_STRETCHES = 30  # between changes, in whose middle noise is measured
PEAK_NOISE = 2.0  # times its standard deviation by which the largest of some dozens of samples lies above a level
WIDEST = 64  # samples beside an edge that are looked at
SUPPLY_FIT = 0.12  # by which a high level may be off a usual supply and still be taken for it
LINE_DRIVER_V = 3.0  # volts beyond which, on both sides of 0, a receiver of TIA-232-F knows a level


@dataclass(frozen=True)
class LogicFamily:
    """Inputs of one supply: what they take for low and for high, in volts, and the supply that they bear."""

    name: str
    supply_v: float
    low_v: float
    high_v: float


# Thresholds of inputs: JESD8-7A (1.8 V), JESD8-5A (2.5 V), JESD8C.01 (3.3 V), and for 5 V those of TTL
# and of CMOS, 0.3 and 0.7 of the supply.
FAMILIES = (
    LogicFamily("1.8 V logic", 1.8, 0.63, 1.17),
    LogicFamily("2.5 V logic", 2.5, 0.7, 1.7),
    LogicFamily("3.3 V logic", 3.3, 0.8, 2.0),
    LogicFamily("5 V TTL", 5.0, 0.8, 2.0),
    LogicFamily("5 V CMOS", 5.0, 1.5, 3.5),
)
LINE_DRIVER = "line driver (TIA-232-F)"


@dataclass(frozen=True)
class LevelSurvey:
    """What the voltages of a wire look like.

    Parameters
    ----------
    low_v, high_v : float
        Where the wire rests; the same if it has one level.
    noise_v : float
        The larger of both levels' standard deviations.
    overshoot_v, undershoot_v : float
        How far a rising edge goes beyond the high level, and a falling one below the low level, at the median.
    rise_s, fall_s : float or None
        From 10 to 90 % of the swing, and back, at the median; None without such an edge.
    least_v, most_v : float
        The extremes.
    read_by : tuple of str
        The logic whose inputs know both levels and bear them.
    """

    low_v: float
    high_v: float
    noise_v: float
    overshoot_v: float
    undershoot_v: float
    rise_s: float | None
    fall_s: float | None
    least_v: float
    most_v: float
    read_by: tuple[str, ...]

    @property
    def swing_v(self) -> float:
        """How far the levels lie apart."""
        return self.high_v - self.low_v

    @property
    def is_line_driver(self) -> bool:
        """Whether the levels lie on both sides of 0, as those of line drivers do."""
        return self.low_v <= -LINE_DRIVER_V and self.high_v >= LINE_DRIVER_V


def survey_levels(voltages: Voltages, trace: Trace) -> LevelSurvey:
    """Measure the levels of a wire and its edges; `trace` is what was made of the voltages."""
    found = voltages.levels()
    origin = round(voltages.begin_s * voltages.rate * SUBTICKS)
    at = -((origin - trace.edges) // SUBTICKS)  # the first sample behind each change
    rises = (np.arange(len(at)) + trace.first_level) % 2 == 0
    low_v, low_noise_v = _settled(voltages, at, rises, (found.low_v, found.low_noise_v))
    high_v, high_noise_v = _settled(voltages, at, ~rises, (found.high_v, found.high_noise_v))
    overshoot, rise_s = _edges(voltages, at[rises], low_v, high_v)
    undershoot, fall_s = _edges(voltages, at[~rises], high_v, low_v)
    return LevelSurvey(
        low_v=low_v,
        high_v=high_v,
        noise_v=max(low_noise_v, high_noise_v),
        overshoot_v=max(0.0, overshoot - PEAK_NOISE * high_noise_v),
        undershoot_v=max(0.0, undershoot - PEAK_NOISE * low_noise_v),
        rise_s=rise_s,
        fall_s=fall_s,
        least_v=found.least_v,
        most_v=found.most_v,
        read_by=_read_by(low_v, high_v) if high_v > low_v else (),
    )


def judge_levels(wire: str, seen: LevelSurvey) -> Iterator[Finding]:
    """Yield what is wrong with the levels of a wire."""
    if not seen.swing_v:
        if seen.most_v < max(family.high_v for family in FAMILIES) and seen.high_v > FAMILIES[0].low_v:
            known = [family for family in FAMILIES if seen.high_v >= family.high_v]
            if not known:
                yield make_finding("level-mismatch", wire, score=0.9, level_v=seen.high_v)
        return
    levels = {"low_v": seen.low_v, "high_v": seen.high_v}
    if seen.is_line_driver:
        yield make_finding("level-mismatch", wire, score=0.9, **levels, line_driver=True)
    elif not seen.read_by:
        family = min(FAMILIES, key=lambda item: abs(item.supply_v - seen.high_v))
        most = family.supply_v * (1 + SUPPLY_FIT)
        yield make_finding(
            "level-mismatch",
            wire,
            score=0.95,
            **levels,
            family=family.name,
            reads_low_v=family.low_v,
            reads_high_v=family.high_v,
            tolerates_v=most if seen.high_v > most else None,
            raised=seen.low_v > family.low_v,
            below=seen.low_v < -0.3,
        )


def _read_by(low_v: float, high_v: float) -> tuple[str, ...]:
    if low_v <= -LINE_DRIVER_V and high_v >= LINE_DRIVER_V:
        return (LINE_DRIVER,)
    return tuple(
        family.name
        for family in FAMILIES
        if low_v <= family.low_v and family.high_v <= high_v <= family.supply_v * (1 + SUPPLY_FIT) and low_v >= -0.3
    )


def _edges(voltages: Voltages, at: npt.NDArray[np.int64], old_v: float, new_v: float) -> tuple[float, float | None]:
    """Return how far edges go beyond their new level, and how long they take from 10 to 90 %, at the median."""
    count = len(voltages)
    if not len(at) or old_v == new_v or count < 4:
        return 0.0, None
    at = at[:: max(1, len(at) // MOST_EDGES)]
    gaps = np.diff(at)
    width = int(np.clip(gaps.min() if len(gaps) else WIDEST, 2, WIDEST)) // 2
    at = at[(at >= width) & (at + width < count)]
    if not len(at):
        return 0.0, None
    around = (voltages.volts[at[:, None] + np.arange(-width, width + 1)].astype(np.float64) - old_v) / (new_v - old_v)
    beyond = float(np.median(around[:, width:].max(axis=1) - 1)) * abs(new_v - old_v)
    with np.errstate(invalid="ignore", over="ignore"):  # samples may be not numbers, or next to infinite
        begins = _crossing(around, 0.1, width)
        ends = 2 * width - _crossing(1 - around[:, ::-1], 0.1, width)
    taken = (ends - begins)[np.isfinite(begins) & np.isfinite(ends)]
    return max(0.0, beyond), float(np.median(taken)) / voltages.rate if len(taken) else None


def _settled(
    voltages: Voltages,
    at: npt.NDArray[np.int64],
    ends: npt.NDArray[np.bool_],
    otherwise: tuple[float, float],
) -> tuple[float, float]:
    """Return level and standard deviation of samples midway between two changes, where the wire has settled.

    `ends` are the changes that end a stretch at the level that is meant; without enough of them it is `otherwise`.
    """
    last = np.flatnonzero(ends[1:]) + 1
    if len(last) < FEWEST_STRETCHES:
        return otherwise
    settled = voltages.volts[(at[last] + at[last - 1]) // 2].astype(np.float64)
    settled = settled[np.isfinite(settled)]
    if not len(settled):
        return otherwise
    low, middle, high = np.percentile(settled, [25, 50, 75]).tolist()
    return middle, (high - low) / 1.349


def _crossing(around: npt.NDArray[np.float64], level: float, width: int) -> npt.NDArray[np.float64]:
    """Return where each row passes a level for the last time before its middle, between samples; NaN if nowhere."""
    rows = np.arange(len(around))
    before = around[:, : width + 1] <= level
    last = width - np.argmax(before[:, ::-1], axis=1)
    here, there = around[rows, last], around[rows, np.minimum(last + 1, around.shape[1] - 1)]
    part = np.clip((level - here) / np.where(there == here, 1.0, there - here), 0.0, 1.0)
    return np.where(before.any(axis=1), last + part, np.nan)
