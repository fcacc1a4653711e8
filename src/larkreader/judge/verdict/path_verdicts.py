"""Whether the declared receive paths keep up with what the wires of a capture carry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import Frames, Skip, Spans
from larkreader.judge.setup.messages import Messages
from larkreader.judge.setup.path_report import SEARCHED, PathReport, judge_receive_path

from .received import Received
from .wire_findings import span_of


def judge_paths(
    sheet: Sheet, received: Received, frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> dict[str, PathReport]:
    """Judge what the declared receive paths make of the wires whose levels were captured.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    received : Received
        What was received in the capture.
    frames : mapping of str to Frames
        By layout.
    skipped : mapping of str to Spans
        By wire, what belongs to no frame.
    """
    reports = {}
    for key, held in received.characters.items():
        if key not in sheet.receive or not held.has_times or not held.has_line:
            continue
        span_s = span_of(received, key)
        by_rests = Messages.between_rests(held, sheet.wire[key].line, None if span_s is None else span_s[1])
        messages = by_rests.or_frames(
            starts_on(sheet, key, frames),
            frame_ends=frame_ends_with(len(held), sheet.layouts_of(key), frames),
            is_unfinished=is_unfinished(len(held), skipped.get(key)),
        )
        reports[key] = judge_receive_path(sheet, key, held, messages, search=len(held) <= SEARCHED)
    return reports


def starts_on(sheet: Sheet, wire: str, frames: Mapping[str, Frames]) -> npt.NDArray[np.int64]:
    """Return the offsets of the frames of a wire, ascending."""
    offsets = [frames[layout.key].offset for layout in sheet.layouts_of(wire)]
    return np.sort(np.concatenate(offsets)) if offsets else np.empty(0, np.int64)


def frame_ends_with(count: int, layouts: Sequence[FrameLayout], frames: Mapping[str, Frames]) -> bool:
    """Return whether a frame ends with the last of so many characters."""
    return any((frames[layout.key].offset + frames[layout.key].length == count).any() for layout in layouts)


def is_unfinished(count: int, skipped: Spans | None) -> bool:
    """Return whether the last of so many characters of a wire lie in a frame that is not finished."""
    if skipped is None or not len(skipped) or skipped.reason[-1] != Skip.UNFINISHED:
        return False
    return int(skipped.offset[-1] + skipped.length[-1]) == count
