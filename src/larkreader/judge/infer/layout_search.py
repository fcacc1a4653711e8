"""Which small change of a layout makes its frames right, where next to none is.

The length field counts a little more or less than declared, or is stored the other way about; a repeat takes another
number; the marker stands a few bytes behind the beginning. Every such change is tried on the beginning of the wire; one
is named only if nearly all bytes then lie in good frames, which a checksum proves.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.field_parts import REST, Count
from larkreader.declare.frame.fields import FieldGroup, NamedField
from larkreader.declare.frame.frame_boundary import Counted
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.check.checksums import checksums_of_rows
from larkreader.decode.columns.unpack import raw_column
from larkreader.decode.cut.frames import read_frames
from larkreader.decode.cut.stretches import occurrences
from larkreader.errors import LarkReaderError

LOOKED_AT = 1 << 14  # bytes; more prove nothing more
FARTHEST = 8  # bytes by which a length may be off
FARTHEST_MARKER = 4  # bytes behind the beginning of a frame at which its marker may stand
NEARLY_ALL = 0.8  # of the bytes that must lie in good frames
MORE = 3.0  # times as many good bytes as under the declared layout, at least
SURE_BITS = 40  # of checksums that fit: the product of frames and width from which it is not a coincidence

Bytes = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class LayoutChange:
    """A change of a layout that makes its frames right.

    Parameters
    ----------
    change : str
        As it is to be declared.
    good : int
        How many frames are good with it.
    total : int
        Of how many.
    """

    change: str
    good: int
    total: int


def find_layout_change(data: Bytes, layout: FrameLayout) -> LayoutChange | None:
    """Find the small change of a layout under which the bytes of a wire are good frames.

    Parameters
    ----------
    data : ndarray of uint8, shape (n_bytes,)
        What was on the wire.
    layout : FrameLayout
        What was declared; without a checksum nothing is proven, and nothing searched.

    Returns
    -------
    LayoutChange or None
        The smallest change that fits; None if none does.
    """
    some = data[:LOOKED_AT]
    if layout.checksum is None or layout.pattern is not None or len(some) < 2 * layout.shortest:
        return None
    fewest = max(MORE * _good_bytes(some, layout)[0], NEARLY_ALL * (len(some) - layout.nominal.length))
    for change, variant in _variants(layout):
        good_bytes, good, total = _good_bytes(some, variant)
        if good_bytes >= fewest and good * layout.checksum.method.width >= SURE_BITS:
            return LayoutChange(change, good, total)
    return _marker_behind(some, layout)


def _good_bytes(data: Bytes, layout: FrameLayout) -> tuple[int, int, int]:
    """Return how many bytes lie in good frames, how many frames are good, and how many there are."""
    frames = read_frames(data, layout)
    good = (frames.faults & 3) == 0
    return int(frames.length[good].sum()), int(np.count_nonzero(good)), len(frames)


def _variants(layout: FrameLayout) -> Iterator[tuple[str, FrameLayout]]:
    """Yield layouts that differ a little, the smallest change first, each with how to declare it."""
    if (boundary := layout.boundary.counted) is not None:
        offsets = sorted(range(-FARTHEST, FARTHEST + 1), key=abs)
        counts = sorted(("rest", "payload", "all"), key=lambda item: item != boundary.counts)
        choices = sorted(product((False, True), counts, offsets), key=lambda item: _far(item, boundary))
        for flips, what, more in choices:
            offset = boundary.offset + more
            parts = [f'order = "{_other_order(layout, boundary.field)}" for {boundary.field}'] if flips else []
            parts += [f'counts = "{what}"'] if what != boundary.counts else []
            parts += [f"offset = {offset}"] if more else []
            if parts and (not flips or _is_wide(layout, boundary.field)):
                changed = layout.boundary.model_copy(update={"counts": what, "offset": offset})
                yield from _made(layout, ", ".join(parts), {"boundary": changed}, boundary.field if flips else None)
    for place, entry in enumerate(layout.fields):
        repeat = entry.repeat if isinstance(entry, (NamedField, FieldGroup)) else 1
        if not isinstance(repeat, str) or repeat == REST:
            continue
        count = Count.parse(repeat)
        name = entry.name if isinstance(entry, NamedField) else getattr(entry, "group", "")
        for more in sorted(range(-FARTHEST, FARTHEST + 1), key=abs):
            if more:
                text = _count_text(count, count.addend + more)
                fields = list(layout.fields)
                fields[place] = entry.model_copy(update={"repeat": text})
                yield from _made(layout, f'repeat = "{text}" for {name}', {"fields": tuple(fields)}, None)
        if _is_wide(layout, count.field):
            yield from _made(
                layout, f'order = "{_other_order(layout, count.field)}" for {count.field}', {}, count.field
            )


def _far(choice: tuple[bool, str, int], boundary: Counted) -> tuple[int, int]:
    flips, what, more = choice
    return flips + (what != boundary.counts) + (more != 0), abs(more)


def _made(
    layout: FrameLayout, change: str, update: dict[str, Any], flipped: str | None
) -> Iterator[tuple[str, FrameLayout]]:
    """Yield a changed layout, if it can be declared."""
    table = {**layout.model_dump(by_alias=True), **update}
    if flipped is not None:
        other = _other_order(layout, flipped)
        fields = update.get("fields", layout.fields)
        table["fields"] = tuple(
            field.model_copy(update={"order": other})
            if isinstance(field, NamedField) and field.name == flipped
            else field
            for field in fields
        )
    elif "fields" not in update:
        table["fields"] = layout.fields
    try:
        yield change, FrameLayout.model_validate(table)
    except (ValueError, LarkReaderError):
        return


def _is_wide(layout: FrameLayout, name: str) -> bool:
    """Return whether a field has more than a byte, so that its byte order matters."""
    return name in layout.slot and layout.slot[name].bits > 8


def _other_order(layout: FrameLayout, name: str) -> str:
    declared = layout.slot[name].field
    order = declared.order if declared is not None else None
    usual = "little" if layout.packing == "lsb" else "big"
    return "big" if (order or usual) == "little" else "little"


def _count_text(count: Count, more: int) -> str:
    text = count.field
    text += f" * {count.factor}" if count.factor != 1 else f" / {count.divisor}" if count.divisor != 1 else ""
    return text + (f" {'+' if more > 0 else '-'} {abs(more)}" if more else "")


def _marker_behind(data: Bytes, layout: FrameLayout) -> LayoutChange | None:
    """Return that the marker stands a few bytes behind the beginning of frames of one length, if so they are right."""
    marker = layout.marker
    if not layout.boundary.is_marked or not layout.is_fixed or layout.checksum is None:
        return None
    hits = occurrences(data, marker)
    for before in range(1, FARTHEST_MARKER + 1):
        begins = hits[(hits >= before) & (hits - before + layout.length <= len(data))] - before
        if not len(begins):
            continue
        rows = data[begins[:, None] + np.arange(layout.length)]
        inside = slice(before, before + len(marker))
        moved = np.concatenate([rows[:, inside], rows[:, :before], rows[:, inside.stop :]], axis=1)
        for held in (moved, None):
            good = _right_rows(rows if held is None else held, layout, as_sent=held is None)
            if good * layout.checksum.method.width >= SURE_BITS and good >= NEARLY_ALL * len(begins):
                bytes_ = f"{before} byte{'s' if before > 1 else ''}"
                return LayoutChange(f"a frame that begins {bytes_} before its marker", good, len(begins))
    return None


def _right_rows(rows: Bytes, layout: FrameLayout, *, as_sent: bool) -> int:
    """Return in how many rows the checksum is right; `as_sent` takes the covered bytes from the row's beginning."""
    slot = layout.checksum_slot
    assert slot is not None
    assert layout.checksum is not None
    begin, end = layout.covered
    stored = raw_column(np.ascontiguousarray(rows), slot, layout.packing)
    computed = checksums_of_rows(np.ascontiguousarray(rows), layout.checksum.method, 0 if as_sent else begin, end)
    return int(np.count_nonzero(stored == computed))
