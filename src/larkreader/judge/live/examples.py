"""Some frames of a capture to look at one by one, kept while it is judged stretch by stretch."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.ragged import Ragged
from larkreader.decode.columns.frame_columns import Frames, Spans

FAULTY, GOOD = 24, 2  # of each layout, that are kept


@dataclass(frozen=True)
class FrameExample:
    """One frame, and what its characters show.

    Parameters
    ----------
    frame : Frames
        The frame alone; its offset is that of the whole capture.
    faults : ndarray of uint8, shape (n_characters,)
        The faults of its characters, as flags of `Fault`.
    """

    frame: Frames
    faults: npt.NDArray[np.uint8]

    @property
    def is_good(self) -> bool:
        """Whether the frame has no fault."""
        return not self.frame.faults[0]

    @property
    def place(self) -> tuple[float, int]:
        """When it began, in seconds, 0 where that is not known; and the number of its first character."""
        begin_s = float(self.frame.begin_s[0])
        return (0.0 if np.isnan(begin_s) else begin_s), int(self.frame.offset[0])


@dataclass
class FrameExamples:
    """The first faulty and the first good frames of each layout.

    Parameters
    ----------
    by_layout : dict of str to list of FrameExample
        By layout, in the order in which they were found.
    """

    by_layout: dict[str, list[FrameExample]] = field(default_factory=dict)

    def add(
        self,
        frames: Mapping[str, Frames],
        characters: Mapping[str, Characters],
        first: Mapping[str, int] | None = None,
        dropped: Mapping[str, int] | None = None,
    ) -> None:
        """Take in the frames of the next stretch.

        Parameters
        ----------
        frames : mapping of str to Frames
            By layout.
        characters : mapping of str to Characters
            What the wires carry in the stretch.
        first : mapping of str to int, optional
            By wire, at which character of the stretch the first frame begins that was not there before.
        dropped : mapping of str to int, optional
            By wire, how many characters lie before the stretch.
        """
        for key, some in frames.items():
            wire = some.layout.wire or next(iter(characters))
            kept = self.by_layout.setdefault(key, [])
            good = sum(example.is_good for example in kept)
            begin = int(np.searchsorted(some.offset, (first or {}).get(wire, 0)))
            is_good = some.faults[begin:] == 0
            rows = [
                *np.flatnonzero(~is_good)[: FAULTY - (len(kept) - good)].tolist(),
                *np.flatnonzero(is_good)[: GOOD - good].tolist(),
            ]
            before = (dropped or {}).get(wire, 0)
            kept += [_example(some, begin + row, characters[wire], before) for row in sorted(rows)]


def _example(frames: Frames, row: int, characters: Characters, before: int) -> FrameExample:
    """Return one frame by itself, without what it lies in."""
    offset, bytes_of = int(frames.offset[row]), frames.data[row]
    nothing = Spans(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.uint8))
    frame = replace(
        frames,
        offset=frames.offset[row : row + 1] + before,
        begin_s=frames.begin_s[row : row + 1].copy(),
        faults=frames.faults[row : row + 1].copy(),
        data=Ragged.of([bytes_of.copy()], np.uint8) if isinstance(frames.data, Ragged) else bytes_of[None].copy(),
        skipped=nothing,
        length=frames.length[row : row + 1].copy(),
    )
    return FrameExample(frame, characters.faults[offset : offset + int(frames.length[row])].copy())
