"""Where the changes of a wire lie against the bit boundaries of its characters."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.columns import Columns
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings


@dataclass(frozen=True, eq=False, repr=False)
class EdgePhases(Columns):
    """The changes within characters, each against the bit boundary next to it; all columns have shape (n_changes,).

    Parameters
    ----------
    boundary : ndarray of int64
        Number of the boundary: 1 lies between start bit and first data bit; the last boundary before the first stop
        bit.
    offset_bits : ndarray of float64
        How much later than that boundary the change was, in bit times of the declared baud, -0.5 to 0.5. A receiver
        judges the line at the ends of that range.
    rises : ndarray of bool
        Whether it was a change to high.
    line : LineSettings
        What was declared.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("boundary", "offset_bits", "rises")

    boundary: npt.NDArray[np.int64]
    offset_bits: npt.NDArray[np.float64]
    rises: npt.NDArray[np.bool_]
    line: LineSettings

    def __post_init__(self) -> None:
        self.check_lengths()


def measure_edge_phases(trace: Trace, characters: Characters, line: LineSettings) -> EdgePhases:
    """Hold the changes of a wire against the bit boundaries of the characters received from it.

    Parameters
    ----------
    trace : Trace
        The level changes of the wire.
    characters : Characters
        What was received from them.
    line : LineSettings
        The settings with which it was received.

    Returns
    -------
    EdgePhases
        Without start edges, which are where a receiver's time begins, and changes outside of characters.
    """
    edges_s = trace.edges_s
    place = np.searchsorted(characters.begin_s, edges_s + 0.5 * trace.tick_s, side="right") - 1
    position = (edges_s - np.append(characters.begin_s, np.nan)[place]) / line.bit_time_s
    boundary = np.where(np.isfinite(position), np.rint(position), 0).astype(np.int64)
    inside = (place >= 0) & (boundary >= 1) & (boundary <= line.stop_position)
    rises = (trace.first_level + np.arange(1, len(edges_s) + 1)) % 2 == 1
    return EdgePhases(boundary[inside], (position - boundary)[inside], rises[inside], line)
