"""Which characters of a wire make a message, as far as that is known."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.judge.infer.survey import MESSAGE_GAP

Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Messages:
    """Which characters make a message, as far as that is known.

    Parameters
    ----------
    starts : ndarray of int64, shape (n_messages,)
        Number of the first character of each.
    is_whole : bool, optional
        Whether the last one ends with the last character; None where that is not known.
    by_rests : bool
        Whether they were taken to end where the line rests, as no frame is declared.
    """

    starts: Offsets = field(default_factory=lambda: np.empty(0, np.int64))
    is_whole: bool | None = None
    by_rests: bool = False

    @classmethod
    def between_rests(cls, characters: Characters, line: LineSettings, end_s: float | None = None) -> Messages:
        """Take messages to end where the line rests for three character times; `end_s` is the end of the capture."""
        starts = starts_after_rests(characters, line)
        is_whole = rests_behind(float(characters.end_s[-1]), line, end_s) if len(characters) else None
        return cls(starts, is_whole, by_rests=True)

    def or_frames(self, starts: Offsets, *, frame_ends: bool, is_unfinished: bool) -> Messages:
        """Return the frames that begin with some characters as the messages, if there are any; see `ends_whole`."""
        is_whole = ends_whole(self.is_whole, frame_ends=frame_ends, is_unfinished=is_unfinished)
        return Messages(starts, is_whole) if len(starts) else self


def starts_after_rests(characters: Characters, line: LineSettings, before_s: float = -np.inf) -> Offsets:
    """Return the numbers of the characters before which the line rests for three character times.

    Parameters
    ----------
    characters : Characters
        With times.
    line : LineSettings
        Their settings.
    before_s : float
        When the character before them ended, in seconds.
    """
    rests_s = characters.begin_s - np.append(before_s, characters.end_s)[:-1]
    return np.flatnonzero(rests_s >= MESSAGE_GAP * line.character_time_s)


def rests_behind(last_s: float, line: LineSettings, end_s: float | None) -> bool | None:
    """Return True if a line rests that long behind its last character; None if that is not known.

    Parameters
    ----------
    last_s : float
        When the last character ended, in seconds.
    line : LineSettings
        Its settings.
    end_s : float, optional
        When the capture ends, in seconds; None where that is not known.
    """
    return True if end_s is not None and end_s - last_s >= MESSAGE_GAP * line.character_time_s else None


def ends_whole(is_whole: bool | None, *, frame_ends: bool, is_unfinished: bool) -> bool | None:
    """Return whether the last message ends with the last character; None where that is not known.

    Parameters
    ----------
    is_whole : bool, optional
        Whether it does as far as the line shows, as `rests_behind` returns it.
    frame_ends : bool
        Whether a frame ends with the last character.
    is_unfinished : bool
        Whether a frame begins behind the last that ends.
    """
    if is_unfinished:
        return is_whole or False
    return True if frame_ends else is_whole
