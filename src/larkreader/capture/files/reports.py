"""From traces to the reports of levels that a file holds, whole or in pieces: what writers of level captures share."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from larkreader.capture.trace import Trace

from .levels import UNKNOWN, Levels, Ticks


@dataclass(frozen=True)
class ReportedPiece:
    """What some signals report in a piece of a capture.

    Parameters
    ----------
    reports : dict of str to tuple of ndarray of int64 and ndarray of uint8
        By signal, when a level is reported, in ticks, and as what; nothing where it stays as it was.
    traces : mapping of str to Trace
        The piece itself, without the signals whose level is not known yet.
    is_last : bool
        Whether nothing follows.
    """

    reports: dict[str, tuple[Ticks, Levels]]
    traces: Mapping[str, Trace]
    is_last: bool


def reported_pieces(names: Sequence[str], pieces: Iterable[Mapping[str, Trace]]) -> Iterator[ReportedPiece]:
    """Yield what is reported, piece by piece.

    Parameters
    ----------
    names : sequence of str
        The signals.
    pieces : iterable of mapping of str to Trace
        What happened on them, as `CaptureFile.pieces` yields it. A signal may be missing from the first pieces: then
        its level is reported as not known at the beginning of the capture.

    Yields
    ------
    ReportedPiece
    """
    level: dict[str, int] = {}
    for traces, is_last in _with_last(piece for piece in pieces if piece):
        reports, last = {}, max(map(last_tick, traces.values())) + (not is_last)
        for name in names:
            if name in traces:
                reports[name] = _reports_behind(level.get(name), traces[name], last)
            elif name not in level:
                begin = min(trace.begin for trace in traces.values())
                reports[name] = np.array([begin]), np.array([UNKNOWN], np.uint8)
            else:
                reports[name] = np.empty(0, np.int64), np.empty(0, np.uint8)
            if len(reports[name][1]):
                level[name] = int(reports[name][1][-1])
        yield ReportedPiece(reports, traces, is_last)


def _with_last(pieces: Iterable[Mapping[str, Trace]]) -> Iterator[tuple[Mapping[str, Trace], bool]]:
    """Yield pieces, each with whether it is the last."""
    held = None
    for piece in pieces:
        if held is not None:
            yield held, False
        held = piece
    if held is not None:
        yield held, True


def _reports_behind(level: int | None, trace: Trace, last: int) -> tuple[Ticks, Levels]:
    """Return the reports of a piece behind a reported level; all of them where there was none before."""
    at, levels = _reports_of(trace, last)
    if level is None:
        return at, levels
    if at[0] < trace.begin:  # the level before a change with which the piece begins, which was reported
        at, levels = at[1:], levels[1:]
    is_new = np.diff(levels, prepend=np.uint8(level)) != 0
    if level == UNKNOWN and at[0] not in trace.edges[:1]:  # the stretch before may last to the end
        is_new[0] &= at[0] < last
    return at[is_new], levels[is_new]


def _reports_of(trace: Trace, last: int) -> tuple[Ticks, Levels]:
    """Return when the level of a trace is reported, and as what; the first at its beginning.

    A change the moment recording begins is preceded by a report one tick earlier. In a stretch of unknown level there
    is one report, `UNKNOWN`, and one behind it unless it ends at tick `last`, the last of which anything is known.
    """
    begin = min(trace.begin, int(trace.edges[0]) - 1) if len(trace) else trace.begin
    at = np.concatenate([[begin], trace.edges]).astype(np.int64)
    level = ((np.arange(len(at)) + trace.first_level) % 2).astype(np.uint8)
    if not len(trace.unknown):
        return at, level
    opens, closes = trace.unknown.T
    inside = np.searchsorted(opens, at, side="right") != np.searchsorted(closes, at, side="right")
    again = closes[closes < last]
    held = level[np.searchsorted(at, again, side="right") - 1]
    every_at = np.concatenate([at[~inside], opens, again])
    every_level = np.concatenate([level[~inside], np.full(len(opens), UNKNOWN, np.uint8), held])
    order = np.argsort(every_at, kind="stable")
    every_at, every_level = every_at[order], every_level[order]
    latest = np.flatnonzero(np.diff(every_at, append=every_at[-1] + 1))  # of several at one time
    return every_at[latest], every_level[latest]


def last_tick(trace: Trace) -> int:
    """Return the last tick of which anything is known.

    Parameters
    ----------
    trace : Trace
        Of any length.
    """
    if trace.end is not None:
        return trace.end
    return max(int(some[-1]) for some in (trace.edges, trace.unknown.ravel(), [trace.begin]) if len(some))
