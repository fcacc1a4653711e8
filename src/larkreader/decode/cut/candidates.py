"""Places where a frame may begin, and which of them are frames.

Every place where a marker stands is a candidate. It is *confirmed* if its checksum and its fixed values are right
(without a checksum: if they are right and the next marker, or the end, follows where it should). A confirmed
candidate is a frame. One that is not confirmed is a damaged frame of the right length if a marker or the end follows
where it should and no confirmed frame begins inside it. Otherwise bytes were lost or inserted, and the search goes on
behind its marker. So a marker inside a frame is passed over, and after damage only the damaged frame is lost.

What each candidate is depends on nothing before it; only which candidates are met does, and that is a chain.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.chain import follow_chain
from larkreader.decode.stream import Bytes, Places

from .content import judge_rows
from .stretches import occurrences

Mask = npt.NDArray[np.bool_]
FEW = 1 / 64  # share of candidates that pass over others, below which a loop over them is quickest
SURE = 7  # the score of what is confirmed


@dataclass
class Candidates:
    """Places where a frame may begin, in order; at most one a place.

    `fixed_values_ok` and `checksum_ok` hold whether the fixed values and the checksum of the layout number `which` are
    there. What is `confirmed` is a frame whatever lies around it; what is `accepted` is a frame if it is met. What is
    `passed` over as a whole is that, by default otherwise. What is `decided` is known if frames differ in length.
    """

    offset: Places
    which: npt.NDArray[np.uint8]
    length: Places
    fixed_values_ok: Mask
    checksum_ok: Mask
    accepted: Mask
    confirmed: Mask
    passed: Mask | None = None
    decided: Mask | None = None

    @classmethod
    def at(cls, offset: Places) -> Candidates:
        """Make candidates of which nothing is known yet."""
        count = len(offset)
        nothing = np.zeros((4, count), dtype=np.bool_)
        return cls(offset, np.zeros(count, np.uint8), np.zeros(count, np.int64), *nothing)

    def chain(self) -> Mask:
        """Return which candidates are met when the accepted candidates are passed over as a whole."""
        passed = self.accepted if self.passed is None else self.passed
        crowded = np.flatnonzero(passed[:-1] & (self.offset[:-1] + self.length[:-1] > self.offset[1:]))
        following = np.searchsorted(self.offset, self.offset[crowded] + self.length[crowded])
        if len(crowded) < FEW * len(self.offset):
            return _without_passed(len(self.offset), crowded.tolist(), following.tolist())
        steps = np.ones(len(self.offset), dtype=np.int64)
        steps[crowded] = following - crowded
        return follow_chain(steps)


def _without_passed(count: int, crowded: Sequence[int], following: Sequence[int]) -> Mask:
    """Return which candidates are met, where few pass over others: those candidates, and what follows each."""
    met = np.ones(count, dtype=np.bool_)
    upto = 0
    for candidate, after in zip(crowded, following, strict=True):
        if candidate >= upto:
            met[candidate + 1 : after] = False
            upto = after
    return met


def find_marked(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find the candidates of marker boundaries."""
    total = len(stream)
    hits = {layout.marker: occurrences(stream, layout.marker) for layout in layouts}
    ends = next(iter(hits.values())) if len(hits) == 1 else np.unique(np.concatenate(list(hits.values())))
    if len(layouts) == 1:
        marks = _marks_of(stream, ends, ends, layouts[0])
        length = np.full(len(ends), layouts[0].length)
        found = Candidates(ends, np.zeros(len(ends), np.uint8), length, *marks)
        refuse_doubtful(found, total)
        return found
    found = Candidates.at(ends)
    best = np.full(len(ends), -1, dtype=np.int8)
    for number, layout in sorted(enumerate(layouts), key=lambda item: item[1].length):
        offset = hits[layout.marker]
        at = slice(None) if len(hits) == 1 else np.searchsorted(found.offset, offset)
        fixed_values_ok, checksum_ok, accepted, sure = _marks_of(stream, offset, ends, layout)
        if any(other.marker == layout.marker and other.length > layout.length for other in layouts):
            accepted &= fixed_values_ok  # what lacks the fixed values may as well be the stump of a longer frame
        score = (4 * sure + 2 * fixed_values_ok + accepted).astype(np.int8)
        better = score > best[at]
        better |= (score == best[at]) & (score < SURE) & (layout.length > found.length[at])
        every = bool(better.all())
        for known, result in (
            (best, score),
            (found.confirmed, sure),
            (found.which, number),
            (found.length, layout.length),
            (found.fixed_values_ok, fixed_values_ok),
            (found.checksum_ok, checksum_ok),
            (found.accepted, accepted),
        ):
            known[at] = result if every else np.where(better, result, known[at])
    refuse_doubtful(found, total)
    return found


def _marks_of(stream: Bytes, offset: Places, ends: Places, layout: FrameLayout) -> tuple[Mask, Mask, Mask, Mask]:
    """Return what frames of a layout would be that begin where its marker stands, in the order of `Candidates`.

    Parameters
    ----------
    stream : ndarray of uint8
        All bytes.
    offset, ends : ndarray of int64
        Where its marker stands, and where any does: a frame may end there, or with the stream.
    layout : FrameLayout
        The layout.
    """
    whole = int(np.searchsorted(offset, len(stream) - layout.length, side="right"))
    fixed_values_ok, checksum_ok = np.zeros(len(offset), np.bool_), np.zeros(len(offset), np.bool_)
    fixed_values_ok[:whole], checksum_ok[:whole] = judge_rows(stream, offset[:whole], layout)
    sure = fixed_values_ok & checksum_ok
    asked = np.arange(whole) if layout.checksum is None else np.flatnonzero(~sure[:whole])
    accepted = sure.copy()  # without a checksum, fixed values alone must do where no marker follows
    if not asked.size:
        return fixed_values_ok, checksum_ok, accepted, sure
    followed = np.zeros(len(offset), dtype=np.bool_)
    followed[asked] = is_among(offset[asked] + layout.length, np.append(ends, len(stream)))
    accepted |= followed
    if layout.checksum is None:
        sure &= followed
    return fixed_values_ok, checksum_ok, accepted, sure


def refuse_doubtful(found: Candidates, total: int) -> None:
    """Accept no candidate that is not confirmed and inside which a confirmed one begins."""
    doubtful = np.flatnonzero(found.accepted & ~found.confirmed)
    if not doubtful.size:
        return
    sure_ones = np.append(found.offset[found.confirmed], total)
    next_sure = sure_ones[np.searchsorted(sure_ones[:-1], found.offset[doubtful], side="right")]
    found.accepted[doubtful[next_sure < found.offset[doubtful] + found.length[doubtful]]] = False


def find_fixed(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find the candidates of frames of one length that follow each other from the start."""
    length = layouts[0].length
    found = Candidates.at(np.arange(len(stream) // length, dtype=np.int64) * length)
    found.length[:], found.accepted[:], found.confirmed[:] = length, True, True
    best = np.full(len(found.offset), -1, dtype=np.int8)
    for number, layout in enumerate(layouts):
        fixed_values_ok, checksum_ok = judge_rows(stream, found.offset, layout)
        score = (2 * fixed_values_ok + checksum_ok).astype(np.int8)
        better = score > best
        best[better], found.which[better] = score[better], number
        found.fixed_values_ok[better], found.checksum_ok[better] = fixed_values_ok[better], checksum_ok[better]
    return found


def is_among(places: Places, sorted_places: Places) -> Mask:
    """Return which of the places are among others, which are sorted."""
    if len(places) < len(sorted_places) // 16:
        among: Mask = sorted_places[np.searchsorted(sorted_places[:-1], places)] == places
        return among
    table = np.zeros(int(sorted_places[-1]) + 2, dtype=np.bool_)
    table[sorted_places] = True
    return table[np.minimum(places, len(table) - 1)]
