"""One way along a simulated line: transmitter, wire, receiver.

The wire's noise is a binary symmetric channel: each bit on it is turned over for its whole length with the same
probability, start and stop bits too. Between characters there is none.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.impairments import Impairments
from larkreader.decode.characters.receive import receive

from .impair import add_jitter, turn_over
from .transmission import transmit

Seconds = npt.NDArray[np.float64]


class Carried(NamedTuple):
    """What arrived at the far end of a way; all of shape (n,).

    Parameters
    ----------
    begin_s, end_s : ndarray of float64
        When each character began and ended there, in seconds.
    value : ndarray of uint16
        Its data bits.
    faults : ndarray of uint8
        Flags of `Fault`.
    """

    begin_s: Seconds
    end_s: Seconds
    value: npt.NDArray[np.uint16]
    faults: npt.NDArray[np.uint8]


def error_ratio_of(impairments: Impairments) -> float:
    """Return the probability that a bit is turned over.

    With Gaussian noise, and a threshold halfway between two levels, it is ``erfc(sqrt(snr / 2)) / 2``: J. G. Proakis,
    "Digital Communications", binary antipodal signalling.
    """
    if impairments.signal_to_noise_db is None:
        return impairments.bit_error_ratio
    return math.erfc(math.sqrt(10 ** (impairments.signal_to_noise_db / 10) / 2)) / 2


class Channel:
    """One way.

    Parameters
    ----------
    sender, receiver : LineSettings
        Settings of the two ends.
    impairments : Impairments
        What is wrong with the line.
    is_back : bool
        Whether this is the way back, on which the far end sends.
    """

    sender: LineSettings
    impairments: Impairments
    sender_ppm: float

    def __init__(
        self, sender: LineSettings, receiver: LineSettings, impairments: Impairments, *, is_back: bool = False
    ) -> None:
        self.sender, self._receiver, self.impairments = sender, receiver, impairments
        ends = (impairments.far_ppm, impairments.near_ppm) if is_back else (impairments.near_ppm, impairments.far_ppm)
        self.sender_ppm, receiver_ppm = ends
        if receiver_ppm:
            self._receiver = receiver.model_copy(update={"baud": receiver.baud * (1 + receiver_ppm * 1e-6)})
        self._random = np.random.default_rng([impairments.seed, is_back])
        self._error_ratio = error_ratio_of(impairments)
        self._is_ideal = (
            sender == receiver
            and not self.sender_ppm
            and not receiver_ppm
            and not self._error_ratio
            and not impairments.jitter_s
            and not impairments.spikes_per_s
        )

    @property
    def character_s(self) -> float:
        """How long the sender takes for a character, by its own clock."""
        return self.sender.character_time_s / (1 + self.sender_ppm * 1e-6)

    def carry(self, values: npt.NDArray[np.integer], begins_s: Seconds) -> Carried:
        """Send characters, and return what arrives.

        Parameters
        ----------
        values : ndarray of int, shape (n,)
            What is sent.
        begins_s : ndarray of float64, shape (n,)
            When each begins, in seconds, each a character time at least behind the last.

        Returns
        -------
        Carried
        """
        if self._is_ideal:
            faults = np.zeros(len(values), np.uint8)
            ends_s = begins_s + self.sender.character_time_s
            got = Carried(begins_s, ends_s, values.astype(np.uint16), faults)
        else:
            seen = receive(self._disturbed(values, begins_s), self._receiver)
            got = Carried(seen.begin_s, seen.end_s, seen.value, seen.faults)
        return self._delivered(got)

    def trace(self, values: npt.NDArray[np.integer], begins_s: Seconds) -> Trace:
        """Return what the sender puts on the wire, before anything befalls it."""
        bit_s = self.character_s / self.sender.bits_per_character
        gaps = np.diff(begins_s, prepend=begins_s[:1]) / bit_s - self.sender.bits_per_character
        gaps[0] = 0.0
        origin = float(begins_s[0])
        return transmit(
            values, self.sender, gaps=np.maximum(gaps, 0.0), begin_s=origin, clock_error_ppm=self.sender_ppm
        )

    def _disturbed(self, values: npt.NDArray[np.integer], begins_s: Seconds) -> Trace:
        trace, random, declared = self.trace(values, begins_s), self._random, self.impairments
        bit_s = self.character_s / self.sender.bits_per_character
        if self._error_ratio:
            cells = math.ceil(self.sender.bits_per_character)
            hit = np.flatnonzero(random.random(len(values) * cells) < self._error_ratio)
            row, cell = np.divmod(hit, cells)
            bits = np.minimum(np.stack([cell, cell + 1]), self.sender.bits_per_character)
            # the same arithmetic as the transmitter's, so that both fall onto the same ticks
            room = np.diff(begins_s, prepend=begins_s[:1]) / bit_s
            room[0] = self.sender.bits_per_character
            places = np.cumsum(np.maximum(room, self.sender.bits_per_character)) - self.sender.bits_per_character
            begin, end = np.rint((begins_s[0] + (places[row] + bits) * bit_s) / trace.tick_s).astype(np.int64)
            trace = turn_over(trace, begin, end)
        if declared.spikes_per_s:
            span_s = float(begins_s[-1] - begins_s[0]) + self.character_s
            at = begins_s[0] + random.random(random.poisson(declared.spikes_per_s * span_s)) * span_s
            begin = np.rint(np.sort(at) / trace.tick_s).astype(np.int64)
            trace = turn_over(trace, begin, begin + max(round(declared.spike_s / trace.tick_s), 1))
        if declared.jitter_s:
            trace = add_jitter(trace, declared.jitter_s, seed=int(random.integers(1 << 32)))
        return trace

    def _delivered(self, got: Carried) -> Carried:
        """Lose and double some of what was received, and let it be late."""
        declared = self.impairments
        if declared.drop_ratio or declared.double_ratio:
            draw = self._random.random(len(got.value))
            times = np.where(
                draw < declared.drop_ratio, 0, np.where(draw < declared.drop_ratio + declared.double_ratio, 2, 1)
            )
            begins_s, ends_s = np.repeat(got.begin_s, times), np.repeat(got.end_s, times)
            got = Carried(begins_s, ends_s, np.repeat(got.value, times), np.repeat(got.faults, times))
        if declared.delay_s:
            got = got._replace(begin_s=got.begin_s + declared.delay_s, end_s=got.end_s + declared.delay_s)
        return got
