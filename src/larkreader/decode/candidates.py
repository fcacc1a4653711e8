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

from larkreader.declare.boundary import MarkerBoundary
from larkreader.declare.layout import FrameLayout
from larkreader.errors import RequestError

from .chain import follow_chain
from .verify import checksum_matches, identity_matches

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
BLOCK = 1 << 20  # bytes of candidate frames looked at together
SURE = 7  # the score of what is confirmed


@dataclass
class Candidates:
    """Places where a frame may begin, in order; at most one a place.

    `genuine` and `right` tell whether the fixed values and the checksum of the layout number `which` are there. What
    is `confirmed` is a frame whatever lies around it; what is `accepted` is a frame if it is met.
    """

    offset: Places
    which: npt.NDArray[np.uint8]
    length: Places
    genuine: Mask
    right: Mask
    accepted: Mask
    confirmed: Mask

    @classmethod
    def at(cls, offset: Places) -> Candidates:
        """Make candidates of which nothing is known yet."""
        count = len(offset)
        nothing = np.zeros((4, count), dtype=np.bool_)
        return cls(offset, np.zeros(count, np.uint8), np.zeros(count, np.int64), *nothing)

    def chain(self) -> Mask:
        """Tell which candidates are met when the accepted ones are passed over as a whole."""
        steps = np.ones(len(self.offset), dtype=np.int64)
        crowded = np.flatnonzero(self.accepted[:-1] & (self.offset[:-1] + self.length[:-1] > self.offset[1:]))
        behind = self.offset[crowded] + self.length[crowded]
        steps[crowded] = np.searchsorted(self.offset, behind) - crowded
        return follow_chain(steps)


def find_candidates(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find where frames of some layouts may begin.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        What arrived, taken as whole: a frame may end with it.
    layouts : sequence of FrameLayout
        What may travel on the wire. What several confirm is a frame of the shortest; what none does, of the longest
        of those that fit as well; among equals, of the first.

    Returns
    -------
    Candidates

    Raises
    ------
    RequestError
        If the layouts cannot share a wire: they differ in their kind of boundary, or in a fixed length.
    """
    if len({layout.boundary.kind for layout in layouts}) > 1:
        found = ", ".join(f"{layout.key}: {layout.boundary.kind}" for layout in layouts)
        raise RequestError("boundary", f"differs between the layouts of one wire ({found})", "must be of one kind")
    return _marked(stream, layouts) if has_markers(layouts) else _fixed(stream, layouts)


def has_markers(layouts: Sequence[FrameLayout]) -> bool:
    """Tell whether the frames of a wire begin with markers, rather than one behind the other from the first byte on."""
    return isinstance(layouts[0].boundary, MarkerBoundary)


def settled(found: Candidates, total: int, layouts: Sequence[FrameLayout]) -> Mask:
    """Tell which candidates would be what they are whatever came behind the `total` bytes that are there."""
    if not has_markers(layouts):
        return np.ones(len(found.offset), dtype=np.bool_)
    longest, marker = max(layout.length for layout in layouts), max(len(layout.marker) for layout in layouts)
    # Its own bytes, those of any confirmed frame that begins inside it, and the marker that may follow that one.
    sure: Mask = found.offset + (2 * longest + marker) <= total
    margin = np.array([0 if layout.checksum else marker for layout in layouts])
    sure |= found.confirmed & (found.offset + found.length + margin[found.which] <= total)
    return sure & (found.offset - 1 + marker <= total)  # no longer marker may have begun just before it


def _marked(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find the candidates of marker boundaries."""
    total = len(stream)
    hits = {layout.marker: _occurrences(stream, layout.marker) for layout in layouts}
    ends = next(iter(hits.values())) if len(hits) == 1 else np.unique(np.concatenate(list(hits.values())))
    found = Candidates.at(ends)
    best = np.full(len(ends), -1, dtype=np.int8)
    ends = np.append(ends, total)  # where a frame may end: before a marker, or with the stream
    for number, layout in sorted(enumerate(layouts), key=lambda one: one[1].length):
        offset = hits[layout.marker]
        at = slice(None) if len(hits) == 1 else np.searchsorted(found.offset, offset)
        whole = int(np.searchsorted(offset, total - layout.length, side="right"))
        genuine, right = np.zeros(len(offset), np.bool_), np.zeros(len(offset), np.bool_)
        genuine[:whole], right[:whole] = _judge_candidates(stream, offset[:whole], layout)
        sure = genuine & right
        followed = np.zeros(len(offset), dtype=np.bool_)
        asked = np.arange(whole) if layout.checksum is None else np.flatnonzero(~sure[:whole])
        followed[asked] = _is_among(offset[asked] + layout.length, ends)
        accepted = sure | followed  # without a checksum, fixed values alone must do where no marker follows
        if layout.checksum is None:
            sure = sure & followed
        if any(other.marker == layout.marker and other.length > layout.length for other in layouts):
            accepted &= genuine  # what lacks the fixed values may as well be the stump of a longer frame
        score = (4 * sure + 2 * genuine + accepted).astype(np.int8)
        better = score > best[at]
        better |= (score == best[at]) & (score < SURE) & (layout.length > found.length[at])
        every = bool(better.all())
        for known, told in (
            (best, score),
            (found.confirmed, sure),
            (found.which, number),
            (found.length, layout.length),
            (found.genuine, genuine),
            (found.right, right),
            (found.accepted, accepted),
        ):
            known[at] = told if every else np.where(better, told, known[at])
    doubtful = np.flatnonzero(found.accepted & ~found.confirmed)
    sure_ones = np.append(found.offset[found.confirmed], total) if doubtful.size else ends
    next_sure = sure_ones[np.searchsorted(sure_ones[:-1], found.offset[doubtful], side="right")]
    found.accepted[doubtful[next_sure < found.offset[doubtful] + found.length[doubtful]]] = False
    return found


def _fixed(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find the candidates of frames of one length that follow each other from the start."""
    length = layouts[0].length
    if any(layout.length != length for layout in layouts):
        told = ", ".join(f"{layout.key}: {layout.length}" for layout in layouts)
        raise RequestError("boundary", f"is fixed, but the layouts of the wire differ in length ({told})")
    found = Candidates.at(np.arange(len(stream) // length, dtype=np.int64) * length)
    found.length[:], found.accepted[:], found.confirmed[:] = length, True, True
    best = np.full(len(found.offset), -1, dtype=np.int8)
    for number, layout in enumerate(layouts):
        genuine, right = _judge_candidates(stream, found.offset, layout)
        score = (2 * genuine + right).astype(np.int8)
        better = score > best
        best[better], found.which[better] = score[better], number
        found.genuine[better], found.right[better] = genuine[better], right[better]
    return found


def _is_among(places: Places, sorted_places: Places) -> Mask:
    """Tell which of the places are among others, which are sorted."""
    if len(places) < len(sorted_places) // 16:
        among: Mask = sorted_places[np.searchsorted(sorted_places[:-1], places)] == places
        return among
    table = np.zeros(int(sorted_places[-1]) + 1, dtype=np.bool_)
    table[sorted_places] = True
    return table[places]


def _judge_candidates(stream: Bytes, offset: Places, layout: FrameLayout) -> tuple[Mask, Mask]:
    """Tell which candidates hold the layout's fixed values, and which have a right checksum."""
    genuine, right = np.empty(len(offset), np.bool_), np.empty(len(offset), np.bool_)
    block = max(BLOCK // layout.length, 1)
    for low in range(0, len(offset), block):
        rows = rows_at(stream, offset[low : low + block], layout.length)
        genuine[low : low + block] = identity_matches(rows, layout)
        right[low : low + block] = checksum_matches(rows, layout)
    return genuine, right


def _occurrences(stream: Bytes, marker: bytes) -> Places:
    """Return where `marker` stands, overlapping ones included."""
    if len(stream) < len(marker):
        return np.empty(0, np.int64)
    room = len(stream) - len(marker) + 1
    found = stream[:room] == marker[0]
    for place in range(1, min(len(marker), 2)):
        found &= stream[place : place + room] == marker[place]
    places = np.flatnonzero(found)
    for place in range(2, len(marker)):
        places = places[stream[places + place] == marker[place]]
    return places


def rows_at(stream: Bytes, offset: Places, length: int) -> Bytes:
    """Copy the frames that begin at `offset`: uint8, shape (n_frames, length)."""
    if not len(offset):
        return np.empty((0, length), np.uint8)
    items = np.ndarray((len(stream) - length + 1,), dtype=f"V{length}", buffer=stream.data, strides=(1,))
    return items[offset].view(np.uint8).reshape(-1, length)
