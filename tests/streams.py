"""Frames on their way: as they travel, damaged, and as a reader takes them."""

import numpy as np
from hypothesis import strategies as st

import larkreader as lr

SPECIAL = [0xA5, 0x00, 0xC0, 0xDB, 0x7E, 0x7D, 0x02, 0x03, 0x10, 0x0D, 0x0A, 0xFF, 0x5A]


def sent(layout, frames):
    """Return what travels for some frames: rows of value, and whether a break, an address, or behind a rest."""
    rows = []
    for frame in frames:
        rows += [(0, True, False, False)] if layout.boundary.kind == "break" else []
        rows += [(value, False, not place, not place) for place, value in enumerate(layout.as_sent(frame))]
    return rows


def arrived(layout, rows):
    """Make of such rows what a reader takes: bytes, or characters where their times or marks matter."""
    kind = layout.boundary.kind
    if kind not in ("idle", "break", "address-mark"):
        return bytes(row[0] for row in rows)
    begin_s = np.arange(len(rows)) + 3.0 * np.cumsum([row[3] for row in rows])
    breaks = np.array([row[1] and kind == "break" for row in rows], dtype=bool)
    values = np.where(breaks, 0, [row[0] for row in rows]).astype(np.uint16)
    marks = np.array([row[2] for row in rows], dtype=bool) if kind == "address-mark" else None
    faults = (breaks * int(lr.Fault.BREAK)).astype(np.uint8)
    return lr.Characters(begin_s, begin_s + 1, values, faults, np.empty(0), address_mark=marks)


def damaged(draw, rows):
    for _ in range(draw(st.integers(0, 4))):
        place, what = draw(st.integers(0, len(rows))), draw(st.sampled_from(["change", "lose", "insert", "cut", "odd"]))
        if what == "change" and place < len(rows):
            rows[place] = (draw(st.integers(0, 255)), *rows[place][1:])
        elif what == "lose":
            del rows[place : place + draw(st.integers(1, 5))]
        elif what == "insert":
            rows[place:place] = [(draw(st.integers(0, 255)), False, False, False)] * draw(st.integers(1, 4))
        elif what == "cut":
            del rows[place:]
        else:
            rows[place:place] = [(draw(st.sampled_from(SPECIAL)), *(draw(st.booleans()) for _ in range(3)))]
    return rows
