"""Bytes to frames, and an account of what belongs to none."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.layout import FrameLayout
from larkreader.errors import RequestError

from .candidates import Bytes, Candidates, Mask, Places, find_candidates, has_markers, rows_at, settled
from .frame_columns import FrameFault, Frames, Skip, Spans
from .unpack import digits_sound, raw_column, text_sound
from .verify import names_known, within_range


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
    return cut_frames(Stream.of(data), layouts, Begun(), last=True).frames


@dataclass(frozen=True)
class Stream:
    """Bytes on their way into frames.

    `begin_s` is when each began, where somebody knows; `bad` are the numbers of those with a fault of their own.
    """

    value: Bytes
    begin_s: npt.NDArray[np.float64] | None = None
    bad: Places | None = None

    @classmethod
    def of(cls, data: bytes | Bytes | Characters) -> Stream:
        """Return the bytes of whatever holds some."""
        if isinstance(data, Characters):
            return cls(_bytes_of(data), data.begin_s, np.flatnonzero(data.faults))
        return cls(_bytes_of(data))


@dataclass(frozen=True)
class Begun:
    """A stretch of no frame that began before the bytes at hand: how many before, and what it is the stump of."""

    before: int = 0
    needed: int = 0
    """Bytes of the frame that its marker promised; 0 if no marker stands at its beginning."""


@dataclass(frozen=True)
class Cut:
    """What became of a piece of a stream: frames, how many bytes are done with, and whether a frame may begin there."""

    frames: Mapping[str, Frames]
    done: int
    begun: Begun
    is_candidate_next: bool


def cut_frames(
    stream: Stream, layouts: Sequence[FrameLayout], begun: Begun, *, last: bool, first_offset: int = 0
) -> Cut:
    """Cut what can be cut: all that is there if nothing comes behind it, else what that could not change."""
    found = find_candidates(stream.value, layouts)
    met, total = found.chain(), len(stream.value)
    done, is_closed = total, True
    if not last:
        open_ones = np.flatnonzero(met & ~settled(found, total, layouts))
        met[open_ones[0] if open_ones.size else len(met) :] = False
        done = _searched(found, met, total, layouts)
        if is_closed := bool(open_ones.size and found.offset[open_ones[0]] <= done):
            done = int(found.offset[open_ones[0]])
    taken = met & found.accepted
    skipped, begun = _skipped(found, met, taken, begun, done, total, is_closed=is_closed)
    if last:
        _name_the_last(skipped, stream.value, layouts)
    skipped = replace(skipped, offset=skipped.offset + first_offset)
    frames = {}
    for number, layout in enumerate(layouts):
        mine = _selection(taken & (found.which == number))
        offset = found.offset[mine]
        rows = rows_at(stream.value, offset, layout.length)
        begin_s = np.full(len(offset), np.nan) if stream.begin_s is None else stream.begin_s[offset]
        faults = _frame_faults(rows, layout, found.genuine[mine], found.right[mine])
        if stream.bad is not None:
            has_bad = np.searchsorted(stream.bad, offset) != np.searchsorted(stream.bad, offset + layout.length)
            faults[has_bad] |= np.uint8(FrameFault.CHARACTER_FAULT)
        frames[layout.key] = Frames(layout, offset + first_offset, begin_s, faults, rows, skipped)
    return Cut(frames, done, begun, is_closed and not last)


def _searched(found: Candidates, met: Mask, total: int, layouts: Sequence[FrameLayout]) -> int:
    """Return before which place nothing can begin any more, but for the candidates that are known."""
    taken = np.flatnonzero(met & found.accepted)
    behind = int(found.offset[taken[-1]] + found.length[taken[-1]]) if taken.size else 0
    if not has_markers(layouts):
        return behind
    return max(behind, total + 1 - max(len(layout.marker) for layout in layouts))  # a marker may have begun there


def _frame_faults(rows: Bytes, layout: FrameLayout, genuine: Mask, intact: Mask) -> npt.NDArray[np.uint8]:
    """Hold against each frame what its fields show; those of a frame whose checksum fails show nothing."""
    faults = np.zeros(len(rows), dtype=np.uint8)
    known, sensible = genuine.copy(), np.ones(len(rows), np.bool_)
    for slot in layout.slots:
        field = slot.field
        if slot.kind == "bcd":
            known &= digits_sound(rows, slot, layout.packing)
        elif slot.kind == "text":
            known &= text_sound(raw_column(rows, slot, layout.packing), slot)
        if field is not None and (field.names or field.range):
            raw = raw_column(rows, slot, layout.packing)
            known &= names_known(raw, slot) if field.names else True
            sensible &= within_range(raw, slot)
    faults[~intact] |= np.uint8(FrameFault.CHECKSUM_MISMATCH)
    faults[intact & ~known] |= np.uint8(FrameFault.UNKNOWN_VALUE)
    faults[intact & ~sensible] |= np.uint8(FrameFault.OUT_OF_RANGE)
    return faults


def _skipped(
    found: Candidates, chain: Mask, taken: Mask, begun: Begun, done: int, total: int, *, is_closed: bool
) -> tuple[Spans, Begun]:
    """Return what lies between the frames, cut where a marker was met that begins none; and the last if it is open."""
    met = _selection(chain)
    taken, needed = taken[met], found.length[met]
    ends = np.append(found.offset[met], done)
    begins = np.empty(len(ends), dtype=np.int64)
    begins[0], begins[1:] = -begun.before, ends[:-1] + needed * taken
    needed = np.append(begun.needed, needed * ~taken)  # of what was refused; 0 behind a frame
    begun = Begun()
    if not is_closed:
        begun = Begun(done - int(begins[-1]), int(needed[-1]))
        begins, ends, needed = begins[:-1], ends[:-1], needed[:-1]
    some = np.flatnonzero(ends > begins)
    begins, length, needed = begins[some], ends[some] - begins[some], needed[some]
    reason = np.full(len(some), Skip.NO_MARKER, dtype=np.uint8)
    reason[(needed > 0) & (length < needed)] = Skip.TRUNCATED_FRAME
    reason[(needed > 0) & (length >= needed)] = Skip.LENGTH_MISMATCH
    reason[(needed > 0) & (begins + needed > total)] = Skip.UNFINISHED
    return Spans(begins, length, reason), begun


def _selection(mask: Mask) -> slice | Places:
    """Return what selects the rows of a mask: all of them, most often, which then need not be copied."""
    return slice(None) if mask.all() else np.flatnonzero(mask)


def _name_the_last(skipped: Spans, stream: Bytes, layouts: Sequence[FrameLayout]) -> None:
    """Take a last stretch that is the beginning of a marker, or of a frame without any, for an unfinished frame."""
    if not len(skipped) or skipped.offset[-1] < 0 or skipped.offset[-1] + skipped.length[-1] != len(stream):
        return
    rest = stream[skipped.offset[-1] :].tobytes() if skipped.length[-1] < 16 else b""
    if not has_markers(layouts) or (rest and any(layout.marker.startswith(rest) for layout in layouts)):
        skipped.reason[-1] = Skip.UNFINISHED


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
