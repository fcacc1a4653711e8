"""Impairments of a trace: what noise does to a wire."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from larkreader.capture.trace import Trace


def add_spike(trace: Trace, at_s: float, width_s: float) -> Trace:
    """Turn the level over for a short while.

    Parameters
    ----------
    trace : Trace
        The wire.
    at_s, width_s : float
        When the spike begins and how long it lasts, in seconds.

    Returns
    -------
    Trace
        The wire with the spike on it. Where an edge of the spike falls onto one of the wire, both vanish.
    """
    begin = round(at_s / trace.tick_s)
    end = begin + max(round(width_s / trace.tick_s), 1)
    edges, counts = np.unique(np.concatenate([trace.edges, [begin, end]]), return_counts=True)
    return replace(trace, edges=edges[counts == 1])
