"""Characters from a trace that arrives in pieces, however it is cut: sans I/O, in bounded memory.

The result is what `receive` gives for the whole, a little later than it went in: a character as soon as nothing
that follows could change it. Held back are the changes from the first start that is not decided yet.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import NO_SPANS, Trace
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError

from .instants import Instants
from .receive import Found, find_characters


class CharacterReader:
    """Reads the characters of one wire, piece by piece.

    Parameters
    ----------
    line : LineSettings
        Baud and character format that the wire is declared to carry.
    samples : {1, 3}
        As of `receive`.
    oversampling : int, optional
        As of `receive`.
    check_stops : bool
        As of `receive`.

    Attributes
    ----------
    decided_s : float
        All characters that begin before this time were returned; in seconds, minus infinity at first.

    Raises
    ------
    RequestError
        If `samples` or `oversampling` is none of those.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> whole = lr.transmit(b"flow", line)
    >>> reader = lr.CharacterReader(line)
    >>> early = reader.feed(lr.Trace(whole.edges[:14], end=whole.edges[14] - 1))
    >>> late = reader.feed(lr.Trace(whole.edges[14:], first_level=1, begin=whole.edges[14], end=whole.end))
    >>> [bytes(part.value.tolist()) for part in (early, late, reader.close())]
    [b'f', b'low', b'']
    """

    def __init__(
        self, line: LineSettings, *, samples: int = 1, oversampling: int | None = None, check_stops: bool = False
    ) -> None:
        self._line = line
        self._samples = samples
        self._oversampling = oversampling
        self._check_stops = check_stops
        Instants.of(Trace(np.empty(0, np.int64), 1 / line.baud / 64), line, samples, oversampling)  # raises
        self._instants: Instants | None = None
        self._held: Trace | None = None
        self.decided_s: float = -np.inf
        self._is_begun = False
        self._is_closed = False

    def feed(self, piece: Trace) -> Characters:
        """Take in what happened next, and return the characters that are certain now.

        Parameters
        ----------
        piece : Trace
            Goes on where the last piece ended, in ticks of the same length, counted on. What is certain reaches to its
            ``end``, or to its last edge where that is not known.

        Returns
        -------
        Characters
            Times are on the clock of the capture. ``starts_mid_character`` is of the first piece.

        Raises
        ------
        CaptureError
            If the piece does not go on where its predecessor ended, or is too coarse.
        RequestError
            If the reader is closed.
        """
        if self._is_closed:
            raise RequestError("reader", "is closed", "takes nothing more", "Make a new reader")
        self._instants = self._instants or Instants.of(piece, self._line, self._samples, self._oversampling)
        whole = piece if self._held is None else Trace.joined([self._held, piece])
        known = whole.end if whole.end is not None else int(whole.edges[-1]) if len(whole) else whole.begin
        found = self._find(replace(whole, end=known))
        undecided = self._undecided(found, int(known / (self._instants.clock_ticks or 1)))
        if undecided is None:
            self._held = replace(whole, edges=whole.edges[:0], first_level=whole.last_level, unknown=NO_SPANS)
            rows, false_starts = len(found.begin), len(found.false_starts)
        else:
            rows = int(np.searchsorted(found.begin, undecided))
            false_starts = int(np.searchsorted(found.false_starts, undecided))
            self._held = self._behind(whole, undecided)
        self.decided_s = whole.in_seconds(known if undecided is None else self._held.begin)
        result = found.characters(self._line, piece.truncated)[:rows]
        starts_mid_character = found.starts_mid_character and not self._is_begun
        self._is_begun = True
        return replace(
            result,
            false_starts_s=result.false_starts_s[:false_starts].copy(),
            starts_mid_character=starts_mid_character,
            unfinished_s=None,
        )

    def close(self) -> Characters:
        """Return the rest, now that nothing more follows. Closing once more returns nothing more."""
        self._is_closed, self.decided_s = True, np.inf
        held, self._held = self._held, None
        if held is None:
            nothing = np.empty(0)
            return Characters(nothing, nothing, np.empty(0, np.uint16), np.empty(0, np.uint8), nothing)
        return replace(self._find(held).characters(self._line, held.truncated), starts_mid_character=False)

    def _find(self, trace: Trace) -> Found:
        assert self._instants is not None
        return find_characters(self._instants.clocked(trace), self._line, self._instants, check_stops=self._check_stops)

    def _undecided(self, found: Found, known: int) -> int | None:
        """Return the first start of which not everything is certain, in ticks of what was found."""
        assert self._instants is not None
        instants = self._instants
        open_ones = [] if found.unfinished is None else [found.unfinished]
        late = int(np.searchsorted(found.false_starts, known - instants.start, side="right"))
        if late < len(found.false_starts):  # may prove to be a true one
            open_ones.append(int(found.false_starts[late]))
        if len(found.begin) and found.begin[-1] + max(instants.whole, instants.second_stop, instants.last) > known:
            open_ones.append(int(found.begin[-1]))
        edges = found.trace.edges
        if len(edges) and edges[-1] > known:  # another change before the next tick of the receiver's clock undoes it
            open_ones.append(int(edges[-1]))
        if (found.faults[-1:] & Fault.BREAK).any():
            idle_again = int(np.searchsorted(edges, found.begin[-1] + instants.last, side="right"))
            if idle_again == len(edges) or edges[idle_again] > known:
                open_ones.append(int(found.begin[-1]))
        if not open_ones:
            return None
        undecided = min(open_ones)
        before = int(np.searchsorted(found.begin, undecided))
        if before and found.begin[before - 1] + instants.whole >= undecided:  # whether it ends early is undecided
            return int(found.begin[before - 1])
        return undecided

    def _behind(self, trace: Trace, undecided: int) -> Trace:
        """Return what happened from a start on."""
        assert self._instants is not None
        clock = self._instants.clock_ticks
        seen = trace.edges if clock is None else np.ceil(trace.edges / float(clock))
        at = int(np.searchsorted(seen, undecided))
        first = int(trace.edges[at])
        return replace(
            trace,
            edges=trace.edges[at:].copy(),
            first_level=trace.first_level ^ (at & 1),
            begin=first,
            unknown=trace.unknown[trace.unknown[:, 1] > first],
        )
