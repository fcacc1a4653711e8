"""Where each field lies in frames that differ, for all frames at once.

The fields are gone through from the first to the last, as for a single frame; but the bit at which a field begins,
and how many of it there are, are columns. What decides about later fields is read as soon as it is met.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.field_parts import MOST_ITEMS, REST, Count
from larkreader.declare.frame.fields import FieldEntry
from larkreader.declare.frame.frame_shape import raw_values
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.layout_mistakes import ends_of
from larkreader.declare.frame.shape import (
    first_of_trailer,
    has_varying_number,
    item_bits,
    plain_number,
    repeat_of,
    slots_of,
)
from larkreader.declare.frame.slot import Slot

from .gather import items_at

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
MOST_HELD = (1 << 62) - 1  # of what decides about later fields; more means no less


@dataclass(frozen=True)
class FieldPlaces:
    """Where a field lies in each of some frames.

    Parameters
    ----------
    slot : Slot
        The field; where it lies in a frame of one of each.
    bit : ndarray of int64, shape (n_frames,)
        The first bit of its first item, counted from the frame's first bit.
    count : ndarray of int64, shape (n_frames,)
        How many items it has there.
    """

    slot: Slot
    bit: Places
    count: Places

    def bits(self, frame_bit: Places) -> tuple[Places, Places]:
        """Return the first bit of every item of all frames, and which frame each belongs to.

        `frame_bit` is where each frame begins, as a bit of the array in which the frames lie.
        """
        if not self.slot.stride and (self.count == 1).all():
            return frame_bit + self.bit, np.arange(len(self.bit))
        owner = np.repeat(np.arange(len(self.bit)), self.count)
        item = np.arange(len(owner)) - np.repeat(np.cumsum(self.count) - self.count, self.count)
        within = item * self.slot.bits
        if self.slot.stride:
            within = item // self.slot.inner * self.slot.stride + item % self.slot.inner * self.slot.bits
        return (frame_bit + self.bit)[owner] + within, owner


@dataclass(frozen=True)
class Located:
    """Where all fields of some frames lie.

    Parameters
    ----------
    fits : ndarray of bool, shape (n_frames,)
        Whether the fields add up to the frame, and all of it is there.
    length : ndarray of int64, shape (n_frames,)
        Bytes that each frame has, or needs at least where it is not all there; 0 where no frame can begin so.
    fields : tuple of FieldPlaces
        One a slot of the layout, reserved bits included. Where a frame does not fit they say nothing.
    """

    fits: Mask
    length: Places
    fields: tuple[FieldPlaces, ...]

    def of(self, name: str) -> FieldPlaces:
        """Return where a named field lies."""
        return next(field for field in self.fields if field.slot.name == name)


def locate(stream: Bytes, begin: Places, length: Places | None, layout: FrameLayout) -> Located:
    """Find where the fields of frames lie.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where the frames lie; bytes behind it count as missing.
    begin : ndarray of int64, shape (n_frames,)
        First byte of each.
    length : ndarray of int64, shape (n_frames,), optional
        Bytes of each; where it is left out the frames' own fields say it.
    layout : FrameLayout
        What they are declared to be.

    Returns
    -------
    Located
    """
    return _Walk(stream, begin, length, layout).go()


def deciding_fields(layout: FrameLayout) -> set[str]:
    """Return the names of the fields whose values decide where others lie, or how long a frame is."""
    names = {name for entry in layout.fields for name in entry.when}
    repeats = [repeat_of(entry) for entry in layout.fields]
    names |= {Count.parse(repeat).field for repeat in repeats if isinstance(repeat, str) and repeat != REST}
    return names | ({layout.boundary.counted.field} if layout.boundary.counted else set())


def covered_bytes(layout: FrameLayout, field: Callable[[str], FieldPlaces], chosen: Places) -> tuple[Places, Places]:
    """Return which bytes of some frames their checksum covers: the first, and the byte behind the last.

    Parameters
    ----------
    layout : FrameLayout
        With a checksum.
    field : callable
        Returns where the field of a name lies.
    chosen : ndarray of int64
        Which of the frames.

    Returns
    -------
    tuple of ndarray of int64, shape (n_chosen,)
        Counted from the first byte of each frame.
    """
    checksum, check = layout.checksum, layout.checksum_slot
    assert checksum is not None
    assert check is not None
    begin, end = np.zeros(len(chosen), np.int64), field(check.name).bit[chosen] // 8
    if checksum.from_ not in (None, "marker"):
        begin = field(str(checksum.from_)).bit[chosen] // 8
    if checksum.to is not None:
        last = field(checksum.to)
        end = (last.bit[chosen] + last.count[chosen] * last.slot.bits + 7) // 8
    return begin, end


class _Walk:
    """Goes through the fields of a layout, from the first to the last."""

    def __init__(self, stream: Bytes, begin: Places, length: Places | None, layout: FrameLayout) -> None:
        self.stream, self.layout, self.begin = stream, layout, begin
        self.is_open = length is None
        there = (len(stream) - begin) * 8
        self.there = there if length is None else np.minimum(there, length * 8)
        self.most = (
            np.full(len(begin), 8 * layout.longest) if length is None else np.minimum(length, layout.longest) * 8
        )
        self.fits = np.ones(len(begin), dtype=np.bool_)
        self.needed = np.full(len(begin), 8 * layout.shortest, dtype=np.int64)
        self.bit = np.full(len(begin), 8 * len(layout.marker), dtype=np.int64)
        self.held: dict[str, Places] = {}
        self.exact_bits: Places | None = None  # bits of the frame, by its length field
        self.wanted = deciding_fields(layout)
        if length is not None:
            self._must(length <= layout.longest)
        self._reach(self.needed)

    def go(self) -> Located:
        """Return what was found."""
        layout, places = self.layout, []
        ends_at = ends_of(layout.boundary)
        behind_end = first_of_trailer(layout.fields, layout.checksum, ends_at.trailer)
        for number, entry in enumerate(layout.fields):
            if number == behind_end:
                self.bit = self.bit + 8 * ends_at.end
            count = self._count(entry)
            for slot in slots_of(entry, 0, plain_number(entry), layout.packing, layout.checksum):
                inner = slot.inner if slot.stride else 1
                places.append(FieldPlaces(slot, self.bit + slot.first_bit, count * inner))
            ends = self.bit + count * item_bits(entry, layout.checksum)
            if has_varying_number(entry):
                ends = -(-ends // 8) * 8
            self._reach(ends)
            self._read(places[-1], ends, entry)
            self.bit = np.where(self.fits, ends, self.bit)
        bits = -(-self.bit // 8) * 8 + (0 if ends_at.trailer else 8 * ends_at.end)
        self._reach(bits)
        exact = self.exact_bits if self.exact_bits is not None else bits
        self._must(bits == (exact if self.is_open else self.most))
        self._must(bits == exact)
        return Located(self.fits, np.where(self.fits, bits, self.needed) // 8, tuple(places))

    def _must(self, legal: Mask) -> None:
        """Give up the frames that cannot be so, whatever follows."""
        if not legal.all():
            self.needed[self.fits & ~legal] = 0
            self.fits &= legal

    def _reach(self, ends: Places) -> None:
        """Give up the frames of which not so many bits are there, or that would be too long."""
        self._must(ends <= self.most)
        if self.is_open:
            self.needed = np.where(self.fits, np.maximum(self.needed, -(-ends // 8) * 8), self.needed)
        is_there = ends <= self.there
        if not is_there.all():
            self.fits &= is_there

    def _count(self, entry: FieldEntry) -> Places:
        """Return how many of an entry each frame has."""
        repeat = repeat_of(entry)
        if isinstance(repeat, int):
            count = np.full(len(self.bit), plain_number(entry), dtype=np.int64)
        elif repeat == REST:
            ends = self.most if self.exact_bits is None else self.exact_bits
            count = (ends - self.bit - self.layout.bits_behind(entry)) // item_bits(entry, self.layout.checksum)
        else:
            by = Count.parse(repeat)
            many = np.minimum(self.held.get(by.field, np.zeros(len(self.bit), np.int64)), 1 << 32) * by.factor
            count = many // by.divisor + by.addend
            self._must(many % by.divisor == 0)
        self._must((count >= 0) & (count <= MOST_ITEMS * 8))
        for name, declared in entry.when.items():
            raw = raw_values(self.layout.slot[name], declared)
            count = np.where(np.isin(self._known(name), raw), count, 0)
        return count if self.fits.all() else np.where(self.fits, count, 0)

    def _known(self, name: str) -> Places:
        return self.held.get(name, np.full(len(self.bit), -1, dtype=np.int64))

    def _read(self, place: FieldPlaces, ends: Places, entry: FieldEntry) -> None:
        """Read what decides about later fields."""
        name = place.slot.name
        if name not in self.wanted:
            return
        layout, counted = self.layout, self.layout.boundary.counted
        there = np.flatnonzero(self.fits & (place.count > 0))
        held = np.full(len(self.bit), -1, dtype=np.int64) if entry.when else np.zeros(len(self.bit), dtype=np.int64)
        raw = items_at(self.stream, self.begin[there] * 8 + place.bit[there], place.slot, layout.packing)
        held[there] = np.minimum(raw.astype(np.uint64), np.uint64(MOST_HELD)) if raw.dtype.kind == "u" else raw
        self.held[name] = held
        if counted is not None and counted.field == name:
            self.exact_bits = (held - counted.offset + uncounted(layout, ends // 8)) * 8
            self._must(self.exact_bits >= ends)
            self._reach(self.exact_bits)


def uncounted(layout: FrameLayout, behind_field: Places) -> Places:
    """Return how many bytes of each frame its length field does not count."""
    counted = layout.boundary.counted
    assert counted is not None
    if counted.counts == "all":
        return np.zeros_like(behind_field)
    check = layout.checksum_slot
    if counted.counts == "rest" or check is None:
        return behind_field
    return behind_field + layout.length - check.first_bit // 8
