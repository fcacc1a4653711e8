"""When a receiver looks at the wire: the samples of a character, and the clock by which hardware looks."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.errors import CaptureError, RequestError

FEWEST_TICKS = 3  # ticks a bit below which the middle of a bit cannot be distinguished from its edges
MOST_TICKS = 1 << 62  # of a character
OVERSAMPLING = (8, 16)  # times a bit that hardware looks at a wire
MIDDLE = Fraction(1, 2)  # of a bit, where it is judged
THIRDS = [
    Fraction(7, 16),
    Fraction(8, 16),
    Fraction(9, 16),
]  # where in a bit the three samples of a majority are taken


@dataclass(frozen=True)
class Instants:
    """When a character is sampled, in whole ticks after its start edge.

    `rows` has one row for each sample of a bit (one, or three) and one column for each bit from the start bit to
    the first stop bit. An edge that many ticks after the start or fewer has happened by then. `second_stop` is when a
    second stop bit would be judged, and `whole` how many ticks a character lasts. `clock_ticks` is the length of a tick
    of the receiver's own clock in those of the trace, where it has one.
    """

    rows: npt.NDArray[np.int64]
    second_stop: int = 0
    whole: int = 0
    clock_ticks: Fraction | None = None

    @classmethod
    def of(cls, trace: Trace, line: LineSettings, samples: int = 1, oversampling: int | None = None) -> Instants:
        """Return when characters of `line` are sampled; raise as `receive`."""
        if samples not in (1, 3):
            raise RequestError("samples", f"is {samples!r}", "must be 1 or 3")
        if oversampling not in (None, *OVERSAMPLING):
            raise RequestError("oversampling", f"is {oversampling!r}", "must be 8 or 16")
        # Decimal numbers as they were written, since 1e-6 / 1e-9 in floating point need not be 1000.
        bit_ticks = 1 / (Fraction(repr(line.baud)) * Fraction(repr(float(trace.tick_s))))
        if bit_ticks < FEWEST_TICKS:
            raise CaptureError(
                trace.name or "trace",
                f"is too coarse: a bit at {line.baud:g} baud lasts {float(bit_ticks):.2g} ticks of {trace.tick_s:g} s",
                f"A bit must last {FEWEST_TICKS} ticks at least",
                "Record at a higher sample rate, or check the baud",
            )
        clock_ticks = None
        within = [MIDDLE] if samples == 1 else THIRDS
        if oversampling is not None:
            clock_ticks, bit_ticks = bit_ticks / oversampling, Fraction(oversampling)
            aside = Fraction(1, oversampling)
            within = [MIDDLE] if samples == 1 else [MIDDLE - aside, MIDDLE, MIDDLE + aside]
        if bit_ticks * line.bits_per_character >= MOST_TICKS:
            found = f"has ticks of {trace.tick_s:g} s, of which a character has more than {MOST_TICKS:.2g}"
            raise CaptureError(trace.name or "trace", found, "must have longer ticks")
        bits = range(line.stop_position + 1)
        rows = [[floor((bit + part) * bit_ticks) for bit in bits] for part in within]
        second_stop = line.stop_position + 1 + (Fraction(line.stop_bits) - 1) / 2
        whole = ceil(Fraction(line.bits_per_character) * bit_ticks)
        return cls(np.array(rows, dtype=np.int64), floor(second_stop * bit_ticks), whole, clock_ticks)

    @property
    def start(self) -> int:
        """When the start bit is judged."""
        return int(self.rows[-1, 0])

    @property
    def last(self) -> int:
        """When the first stop bit is judged, behind which the next start is looked for."""
        return int(self.rows[-1, -1])

    def clocked(self, trace: Trace) -> Trace:
        """Return what a receiver sees of a trace that looks at it with its own clock; without one, all."""
        if self.clock_ticks is None:
            return trace
        ticks = float(self.clock_ticks)
        seen = np.ceil(trace.edges / ticks).astype(np.int64)
        last_of_tick = np.flatnonzero(np.diff(seen, append=seen[-1:] + 1))
        changes = np.diff(last_of_tick, prepend=-1)
        return Trace(
            seen[last_of_tick][changes % 2 == 1],  # two changes between ticks are none
            trace.tick_s * ticks,
            trace.first_level,
            begin=ceil(trace.begin / ticks),
            end=None if trace.end is None else max(floor(trace.end / ticks), int(seen[-1]) if len(seen) else 0),
            unknown=np.column_stack([trace.unknown[:, 0] // ticks, -(-trace.unknown[:, 1] // ticks)]).astype(np.int64),
            name=trace.name,
        )
