"""A part of a capture that is judged stretch by stretch, with its columns: what a timeline shows of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Spans
from larkreader.judge.live.parts import Settled
from larkreader.judge.measure.pair_columns import Pairs

from .reading import Reading


@dataclass(frozen=True)
class Passed:
    """How much lies before a part of a capture.

    Parameters
    ----------
    characters, frames, requests : mapping of str to int
        By wire, layout and pairing.
    messages : int
        Rows of the timeline, where all wires are judged together.
    """

    characters: Mapping[str, int]
    frames: Mapping[str, int]
    requests: Mapping[str, int]
    messages: int

    @classmethod
    def of(
        cls, sheet: Sheet, characters: Mapping[str, int], rows: Mapping[str, int], *, is_together: bool = True
    ) -> Passed:
        """Return how much lies before what a `StretchJudge` keeps.

        Parameters
        ----------
        sheet : Sheet
            What was declared.
        characters : mapping of str to int
            By wire, how many were given up.
        rows : mapping of str to int
            As `StretchJudge.rows_dropped`.
        is_together : bool
            Whether all wires are judged together.
        """
        return cls(
            characters,
            {key: rows.get(key, 0) for key in sheet.frame},
            {key: rows.get(f"pair {key}", 0) for key in sheet.pair},
            rows.get("timeline", 0) if is_together else 0,
        )


@dataclass(frozen=True)
class TimelinePart:
    """A part of a capture, whose messages are judged.

    Parameters
    ----------
    reading : Reading
        Its characters, frames, pairs and messages, counted from its first; without findings.
    passed : Passed
        How much lies before it.
    """

    reading: Reading
    passed: Passed

    @classmethod
    def whole(cls, reading: Reading) -> TimelinePart:
        """Return the only part of a capture that was read as a whole.

        Parameters
        ----------
        reading : Reading
            What was read.
        """
        nothing = dict.fromkeys(reading.characters, 0)
        return cls(reading, Passed.of(reading.sheet, nothing, {}))


def part_of(sheet: Sheet, settled: Settled) -> TimelinePart:
    """Return the part of a capture that is given up.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    settled : Settled
        What `StretchJudge` hands over, with all wires together.
    """
    stretch, end = settled.stretch, settled.end
    reading = Reading(
        sheet,
        "",
        {wire: held.between(0, end[wire]) for wire, held in settled.held.items()},
        {key: some for wire in end for key, some in settled.frames_on(sheet.layouts_of(wire), wire).items()},
        {wire: _until(spans, end[wire]) for wire, spans in stretch.skipped.items()},
        (),
    )
    silent = {wire for wire, held in settled.held.items() if not len(held) and not settled.before[wire]}
    pairs = {
        key: _of_first(some, len(reading.timeline))
        for key, some in stretch.pairs.items()
        if silent.isdisjoint(sheet.wires_of((*some.pairing.request, *some.pairing.reply)))
    }
    return TimelinePart(replace(reading, pairs=pairs), Passed.of(sheet, settled.before, settled.rows))


def _until(spans: Spans, end: int) -> Spans:
    """Return the stretches, or the parts of them, that lie before a character."""
    some = spans[spans.offset < end]
    return replace(some, length=np.minimum(some.length, end - some.offset))


def _of_first(pairs: Pairs, rows: int) -> Pairs:
    """Return the pairs whose requests are among the first rows."""
    some = pairs[pairs.request < rows]
    return replace(some, unasked=pairs.unasked[pairs.unasked < rows])
