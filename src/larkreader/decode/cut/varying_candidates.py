"""Places where a frame may begin whose length its own content determines, and which of them are frames.

As in `candidates`, but each candidate has a length of its own: its fields or its length field contain it, or an end
marker. Where frames have no marker every byte is a candidate. Because checksums of any stretches cost the same however
long they are, a million false markers with wild lengths cost no more than a million short lengths.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.places import locate
from larkreader.decode.stream import Bytes, Places

from .candidates import SURE, Candidates, is_among, refuse_doubtful
from .content import judge_contents, judge_located
from .stretches import occurrences

Mask = npt.NDArray[np.bool_]
MOST_ENDS = 8  # end markers that are tried for one beginning


class _Assessed:
    """What one layout makes of its candidates: how long each would be, and whether it is a frame."""

    def __init__(self, count: int) -> None:
        self.length: Places = np.zeros(count, dtype=np.int64)  # or what it needs at least
        self.bound: Places = np.zeros(count, dtype=np.int64)  # bytes from it on that decide what it is
        self.fits, self.fixed_values_ok, self.checksum_ok = np.zeros((3, count), dtype=np.bool_)


def find_varying(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find where frames of some layouts may begin; see `find_candidates`."""
    total = len(stream)
    every = {layout.marker: _hits(stream, layout.marker) for layout in layouts}
    offset = next(iter(every.values())) if len(every) == 1 else np.unique(np.concatenate(list(every.values())))
    found = Candidates.at(offset)
    best = np.full(len(offset), -1, dtype=np.int8)
    bound = np.zeros(len(offset), dtype=np.int64)
    ends = np.append(offset, total)
    for number, layout in enumerate(layouts):
        own = every[layout.marker]
        at = np.arange(len(own)) if len(every) == 1 else np.searchsorted(offset, own)
        seen = _assess(stream, own, layout, ends)
        followed = seen.fits & (is_among(own + seen.length, ends) if layout.marker else True)
        sure = seen.fits & seen.fixed_values_ok & seen.checksum_ok
        accepted = sure | followed
        if layout.checksum is None:
            sure = sure & followed
        if len(layouts) > 1 or not (layout.marker or layout.checksum):
            accepted &= seen.fixed_values_ok
        score = (4 * sure + 2 * (seen.fixed_values_ok & seen.fits) + accepted).astype(np.int8)
        better = score > best[at]
        same = score == best[at]
        better |= same & np.where(score == SURE, seen.length < found.length[at], seen.length > found.length[at])
        bound[at] = np.maximum(bound[at], np.where(sure & (layout.checksum is not None), 0, own + seen.bound))
        best[at] = np.where(better, score, best[at])
        for known, result in (
            (found.confirmed, sure),
            (found.which, np.full(len(own), number)),
            (found.length, seen.length),
            (found.fixed_values_ok, seen.fixed_values_ok),
            (found.checksum_ok, seen.checksum_ok),
            (found.accepted, accepted),
        ):
            known[at] = np.where(better, result, known[at])
    refuse_doubtful(found, total)
    found.passed = found.accepted
    if not all(layout.marker for layout in layouts):
        found.passed = found.accepted | _unfinished(found, total)
    found.decided = _decided(found, bound, total, layouts)
    return found


def _hits(stream: Bytes, marker: bytes) -> Places:
    return occurrences(stream, marker) if marker else np.arange(len(stream), dtype=np.int64)


def _assess(stream: Bytes, own: Places, layout: FrameLayout, ends: Places) -> _Assessed:
    if layout.end_marker and not layout.is_fixed:
        return _ended(stream, own, layout, ends)
    seen = _Assessed(len(own))
    located = locate(stream, own, None, layout)
    judged = judge_located(stream, own, located, layout)
    seen.fits, seen.fixed_values_ok, seen.checksum_ok = judged.fits, judged.fixed_values_ok, judged.checksum_ok
    seen.length = located.length
    seen.bound = np.where(located.length > 0, located.length + len(layout.marker), 0)
    return seen


def _ended(stream: Bytes, own: Places, layout: FrameLayout, ends: Places) -> _Assessed:
    """Assess frames that an end marker ends, of which only what follows decides whether it is one.

    With a checksum it is the first of the next few end markers at which it is right. Else the first behind which a
    marker or the end of the stream follows; but where another marker precedes that, the last before that marker.
    End markers with which a frame would be longer than it may be do not count.
    """
    seen, total = _Assessed(len(own)), len(stream)
    closes = occurrences(stream, layout.end_marker) + layout.end_from_end
    first = np.searchsorted(closes, own + layout.shortest)
    padded = np.append(closes, total + layout.longest + 1)
    joints = np.append(closes[is_among(closes, ends)], total + layout.longest + 1) if len(closes) else padded[-1:]
    joint = joints[np.searchsorted(joints[:-1], own + layout.shortest)]
    following = np.append(own[1:], total)  # the next marker
    if len(ends) - 1 != len(own):
        following = ends[np.searchsorted(ends, own, side="right")]
    before = np.searchsorted(closes, np.minimum(following, own + layout.longest), side="right") - 1
    inner = np.where(before >= first, padded[before], 0)
    is_joint = (joint <= following) & (joint - own <= layout.longest) | (inner == 0)
    end = np.where(is_joint, joint, inner)
    known = np.where(is_joint, end < total, following < total)
    if layout.checksum is not None:
        known[:] = False
        open_ones = np.arange(len(own))
        for turn in range(MOST_ENDS):
            if not len(open_ones):
                break
            place = np.minimum(first[open_ones] + turn, len(closes))
            there = padded[place] - own[open_ones] <= layout.longest
            open_ones, tried = open_ones[there], padded[place[there]]
            open_there = tried <= total
            open_ones, tried = open_ones[open_there], tried[open_there]
            judged = judge_contents(stream, own[open_ones], tried - own[open_ones], layout)
            done = judged.fits & judged.fixed_values_ok & judged.checksum_ok
            end[open_ones[done]] = tried[done]
            open_ones = open_ones[~done]
    length = end - own
    is_bounded = (end <= total) & (length <= layout.longest)
    whole = np.flatnonzero(is_bounded)
    judged = judge_contents(stream, own[whole], length[whole], layout)
    seen.fits[whole], seen.fixed_values_ok[whole], seen.checksum_ok[whole] = (
        judged.fits,
        judged.fixed_values_ok,
        judged.checksum_ok,
    )
    seen.length = np.where(is_bounded, np.where(seen.fits, length, layout.shortest), layout.longest)
    seen.bound = np.where(known & is_bounded, length, layout.longest) + len(layout.marker)
    return seen


def _unfinished(found: Candidates, total: int) -> Mask:
    """Return which candidates without a marker would reach beyond the end, with no confirmed one inside."""
    sure = np.append(found.offset[found.confirmed], total)
    next_sure = sure[np.searchsorted(sure[:-1], found.offset, side="right")]
    beyond: Mask = ~found.accepted & (found.offset + found.length > total) & (next_sure == total)
    return beyond


def _decided(found: Candidates, bound: Places, total: int, layouts: Sequence[FrameLayout]) -> Mask:
    """Return which candidates would be what they are whatever followed.

    A confirmed one is; another if all that may decide about it is there, and all candidates inside it are decided.
    """
    marker = max(len(layout.marker) for layout in layouts)
    margin = np.array([0 if layout.checksum else len(layout.marker) for layout in layouts], dtype=np.int64)
    sure = found.confirmed & (found.offset + found.length + margin[found.which] <= total)
    is_known = bound <= total
    unknown = np.concatenate([[0], np.cumsum(~(is_known | sure))])
    behind = np.searchsorted(found.offset, found.offset + found.length)
    inside = unknown[np.maximum(behind, np.arange(len(behind)) + 1)] - unknown[:-1]
    decided: Mask = sure | (is_known & (inside == 0) & (found.offset + found.length + marker <= total))
    return decided & (found.offset - 1 + marker <= total)  # no longer marker may have begun just before it
