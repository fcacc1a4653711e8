"""Whether two ends that keep their own time understand each other, and with how much to spare.

The receiver counts its bits from the start edge as it sees it, which is up to one look at the line late. Every bit must
be sampled after it has begun and before it ends, of the first stop bit before the next start edge that the sender may
send at once. If the sender's times are stretched by a factor ``q``, that holds while ``q`` stays between the greatest
of "latest sample of a bit by its end" and the least of "earliest sample of a bit by its beginning". Where there is room
on both sides of where the clocks are, at their worst, every character is read rightly.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError

from .baud_setting import BaudSetting

ORDINARY_OVERSAMPLING = 16
Seconds = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Timing:
    """How one end keeps time within a character.

    Parameters
    ----------
    name : str
        The end.
    boundaries_s : ndarray of float64, shape (n_bits + 1,)
        When each bit begins, and the first stop bit ends, in seconds after the start edge.
    middle_s : ndarray of float64, shape (n_bits,)
        How long after a bit's beginning it is judged when the end receives, in seconds.
    sample_interval_s : float
        Time between two looks at the line when it receives, in seconds.
    spread : float
        How far its clock may be off to either side, as a share of it.
    baud : float
        Its baud, over many bits.
    """

    name: str
    boundaries_s: Seconds
    middle_s: Seconds
    sample_interval_s: float
    spread: float
    baud: float

    @classmethod
    def of_setting(cls, setting: BaudSetting, name: str = "") -> Timing:
        """Return how an end keeps time that has a baud generator.

        Parameters
        ----------
        setting : BaudSetting
            What the generator makes.
        name : str
            The name of the end.
        """
        boundaries_s = np.array([float(ticks * setting.tick_s) for ticks in setting.boundary_ticks])
        looks = setting.oversampling // 2 if setting.oversampling > 1 else int(setting.bit_ticks) // 2
        middle_s = np.full(len(boundaries_s) - 1, looks * float(setting.sample_s))
        return cls(name, boundaries_s, middle_s, float(setting.sample_s), setting.clock.spread, setting.baud)

    @classmethod
    def even(
        cls,
        baud: float,
        line: LineSettings,
        *,
        spread: float = 0.0,
        oversampling: int = ORDINARY_OVERSAMPLING,
        name: str = "",
    ) -> Timing:
        """Return how an end keeps time of which nothing but the baud is known.

        Parameters
        ----------
        baud : float
            Its true baud.
        line : LineSettings
            The character format.
        spread : float
            How far off it may be to either side, as a share of it.
        oversampling : int
            How many times a bit it looks at the line.
        name : str
            The end.

        Returns
        -------
        Timing
        """
        boundaries_s = np.arange(line.stop_position + 2) / baud
        middle_s = np.full(len(boundaries_s) - 1, 0.5 / baud)
        return cls(name, boundaries_s, middle_s, 1 / baud / oversampling, spread, baud)

    @property
    def samples_s(self) -> Seconds:
        """When each bit is judged, the start bit and the first stop bit too, in seconds after the start is seen."""
        return self.boundaries_s[:-1] + self.middle_s


@dataclass(frozen=True, eq=False)
class Margin:
    """What is left between one end's bits and the other end's samples.

    Parameters
    ----------
    line : LineSettings
        The character format.
    sender, receiver : Timing
        The two ends.
    samples : int
        Samples of a bit: 1, or 3 of which the majority counts.
    """

    line: LineSettings
    sender: Timing
    receiver: Timing
    samples: int = 1

    @property
    def window(self) -> tuple[float, float]:
        """By what factors the sender's times may be stretched, least and greatest, before a bit is misread."""
        return _window(self.sender, self.receiver, self.line, self.samples)

    @property
    def tolerance(self) -> tuple[float, float]:
        """How much slower (less than 0) and faster the baud of a perfect sender may be for this receiver, as shares.

        That is with the receiver's own divisor and clock as they are at their nominal frequency.
        """
        perfect = Timing.even(self.line.baud, self.line)
        fastest, slowest = _window(perfect, self.receiver, self.line, self.samples)
        return 1 / slowest - 1, 1 / fastest - 1

    @property
    def worst(self) -> tuple[float, float]:
        """By what factors the clocks may stretch the sender's times against the receiver's, least and greatest."""
        sender, receiver = self.sender.spread, self.receiver.spread
        return (1 - receiver) / (1 + sender), (1 + receiver) / (1 - sender)

    @property
    def left_nominal(self) -> tuple[float, float]:
        """How much slower and faster the sender may still become with nominal clocks, as shares of its baud."""
        return _left(self.window, (1.0, 1.0))

    @property
    def left(self) -> tuple[float, float]:
        """How much slower and how much faster the sender may still become at the worst of both clocks.

        Shares of its baud. Less than 0 where characters are misread then.
        """
        return _left(self.window, self.worst)

    def left_at(self, stretch: float) -> float:
        """Return by what share of its baud the sender may still become slower or faster, the lesser of the two.

        Parameters
        ----------
        stretch : float
            By what factor the sender's times are stretched.

        Returns
        -------
        float
            Less than 0 where characters are misread then.
        """
        return min(_left(self.window, (stretch, stretch)))

    @property
    def tightest(self) -> float:
        """The lesser of `left`."""
        return min(self.left)

    @property
    def mismatch(self) -> float:
        """How much faster the sender's baud is than the receiver's, as a share, with both clocks nominal."""
        return self.sender.baud / self.receiver.baud - 1

    @cached_property
    def dominant_end(self) -> Timing:
        """The end that is farther from the declared baud, its clock's spread included."""
        return max((self.sender, self.receiver), key=lambda end: abs(end.baud / self.line.baud - 1) + end.spread)

    def samples_within(self, stretch: float = 1.0) -> npt.NDArray[np.float64]:
        """Return where each bit is sampled within itself: 0 at its beginning, 1 at its end.

        Parameters
        ----------
        stretch : float
            By what factor the sender's times are stretched.

        Returns
        -------
        ndarray of float64, shape (n_bits, 2)
            For each bit from the start bit to the first stop bit, the earliest and the latest instant.
        """
        edges = self.sender.boundaries_s * stretch
        early = self.receiver.samples_s
        instants = np.column_stack([early, early + self.receiver.sample_interval_s])
        return (instants - edges[:-1, None]) / np.diff(edges)[:, None]

    def to_dict(self) -> dict[str, Any]:
        """Return the margin as JSON has it; all but the names are shares."""
        return {
            "sender": self.sender.name,
            "receiver": self.receiver.name,
            "sender_baud": self.sender.baud,
            "receiver_baud": self.receiver.baud,
            "mismatch": self.mismatch,
            "tolerance": list(self.tolerance),
            "left_nominal": list(self.left_nominal),
            "left": list(self.left),
            "dominant_end": self.dominant_end.name,
        }


def calculate_margin(line: LineSettings, sender: Timing, receiver: Timing, *, samples: int = 1) -> Margin:
    """Hold the times of two ends against each other.

    Parameters
    ----------
    line : LineSettings
        The baud that is wanted, and the character format.
    sender, receiver : Timing
        How the two ends keep time.
    samples : int
        Samples of a bit: 1, or 3 of which the majority counts.

    Returns
    -------
    Margin
        What is left at each bit.

    Raises
    ------
    RequestError
        If `samples` is neither, or a timing is of another format than `line`.

    Examples
    --------
    >>> line = lr.LineSettings.parse("9600 8N1")
    >>> ideal = lr.judge.Timing.even(9600, line)
    >>> slower, faster = lr.calculate_margin(line, ideal, ideal).tolerance
    >>> f"{slower:.2%} {faster:+.2%}"
    '-5.26% +4.58%'
    """
    if samples not in (1, 3):
        raise RequestError("samples", f"is {samples!r}", "must be 1 or 3")
    for timing in (sender, receiver):
        if len(timing.boundaries_s) != line.stop_position + 2:
            found = f"has {len(timing.boundaries_s) - 1} bits to the end of the first stop bit"
            raise RequestError(timing.name or "timing", found, f"must have {line.stop_position + 1}, as {line.format}")
    return Margin(line, sender, receiver, samples)


def _window(sender: Timing, receiver: Timing, line: LineSettings, samples: int) -> tuple[float, float]:
    """Return between what factors all samples lie in their bits."""
    begins, ends = sender.boundaries_s[1:-1], sender.boundaries_s[1:].copy()
    ends[-1] += (line.stop_bits - 1) / sender.baud
    early = receiver.samples_s
    late = early + receiver.sample_interval_s
    if samples == 3:
        late[-1] += receiver.sample_interval_s  # the next start is looked for when the stop bit has been judged
    return float(np.max(late / ends)), float(np.min(early[1:] / begins))


def _left(window: Sequence[float], now: Sequence[float]) -> tuple[float, float]:
    """Return by what shares of its baud the sender may become slower and faster; its baud is inverse to its times."""
    return 1 - now[1] / window[1], now[0] / window[0] - 1
