"""The first part of what a capture holds of each wire, in bounded memory, and how much of it that is."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages

from .voltage_files import VoltageFile, check_signal

MOST_CHANGES = 1 << 20  # of a wire: 100 thousand characters or more
MOST_SAMPLES = 1 << 23  # voltages of a wire


@dataclass(frozen=True)
class FirstPart:
    """The first part of what a capture holds of a wire.

    Parameters
    ----------
    measured : Trace or Voltages
        The part.
    until_s : float
        When it ends, in seconds on the clock of the capture.
    end_s : float
        When the capture of the wire ends, in seconds.
    """

    measured: Trace | Voltages
    until_s: float
    end_s: float

    @property
    def is_whole(self) -> bool:
        """Whether that is all there is."""
        return self.until_s >= self.end_s


def first_traces(pieces: Iterable[Mapping[str, object]], most: int = MOST_CHANGES) -> dict[str, FirstPart]:
    """Return the first level changes of each wire.

    Parameters
    ----------
    pieces : iterable of mapping of str to Trace
        What happened on the wires, piece by piece, as `CaptureFile.pieces` yields it; all of it is taken, so that
        it is known how much there is.
    most : int
        How many changes of a wire are kept at most.

    Returns
    -------
    dict of str to FirstPart
        By wire. A part that is not all there is ends just before the first change that was left out.
    """
    parts: dict[str, list[Trace]] = {}
    counts: dict[str, int] = {}
    last: dict[str, Trace] = {}
    for piece in pieces:
        for wire, trace in piece.items():
            if not isinstance(trace, Trace):
                continue
            if (count := counts.get(wire, 0)) <= most:  # one more shows that there are more
                parts.setdefault(wire, []).append(trace)
                counts[wire] = count + len(trace)
            last[wire] = trace
    return {wire: _cut(Trace.joined(held), most, last[wire].end_s) for wire, held in parts.items()}


def _cut(trace: Trace, most: int, end_s: float) -> FirstPart:
    """Return the first changes of a trace, if there are more than so many."""
    if len(trace) <= most:
        return FirstPart(trace, trace.end_s, trace.end_s)
    end = int(trace.edges[most]) - 1
    unknown = trace.unknown[trace.unknown[:, 1] <= end] if len(trace.unknown) else trace.unknown
    part = replace(trace, edges=trace.edges[:most].copy(), end=end, unknown=unknown, truncated="")
    return FirstPart(part, part.end_s, max(end_s, trace.end_s))


def first_voltages(file: VoltageFile, signal: str, most: int = MOST_SAMPLES) -> FirstPart:
    """Return the first voltages of a signal.

    Parameters
    ----------
    file : VoltageFile
        The file.
    signal : str
        Its name there.
    most : int
        How many samples are kept at most.

    Raises
    ------
    CaptureError
        If the file is damaged, or lacks the signal.
    """
    check_signal(file, signal)
    kept: list[np.ndarray] = []
    count = held = 0
    for block in file.blocks([signal]):
        volts = block[signal]
        if held < most:
            kept.append(volts[: most - held].copy())
            held += len(kept[-1])
        count += len(volts)
    volts = np.concatenate(kept) if kept else np.empty(0, np.float32)
    rate, begin_s = file.clock
    part = Voltages(volts, rate, begin_s, signal, file.truncated if held == count else "")
    return FirstPart(part, begin_s + held / rate, begin_s + count / rate)
