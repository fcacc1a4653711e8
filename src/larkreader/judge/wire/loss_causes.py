"""Who lost the bytes that are missing between frames: the line, the receiver's hardware, or a buffer behind it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.median import median_of
from larkreader.decode.columns.frame_columns import Frames, Skip

Offsets = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

ON_THE_LINE = Fault.PARITY | Fault.FRAMING | Fault.BREAK | Fault.NOISE | Fault.UNKNOWN_LEVEL
HOLE_FIT = 0.6  # characters within which the length of a gap must be that of the missing bytes


def find_causes(
    frames: Frames, characters: Characters, begin: Offsets, end: Offsets, least: Offsets, most: Offsets
) -> tuple[npt.NDArray[np.str_], Mask]:
    """Return who lost the bytes at each place, and whether nothing is left of their frames."""
    faults = ON_THE_LINE
    if frames.layout.boundary.opened_by == "break":
        faults &= ~Fault.BREAK  # they begin frames, as declared
    behind = end + 1
    damaged = _count_between(np.flatnonzero(characters.has_fault(faults)), begin, behind)
    if len(characters.false_starts_s):
        damaged += _count_between(np.searchsorted(characters.begin_s, characters.false_starts_s), begin, behind)
    damaged += _has_hole(frames, characters, begin, end, least, most)
    overrun = _count_between(np.flatnonzero(characters.has_fault(Fault.OVERRUN)), begin, behind)
    cause = np.where(overrun > 0, "hardware", np.where(damaged > 0, "line", "buffer"))
    return cause, end == begin


def _has_hole(
    frames: Frames, characters: Characters, begin: Offsets, end: Offsets, least: Offsets, most: Offsets
) -> Mask:
    """Return where the wire rests within the rest of frames as long as the missing bytes take.

    A buffer that lost bytes leaves the others close together; on a wire that was interrupted they are missing in time.
    """
    if not characters.has_line or not len(begin):
        return np.zeros(len(begin), dtype=np.bool_)
    character_s = median_of(characters.end_s - characters.begin_s)
    rests = np.append(characters.begin_s[1:] - characters.end_s[:-1], [0.0, 0.0]) / character_s
    fill = frames.skipped.offset[frames.skipped.reason == Skip.FILL]
    rests[np.maximum(fill - 1, 0)] = 0.0  # between frames, before a delimiter that stands alone
    before = np.searchsorted(frames.offset, begin) - 1  # the frames that end there
    may_hold_more = frames.layout.checksum is None and not frames.layout.is_fixed
    doubted = before if may_hold_more else before[:0]
    is_good = frames.faults == 0
    is_good[doubted[doubted >= 0]] = False
    good = frames[is_good]
    inside = np.zeros(len(characters) + 1, dtype=np.int64)
    np.add.at(inside, good.offset, 1)
    np.add.at(inside, good.offset + good.length - 1, -1)  # the rest behind the last character is between frames
    usual = rests[: len(characters)][np.cumsum(inside)[:-1] > 0]
    longest_usual = float(usual.max(initial=0.0))
    typical = median_of(usual) if len(usual) else 0.0
    bounds = np.column_stack([begin, np.maximum(end - 1, begin + 1)]).ravel()
    longest = np.maximum.reduceat(rests, bounds)[::2]
    spare = HOLE_FIT + longest_usual - typical
    fits = (longest - typical >= least - spare) & (longest - typical <= most + spare)
    hole: Mask = (end - begin > 1) & (longest > longest_usual + HOLE_FIT / 2) & fits
    for place, row in enumerate(doubted.tolist()):  # without a checksum, the frame before may be two with a gap between
        held = rests[frames.offset[row] : frames.offset[row] + frames.length[row] - 1]
        hole[place] |= float(held.max(initial=0.0)) > longest_usual + HOLE_FIT / 2
    return hole


def _count_between(places: Offsets, begin: Offsets, end: Offsets) -> Offsets:
    return np.searchsorted(places, end) - np.searchsorted(places, begin)
