"""Who speaks when: both at once on a shared medium, too soon after each other, or no end for too long."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from types import MappingProxyType
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.line import LineSettings
from larkreader.decode.timeline import Timeline
from larkreader.judge.findings.finding import Finding, Places, make_finding
from larkreader.judge.measure.pairs import ROUNDING_S, STOP_JUDGED

NOTHING_BEFORE: Mapping[str, float] = MappingProxyType({})
Rows = npt.NDArray[np.int64]
Seconds = npt.NDArray[np.float64]


def find_collisions(
    timeline: Timeline, characters: Mapping[str, Characters], lines: Mapping[str, LineSettings], shared: tuple[str, ...]
) -> Rows:
    """Find the messages of shared wires during which another wire sends too.

    Parameters
    ----------
    timeline : Timeline
        The messages.
    characters : mapping of str to Characters
        By wire.
    lines : mapping of str to LineSettings
        By wire.
    shared : tuple of str
        The wires that are one medium.

    Returns
    -------
    ndarray of int64, shape (n_collisions,)
        The row of the later one of each two, or more, that overlap. What begins while the last stop bit of another
        still lasts is not a collision: the medium rests at idle level then, whoever drives it.
    """
    rows = np.flatnonzero(timeline.is_on(shared))
    if not len(rows) or timeline.in_groups:
        return np.empty(0, np.int64)
    found = []
    for wire in shared:
        others = [characters[other] for other in shared if other != wire and other in timeline.wires]
        slack = [(lines[other].stop_bits - STOP_JUDGED) * lines[other].bit_time_s for other in shared if other != wire]
        own = rows[timeline.wire[rows] == timeline.wires.index(wire)] if wire in timeline.wires else rows[:0]
        for other, rest_s in zip(others, slack, strict=False):
            place = np.searchsorted(other.begin_s, timeline.begin_s[own], side="right") - 1
            lasts = np.append(other.end_s, -np.inf)[place] - rest_s > timeline.begin_s[own] + ROUNDING_S
            found.append(own[lasts & (place >= 0)])
            # it may begin in a pause of the other message, whose next character then falls into it
            after = np.append(other.begin_s, np.inf)[place + 1]
            inside = np.searchsorted(timeline.begin_s[rows], after)  # rows that begin with that character are found so
            begins_one = np.append(timeline.begin_s[rows], np.inf)[inside] == after
            found.append(own[(after < timeline.end_s[own] - rest_s) & ~begins_one])
    return np.unique(np.concatenate(found)) if found else np.empty(0, np.int64)


def judge_turns(
    sheet: Sheet,
    timeline: Timeline,
    characters: Mapping[str, Characters],
    end_s: float | None = None,
    last_end_s: Mapping[str, float] = NOTHING_BEFORE,
) -> Iterator[Finding]:
    """Yield where two ends send at once, where the medium rests too short, and where a wire is silent too long.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    timeline : Timeline
        The messages.
    characters : mapping of str to Characters
        By wire.
    end_s : float, optional
        When the capture ends, in seconds.
    last_end_s : mapping of str to float
        By wire, when its last character before these ended, in seconds; nothing of a wire that has none.
    """
    lines = {key: item.line for key, item in sheet.wire.items()}
    shared = sheet.timing.shared
    collisions = find_collisions(timeline, characters, lines, shared)
    if len(collisions):
        yield _finding("collision", timeline, collisions)
    if sheet.timing.turnaround_s is not None:
        yield from _judge_turnaround(timeline, shared, sheet.timing.turnaround_s, collisions)
    for key, wire in sheet.wire.items():
        if wire.silence_s is not None and (key in timeline.wires or key in last_end_s):
            yield from _judge_silence(key, characters[key], wire.silence_s, end_s, last_end_s.get(key))


def _judge_turnaround(
    timeline: Timeline, shared: tuple[str, ...], turnaround_s: float, collisions: Rows
) -> Iterator[Finding]:
    rows = np.flatnonzero(timeline.is_on(shared))
    if timeline.in_groups or len(rows) < 2:
        return
    rest_s = timeline.begin_s[rows[1:]] - timeline.end_s[rows[:-1]]
    turned = (timeline.wire[rows[1:]] != timeline.wire[rows[:-1]]) & ~np.isin(rows[1:], collisions)
    short = np.flatnonzero(turned & (rest_s < turnaround_s - ROUNDING_S))
    if len(short):
        least = float(rest_s[short].min())
        times = {"declared_s": turnaround_s, "shortest_s": max(least, 0.0)}
        yield _finding("short-turnaround", timeline, rows[short + 1], **times)


def _judge_silence(
    wire: str, characters: Characters, silence_s: float, end_s: float | None, last_end_s: float | None
) -> Iterator[Finding]:
    """Yield the rests of a wire that are longer than declared; what lies before its first character is none."""
    before = [] if last_end_s is None else [last_end_s]
    ends = np.append(before, characters.end_s)
    begins = np.append(np.append(before, characters.begin_s)[1:], end_s if end_s is not None else ends[-1])
    rests_s = begins - ends
    long = np.flatnonzero(rests_s > silence_s + ROUNDING_S)
    if not len(long):
        return
    yield make_finding(
        "long-silence",
        wire,
        Places.at(long - len(before), ends[long]),
        longest_s=float(rests_s[long].max()),
        declared_s=silence_s,
        to_end=bool(long[-1] == len(ends) - 1),
    )


def _finding(kind: str, timeline: Timeline, rows: Rows, **evidence: Any) -> Finding:
    places = Places.at(timeline.offset[rows], timeline.begin_s[rows], rows)
    return make_finding(kind, timeline.wires[timeline.wire[rows[0]]], places, **evidence)
