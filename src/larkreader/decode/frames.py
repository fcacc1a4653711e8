"""Bytes to frames, by marker or by fixed length.

Every place where a marker stands is a candidate. It is *confirmed* if its checksum and its fixed values are right
(without a checksum: if they are right and the next marker, or the end, follows where it should). A confirmed
candidate is a frame. One that is not confirmed is a damaged frame of the right length if a marker or the end follows
where it should and no confirmed frame begins inside it. Otherwise bytes were lost or inserted, and the search goes on
behind its marker. So a marker inside a frame is passed over, and after damage only the damaged frame is lost.

What each candidate does depends on nothing before it; only which candidates are met does, and that is a chain.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.boundary import MarkerBoundary
from larkreader.declare.layout import FrameLayout
from larkreader.errors import RequestError

from .chain import follow_chain
from .frame_columns import FrameFault, Frames, Skip, Spans
from .unpack import raw_column
from .verify import checksum_matches, identity_matches, names_known, within_range

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
BLOCK = 1 << 20  # bytes of candidate frames looked at together


def read_frames(data: bytes | Bytes | Characters, layout: FrameLayout) -> Frames:
    """Cut bytes into the frames of a layout, and check them.

    Parameters
    ----------
    data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
        What arrived. Characters give the frames their times, and the faults of their characters.
    layout : FrameLayout
        What the frames are declared to be.

    Returns
    -------
    Frames
        One row for each frame found, good or faulty. Every byte lies in a frame or in one of ``skipped``.

    Raises
    ------
    RequestError
        If characters hold more than eight bits, or the data are no bytes.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"},
    ...     fields=[{"name": "flow", "type": "uint12", "scale": 0.1}, {"reserved": 4}],
    ... )
    >>> frames = lr.read_frames(bytes.fromhex("00 D7 7D 00 D7 7E 00"), layout)
    >>> frames["flow"], frames.offset, frames.skipped.length
    (array([12.5, 12.6]), array([1, 4]), array([1]))
    """
    return read_layouts(data, [layout])[layout.key]


def read_layouts(data: bytes | Bytes | Characters, layouts: Sequence[FrameLayout]) -> Mapping[str, Frames]:
    """Cut the bytes of one wire into the frames of several layouts, and check them.

    Parameters
    ----------
    data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
        What arrived.
    layouts : sequence of FrameLayout
        What may travel on the wire; fields with `equals` tell the layouts apart. All have one kind of boundary.

    Returns
    -------
    mapping of str to Frames
        By the layouts' keys. All share ``skipped``.

    Raises
    ------
    RequestError
        As `read_frames`; or if the layouts differ in their kind of boundary.
    """
    stream = _bytes_of(data)
    if len({layout.boundary.kind for layout in layouts}) > 1:
        found = ", ".join(f"{layout.key}: {layout.boundary.kind}" for layout in layouts)
        raise RequestError("boundary", f"differs between the layouts of one wire ({found})", "must be of one kind")
    fixed = not isinstance(layouts[0].boundary, MarkerBoundary)
    candidates = _fixed(stream, layouts) if fixed else _marked(stream, layouts)
    chain = candidates.chain()
    taken = chain & candidates.accepted
    skipped = _skipped(candidates, chain, taken, len(stream), fixed=fixed)
    _call_begun_marker_unfinished(skipped, stream, layouts)
    frames = {}
    for number, layout in enumerate(layouts):
        mine = _selection(taken & (candidates.which == number))
        offset = candidates.offset[mine]
        rows = _rows(stream, offset, layout.length)
        begin_s = data.begin_s[offset] if isinstance(data, Characters) else np.full(len(offset), np.nan)
        faults = _frame_faults(rows, layout, candidates.genuine[mine], candidates.right[mine])
        if isinstance(data, Characters):
            faults[_has_bad_character(data, offset, layout.length)] |= np.uint8(FrameFault.CHARACTER_FAULT)
        frames[layout.key] = Frames(layout, offset, begin_s, faults, rows, skipped)
    return frames


@dataclass
class _Candidates:
    """Places where a frame may begin, in order; at most one a place.

    `genuine` and `right` tell whether the fixed values and the checksum of the layout number `which` are there.
    """

    offset: Places
    which: npt.NDArray[np.uint8]
    length: Places
    genuine: Mask
    right: Mask
    accepted: Mask

    @classmethod
    def at(cls, offset: Places) -> _Candidates:
        """Make candidates of which nothing is known yet."""
        count = len(offset)
        nothing = np.zeros((3, count), dtype=np.bool_)
        return cls(offset, np.zeros(count, np.uint8), np.zeros(count, np.int64), *nothing)

    def chain(self) -> Mask:
        """Tell which candidates are met when the accepted ones are passed over as a whole."""
        steps = np.ones(len(self.offset), dtype=np.int64)
        crowded = np.flatnonzero(self.accepted[:-1] & (self.offset[:-1] + self.length[:-1] > self.offset[1:]))
        behind = self.offset[crowded] + self.length[crowded]
        steps[crowded] = np.searchsorted(self.offset, behind) - crowded
        return follow_chain(steps)


def _marked(stream: Bytes, layouts: Sequence[FrameLayout]) -> _Candidates:
    """Find the candidates of marker boundaries."""
    total = len(stream)
    hits = {layout.marker: _occurrences(stream, layout.marker) for layout in layouts}
    ends = next(iter(hits.values())) if len(hits) == 1 else np.unique(np.concatenate(list(hits.values())))
    found = _Candidates.at(ends)
    best = np.full(len(ends), -1, dtype=np.int8)
    confirmed = np.zeros(len(ends), dtype=np.bool_)
    ends = np.append(ends, total)  # where a frame may end: before a marker, or with the stream
    for number, layout in enumerate(layouts):
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
        every = bool(better.all())
        for known, told in (
            (best, score),
            (confirmed, sure),
            (found.which, number),
            (found.length, layout.length),
            (found.genuine, genuine),
            (found.right, right),
            (found.accepted, accepted),
        ):
            known[at] = told if every else np.where(better, told, known[at])
    doubtful = np.flatnonzero(found.accepted & ~confirmed)
    sure_ones = np.append(found.offset[confirmed], total) if doubtful.size else ends
    next_sure = sure_ones[np.searchsorted(sure_ones[:-1], found.offset[doubtful], side="right")]
    found.accepted[doubtful[next_sure < found.offset[doubtful] + found.length[doubtful]]] = False
    return found


def _fixed(stream: Bytes, layouts: Sequence[FrameLayout]) -> _Candidates:
    """Find the candidates of frames of one length that follow each other from the start."""
    length = layouts[0].length
    if any(layout.length != length for layout in layouts):
        told = ", ".join(f"{layout.key}: {layout.length}" for layout in layouts)
        raise RequestError("boundary", f"is fixed, but the layouts of the wire differ in length ({told})")
    found = _Candidates.at(np.arange(len(stream) // length, dtype=np.int64) * length)
    found.length[:], found.accepted[:] = length, True
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
        rows = _rows(stream, offset[low : low + block], layout.length)
        genuine[low : low + block] = identity_matches(rows, layout)
        right[low : low + block] = checksum_matches(rows, layout)
    return genuine, right


def _frame_faults(rows: Bytes, layout: FrameLayout, genuine: Mask, intact: Mask) -> npt.NDArray[np.uint8]:
    """Hold against each frame what its fields show; those of a frame whose checksum fails show nothing."""
    faults = np.zeros(len(rows), dtype=np.uint8)
    known, sensible = genuine.copy(), np.ones(len(rows), np.bool_)
    for slot in layout.slots:
        field = slot.field
        if field is not None and (field.names or field.range):
            raw = raw_column(rows, slot, layout.packing)
            known &= names_known(raw, slot) if field.names else True
            sensible &= within_range(raw, slot)
    faults[~intact] |= np.uint8(FrameFault.CHECKSUM_MISMATCH)
    faults[intact & ~known] |= np.uint8(FrameFault.UNKNOWN_VALUE)
    faults[intact & ~sensible] |= np.uint8(FrameFault.OUT_OF_RANGE)
    return faults


def _has_bad_character(characters: Characters, offset: Places, length: int) -> Mask:
    bad = np.flatnonzero(characters.faults)
    has_bad: Mask = np.searchsorted(bad, offset) != np.searchsorted(bad, offset + length)
    return has_bad


def _skipped(candidates: _Candidates, chain: Mask, taken: Mask, total: int, *, fixed: bool) -> Spans:
    """Return what lies between the frames, cut where a marker was met that begins none."""
    met = _selection(chain)
    taken, needed = taken[met], candidates.length[met]
    ends = np.append(candidates.offset[met], total)
    begins = np.zeros(len(ends), dtype=np.int64)
    begins[1:] = ends[:-1] + needed * taken
    some = np.flatnonzero(ends > begins)
    begins, length = begins[some], ends[some] - begins[some]
    refused = np.append(False, ~taken)[some]
    needed = np.append(0, needed)[some]
    reason = np.full(len(some), Skip.NO_MARKER, dtype=np.uint8)
    reason[refused & (length < needed)] = Skip.TRUNCATED_FRAME
    reason[refused & (length >= needed)] = Skip.LENGTH_MISMATCH
    reason[refused & (begins + needed > total)] = Skip.UNFINISHED
    if fixed:
        reason[:] = Skip.UNFINISHED  # all that can be left is the beginning of one more frame
    return Spans(begins, length, reason)


def _selection(mask: Mask) -> slice | Places:
    """Return what selects the rows of a mask: all of them, most often, which then need not be copied."""
    return slice(None) if mask.all() else np.flatnonzero(mask)


def _call_begun_marker_unfinished(skipped: Spans, stream: Bytes, layouts: Sequence[FrameLayout]) -> None:
    """Take a last stretch that is the beginning of a marker for the beginning of a frame."""
    if not len(skipped) or skipped.offset[-1] + skipped.length[-1] != len(stream):
        return
    rest = stream[skipped.offset[-1] :].tobytes() if skipped.length[-1] < 16 else b""
    if rest and any(layout.marker.startswith(rest) for layout in layouts):
        skipped.reason[-1] = Skip.UNFINISHED


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


def _rows(stream: Bytes, offset: Places, length: int) -> Bytes:
    """Copy the frames that begin at `offset`: uint8, shape (n_frames, length)."""
    if not len(offset):
        return np.empty((0, length), np.uint8)
    items = np.ndarray((len(stream) - length + 1,), dtype=f"V{length}", buffer=stream.data, strides=(1,))
    return items[offset].view(np.uint8).reshape(-1, length)


def _bytes_of(data: bytes | Bytes | Characters) -> Bytes:
    if isinstance(data, Characters):
        if len(data) and data.value.max() > 0xFF:
            place = int(np.argmax(data.value > 0xFF))
            raise RequestError(
                f"character {place}",
                f"is 0x{data.value[place]:X}",
                "frames are cut from bytes, of 8 data bits at most",
            )
        return data.value.astype(np.uint8)
    if isinstance(data, (bytes, bytearray, memoryview)):
        return np.frombuffer(data, dtype=np.uint8)
    array = np.asarray(data)
    if array.dtype != np.uint8 or array.ndim != 1:
        found = f"is {array.dtype} of shape {array.shape}"
        raise RequestError("data", found, "must be bytes, a uint8 array of one dimension, or Characters")
    return np.ascontiguousarray(array)
