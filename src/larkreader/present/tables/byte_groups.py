"""The bytes of a frame in groups that belong together, so that rows of bytes break where a field ends."""

from __future__ import annotations

from itertools import pairwise

from larkreader.declare.frame.layout import FrameLayout
from larkreader.errors import LarkReaderError


def byte_groups(layout: FrameLayout, data: bytes) -> list[bytes]:
    """Return the bytes of a frame in groups: fields that share a byte, and markers, each by themselves.

    Parameters
    ----------
    layout : FrameLayout
        The frame's layout.
    data : bytes
        The frame.

    Returns
    -------
    list of bytes
        All bytes of the frame, in order.
    """
    try:
        shape = layout.shape_of(data)
    except LarkReaderError:  # a damaged frame fits no shape
        return [data]
    if layout.pattern is not None:
        return [data]
    borders = {len(layout.marker), len(data) - len(layout.end_marker)}
    inside: set[int] = set()
    for slot in shape.slots:
        for item in range(slot.count):
            first, behind = slot.bit_of(item), slot.bit_of(item) + slot.bits
            borders |= {first // 8, -(-behind // 8)}
            inside |= set(range(first // 8 + 1, -(-behind // 8)))
    cuts = [0, *sorted(place for place in borders - inside if 0 < place < len(data)), len(data)]
    return [data[low:high] for low, high in pairwise(cuts) if low < high]


def byte_rows(layout: FrameLayout, data: bytes, longest: int) -> list[bytes]:
    """Return the bytes of a frame in rows that end where a field ends, unless it is longer than a row.

    Parameters
    ----------
    layout : FrameLayout
        The frame's layout.
    data : bytes
        The frame.
    longest : int
        Bytes of a row, at most.
    """
    rows = [b""]
    for group in byte_groups(layout, data):
        if rows[-1] and len(rows[-1]) + len(group) > longest:
            rows.append(b"")
        rows[-1] += group
        while len(rows[-1]) > longest:
            rows[-1:] = [rows[-1][:longest], rows[-1][longest:]]
    return rows
