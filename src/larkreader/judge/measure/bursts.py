"""Bursts of samples that an analogue to digital converter took: volts over time, and the usual figures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import Columns
from larkreader.capture.ragged import Ragged
from larkreader.decode.columns.frame_columns import FrameFault, Frames
from larkreader.errors import RequestError

Volts = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Bursts(Columns):
    """Bursts of samples, one a frame; columns have shape (n_bursts,).

    Parameters
    ----------
    begin_s : ndarray of float64
        When each frame began, in seconds on the clock of the capture; NaN where unknown.
    volts : Ragged of float64
        The samples of each, in volts.
    rate_hz : float
        Samples a second.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("begin_s", "volts")

    begin_s: npt.NDArray[np.float64]
    volts: Ragged
    rate_hz: float

    @property
    def count(self) -> npt.NDArray[np.int64]:
        """How many samples each has."""
        return self.volts.length

    @property
    def least(self) -> Volts:
        """The least sample of each, in volts; NaN for an empty one."""
        return self._each(np.min)

    @property
    def most(self) -> Volts:
        """The greatest sample of each, in volts."""
        return self._each(np.max)

    @property
    def peak_to_peak(self) -> Volts:
        """The greatest less the least sample of each, in volts."""
        return self.most - self.least

    @property
    def mean(self) -> Volts:
        """The mean of each, in volts."""
        return self._each(np.mean)

    @property
    def frequency_hz(self) -> npt.NDArray[np.float64]:
        """The strongest frequency of each with its mean removed, in hertz; NaN where nothing swings.

        The peak of the spectrum of the samples under a Hann window, between its lines by a parabola through the
        logarithms of the three around it.
        """
        return self._each(lambda volts: _frequency(volts, self.rate_hz))

    @property
    def resolution_hz(self) -> npt.NDArray[np.float64]:
        """What two frequencies in a burst must differ by to be distinguished, one over its length, in hertz."""
        return self.rate_hz / np.maximum(self.count, 1)

    @property
    def highest_hz(self) -> float:
        """The highest frequency that the rate can show, which is half of it, in hertz."""
        return self.rate_hz / 2

    def times_s(self, row: int) -> npt.NDArray[np.float64]:
        """Return when each sample of a burst was taken, in seconds from its first.

        Parameters
        ----------
        row : int
            The number of the burst.
        """
        return np.arange(int(self.count[row])) / self.rate_hz

    def without_mean(self) -> Ragged:
        """Return the samples with the mean of their burst taken off, in volts."""
        return self.volts.with_items(self.volts.flat - np.repeat(self.mean, self.count))

    def envelope(self, volts: Ragged | None = None) -> tuple[Volts, Volts]:
        """Return the least and the greatest of all bursts, sample by sample, in volts; float64, shape (n_samples,).

        Parameters
        ----------
        volts : Ragged of float64, optional
            The samples, such as `without_mean` has them.
        """
        rows = self.volts if volts is None else volts
        place = np.arange(int(rows.length.sum())) - np.repeat(np.cumsum(rows.length) - rows.length, rows.length)
        longest = int(rows.length.max(initial=0))
        least, most = np.full(longest, np.inf), np.full(longest, -np.inf)
        np.minimum.at(least, place, rows.flat)
        np.maximum.at(most, place, rows.flat)
        return least, most

    def _each(self, work: object) -> Volts:
        assert callable(work)
        return np.array([work(row) if len(row) else np.nan for row in self.volts], dtype=np.float64)


def read_bursts(frames: Frames, name: str) -> Bursts:
    """Return the bursts of samples that a field carries.

    Parameters
    ----------
    frames : Frames
        Of one layout. Those with a wrong checksum are left out.
    name : str
        A field with `samples`, an array.

    Returns
    -------
    Bursts
        One a frame.

    Raises
    ------
    RequestError
        If there is no such field, or it is not declared to hold samples.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "slip"},
    ...     fields=[{"name": "wave", "type": "uint16", "repeat": "rest",
    ...              "samples": {"reference": 3.3, "bits": 12, "rate": 8000}}],
    ... )
    >>> counts = np.rint(2048 + 1000 * np.sin(2 * np.pi * 440 * np.arange(200) / 8000)).astype(int)
    >>> bursts = lr.judge.read_bursts(lr.read_frames(layout.as_sent(layout.encode({"wave": counts})), layout), "wave")
    >>> bursts.peak_to_peak.round(2), bursts.mean.round(2), bursts.frequency_hz.round(), bursts.resolution_hz
    (array([1.61]), array([1.65]), array([440.]), array([40.]))
    """
    good = frames[~frames.has_fault(FrameFault.CHECKSUM_MISMATCH)]
    raw = good.raw(name)
    slot = frames.layout.slot[name]
    samples = None if slot.field is None else slot.field.samples
    if samples is None:
        found = f"is not declared to hold samples of {frames.layout.key}"
        raise RequestError(f'field "{name}"', found, "", "Declare samples = { reference = 3.3, rate = 1000 }")
    rows = raw
    if not isinstance(rows, Ragged):
        flat = np.asarray(raw).reshape(len(good), -1)
        rows = Ragged(flat.reshape(-1), np.arange(len(good)) * flat.shape[1], np.full(len(good), flat.shape[1]))
    volts = rows.flat * (samples.reference / (1 << (samples.bits or slot.bits))) + samples.offset
    return Bursts(good.begin_s, rows.with_items(volts), samples.rate)


def _frequency(volts: Volts, rate_hz: float) -> float:
    count = len(volts)
    swing = volts - volts.mean()
    if count < 4 or float(np.ptp(swing)) == 0:
        return float("nan")
    spectrum = np.abs(np.fft.rfft(swing * np.hanning(count)))
    peak = int(np.argmax(spectrum[1:])) + 1
    shift = 0.0
    if 1 <= peak < len(spectrum) - 1 and spectrum[peak - 1 : peak + 2].min() > 0:
        left, middle, right = np.log(spectrum[peak - 1 : peak + 2])
        shift = float((left - right) / (2 * (left - 2 * middle + right))) if left - 2 * middle + right else 0.0
    return (peak + shift) * rate_hz / count
