"""The level changes of one wire: integer ticks, with the length of a tick."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError

NO_SPANS: npt.NDArray[np.int64] = np.empty((0, 2), dtype=np.int64)


@dataclass(frozen=True, eq=False)
class Trace:
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
        When recording ended, in ticks. None if nobody knows; the last level is then taken to go on.
    unknown : ndarray of int64, shape (n_spans, 2)
        First tick and the one behind the last of each stretch in which the level was not known (undriven or
        undefined). The level before it is taken to go on.
    name : str
        What the wire is called in the capture.

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

    def __post_init__(self) -> None:
        edges = np.ascontiguousarray(self.edges, dtype=np.int64)
        object.__setattr__(self, "edges", edges)
        if not self.tick_s > 0:
            raise CaptureError("tick_s", f"is {self.tick_s}", "must be a positive number of seconds")
        if self.first_level not in (0, 1):
            raise CaptureError("first_level", f"is {self.first_level!r}", "must be 0 or 1")
        if len(edges) > 1 and (wrong := np.flatnonzero(edges[1:] <= edges[:-1])).size:
            place = int(wrong[0]) + 1
            found = f"is {edges[place]}, after {edges[place - 1]}"
            raise CaptureError(f"edges[{place}]", found, "edges must increase strictly")
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

    @property
    def last_level(self) -> int:
        """Level behind the last edge."""
        return self.first_level ^ (len(self.edges) & 1)

    @property
    def edges_s(self) -> npt.NDArray[np.float64]:
        """When the level changed, in seconds: float64, shape (n_edges,)."""
        return self.edges * np.float64(self.tick_s)

    @property
    def end_s(self) -> float:
        """When recording ended, in seconds; the last edge where nobody knows."""
        last = self.edges[-1] if len(self.edges) else self.begin
        return float((self.end if self.end is not None else last) * self.tick_s)

    def __len__(self) -> int:
        return len(self.edges)

    def __repr__(self) -> str:
        name = f' "{self.name}"' if self.name else ""
        return f"<Trace{name}: {len(self.edges)} edges to {self.end_s:.9g} s, tick {self.tick_s:g} s>"
