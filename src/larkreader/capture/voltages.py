"""Voltages of one wire, and the trace that thresholds with hysteresis make of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError

from .trace import Trace

Volts = npt.NDArray[np.float32]

SUBTICKS = 64  # ticks a sample, between which the moment of crossing is interpolated
HYSTERESIS = (0.35, 0.65)  # of the swing, where the thresholds lie unless they are given
APART = 4.0  # times their noise by which two levels must lie apart to be two
LOW_BELOW = 1.0  # volts above which a wire that never changes is at level 1
FEW, RARE = 8, 1e-5  # samples, or share of them, that are not a level
DROPPED_BITS = 13  # of a float32, whose sign, exponent and ten bits more distinguish voltages
MANY = 1 << 15  # samples from which on a table of all voltages is quicker than sorting
FEWEST_VOLTS = 0.05  # by which they must lie apart at the least


@dataclass(frozen=True)
class VoltageLevels:
    """The two levels of a wire, in volts.

    Parameters
    ----------
    low_v, high_v : float
        Where the wire rests; the same where it has one level.
    low_noise_v, high_noise_v : float
        Standard deviation of what lies near them, judged by the middle half.
    least_v, most_v : float
        The extremes.
    """

    low_v: float
    high_v: float
    low_noise_v: float
    high_noise_v: float
    least_v: float
    most_v: float

    @property
    def swing_v(self) -> float:
        """How far the levels lie apart."""
        return self.high_v - self.low_v

    @property
    def thresholds(self) -> tuple[float, float]:
        """Voltages below and above which the level changes; beyond all that occurred where there is one level."""
        if not self.swing_v:
            beyond = self.least_v - 1.0 if self.high_v > LOW_BELOW else self.most_v + 1.0
            return beyond, beyond
        low, high = HYSTERESIS
        return self.low_v + low * self.swing_v, self.low_v + high * self.swing_v


@dataclass(frozen=True, eq=False)
class Voltages:
    """Evenly sampled voltages of one wire.

    Parameters
    ----------
    volts : ndarray of float32, shape (n_samples,)
        The samples.
    rate : float
        Samples a second.
    begin_s : float
        When the first was taken, in seconds on the clock of the capture.
    name : str
        What the wire is called in the capture.
    truncated : str
        How the capture breaks off, where its file is cut off.

    Raises
    ------
    CaptureError
        If the rate is not a positive number.
    """

    volts: Volts
    rate: float
    begin_s: float = 0.0
    name: str = ""
    truncated: str = ""

    def __post_init__(self) -> None:
        object.__setattr__(self, "volts", as_volts(np.asarray(self.volts)))
        if not self.rate > 0:
            raise CaptureError("rate", f"is {self.rate}", "must be a positive number of samples a second")

    def __len__(self) -> int:
        return len(self.volts)

    def __repr__(self) -> str:
        name = f' "{self.name}"' if self.name else ""
        return f"<Voltages{name}: {len(self):,} samples, {self.rate:g} a second>"

    def levels(self) -> VoltageLevels:
        """Find the two levels."""
        counter = LevelCounter()
        counter.feed(self.volts)
        return counter.levels()

    def to_trace(self, thresholds: tuple[float, float] | None = None) -> Trace:
        """Make a trace: the level rises above the second threshold, and falls below the first.

        Parameters
        ----------
        thresholds : tuple of float and float, optional
            In volts; at 35 and 65 % of the swing unless given.

        Returns
        -------
        Trace
            Its edges are where a straight line between two samples crosses the threshold.
        """
        slicer = Slicer(self.rate, thresholds or self.levels().thresholds, begin_s=self.begin_s, name=self.name)
        trace = Trace.joined([*filter(None, [slicer.feed(self.volts)]), slicer.last()])
        return replace(trace, truncated=self.truncated)


class LevelCounter:
    """Counts how often each voltage occurs, to three digits, in bounded memory."""

    def __init__(self) -> None:
        self._codes = np.empty(0, np.uint32)  # of the samples that are not counted yet
        self._counts = np.empty(0, np.int64)  # how often each code occurs, once there are many samples
        self._least, self._most = np.inf, -np.inf

    def feed(self, volts: Volts) -> None:
        """Take in samples; those that are not numbers count for nothing."""
        sound = volts[np.isfinite(volts)] if not np.isfinite(volts).all() else volts
        if len(sound):
            self._least, self._most = min(self._least, float(sound.min())), max(self._most, float(sound.max()))
            codes = np.ascontiguousarray(sound).view(np.uint32) >> np.uint32(DROPPED_BITS)
            self._codes = np.append(self._codes, codes)
            if len(self._codes) > MANY:
                counts = np.bincount(self._codes, minlength=1 << 32 - DROPPED_BITS)
                self._counts = self._counts + counts if len(self._counts) else counts
                self._codes = np.empty(0, np.uint32)

    def levels(self) -> VoltageLevels:
        """Return the two levels: the medians on both sides of the middle between them."""
        codes, counts = np.unique(self._codes, return_counts=True)
        if len(self._counts):
            every = self._counts.copy()
            every[codes] += counts
            codes = np.flatnonzero(every).astype(np.uint32)
            counts = every[codes]
        if not len(codes):
            return VoltageLevels(0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
        middles = codes << np.uint32(DROPPED_BITS) | np.uint32(1 << DROPPED_BITS - 1)
        volts = middles.view(np.float32).astype(np.float64)
        order = np.argsort(volts)
        volts, counts = volts[order], counts[order]
        # From the extremes, but for a few samples that a spike or the beginning of the capture may have.
        few = min(max(FEW, RARE * counts.sum()), counts.sum() / 4)
        below = np.cumsum(counts)
        middle = (volts[np.searchsorted(below, few)] + volts[np.searchsorted(below, below[-1] - few)]) / 2
        for _ in range(8):
            above = volts > middle
            if above.all() or not above.any():
                break
            low, high = _median(volts[~above], counts[~above]), _median(volts[above], counts[above])
            if middle == (middle := (low + high) / 2):
                break
        above = volts > middle
        parts = [(volts[side], counts[side]) for side in (~above, above) if counts[side].sum()]
        (low, low_noise), (high, high_noise) = [_middle_and_noise(*part) for part in (parts[0], parts[-1])]
        step = max(abs(high), abs(low)) / 1024  # as fine as voltages are distinguished here
        if high - low < max(FEWEST_VOLTS, APART * (low_noise + high_noise), 8 * step):
            low, low_noise = high, high_noise = _middle_and_noise(volts, counts)
        return VoltageLevels(low, high, low_noise, high_noise, self._least, self._most)


class Slicer:
    """Makes a trace of voltages, block by block.

    Parameters
    ----------
    rate : float
        Samples a second.
    thresholds : tuple of float and float
        The level falls below the first, and rises above the second, in volts.
    begin_s : float
        When the first sample was taken, in seconds.
    name : str
        What the wire is called.
    """

    def __init__(self, rate: float, thresholds: tuple[float, float], *, begin_s: float = 0.0, name: str = "") -> None:
        self._thresholds = thresholds
        self._tick_s = 1 / (rate * SUBTICKS)
        self._begin = round(begin_s / self._tick_s)
        self._count = 0
        self._level: int | None = None
        self._before = np.empty(0, np.float32)  # the last sample of the last block
        self._name = name

    def feed(self, volts: Volts) -> Trace | None:
        """Take in the next samples; return what happened until the last of them, None if there are none."""
        if not len(volts):
            return None
        low, high = self._thresholds
        both = np.concatenate([self._before, volts])
        beyond = np.flatnonzero((both < low) | (both > high))
        is_high = both[beyond] > high
        if self._level is None:  # before the first clear sample the level is that of the first
            self._level = int(is_high[0]) if len(is_high) else int(both[0] > (low + high) / 2)
        first_level = self._level
        turns = np.flatnonzero(np.diff(is_high.astype(np.int8), prepend=np.int8(first_level)))
        at, rises = beyond[turns], is_high[turns]
        now, before = both[at].astype(np.float64), both[np.maximum(at - 1, 0)].astype(np.float64)
        passed = np.where(rises, high, low)
        with np.errstate(invalid="ignore", over="ignore"):
            crossed = (passed - before) / np.where(now == before, 1.0, now - before)
        part = np.clip(np.nan_to_num(crossed, nan=1.0), 1 / SUBTICKS, 1.0)
        begin = self._begin + (self._count - len(self._before)) * SUBTICKS
        ticks = begin + np.rint((at - 1 + part) * SUBTICKS).astype(np.int64)
        ticks = np.maximum.accumulate(ticks - np.arange(len(ticks))) + np.arange(len(ticks))  # one tick apart at least
        self._level = first_level ^ (len(ticks) & 1)
        made_from = self._begin + max(self._count - 1, 0) * SUBTICKS + (self._count > 0)
        self._count += len(volts)
        self._before = both[-1:]
        end = self._begin + (self._count - 1) * SUBTICKS
        return Trace(ticks, self._tick_s, first_level, begin=made_from, end=max(end, made_from), name=self._name)

    def last(self) -> Trace:
        """Return the empty piece that says when recording ended."""
        end = self._begin + max(self._count - 1, 0) * SUBTICKS
        level = 1 if self._level is None else self._level
        return Trace(np.empty(0, np.int64), self._tick_s, level, begin=end, end=end, name=self._name)


def as_volts(values: npt.NDArray[Any], scale: float = 1.0, zero: float = 0.0) -> Volts:
    """Return numbers as volts; what is beyond a float32 is infinite."""
    with np.errstate(over="ignore", invalid="ignore"):
        return (values.astype(np.float64) * scale + zero).astype(np.float32)


def _median(volts: npt.NDArray[np.float64], counts: npt.NDArray[np.int64], share: float = 0.5) -> float:
    below = np.cumsum(counts)
    return float(volts[np.searchsorted(below, share * below[-1])])


def _middle_and_noise(volts: npt.NDArray[np.float64], counts: npt.NDArray[np.int64]) -> tuple[float, float]:
    """Return the median, and the standard deviation of a normal distribution with the same middle half."""
    quarters = _median(volts, counts, 0.75) - _median(volts, counts, 0.25)
    return _median(volts, counts), quarters / 1.349
