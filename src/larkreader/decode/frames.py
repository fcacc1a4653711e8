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

from ..capture.characters import Characters
from ..declare.boundary import MarkerBoundary
from ..declare.layout import FrameLayout
from ..errors import RequestError
from .chain import follow_chain
from .frame_columns import FrameFault, Frames, Skip, Spans
from .unpack import raw_column
from .verify import checksum_matches, fixed_value, identity_matches, names_known, within_range

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
        raise RequestError(
            "boundary", f"differs between the layouts of one wire ({found})", "must be of one kind"
        )
    if isinstance(layouts[0].boundary, MarkerBoundary):
        candidates = _marked(stream, layouts)
    else:
        candidates = _fixed(stream, layouts)
    chain = candidates.chain()
    taken = chain & candidates.accepted
    lengths = np.array([layout.length for layout in layouts], dtype=np.int64)
    skipped = _skipped(candidates, chain, taken, lengths, len(stream))
    frames = {}
    for number, layout in enumerate(layouts):
        offset = candidates.offset[taken & (candidates.which == number)]
        rows = _rows(stream, offset, layout.length)
        begin_s = data.begin_s[offset] if isinstance(data, Characters) else np.full(len(offset), np.nan)
        faults = _frame_faults(rows, layout)
        if isinstance(data, Characters):
            faults[_has_bad_character(data, offset, layout.length)] |= np.uint8(FrameFault.CHARACTER_FAULT)
        frames[layout.key] = Frames(layout, offset, begin_s, faults, rows, skipped)
    return frames


@dataclass
class _Candidates:
    """Places where a frame may begin, in order; at most one a place."""

    offset: Places
    which: npt.NDArray[np.uint8]
    length: Places
    accepted: Mask

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
    is_marker = np.zeros(total + 1, dtype=np.bool_)
    is_marker[total] = True
    for places in hits.values():
        is_marker[places] = True
    offset = np.flatnonzero(is_marker[:total])
    which = np.zeros(len(offset), dtype=np.uint8)
    best = np.full(len(offset), -1, dtype=np.int8)
    confirmed = np.zeros(len(offset), dtype=np.bool_)
    accepted = np.zeros(len(offset), dtype=np.bool_)
    for number, layout in enumerate(layouts):
        at = np.searchsorted(offset, hits[layout.marker]) if len(hits) > 1 else np.arange(len(offset))
        whole = offset[at] + layout.length <= total
        followed = is_marker[np.minimum(offset[at] + layout.length, total)] & whole
        genuine, right = np.zeros(len(at), np.bool_), np.zeros(len(at), np.bool_)
        genuine[whole], right[whole] = _judge_candidates(stream, offset[at][whole], layout)
        sure = genuine & right & (followed if layout.checksum is None else True)
        score = np.where(sure, 4, np.where(whole & genuine, 2, 0) + followed).astype(np.int8)
        better = score > best[at]
        chosen = at[better]
        best[chosen], which[chosen] = score[better], number
        confirmed[chosen] = sure[better]
        lonely = genuine & whole if layout.checksum is None else False
        accepted[chosen] = (sure | followed | lonely)[better]
    length = np.array([layout.length for layout in layouts], dtype=np.int64)[which]
    doubtful = np.flatnonzero(accepted & ~confirmed)
    sure_ones = np.append(offset[confirmed], total)
    next_sure = sure_ones[np.searchsorted(sure_ones[:-1], offset[doubtful], side="right")]
    accepted[doubtful[next_sure < offset[doubtful] + length[doubtful]]] = False
    return _Candidates(offset, which, length, accepted)


def _fixed(stream: Bytes, layouts: Sequence[FrameLayout]) -> _Candidates:
    """Find the candidates of frames of one length that follow each other from the start."""
    length = layouts[0].length
    if any(layout.length != length for layout in layouts):
        found = ", ".join(f"{layout.key}: {layout.length}" for layout in layouts)
        raise RequestError("boundary", f"is fixed, but the layouts of the wire differ in length ({found})")
    offset = np.arange(len(stream) // length, dtype=np.int64) * length
    which = np.zeros(len(offset), dtype=np.uint8)
    best = np.full(len(offset), -1, dtype=np.int8)
    for number, layout in enumerate(layouts):
        genuine, right = _judge_candidates(stream, offset, layout)
        score = 2 * genuine.astype(np.int8) + right
        better = score > best
        best[better], which[better] = score[better], number
    return _Candidates(offset, which, np.full(len(offset), length), np.ones(len(offset), np.bool_))


def _judge_candidates(stream: Bytes, offset: Places, layout: FrameLayout) -> tuple[Mask, Mask]:
    """Tell which candidates hold the layout's fixed values, and which have a right checksum."""
    genuine, right = np.empty(len(offset), np.bool_), np.empty(len(offset), np.bool_)
    block = max(BLOCK // layout.length, 1)
    for low in range(0, len(offset), block):
        rows = _rows(stream, offset[low : low + block], layout.length)
        genuine[low : low + block] = identity_matches(rows.T, layout)
        right[low : low + block] = checksum_matches(rows, layout)
    return genuine, right


def _frame_faults(rows: Bytes, layout: FrameLayout) -> npt.NDArray[np.uint8]:
    """Hold against each frame what its fields show; those of a frame whose checksum fails show nothing."""
    columns = rows.T
    intact = checksum_matches(rows, layout)
    known, sensible = np.ones(len(rows), np.bool_), np.ones(len(rows), np.bool_)
    for slot in layout.slots:
        field = slot.field
        if fixed_value(slot) is None and (field is None or not (field.names or field.range)):
            continue
        raw = raw_column(columns, slot, layout.packing)
        if field is not None and field.names:
            known &= names_known(raw, slot)
        if field is not None and field.range:
            sensible &= within_range(raw, slot)
    known &= identity_matches(columns, layout)
    faults = np.where(intact, 0, FrameFault.CHECKSUM_MISMATCH).astype(np.uint8)
    faults[intact & ~known] |= np.uint8(FrameFault.UNKNOWN_VALUE)
    faults[intact & ~sensible] |= np.uint8(FrameFault.OUT_OF_RANGE)
    return faults


def _has_bad_character(characters: Characters, offset: Places, length: int) -> Mask:
    bad = np.flatnonzero(characters.faults)
    return np.searchsorted(bad, offset) != np.searchsorted(bad, offset + length)


def _skipped(candidates: _Candidates, chain: Mask, taken: Mask, lengths: Places, total: int) -> Spans:
    """Return what lies between the frames, cut where a marker was met that begins none."""
    begins = np.concatenate(
        [[0], candidates.offset[chain] + np.where(taken[chain], candidates.length[chain], 0)]
    )
    refused = np.concatenate([[False], ~taken[chain]])
    needed = np.concatenate([[0], lengths[candidates.which[chain]]])
    ends = np.append(candidates.offset[chain], total)
    length = ends - begins
    reason = np.full(len(begins), Skip.NO_MARKER, dtype=np.uint8)
    reason[refused & (length < needed)] = Skip.TRUNCATED_FRAME
    reason[refused & (length >= needed)] = Skip.LENGTH_MISMATCH
    if refused[-1] and length[-1] < needed[-1]:
        reason[-1] = Skip.UNFINISHED
    some = length > 0
    return Spans(begins[some], length[some], reason[some])


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
