"""How fast a sender's clock ran in a capture: its baud against the declared baud, from the changes of a wire."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings

from .edge_phases import measure_edge_phases

LEAST_CHANGES = 16  # from which a clock is measured


@dataclass(frozen=True)
class MeasuredClock:
    """A sender's clock, as the changes within its characters show it.

    Parameters
    ----------
    error : float
        How much faster than declared it sends, as a share of the declared baud; less than 0 if slower.
    uncertainty : float
        Standard uncertainty of that, as a share, with every change taken for independent of the others. Where the ticks
        of the capture round the changes of all characters alike, the error can be off by half a tick over the bits of
        a character beyond it.
    jitter_s : float
        Root mean square of how far changes lie from where that clock would put them, in seconds.
    changes : int
        From how many changes it was measured.
    """

    error: float
    uncertainty: float
    jitter_s: float
    changes: int


def measure_clock(trace: Trace, characters: Characters, line: LineSettings) -> MeasuredClock | None:
    """Measure the clock of a sender.

    Parameters
    ----------
    trace : Trace
        The level changes of the wire.
    characters : Characters
        What was received from them; characters with a fault are left out.
    line : LineSettings
        The settings with which they were received.

    Returns
    -------
    MeasuredClock or None
        None if there are too few changes.

    Notes
    -----
    Least squares over the changes within characters: change number ``k`` lies ``k`` bit times behind its start edge;
    a change in the other direction than the start edge may be later than that by a constant, the asymmetry of the line.

    Examples
    --------
    >>> line = lr.LineSettings(baud=57_600)
    >>> trace = lr.transmit(bytes(range(256)), line, clock_error_ppm=2000)
    >>> clock = lr.judge.measure_clock(trace, lr.receive(trace, line), line)
    >>> round(1e6 * clock.error, -1)
    2000.0
    """
    phases = measure_edge_phases(trace, characters[characters.faults == 0], line)
    if len(phases) < LEAST_CHANGES:
        return None
    back = (phases.rises == (line.idle == "high")).astype(np.float64)
    terms = np.column_stack([phases.boundary, back])
    fit, _, rank, _ = np.linalg.lstsq(terms, phases.offset_bits, rcond=None)
    if rank < terms.shape[1]:
        return None
    left = phases.offset_bits - terms @ fit
    spread = float(left @ left) / (len(left) - terms.shape[1])
    stretch_variance = spread * float(np.linalg.inv(terms.T @ terms)[0, 0])
    jitter_s = float(np.sqrt(spread)) * line.bit_time_s
    return MeasuredClock(-float(fit[0]) / (1 + float(fit[0])), float(np.sqrt(stretch_variance)), jitter_s, len(left))
