"""From a list of levels with times to a trace: what the readers of level captures share."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import NO_SPANS, Trace

UNKNOWN, UNDRIVEN = 2, 3  # levels beside 0 and 1: x, and z


def trace_of_changes(
    at: npt.NDArray[np.int64],
    level: npt.NDArray[np.uint8],
    *,
    tick_s: float,
    begin: int,
    last: int,
    end_is_known: bool,
    name: str,
) -> Trace:
    """Make a trace of reported levels.

    Parameters
    ----------
    at : ndarray of int64, shape (n,)
        When each level was reported, in ticks, never decreasing; of several at one time the last counts.
    level : ndarray of uint8, shape (n,)
        0, 1, `UNKNOWN` or `UNDRIVEN`. A report without a change is no edge.
    tick_s : float
        Length of a tick, in seconds.
    begin, last : int
        First and last time of the capture, in ticks.
    end_is_known : bool
        Whether recording went on until `last`, rather than just the last change being there.
    name : str
        What the wire is called.

    Returns
    -------
    Trace
        Where the level is not known it keeps its last known one; before the first known one it has that.
    """
    end = last if end_is_known else None
    early = np.flatnonzero(at[1:] == at[:-1])
    if early.size:
        at, level = np.delete(at, early), np.delete(level, early)
    known = level < UNKNOWN
    spans = NO_SPANS if len(at) and at[0] <= begin and known.all() else _spans(at, known, begin, last)
    if not known.any():
        return Trace(np.empty(0, np.int64), tick_s, 1, begin=begin, end=end, unknown=spans, name=name)
    held = level
    if not known.all():
        latest = np.maximum.accumulate(np.where(known, np.arange(len(level)), 0))
        held = level[np.maximum(latest, np.argmax(known))]
    changed = held[1:] != held[:-1]
    edges = at[1:] if changed.all() else at[1:][changed]
    return Trace(edges, tick_s, int(held[0]), begin=begin, end=end, unknown=spans, name=name)


def _spans(at: npt.NDArray[np.int64], known: npt.NDArray[np.bool_], begin: int, last: int) -> npt.NDArray[np.int64]:
    """Return the stretches in which the level is not known: int64, shape (n, 2)."""
    states = np.concatenate([[len(at) > 0 and at[0] <= begin], known, [True]])
    times = np.concatenate([[begin], at, [last]])
    turns = np.flatnonzero(np.diff(states, prepend=True))
    if not turns.size:
        return NO_SPANS
    spans = times[turns].reshape(-1, 2)
    return spans[spans[:, 1] > spans[:, 0]]
