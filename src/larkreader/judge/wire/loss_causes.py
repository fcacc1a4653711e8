"""Who lost the bytes that are missing between frames: the line, the receiver's hardware, or a buffer behind it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.decode.columns.frame_columns import Frames, Skip

from .carried import Habit, Traces, rests_of

Offsets = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

ON_THE_LINE = Fault.PARITY | Fault.FRAMING | Fault.BREAK | Fault.NOISE | Fault.UNKNOWN_LEVEL
NOTHING = Traces()
HOLE_FIT = 0.6  # characters within which the length of a gap must be that of the missing bytes


def find_causes(
    frames: Frames,
    characters: Characters,
    begin: Offsets,
    end: Offsets,
    least: Offsets,
    most: Offsets,
    habit: Habit,
    before: Traces = NOTHING,
) -> tuple[npt.NDArray[np.str_], Mask]:
    """Return who lost the bytes at each place, and whether nothing is left of their frames.

    The first place may begin before the characters: at an offset below 0. `before` is what those before show.
    """
    on_the_line, overrun, longest = _traces(frames, characters, begin, end)
    if len(begin):
        on_the_line[0] |= before.on_the_line
        overrun[0] |= before.overrun
        longest[0] = max(longest[0], before.longest_rest)
    on_the_line |= _has_hole(frames, characters, begin, end, least, most, habit, longest)
    cause = np.where(overrun, "hardware", np.where(on_the_line, "line", "buffer"))
    return cause, end == begin


def traces_between(frames: Frames, characters: Characters, begin: int, end: int) -> Traces:
    """Return what the characters from `begin` to `end` show that explains a loss.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    characters : Characters
        Of the wire.
    begin, end : int
        Numbers of characters.
    """
    if end <= begin:
        return NOTHING
    found = _traces(frames, characters, np.array([begin]), np.array([end - 1]), np.array([end]))
    return Traces(*(some.tolist()[0] for some in found))


def _traces(
    frames: Frames, characters: Characters, begin: Offsets, last: Offsets, rests_end: Offsets | None = None
) -> tuple[Mask, Mask, npt.NDArray[np.float64]]:
    """Return whether the characters of each place show a fault of the line, an overrun; and how long the wire rests.

    The characters are those up to `last`. The rest behind a last character that ends the place does not count.
    """
    faults = ON_THE_LINE
    if frames.layout.boundary.opened_by == "break":
        faults &= ~Fault.BREAK  # they begin frames, as declared
    behind = last + 1
    count = _count_between(np.flatnonzero(characters.has_fault(faults)), begin, behind)
    if len(characters.false_starts_s):
        count += _count_between(np.searchsorted(characters.begin_s, characters.false_starts_s), begin, behind)
    overrun = _count_between(np.flatnonzero(characters.has_fault(Fault.OVERRUN)), begin, behind)
    longest = np.zeros(len(begin))
    if characters.has_line and len(begin):
        rests = np.append(rests_of(characters), [0.0, 0.0])
        fill = frames.skipped.offset[frames.skipped.reason == Skip.FILL]
        rests[np.maximum(fill - 1, 0)] = 0.0  # between frames, before a delimiter that stands alone
        first = np.maximum(begin, 0)
        end = np.maximum(last - 1, first + 1) if rests_end is None else rests_end
        longest = np.maximum.reduceat(rests, np.column_stack([first, end]).ravel())[::2]
    return count > 0, overrun > 0, longest


def _has_hole(
    frames: Frames,
    characters: Characters,
    begin: Offsets,
    end: Offsets,
    least: Offsets,
    most: Offsets,
    habit: Habit,
    longest: npt.NDArray[np.float64],
) -> Mask:
    """Return where the wire rests within the rest of frames as long as the missing bytes take.

    A buffer that lost bytes leaves the others close together; on a wire that was interrupted they are missing in time.
    """
    if not characters.has_line or not len(begin):
        return np.zeros(len(begin), dtype=np.bool_)
    longest_usual, typical = habit.longest_rest(frames.layout), habit.usual_rest
    spare = HOLE_FIT + longest_usual - typical
    fits = (longest - typical >= least - spare) & (longest - typical <= most + spare)
    hole: Mask = (end - begin > 1) & (longest > longest_usual + HOLE_FIT / 2) & fits
    if frames.layout.checksum is None and not frames.layout.is_fixed:
        rests = rests_of(characters)
        before = np.searchsorted(frames.offset, begin) - 1  # the frame that ends there may be two
        for place, row in enumerate(before.tolist()):
            held = rests[frames.offset[row] : frames.offset[row] + frames.length[row] - 1]
            hole[place] |= row >= 0 and float(held.max(initial=0.0)) > longest_usual + HOLE_FIT / 2
    return hole


def _count_between(places: Offsets, begin: Offsets, end: Offsets) -> Offsets:
    return np.searchsorted(places, end) - np.searchsorted(places, begin)
