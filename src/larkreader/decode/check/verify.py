"""Frames against what their layout promises: checksum, fixed values, names, ranges, counter."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.slot import Slot
from larkreader.decode.columns.unpack import raw_column, scaled

from .checksums import checksums_of_rows

Mask = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]


def checksum_matches(rows: Bytes, layout: FrameLayout) -> Mask:
    """Tell in which frames the stored check value is the computed one.

    Parameters
    ----------
    rows : ndarray of uint8, shape (n_frames, n_bytes)
        One frame a row.
    layout : FrameLayout
        Their layout; without a checksum all match.

    Returns
    -------
    ndarray of bool, shape (n_frames,)
    """
    slot, checksum = layout.checksum_slot, layout.checksum
    if slot is None or checksum is None:
        return np.ones(len(rows), dtype=np.bool_)
    begin, end = layout.covered
    stored = raw_column(rows, slot, layout.packing)
    matches: Mask = stored == checksums_of_rows(rows, checksum.method, begin, end)
    return matches


def identity_matches(rows: Bytes, layout: FrameLayout) -> Mask:
    """Tell which frames hold all the values that `equals` and ``reserved`` fix.

    Parameters
    ----------
    rows : ndarray of uint8, shape (n_frames, n_bytes)
        One frame a row.
    layout : FrameLayout
        Their layout.

    Returns
    -------
    ndarray of bool, shape (n_frames,)
    """
    matches = np.ones(len(rows), dtype=np.bool_)
    for slot in layout.slots:
        if (wanted := fixed_value(slot)) is not None:
            matches &= _each_item(raw_column(rows, slot, layout.packing) == wanted)
    for place, byte in enumerate(layout.end_marker, layout.length - layout.end_from_end):
        matches &= rows[:, place] == byte
    return matches


def fixed_value(slot: Slot) -> int | None:
    """Return the only raw value that is right for a slot; None where several are."""
    return slot.value if slot.field is None else slot.field.equals


def names_known(raw: npt.NDArray[Any], slot: Slot) -> Mask:
    """Tell which frames hold a named value in a slot that has names."""
    assert slot.field is not None
    values = np.array([*slot.field.names.values(), *slot.field.invalid])
    if slot.bits <= 8:  # a table is quicker than comparing with each name
        table = np.zeros(256, dtype=np.bool_)
        table[values.astype(np.uint8)] = True
        return _each_item(table[raw.view(np.uint8)])
    return _each_item(np.isin(raw, values))


def within_range(raw: npt.NDArray[Any], slot: Slot) -> Mask:
    """Tell in which frames a slot's value makes sense. A float that is not a number makes none."""
    assert slot.field is not None
    if slot.field.range is None:
        return np.ones(len(raw), dtype=np.bool_)
    low, high = slot.field.range
    value = scaled(raw, slot)
    margin = 1e-9 * abs(slot.field.scale)  # a limit that is a multiple of the scale must not fail by rounding
    return _each_item((value >= low - margin) & (value <= high + margin) | np.isin(raw, slot.field.invalid))


def counter_steps(raw: npt.NDArray[Any], cycle: int) -> npt.NDArray[np.int64]:
    """Return by how much a counter rose from each frame to the next, modulo its width.

    Parameters
    ----------
    raw : ndarray of unsigned int, shape (n_frames,)
        The counter's raw values.
    cycle : int
        After how many steps it holds the same again; a power of two if it has a width.

    Returns
    -------
    ndarray of int64, shape (n_frames - 1,)
        1 where nothing is missing, 0 where a value came twice.
    """
    if cycle & cycle - 1:
        return np.mod(np.diff(raw.astype(np.int64)), np.int64(cycle))
    wide = raw.astype(np.uint64)
    return ((wide[1:] - wide[:-1]) & np.uint64(cycle - 1)).astype(np.int64)


def _each_item(checks: Mask) -> Mask:
    every: Mask = checks if checks.ndim == 1 else np.all(checks, axis=1)
    return every
