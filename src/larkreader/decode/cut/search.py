"""Where frames may begin, by the kind of their boundary, if no delimiter says it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.stream import Bytes
from larkreader.errors import RequestError

from .candidates import Candidates, Mask, find_fixed, find_marked
from .varying_candidates import find_varying


def check_shared(layouts: Sequence[FrameLayout]) -> None:
    """Raise `RequestError` if layouts cannot share a wire."""
    if len({layout.boundary.kind for layout in layouts}) > 1:
        found = ", ".join(f"{layout.key}: {layout.boundary.kind}" for layout in layouts)
        raise RequestError("boundary", f"differs between the layouts of one wire ({found})", "must be of one kind")
    if is_delimited(layouts) and any(layout.boundary != layouts[0].boundary for layout in layouts):
        found = ", ".join(layout.key for layout in layouts)
        raise RequestError("boundary", f"differs between the layouts of one wire ({found})", "must be the same")
    length = layouts[0].longest
    if layouts[0].boundary.is_back_to_back and any(layout.longest != length for layout in layouts):
        result = ", ".join(f"{layout.key}: {layout.longest}" for layout in layouts)
        raise RequestError("boundary", f"is fixed, but the layouts of the wire differ in length ({result})")


def is_delimited(layouts: Sequence[FrameLayout]) -> bool:
    """Return whether something that no content can hold says where frames end."""
    return layouts[0].boundary.is_delimited


def has_markers(layouts: Sequence[FrameLayout]) -> bool:
    """Return whether all frames of a wire begin with markers."""
    return all(layout.marker for layout in layouts)


def may_begin_anywhere(layouts: Sequence[FrameLayout]) -> bool:
    """Return whether frames can begin at any byte, without a marker."""
    return not is_delimited(layouts) and _varies(layouts) and not has_markers(layouts)


def find_candidates(stream: Bytes, layouts: Sequence[FrameLayout]) -> Candidates:
    """Find where frames of some layouts may begin.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        What arrived, taken as whole: a frame may end with it.
    layouts : sequence of FrameLayout
        What may travel on the wire. What several confirm is a frame of the shortest; what none does, of the longest
        of those that fit as well; among equals, of the first.

    Returns
    -------
    Candidates
    """
    if _varies(layouts):
        return find_varying(stream, layouts)
    return find_marked(stream, layouts) if has_markers(layouts) else find_fixed(stream, layouts)


def settled(found: Candidates, total: int, layouts: Sequence[FrameLayout]) -> Mask:
    """Return which candidates would be what they are whatever followed the `total` bytes that are there."""
    if found.decided is not None:
        return found.decided
    if not has_markers(layouts):
        return np.ones(len(found.offset), dtype=np.bool_)
    longest, marker = max(layout.length for layout in layouts), max(len(layout.marker) for layout in layouts)
    sure = np.ones(len(found.offset), dtype=np.bool_)
    late = int(np.searchsorted(found.offset, total - (2 * longest + marker), side="right"))
    offset, length, which = found.offset[late:], found.length[late:], found.which[late:]
    margin = np.array([0 if layout.checksum else marker for layout in layouts])
    is_frame = found.confirmed[late:] & (offset + length + margin[which] <= total)
    # Another is decided by the marker that may follow it, and by the frames that may begin inside it.
    last_inside = np.append(offset, 0)[np.searchsorted(offset, offset + length) - 1]
    is_other = (offset + longest + marker <= total) & (last_inside + longest + margin.max() <= total)
    sure[late:] = is_frame | is_other
    sure[late:] &= offset - 1 + marker <= total  # no longer marker may have begun just before it
    return sure


def _varies(layouts: Sequence[FrameLayout]) -> bool:
    """Return whether frames differ in length, or are of one length and found again by their checksum."""
    if any(layout.needs_locating for layout in layouts):
        return True
    return not layouts[0].boundary.is_marked and any(layout.checksum for layout in layouts)
