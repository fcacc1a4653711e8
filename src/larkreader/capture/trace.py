"""The level changes of one wire: integer ticks, with the length of a tick."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import overload

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError
from larkreader.shown import Shown

NEARLY_WHOLE = 1e-12  # by which a float64 may miss a number of ticks a second
LAST_TICK = 1 << 62  # times lie this side of it
NO_SPANS: npt.NDArray[np.int64] = np.empty((0, 2), dtype=np.int64)


@dataclass(frozen=True, eq=False)
class Trace(Shown):
    """The level changes of one wire.

    Parameters
    ----------
    edges : ndarray of int64, shape (n_edges,)
        When the level changed, in ticks, strictly increasing. Each edge turns the level over.
    tick_s : float
        Length of a tick, in seconds.
    first_level : {0, 1}
        Level before the first edge.
    begin : int
        When recording began, in ticks.
    end : int, optional
        When recording ended, in ticks. None if unknown; the last level is then taken to go on.
    unknown : ndarray of int64, shape (n_spans, 2)
        First tick and the tick behind the last of each stretch in which the level was not known (undriven or
        undefined). The level before it is taken to go on.
    name : str
        What the wire is called in the capture.
    truncated : str
        How the capture breaks off, where its file is cut off; nothing for a whole file.

    Raises
    ------
    CaptureError
        If the edges do not increase, or lie outside `begin` and `end`.
    """

    edges: npt.NDArray[np.int64]
    tick_s: float = 1e-9
    first_level: int = 1
    begin: int = 0
    end: int | None = None
    unknown: npt.NDArray[np.int64] = field(default_factory=lambda: NO_SPANS)
    name: str = ""
    truncated: str = ""

    def __post_init__(self) -> None:
        edges = np.ascontiguousarray(self.edges, dtype=np.int64)
        object.__setattr__(self, "edges", edges)
        if not 0 < self.tick_s < np.inf:
            raise CaptureError("tick_s", f"is {self.tick_s}", "must be a positive number of seconds")
        if self.first_level not in (0, 1):
            raise CaptureError("first_level", f"is {self.first_level!r}", "must be 0 or 1")
        if len(edges) > 1 and (wrong := np.flatnonzero(edges[1:] <= edges[:-1])).size:
            place = int(wrong[0]) + 1
            found = f"is {edges[place]}, after {edges[place - 1]}"
            raise CaptureError(f"edges[{place}]", found, "edges must increase strictly")
        outermost = {"begin": self.begin, "end": self.end or 0}
        outermost |= {f"edges[{place}]": int(edges[place]) for place in (0, -1) if len(edges)}
        for name, tick in outermost.items():
            if abs(tick) >= LAST_TICK:  # so that no difference overflows
                raise CaptureError(name, f"has the tick {tick}", "must be less than 2^62 from 0")
        if len(edges) and edges[0] < self.begin:
            object.__setattr__(self, "begin", int(edges[0]))
        if len(edges) and self.end is not None and edges[-1] > self.end:
            raise CaptureError("end", f"is {self.end}, before the last edge at {edges[-1]}")

    @classmethod
    def from_seconds(
        cls,
        edges_s: npt.ArrayLike,
        first_level: int = 1,
        *,
        tick_s: float = 1e-9,
        end_s: float | None = None,
        name: str = "",
    ) -> Trace:
        """Make a trace from times in seconds, each rounded to the nearest tick.

        Parameters
        ----------
        edges_s : array_like of float, shape (n_edges,)
            When the level changed, in seconds.
        first_level : {0, 1}
            Level before the first edge.
        tick_s : float
            Length of a tick, in seconds.
        end_s : float, optional
            When recording ended, in seconds.
        name : str
            What the wire is called.

        Returns
        -------
        Trace
            The same changes in ticks.

        Raises
        ------
        CaptureError
            If the edges do not increase by a tick at least.
        """
        ticks = np.rint(np.asarray(edges_s, dtype=np.float64) / tick_s).astype(np.int64)
        end = None if end_s is None else round(end_s / tick_s)
        return cls(ticks, tick_s, first_level, end=end, name=name)

    @classmethod
    def joined(cls, pieces: Iterable[Trace]) -> Trace:
        """Make one trace of pieces that follow each other.

        Parameters
        ----------
        pieces : iterable of Trace
            One at least, each beginning where its predecessor ends, at the level with which that ended.

        Returns
        -------
        Trace

        Raises
        ------
        CaptureError
            If there is none, or one does not go on where its predecessor ended.
        """
        parts = list(pieces)
        if not parts:
            raise CaptureError("pieces", "are none", "must be at least one")
        for before, piece in pairwise(parts):
            before.check_goes_on_with(piece)
        first, last = parts[0], parts[-1]
        if len(parts) == 1:
            return first
        unknown = joined_spans([piece.unknown for piece in parts])
        return cls(
            np.concatenate([piece.edges for piece in parts]),
            first.tick_s,
            first.first_level,
            begin=first.begin,
            end=last.end,
            unknown=unknown,
            name=first.name,
            truncated=last.truncated,
        )

    def check_goes_on_with(self, piece: Trace) -> None:
        """Raise `CaptureError` unless `piece` may follow this trace.

        Parameters
        ----------
        piece : Trace
            The next piece of the same wire.
        """
        name = piece.name or "trace"
        if piece.tick_s != self.tick_s:
            raise CaptureError(f"{name}: tick_s", f"is {piece.tick_s:g} s", f"must be {self.tick_s:g} s, as before")
        if piece.first_level != self.last_level:
            found = f"begins at level {piece.first_level}"
            raise CaptureError(name, found, f"must go on at {self.last_level}, where its predecessor ended")
        known = max(self.end or self.begin, int(self.edges[-1]) if len(self) else self.begin)
        if len(piece) and piece.edges[0] <= known and (len(self) or self.end is not None):
            raise CaptureError(name, f"has a change at tick {piece.edges[0]}", f"must go on behind tick {known}")

    def in_ticks_of(self, tick_s: float) -> Trace:
        """Return the trace in ticks of another length, to which times are rounded; changes stay a tick apart.

        Parameters
        ----------
        tick_s : float
            Length of a tick, in seconds.
        """
        ratio = self.tick_s / tick_s
        edges = np.rint(self.edges * ratio).astype(np.int64)
        order = np.arange(len(edges))
        edges = np.maximum.accumulate(edges - order) + order
        begin, end = round(self.begin * ratio), None if self.end is None else round(self.end * ratio)
        if len(edges):
            begin, end = min(begin, int(edges[0])), None if end is None else max(end, int(edges[-1]))
        unknown = np.rint(self.unknown * ratio).astype(np.int64)
        return replace(self, edges=edges, tick_s=tick_s, begin=begin, end=end, unknown=unknown)

    def later_by(self, ticks: int) -> Trace:
        """Return the trace with all its times moved by some ticks.

        Parameters
        ----------
        ticks : int
            How many ticks; negative for earlier.
        """
        end = None if self.end is None else self.end + ticks
        unknown = self.unknown + ticks
        return replace(self, edges=self.edges + ticks, begin=self.begin + ticks, end=end, unknown=unknown)

    @overload
    def in_seconds(self, ticks: int) -> float: ...
    @overload
    def in_seconds(self, ticks: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]: ...
    def in_seconds(self, ticks: int | npt.NDArray[np.int64]) -> float | npt.NDArray[np.float64]:
        """Return ticks in seconds, as the float64 nearest to the true time where a second has a whole number of ticks.

        Parameters
        ----------
        ticks : int or ndarray of int64
            Of this trace.

        Examples
        --------
        >>> lr.Trace([20_381_944], 1e-9).in_seconds(20_381_944)
        0.020381944
        """
        rate = round(1 / self.tick_s)
        if rate and abs(rate * self.tick_s - 1) < NEARLY_WHOLE:
            return ticks / np.float64(rate) if isinstance(ticks, np.ndarray) else int(ticks) / rate
        return ticks * np.float64(self.tick_s) if isinstance(ticks, np.ndarray) else float(ticks * self.tick_s)

    @property
    def last_level(self) -> int:
        """Level behind the last edge."""
        return self.first_level ^ (len(self.edges) & 1)

    @property
    def edges_s(self) -> npt.NDArray[np.float64]:
        """When the level changed, in seconds; float64, shape (n_edges,)."""
        return self.in_seconds(self.edges)

    @property
    def end_s(self) -> float:
        """When recording ended, in seconds; the last edge where unknown."""
        last = self.edges[-1] if len(self.edges) else self.begin
        return self.in_seconds(self.end if self.end is not None else int(last))

    def __len__(self) -> int:
        return len(self.edges)

    def __repr__(self) -> str:
        name = f' "{self.name}"' if self.name else ""
        return f"<Trace{name}: {len(self.edges)} edges to {self.end_s:.9g} s, tick {self.tick_s:g} s>"


def joined_spans(parts: Sequence[npt.NDArray[np.int64]]) -> npt.NDArray[np.int64]:
    """Return the stretches of several pieces that follow each other; what goes on in the next piece is one stretch.

    Parameters
    ----------
    parts : sequence of ndarray of int64, shape (n, 2)
        First and last tick of each stretch, at least one part.
    """
    spans = np.concatenate(parts)
    if len(spans) < 2:
        return spans
    apart = spans[1:, 0] > spans[:-1, 1]
    return np.column_stack([spans[np.append(True, apart), 0], spans[np.append(apart, True), 1]])
