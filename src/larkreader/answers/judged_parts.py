"""A recording of several parts, each judged by itself: nothing is concluded from a time when nothing was recorded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.recorded_parts import recorded_parts
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Frames, Spans
from larkreader.decode.timeline import Timeline, make_timeline
from larkreader.judge.findings.finding import Findings
from larkreader.judge.live.parts import Settled
from larkreader.judge.live.stretches import StretchJudge
from larkreader.judge.measure.pair_columns import Pairs
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.judged import pairs_that_speak
from larkreader.judge.wire.pauses import Pauses

WHOLE = 1 << 62  # characters of a stretch that is never cut
Rows = npt.NDArray[np.int64]


class JudgedParts(NamedTuple):
    """What is found in all parts, with the places and the columns of the whole; as those of `Reading`."""

    frames: Mapping[str, Frames]
    skipped: Mapping[str, Spans]
    findings: Findings
    pairs: Mapping[str, Pairs]
    pauses: Mapping[str, Pauses]
    checked: Checked


def judge_parts(sheet: Sheet, characters: Mapping[str, Characters], wires: Sequence[str]) -> JudgedParts:
    """Judge what was recorded in several parts.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    characters : mapping of str to Characters
        By wire.
    wires : sequence of str
        The wires that were to be read.

    Returns
    -------
    JudgedParts
    """
    settled: list[Settled] = []
    judge = StretchJudge(sheet, list(characters), stretch=WHOLE, most=WHOLE, settled=settled.append)
    for number, part in enumerate(recorded_parts(characters)):
        if number:
            judge.rest()
        for wire, some in part.items():
            judge.add(wire, some)
    total, beginnings = judge.close()
    findings = total.conclude(sheet, beginnings)
    skipped = {wire: _joined_spans(settled, wire) for wire in settled[0].stretch.skipped}
    frames = {key: _joined_frames(settled, key, skipped) for key in settled[0].stretch.frames}
    pairs: Mapping[str, Pairs] = {}
    if sheet.pair:
        lines = {key: wire.line for key, wire in sheet.wire.items()}
        timeline = make_timeline(characters, frames, skipped, lines)
        joined = {key: _joined_pairs(settled, key, timeline) for key in total.pairs}
        pairs = pairs_that_speak(sheet, joined, total.counts)
    pauses = {wire: some for wire, some in total.pauses.items() if total.counts[wire].characters}
    return JudgedParts(frames, skipped, findings, pairs, pauses, total.check(sheet, findings, wires))


def _moved(spans: Spans, by: int) -> Spans:
    return replace(spans, offset=spans.offset + by)


def _joined_spans(settled: Sequence[Settled], wire: str) -> Spans:
    every = [_moved(part.stretch.skipped[wire], part.before[wire]) for part in settled]
    return Spans(*(np.concatenate([some.column(name) for some in every]) for name in Spans.COLUMNS))


def _joined_frames(settled: Sequence[Settled], key: str, skipped: Mapping[str, Spans]) -> Frames:
    pieces = []
    for part in settled:
        frames = part.stretch.frames[key]
        wire = frames.layout.wire or next(iter(part.before))
        pieces.append(replace(frames, offset=frames.offset + part.before[wire]))
    return replace(Frames.joined(pieces), skipped=skipped[wire])


def _joined_pairs(settled: Sequence[Settled], key: str, timeline: Timeline) -> Pairs:
    """Return the pairs of all parts, whose rows become those of the timeline of the whole."""
    held, known = [], 0
    for part in settled:
        pairs = part.stretch.pairs.get(key)
        if pairs is None:
            continue
        rows = _rows_in(timeline, pairs.timeline, part.before)
        again = np.where(pairs.again >= 0, pairs.again + known, -1)
        reply = np.where(pairs.reply >= 0, rows[pairs.reply], -1)
        known += len(pairs)
        held.append(replace(pairs, request=rows[pairs.request], reply=reply, again=again, unasked=rows[pairs.unasked]))
    last = held[-1]
    return Pairs(
        np.concatenate([pairs.request for pairs in held]),
        np.concatenate([pairs.reply for pairs in held]),
        np.concatenate([pairs.latency_s for pairs in held]),
        np.concatenate([pairs.state for pairs in held]),
        np.concatenate([pairs.again for pairs in held]),
        last.pairing,
        timeline,
        np.concatenate([pairs.unasked for pairs in held]),
        last.end_s,
        any(pairs.is_learned for pairs in held),
    )


def _rows_in(whole: Timeline, part: Timeline, before: Mapping[str, int]) -> Rows:
    """Return which row of the timeline of the whole each row of a part is: the row with the same first character."""
    first = np.array([before[wire] for wire in part.wires], np.int64)
    number = np.array([whole.wires.index(wire) for wire in part.wires], np.int64)
    wanted = np.stack([number[part.wire], part.offset + first[part.wire]])
    order = np.lexsort((whole.offset, whole.wire))
    keys = whole.wire[order].astype(np.int64) << 40 | whole.offset[order]
    rows: Rows = order[np.searchsorted(keys, wanted[0] << 40 | wanted[1])]
    return rows
