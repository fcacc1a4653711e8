"""Impairments of a trace: what noise does to a wire."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace

Ticks = npt.NDArray[np.int64]


def add_jitter(trace: Trace, spread_s: float, seed: int = 1) -> Trace:
    """Move each change by a random time, normally distributed but three standard deviations at the most.

    Parameters
    ----------
    trace : Trace
        The wire.
    spread_s : float
        Standard deviation, in seconds.
    seed : int
        Of the random numbers.

    Returns
    -------
    Trace
        The wire with as many changes; they stay in order.
    """
    random = np.clip(np.random.default_rng(seed).standard_normal(len(trace)), -3, 3)
    moved = trace.edges + np.rint(random * spread_s / trace.tick_s).astype(np.int64)
    order = np.arange(len(moved))
    moved = np.maximum.accumulate(np.maximum(moved, trace.begin) - order) + order
    end = trace.end if trace.end is None or not len(moved) else max(trace.end, int(moved[-1]))
    return replace(trace, edges=moved, end=end)


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
    return turn_over(trace, np.array([begin]), np.array([end]))


def turn_over(trace: Trace, begin: Ticks, end: Ticks) -> Trace:
    """Turn the level over in stretches; where two overlap, it is as it was.

    Parameters
    ----------
    trace : Trace
        The wire.
    begin, end : ndarray of int64, shape (n,)
        Where each stretch begins and ends, in ticks.

    Returns
    -------
    Trace
        The wire. Where two changes fall onto each other, both vanish.
    """
    edges, counts = np.unique(np.concatenate([trace.edges, begin, end]), return_counts=True)
    edges = edges[counts % 2 == 1]
    last = trace.end if trace.end is None or not len(edges) else max(trace.end, int(edges[-1]))
    return replace(trace, edges=edges, end=last)
