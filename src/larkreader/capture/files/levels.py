"""From a list of levels with times to a trace, whole or in pieces: what the readers of level captures share."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import NO_SPANS, Trace

UNKNOWN, UNDRIVEN = 2, 3  # levels beside 0 and 1: x, and z

Ticks = npt.NDArray[np.int64]
Levels = npt.NDArray[np.uint8]


class TraceBuilder:
    """Makes traces of reported levels, piece by piece.

    A piece is certain: it ends before the latest time that was reported, at which more may be reported. Where the level
    is not known it keeps its last known one; before the first known one it has that.

    Parameters
    ----------
    tick_s : float
        Length of a tick, in seconds.
    name : str
        What the wire is called.
    """

    def __init__(self, tick_s: float, name: str) -> None:
        self._tick_s = tick_s
        self._name = name
        self._at: list[Ticks] = []
        self._level: list[Levels] = []
        self._begin: int | None = None  # of the next piece
        self._held: int | None = None  # the last known level
        self._is_known = False  # whether the level is known at the end of the last piece

    def add(self, at: Ticks, level: Levels) -> None:
        """Take in reports.

        Parameters
        ----------
        at : ndarray of int64, shape (n,)
            When each level was reported, in ticks, never decreasing; of several at one time the last counts.
        level : ndarray of uint8, shape (n,)
            0, 1, `UNKNOWN` or `UNDRIVEN`. A report without a change is not an edge.
        """
        if len(at):
            self._at.append(at)
            self._level.append(level)

    def piece(self, begin: int, until: int) -> Trace | None:
        """Return what happened before tick `until`; None while no level is known.

        `begin` is the first tick of the capture.
        """
        begin = begin if self._begin is None else self._begin
        at, level = self._reports()
        cut = int(np.searchsorted(at, until))
        if until <= begin or (self._held is None and not (level[:cut] < UNKNOWN).any()):
            self._at, self._level = [at], [level]
            return None
        self._at, self._level = [at[cut:].copy()], [level[cut:].copy()]
        made = self._trace(at[:cut], level[:cut], begin, until, until - 1)
        self._begin = until
        return made

    def last(self, begin: int, last: int, *, end_is_known: bool) -> Trace:
        """Return the rest.

        Parameters
        ----------
        begin, last : int
            First and last tick of the capture.
        end_is_known : bool
            Whether recording went on until `last`, rather than just the last change being there.
        """
        at, level = self._reports()
        return self._trace(
            at, level, begin if self._begin is None else self._begin, last, last if end_is_known else None
        )

    def _reports(self) -> tuple[Ticks, Levels]:
        if len(self._at) == 1:
            return self._at[0], self._level[0]
        none = (np.empty(0, np.int64), np.empty(0, np.uint8))
        return np.concatenate(self._at or [none[0]]), np.concatenate(self._level or [none[1]])

    def _trace(self, at: Ticks, level: Levels, begin: int, until: int, end: int | None) -> Trace:
        early = np.flatnonzero(at[1:] == at[:-1])
        if early.size:
            at, level = np.delete(at, early), np.delete(level, early)
        known = level < UNKNOWN
        was_known = self._is_known if self._held is not None else bool(len(at)) and at[0] <= begin and bool(known[0])
        spans = NO_SPANS if was_known and known.all() else _spans(at, known, begin, until, was_known=was_known)
        self._is_known = bool(known[-1]) if len(known) else was_known
        first = self._held
        if known.any():
            latest = np.maximum.accumulate(np.where(known, np.arange(len(level)), -1)) if not known.all() else None
            first = int(level[np.argmax(known)]) if first is None else first
            held = level if latest is None else np.where(latest < 0, np.uint8(first), level[np.maximum(latest, 0)])
            changed = np.diff(held, prepend=np.uint8(first)) != 0
            edges = at if changed.all() else at[changed]
            self._held = int(held[-1])
        else:
            edges = np.empty(0, np.int64)
        return Trace(
            edges, self._tick_s, 1 if first is None else first, begin=begin, end=end, unknown=spans, name=self._name
        )


def _spans(at: Ticks, known: npt.NDArray[np.bool_], begin: int, last: int, *, was_known: bool) -> Ticks:
    """Return the stretches in which the level is not known: int64, shape (n, 2)."""
    states = np.concatenate([[was_known], known, [True]])
    times = np.concatenate([[begin], at, [last]])
    turns = np.flatnonzero(np.diff(states, prepend=True))
    if not turns.size:
        return NO_SPANS
    spans = times[turns].reshape(-1, 2)
    return spans[spans[:, 1] > spans[:, 0]]
