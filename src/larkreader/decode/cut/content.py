"""Contents of frames against a layout: whether its fields fit, its fixed values are there, its checksum is right."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.checksums import checksums_of_rows
from larkreader.decode.check.running_checksums import checksums_of_stretches
from larkreader.decode.check.verify import fixed_value
from larkreader.decode.columns.gather import items_at
from larkreader.decode.columns.places import FieldPlaces, Located, covered_bytes, locate
from larkreader.decode.columns.text_columns import match_lines
from larkreader.decode.columns.unpack import raw_column, rows_at

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
BLOCK = 1 << 20  # bytes of frames looked at together


@dataclass(frozen=True)
class Judged:
    """What contents are, each of shape (n_frames,), bool.

    `fits` holds whether the fields add up to the content, `fixed_values_ok` whether it then holds all fixed values,
    `checksum_ok` whether its checksum is right; without a checksum it is.
    """

    fits: Mask
    fixed_values_ok: Mask
    checksum_ok: Mask


def judge_contents(stream: Bytes, begin: Places, length: Places, layout: FrameLayout) -> Judged:
    """Compare contents with what a layout says of them.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where they lie, all of each.
    begin, length : ndarray of int64, shape (n_frames,)
        First byte of each, and how many it has.
    layout : FrameLayout
        What they may be.

    Returns
    -------
    Judged
    """
    if layout.pattern is not None:
        matched = match_lines(Ragged(stream, begin, length), layout)
        return Judged(matched.fits, matched.fits, matched.checksum_ok)
    if not layout.needs_locating:
        fits = length == layout.length
        fixed_values_ok, checksum_ok = np.zeros((2, len(begin)), dtype=np.bool_)
        chosen = np.flatnonzero(fits)
        fixed_values_ok[chosen], checksum_ok[chosen] = judge_rows(stream, begin[chosen], layout)
        return Judged(fits, fixed_values_ok, checksum_ok)
    return judge_located(stream, begin, locate(stream, begin, length, layout), layout)


def judge_located(stream: Bytes, begin: Places, located: Located, layout: FrameLayout) -> Judged:
    """Compare contents whose fields have been found with what their layout says; see `judge_contents`."""
    chosen = np.flatnonzero(located.fits)
    fixed_values_ok, checksum_ok = np.zeros((2, len(begin)), dtype=np.bool_)
    frame_bit = begin[chosen] * 8
    sound = np.ones(len(chosen), dtype=np.bool_)
    for place in located.fields:
        wanted = fixed_value(place.slot)
        if wanted is None:
            continue
        bit, owner = FieldPlaces(place.slot, place.bit[chosen], place.count[chosen]).bits(frame_bit)
        held = items_at(stream, bit, place.slot, layout.packing)
        sound[owner[held != wanted]] = False
    for marker, at in (
        (layout.marker, begin[chosen]),
        (layout.end_marker, begin[chosen] + located.length[chosen] - layout.end_from_end),
    ):
        for number, byte in enumerate(marker):
            sound &= stream.take(at + number) == byte
    fixed_values_ok[chosen] = sound
    checksum_ok[chosen] = _checksums_right(stream, begin, located, layout, chosen)
    return Judged(located.fits, fixed_values_ok, checksum_ok)


def judge_rows(stream: Bytes, offset: Places, layout: FrameLayout) -> tuple[Mask, Mask]:
    """Return which frames of one shape hold the layout's fixed values, and which have a right checksum."""
    fixed_values_ok, checksum_ok = np.empty(len(offset), np.bool_), np.empty(len(offset), np.bool_)
    block = max(BLOCK // layout.length, 1)
    for low in range(0, len(offset), block):
        rows = rows_at(stream, offset[low : low + block], layout.length)
        fixed_values_ok[low : low + block] = _identities_right(rows, layout)
        checksum_ok[low : low + block] = _checksums_right_in(rows, layout)
    return fixed_values_ok, checksum_ok


def _checksums_right_in(rows: Bytes, layout: FrameLayout) -> Mask:
    """Return in which frames, one a row, the stored check value is the computed one; without a checksum in all."""
    slot, checksum = layout.checksum_slot, layout.checksum
    if slot is None or checksum is None:
        return np.ones(len(rows), dtype=np.bool_)
    begin, end = layout.covered
    checksum_ok: Mask = raw_column(rows, slot, layout.packing) == checksums_of_rows(rows, checksum.method, begin, end)
    return checksum_ok


def _identities_right(rows: Bytes, layout: FrameLayout) -> Mask:
    """Return which frames, one a row, hold all the values that `equals` and ``reserved`` fix."""
    matches = np.ones(len(rows), dtype=np.bool_)
    for slot in layout.slots:
        if (wanted := fixed_value(slot)) is not None:
            held = raw_column(rows, slot, layout.packing) == wanted
            matches &= held if held.ndim == 1 else np.all(held, axis=1)
    for place, byte in enumerate(layout.end_marker, layout.length - layout.end_from_end):
        matches &= rows[:, place] == byte
    return matches


def _checksums_right(
    stream: Bytes, begin: Places, located: Located, layout: FrameLayout, chosen: Places
) -> Mask | bool:
    checksum, check = layout.checksum, layout.checksum_slot
    if checksum is None or check is None:
        return True
    at = located.of(check.name)
    first = begin[chosen]
    begins, ends = covered_bytes(layout, located.of, chosen)
    stored = items_at(stream, first * 8 + at.bit[chosen], check, layout.packing)
    checksum_ok: Mask = stored == checksums_of_stretches(stream, first + begins, first + ends, checksum.method)
    return checksum_ok
