"""What the frames before some characters show, so that what follows can be judged without them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.masked import is_masked
from larkreader.capture.median import median_of
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import CONTRADICTED, UNTRUSTED, FrameFault, Frames

HABIT = 256  # frames of a layout that show how its sender makes them
SELDOM = 5  # percent of those frames, of which the shortest are an accident: a delimiter was lost
RESTS = 256  # rests inside those frames that show how evenly characters follow each other
RARE_REST = 99.0  # percentile of the rests beyond which a frame of unknown length may be two, with a gap between
Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Habit:
    """How the sender of a layout makes its frames, as the first `HABIT` trusted frames show.

    Parameters
    ----------
    overhead : ndarray of int64, shape (n_frames,)
        Bytes that each took on the wire beyond its content: delimiters, and what stuffing adds.
    length : ndarray of int64, shape (n_frames,)
        Bytes that each took on the wire.
    rest : ndarray of float64, shape (n_rests,)
        How long the wire rested between two characters of a frame, in character times: the first `RESTS` such rests;
        none where that is not known.
    """

    overhead: Offsets
    length: Offsets
    rest: npt.NDArray[np.float64]

    @classmethod
    def of(cls, frames: Frames, characters: Characters, first: int = 0, before: Habit | None = None) -> Habit:
        """Return what trusted frames show, those that begin before character `first` left out, behind others.

        Parameters
        ----------
        frames : Frames
            Of one layout; those that are not trusted do not count.
        characters : Characters
            Of the wire, from which they were cut.
        first : int
            The first character whose frames are not in `before`.
        before : Habit, optional
            What the frames before show.
        """
        if before is not None and len(before.length) >= HABIT:
            return before
        some = trusted(frames[int(np.searchsorted(frames.offset, first)) :])[:HABIT]
        content = some.data.length if isinstance(some.data, Ragged) else np.full(len(some), some.data.shape[1])
        habit = cls(some.length - content, some.length, _rests_inside(some, characters))
        if before is None:
            return habit
        return cls(
            np.concatenate([before.overhead, habit.overhead])[:HABIT],
            np.concatenate([before.length, habit.length])[:HABIT],
            np.concatenate([before.rest, habit.rest])[:RESTS],
        )

    @property
    def usual_length(self) -> float:
        """How many bytes a frame takes on average; 1 without any frame."""
        return float(self.length.mean()) if len(self.length) else 1.0

    @property
    def usual_rest(self) -> float:
        """How long the wire rests between two characters of a frame as a rule, in character times."""
        return median_of(self.rest) if len(self.rest) else 0.0

    def longest_rest(self, layout: FrameLayout) -> float:
        """Return how long the wire rests between two characters of a frame at most, in character times.

        Parameters
        ----------
        layout : FrameLayout
            Of the frames; without a checksum and of any length, some of them may be two with a gap between.
        """
        if not len(self.rest):
            return 0.0
        is_sure = layout.checksum is not None or layout.is_fixed
        return float(self.rest.max() if is_sure else np.percentile(self.rest, RARE_REST, method="lower"))

    def least_overhead(self, most: int) -> int:
        """Return the least overhead that is not an accident; `most` if the frames show no less.

        Parameters
        ----------
        most : int
            The overhead of a frame whose delimiters are all its own.
        """
        if not len(self.overhead):
            return most
        return min(most, int(np.percentile(self.overhead, SELDOM, method="lower")))


def rests_of(characters: Characters) -> npt.NDArray[np.float64]:
    """Return how long the wire rests behind each character but the last, in character times.

    Parameters
    ----------
    characters : Characters
        With times.
    """
    character_s = median_of(characters.end_s - characters.begin_s)
    return np.asarray((characters.begin_s[1:] - characters.end_s[:-1]) / character_s)


def _rests_inside(frames: Frames, characters: Characters) -> npt.NDArray[np.float64]:
    """Return the first rests between the characters of some frames, in character times; none without levels."""
    if not characters.has_line or not len(frames):
        return np.empty(0)
    inside = frames.length - 1  # the rest behind the last character is between frames
    behind = np.repeat(frames.offset - np.cumsum(inside) + inside, inside) + np.arange(int(inside.sum()))
    return rests_of(characters)[behind[:RESTS]]


@dataclass(frozen=True)
class Traces:
    """What some characters show that explains a loss.

    Parameters
    ----------
    on_the_line : bool
        Whether the line shows a fault.
    overrun : bool
        Whether the receiver reported an overrun.
    longest_rest : float
        How long the wire rests behind one of them at most, in character times.
    """

    on_the_line: bool = False
    overrun: bool = False
    longest_rest: float = 0.0

    def with_more(self, other: Traces) -> Traces:
        """Return what these characters and others show together.

        Parameters
        ----------
        other : Traces
            Of the others.
        """
        return Traces(
            self.on_the_line or other.on_the_line,
            self.overrun or other.overrun,
            max(self.longest_rest, other.longest_rest),
        )


@dataclass(frozen=True)
class LastFrame:
    """The last trusted frame of a layout before some characters, between which is nothing that is not a good frame.

    Parameters
    ----------
    value : int
        The raw value of its counter.
    end : int
        The offset of the character behind it, counted from the first of the others: 0 or less.
    after_s : float
        When that character began, in seconds; NaN where it is the first of the others.
    traces : Traces
        What the characters between show of a loss.
    """

    value: int
    end: int
    after_s: float
    traces: Traces


def last_trusted(frames: Frames, until: int) -> tuple[int, int] | None:
    """Return counter and end of the last trusted frame before an offset; None without any, or without a counter.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    until : int
        The offset.
    """
    counter = frames.layout.counter
    good = trusted(frames[: int(np.searchsorted(frames.offset, until))])[-1:]
    if counter is None or not len(good):
        return None
    values = good.raw(counter.name)
    value = int((values.data if is_masked(values) else values)[0])
    return value, int(good.offset[0] + good.length[0])


def trusted(frames: Frames) -> Frames:
    """Return the frames whose content nothing contradicts; without a checksum, none of whose characters is faulty."""
    return frames[~frames.has_fault(CONTRADICTED if frames.layout.checksum is not None else UNTRUSTED)]


def byte_bounds(layout: FrameLayout, habit: Habit) -> tuple[int, int]:
    """Return how many bytes a frame takes on the wire at least and at most, with stuffing and delimiters."""
    boundary = layout.boundary
    pattern = layout.text_pattern
    shortest, longest = layout.shortest if pattern is None else layout.shortest + pattern.shortest, layout.longest
    if boundary.opened_by == "break":
        return shortest + 1, longest + 1
    extra = len(layout.as_sent(b"A" * shortest)) - shortest
    extra = habit.least_overhead(extra)  # packets may share a delimiter
    return shortest + extra, boundary.most_sent(longest) + (boundary.most_delimiters or extra)


def substituting_since(
    frames: Frames, until: int, before_s: Mapping[tuple[str, str], float]
) -> dict[tuple[str, str], float]:
    """Return since when fields hold substitutes at an offset, in seconds, by layout and field.

    Parameters
    ----------
    frames : Frames
        Of one layout.
    until : int
        The offset.
    before_s : mapping of tuple of str and str to float
        The same where the frames begin.
    """
    good = frames[: int(np.searchsorted(frames.offset, until))]
    good = good[~good.has_fault(FrameFault.CHECKSUM_MISMATCH)]
    found: dict[tuple[str, str], float] = {}
    for name, slot in frames.layout.slot.items():
        field, key = slot.field, (frames.layout.key, name)
        if field is None or field.substitutes is None:
            continue
        result = good.raw(name) == field.substituting
        if not len(good):
            found |= {key: before_s[key]} if key in before_s else {}
        elif result[-1]:
            others = np.flatnonzero(~result)
            begins = int(others[-1]) + 1 if len(others) else 0
            found[key] = before_s[key] if not begins and key in before_s else float(good.begin_s[begins])
    return found
