"""How long a wire keeps a level, in bit times of the declared baud."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError

from .survey import Survey, measure_wire


@dataclass(frozen=True)
class LevelWidths:
    """How long a wire kept its levels.

    Parameters
    ----------
    name : str
        The wire.
    line : LineSettings
        What was declared.
    high, low : numpy.ndarray of float64, shape (n,)
        Lengths of the stretches between two changes, in bit times at the declared baud; within characters they are
        close to whole bits.
    survey : Survey
        What else was measured, such as the real baud.
    """

    name: str
    line: LineSettings
    high: npt.NDArray[np.float64]
    low: npt.NDArray[np.float64]
    survey: Survey


def measure_widths(trace: Trace, line: LineSettings) -> LevelWidths:
    """Measure how long a wire keeps a level, against the bit time.

    Parameters
    ----------
    trace : Trace
        The level changes of the wire.
    line : LineSettings
        What was declared.

    Returns
    -------
    LevelWidths
        Of high and of low levels.

    Raises
    ------
    RequestError
        If the wire changes less than twice.
    """
    if len(trace) < 2:
        raise RequestError("trace", f"has {len(trace)} changes", "must have two at least, to have a stretch between")
    widths = np.diff(trace.edges_s) * line.baud
    is_high = (trace.first_level + np.arange(1, len(trace))) % 2 == 1
    return LevelWidths(trace.name, line, widths[is_high], widths[~is_high], measure_wire(trace, line))
