"""Field columns of frames that differ: arrays of varying length, and fields that are not in every frame."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.fields import NamedField
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import has_varying_number
from larkreader.declare.frame.slot import Slot

from .gather import items_at
from .places import FieldPlaces

Column = npt.NDArray[Any]
Check = Callable[[Column], npt.NDArray[np.bool_]]


def ragged_column(frames: Ragged, place: FieldPlaces, layout: FrameLayout) -> Column | Ragged:
    """Cut the raw numbers of one field out of frames that differ.

    Parameters
    ----------
    frames : Ragged of uint8
        The frames' bytes.
    place : FieldPlaces
        Where the field lies in each.
    layout : FrameLayout
        Their layout.

    Returns
    -------
    ndarray, masked array or Ragged
        As of `Frames`: of one shape where the number of items is; masked where a single item is not in every frame.
    """
    slot = place.slot
    entry = _entry_of(slot, layout)
    is_ragged = has_varying_number(entry) or (entry.when and slot.count > 1)
    if is_ragged and _are_bytes_in_a_row(place):
        return Ragged(frames.items, frames.begin + (place.bit >> 3), place.count)  # where they lie, not copied
    bit, _ = place.bits(frames.begin * 8)
    items = items_at(frames.items, bit, slot, layout.packing)
    if is_ragged:
        return Ragged(items, np.cumsum(place.count) - place.count, place.count)
    if entry.when:
        column = np.zeros(len(frames), dtype=items.dtype)
        there = place.count > 0
        column[there] = items
        return np.ma.MaskedArray(column, mask=~there)
    return items if slot.count == 1 else items.reshape(-1, slot.count)


def over_items(column: Any, work: Callable[[Column], Column], slot: Slot | None = None) -> Any:
    """Do something with the items of a column of any kind, and return a column of the same kind.

    A text is one thing, not as many as it has bytes; `slot` decides where it matters.
    """
    is_text = slot is not None and slot.kind == "text"
    if isinstance(column, Ragged):
        if not is_text:
            return column.with_items(work(column.flat))
        assert slot is not None
        if not slot.stride:
            return _each_alone(column, work)
        length = column.length // slot.inner
        texts = work(column.flat.reshape(-1, slot.inner))
        return Ragged(texts, np.cumsum(length) - length, length)
    if is_masked(column):
        return np.ma.MaskedArray(work(column.data), mask=column.mask)
    if is_text and slot is not None and slot.stride:
        return work(column.reshape(-1, slot.inner)).reshape(len(column), -1)
    return work(column)


def every_item(column: Any) -> Column:
    """Return all items that a column of any kind holds, in one row; those that are not there left out."""
    if isinstance(column, Ragged):
        return column.flat
    items: Column = column.compressed() if is_masked(column) else column.reshape(-1)
    return items


def each_frame(column: Any, check: Check) -> npt.NDArray[np.bool_]:
    """Return of which frames all items pass a check; those that are not there do."""
    passed: npt.NDArray[np.bool_]
    if isinstance(column, Ragged):
        passed = np.ones(len(column), dtype=np.bool_)
        passed[column.owner[~check(column.flat)]] = False
        return passed
    if is_masked(column):
        passed = check(column.data) | column.mask
        return passed
    return check(column)


def _are_bytes_in_a_row(place: FieldPlaces) -> bool:
    """Return whether the items of a field are whole bytes as they are, one behind the other."""
    slot = place.slot
    is_byte = slot.bits == 8 and slot.kind in ("uint", "bytes", "text")
    return is_byte and not slot.stride and not (place.bit & 7).any()


def _each_alone(column: Ragged, work: Callable[[Column], Column]) -> Column:
    """Work on the rows of each length together, as one thing a row."""
    done = np.empty(len(column), dtype=object)
    for length in np.unique(column.length).tolist():
        rows = np.flatnonzero(column.length == length)
        done[rows] = work(column[rows].flat.reshape(len(rows), length)) if length else ""
    return done


def _entry_of(slot: Slot, layout: FrameLayout) -> Any:
    """Return the entry of a layout of a slot."""
    for entry in layout.fields:
        if isinstance(entry, NamedField):
            if entry.name == slot.name:
                return entry
        elif slot.name.startswith(f"{getattr(entry, 'group', '')}."):
            return entry
    raise KeyError(slot.name)
