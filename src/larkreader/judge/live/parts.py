"""Parts of a stretch: the characters before and behind a place, and on which side of it findings lie."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.findings.finding import NOWHERE, Finding
from larkreader.judge.findings.merging import OF_SEVERAL_WIRES
from larkreader.judge.verdict.judged import Stretch
from larkreader.judge.wire.carried import LastFrame, last_trusted
from larkreader.judge.wire.loss_causes import traces_between

CARRIED = frozenset(("long-silence",))
"""Kinds whose place can be the last character before a stretch, of which nothing else knows."""


class Settled(NamedTuple):
    """A stretch that is given up."""

    stretch: Stretch
    """What it shows, counted from its first characters; also behind `end`, as far as that was judged with it."""
    held: Mapping[str, Characters]
    """By wire, its characters."""
    first: Mapping[str, int]
    """By wire, the number of the first character that was not counted before."""
    before: Mapping[str, int]
    """By wire, how many characters were given up before."""
    end: Mapping[str, int]
    """By wire, the number of the first character that is kept."""
    rows: Mapping[str, int]
    """How many rows were given up before, as `StretchJudge.rows_dropped`."""

    def frames_on(self, layouts: Iterable[FrameLayout], wire: str) -> dict[str, Frames]:
        """Return the frames of some layouts on a wire that are given up, by layout."""
        every = {layout.key: self.stretch.frames[layout.key] for layout in layouts}
        return {key: some[: int(np.searchsorted(some.offset, self.end[wire]))] for key, some in every.items()}


def every_finding(stretch: Stretch) -> Iterator[Finding]:
    """Yield all that is found in a stretch."""
    for item in stretch.wires.values():
        yield from item.of_characters
        yield from item.of_content
    yield from stretch.together


def until(held: Mapping[str, Characters], end: Mapping[str, int]) -> dict[str, Characters]:
    """Return the first characters of each wire, so many as `end` has."""
    return {wire: characters.between(0, end[wire]) for wire, characters in held.items()}


def since(held: Mapping[str, Characters], first: Mapping[str, int]) -> dict[str, Characters]:
    """Return the characters of each wire from the number `first` on."""
    return {wire: characters.between(first[wire]) for wire, characters in held.items()}


def ends_before(
    held: Mapping[str, Characters], keep: Mapping[str, int], settle: Mapping[str, int], known_s: Mapping[str, float]
) -> dict[str, float]:
    """Return when the last character of each wire ended before those that are kept, where none of these is judged yet.

    Parameters
    ----------
    held : mapping of str to Characters
        By wire.
    keep, settle : mapping of str to int
        As of `Cut`.
    known_s : mapping of str to float
        By wire, when its last character before all these ended, in seconds.
    """
    found = {}
    for wire, characters in held.items():
        end = keep[wire]
        if end and end == settle[wire]:
            found[wire] = float(characters.end_s[end - 1])
        elif end == settle[wire] and wire in known_s:
            found[wire] = known_s[wire]
    return found


def last_frame(
    frames: Frames, characters: Characters, known: LastFrame | None, *, keep: int, until: int
) -> LastFrame | None:
    """Return the last trusted frame of a layout with a counter before what is kept; None if one of its frames is kept.

    Parameters
    ----------
    frames : Frames
        Of the layout.
    characters : Characters
        Of its wire.
    known : LastFrame, optional
        The last such frame before these characters.
    keep : int
        The number of the first character that is kept.
    until : int
        The number of the first character that is not judged yet.
    """
    last = last_trusted(frames, until)
    if last is None:
        if known is None:
            return None
        traces = known.traces.with_more(traces_between(frames, characters, 0, keep))
        return replace(known, end=known.end - keep, traces=traces)
    value, end = last
    if end > keep:
        return None
    after_s = float(characters.begin_s[end]) if end < len(characters) else np.nan
    return LastFrame(value, end - keep, after_s, traces_between(frames, characters, end, keep))


def lies_from(finding: Finding, first: Mapping[str, int], first_s: float) -> bool:
    """Return whether any place of a finding lies at or behind a place."""
    return bool((~_is_before(finding, first, first_s) & _is_somewhere(finding)).any())


def lies_before(finding: Finding, first: Mapping[str, int], first_s: float) -> bool:
    """Return whether any place of a finding lies before a place."""
    is_before = _is_before(finding, first, first_s) & _is_somewhere(finding)
    return bool((is_before & (finding.places.offset >= 0) if finding.kind in CARRIED else is_before).any())


def _is_somewhere(finding: Finding) -> npt.NDArray[np.bool_]:
    """Return which places of a finding are known; one about a whole wire has none."""
    places = finding.places
    return np.asarray((places.offset != NOWHERE) | (places.row != NOWHERE) | np.isfinite(places.time_s))


def _is_before(finding: Finding, first: Mapping[str, int], first_s: float) -> npt.NDArray[np.bool_]:
    """Return which places of a finding lie before a place: by their characters, or by time where there are none."""
    places = finding.places
    if finding.subject.kind == "pair" or finding.kind in OF_SEVERAL_WIRES:
        return places.time_s < first_s
    by_offset = places.offset < first.get(finding.subject.wire, 0)
    return np.where(places.offset == NOWHERE, places.time_s < first_s, by_offset)
