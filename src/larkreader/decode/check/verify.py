"""Values of fields against what their layout promises: fixed values, names, ranges, digits, text, counter."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.slot import Slot
from larkreader.decode.columns.frame_columns import FrameFault, Frames
from larkreader.decode.columns.gather import items_at
from larkreader.decode.columns.ragged_columns import each_frame
from larkreader.decode.columns.unpack import digits_of, digits_sound, scaled, texts_sound

Mask = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]


def value_faults(frames: Frames, fixed_values_ok: Mask, intact: Mask) -> npt.NDArray[np.uint8]:
    """Return the faults that the fields of each frame show; those of a frame whose checksum fails show nothing.

    Parameters
    ----------
    frames : Frames
        The frames.
    genuine, intact : ndarray of bool, shape (n_frames,)
        Which hold all fixed values, and which have a right checksum.

    Returns
    -------
    ndarray of uint8, shape (n_frames,)
        Flags of `FrameFault`.
    """
    faults = np.zeros(len(frames), dtype=np.uint8)
    known, sensible = fixed_values_ok.copy(), np.ones(len(frames), np.bool_)
    layout = frames.layout
    for slot in layout.slots:
        field = slot.field
        if slot.kind == "bcd":
            known &= _digits_fit(frames, slot)
        elif slot.kind == "text" and layout.pattern is None:
            known &= each_frame(frames[slot.name], texts_sound)
        if layout.pattern is not None and (wanted := fixed_value(slot)) is not None:
            known &= each_frame(frames.raw(slot.name), partial(_all_equal, wanted=wanted))
        if field is not None and (field.names or field.range):
            raw = frames.raw(slot.name)
            known &= each_frame(raw, partial(names_known, slot=slot)) if field.names else True
            sensible &= each_frame(raw, partial(within_range, slot=slot))
    faults[~intact] |= np.uint8(FrameFault.CHECKSUM_MISMATCH)
    faults[intact & ~known] |= np.uint8(FrameFault.UNKNOWN_VALUE)
    faults[intact & ~sensible] |= np.uint8(FrameFault.OUT_OF_RANGE)
    return faults


def _all_equal(raw: npt.NDArray[Any], wanted: int) -> Mask:
    equal: Mask = raw == wanted
    every: Mask = equal if equal.ndim == 1 else np.all(equal, axis=1)
    return every


def _digits_fit(frames: Frames, slot: Slot) -> Mask:
    """Return in which frames all digits are 0 to 9."""
    if not isinstance(frames.data, Ragged):
        return digits_sound(frames.data, slot, frames.layout.packing)
    bits = replace(slot, kind="uint")
    place = replace(frames.located.of(slot.name), slot=bits)
    items, owner = place.bits(frames.data.begin * 8)
    sound = np.ones(len(frames), dtype=np.bool_)
    sound[owner[~digits_of(items_at(frames.data.items, items, bits, frames.layout.packing), slot.bits)]] = False
    return sound


def fixed_value(slot: Slot) -> int | None:
    """Return the only raw value that is right for a slot; None where several are."""
    return slot.value if slot.field is None else slot.field.equals


def names_known(raw: npt.NDArray[Any], slot: Slot) -> Mask:
    """Return which frames hold a named value in a slot that has names."""
    assert slot.field is not None
    values = np.array([*slot.field.names.values(), *slot.field.invalid])
    if slot.bits <= 8:  # a table is quicker than comparing with each name
        table = np.zeros(256, dtype=np.bool_)
        table[values.astype(np.uint8)] = True
        return _each_item(table[raw.view(np.uint8)])
    return _each_item(np.isin(raw, values))


def within_range(raw: npt.NDArray[Any], slot: Slot) -> Mask:
    """Return in which frames a slot's value makes sense. A float that is not a number makes none."""
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
        1 where nothing is missing, 0 where a value is repeated.
    """
    if cycle & cycle - 1:
        return np.mod(np.diff(raw.astype(np.int64)), np.int64(cycle))
    wide = raw.astype(np.uint64)
    return ((wide[1:] - wide[:-1]) & np.uint64(cycle - 1)).astype(np.int64)


def _each_item(checks: Mask) -> Mask:
    every: Mask = checks if checks.ndim == 1 else np.all(checks, axis=1)
    return every
