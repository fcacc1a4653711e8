"""Findings about the frames of one wire, and about the bytes between them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.median import median_of
from larkreader.decode.check.verify import fixed_value, names_known, within_range
from larkreader.decode.columns.frame_columns import FRAME_FAULT_NAMES, FrameFault, Frames, Skip, Spans
from larkreader.decode.columns.unpack import raw_column, scaled
from larkreader.judge.findings.finding import Finding, Places, frame_subject, make_finding
from larkreader.judge.infer.checksum_search import explain_mismatches
from larkreader.judge.measure.statistics import judge_period

from .loss_findings import judge_losses
from .sequence import Losses

NEARLY_ALL = 0.8  # of the frames; if so many checksums fail, the declared checksum is wrong
FITS = ("fit", "fit_algorithm", "fit_first", "fit_last", "fit_order", "fit_frames", "fit_of")  # evidence of that
RESTS = 3.0  # character times at the end of a capture, and twice as long as any rest within a frame: no frame goes on
JUDGED = (FrameFault.CHECKSUM_MISMATCH, FrameFault.UNKNOWN_VALUE, FrameFault.OUT_OF_RANGE)
ROW_OF_SPANS = frozenset(
    (
        "truncated-frame",
        "length-mismatch",
        "resynchronised",
        "cut-frame",
        "undeclared-frame",
        "bad-stuffing",
        "terminator-missing",
        "overlong-frame",
    )
)
"""Kinds of which a row is a stretch that belongs to no frame."""
Offsets = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Causes:
    """Findings about single characters, of which findings about frames can be a consequence."""

    findings: tuple[Finding, ...]

    def find(self, begin: Offsets, end: Offsets) -> Finding | None:
        """Return the first finding that has a place in each of some stretches of characters, if all have a cause."""
        explained = np.zeros(len(begin), dtype=np.bool_)
        first = None
        for finding in self.findings:
            offsets = np.sort(finding.places.offset)
            hit = np.searchsorted(offsets, end) > np.searchsorted(offsets, begin)
            if first is None and hit.any():
                first = finding
            explained |= hit
        return first if len(explained) and explained.all() else None


def judge_frames(
    wire: str,
    characters: Characters,
    every: list[Frames],
    skipped: Spans,
    losses: list[Losses],
    *,
    begun: list[Frames] | None = None,
    causes: Causes | None = None,
    span_s: tuple[float, float] | None = None,
    last_begin_s: Mapping[str, float] | None = None,
    substituting_s: Mapping[tuple[str, str], float] | None = None,
    first: int = 0,
    is_open: bool = False,
) -> Iterator[Finding]:
    """Yield what is wrong with the frames of one wire, and with the bytes between them.

    Parameters
    ----------
    wire : str
        The wire.
    characters : Characters
        Its characters.
    every : list of Frames
        The frames of all its layouts.
    skipped : Spans
        The bytes between them.
    losses : list of Losses
        What the counters show.
    begun : list of Frames, optional
        The same frames and those behind them of which it is not certain yet that they are any, for they are not late;
        the same unless given.
    causes : Causes, optional
        The findings about its characters.
    span_s : tuple of float, optional
        From when to when it was captured, in seconds.
    last_begin_s : mapping of str to float, optional
        By layout, when its last frame before these characters began, in seconds.
    substituting_s : mapping of tuple of str and str to float, optional
        By layout and field that held a substitute in the last frame before: since when, in seconds.
    first : int
        The first character whose frames are not counted yet.
    is_open : bool
        Whether more characters follow, so that no frame is late yet at the end.
    """
    before_s = last_begin_s or {}
    causes = causes or Causes(())
    for frames, some_begun in zip(every, begun or every, strict=True):
        for fault in JUDGED:
            rows = np.flatnonzero(frames.has_fault(fault))
            if fault == FrameFault.CHECKSUM_MISMATCH:  # the rest of two frames, joined by a loss, belongs to the loss
                rows = rows[~_within(frames.offset[rows], losses, joined=True)]
            for some, is_consequence, cause in _by_cause(rows, frames, causes):
                found = _fault_finding(wire, characters, frames, some, fault, cause)
                yield replace(found, group="of-faulty-characters") if is_consequence else found
        yield from _judge_substitutes(wire, characters, frames, substituting_s or {}, first)
        yield from judge_period(
            wire, characters, some_begun, span_s, before_s=before_s.get(frames.layout.key), is_open=is_open
        )
    for lost in losses:
        yield from judge_losses(lost, characters, wire, causes.find)
    explained = _within(skipped.offset, losses)
    breaks = np.flatnonzero(characters.has_fault(Fault.BREAK))
    bounds = np.searchsorted(breaks, [skipped.offset, skipped.offset + skipped.length])
    explained |= bounds[1] - bounds[0] == skipped.length
    explained |= skipped.reason == Skip.STARTUP
    yield from _judge_spans(wire, characters, skipped, explained, every, causes, span_s)


def _by_cause(rows: Offsets, frames: Frames, causes: Causes) -> Iterator[tuple[Offsets, bool, Finding | None]]:
    """Yield rows that have a faulty character apart from those that have none; one group of each at most."""
    has_fault = frames.has_fault(FrameFault.CHARACTER_FAULT)[rows]
    for some, is_consequence in ((rows[~has_fault], False), (rows[has_fault], True)):
        if len(some):
            begin = frames.offset[some]
            cause = causes.find(begin, begin + frames.length[some]) if is_consequence else None
            yield some, is_consequence, cause


def _fault_finding(
    wire: str, characters: Characters, frames: Frames, rows: Offsets, fault: FrameFault, cause: Finding | None
) -> Finding:
    if fault == FrameFault.CHECKSUM_MISMATCH:
        evidence = _checksums(frames, rows)
    else:
        evidence = _worst_field(frames, int(rows[0]), fault)
    places = Places.on(characters, frames.offset[rows], rows)
    subject = frame_subject(frames.layout.key, wire)
    kind = FRAME_FAULT_NAMES[fault]
    return make_finding(kind, subject, places, caused_by=cause, total=len(frames), **evidence)


def _checksums(frames: Frames, rows: Offsets) -> dict[str, Any]:
    """Return what the first frame holds and should hold; and which checksum fits, if the declared never does."""
    layout = frames.layout
    assert layout.checksum is not None
    assert layout.checksum_slot is not None
    algorithm = layout.checksum.algorithm
    first = int(rows[0])
    evidence: dict[str, Any] = {
        "found": int(frames.raw(layout.checksum_slot.name)[first]),
        "expected": _computed(frames, first),
        "algorithm": algorithm if isinstance(algorithm, str) else f"CRC of {algorithm.width} bits",
    }
    if len(rows) > NEARLY_ALL * len(frames) and layout.pattern is None:
        evidence |= explain_mismatches(frames.data[rows], layout)
    return evidence


def _judge_substitutes(
    wire: str, characters: Characters, frames: Frames, since_s: Mapping[tuple[str, str], float], first: int
) -> Iterator[Finding]:
    """Yield since when and for how long the sender reports that values are substitutes, field by field.

    `since_s` has since when it did at the end of what lies before, by layout and field; frames before character `first`
    are counted already.
    """
    good = frames[~frames.has_fault(FrameFault.CHECKSUM_MISMATCH)]
    for name, slot in frames.layout.slot.items():
        field = slot.field
        if field is None or field.substitutes is None or not len(good):
            continue
        result = good.raw(name) == field.substituting
        before_s = since_s.get((frames.layout.key, name))
        turns = np.flatnonzero(np.diff(result, prepend=False, append=False)).reshape(-1, 2)
        goes_on = before_s is not None and bool(result[0])
        if not len(turns):
            continue
        longest_s = None
        if characters.has_times:
            ends_s = np.append(good.begin_s, good.begin_s[-1])[turns[:, 1]]
            begins_s = good.begin_s[turns[:, 0]]
            if goes_on:
                begins_s[0] = before_s
            longest_s = float((ends_s - begins_s).max())
        yield make_finding(
            "substitute-values",
            frame_subject(frames.layout.key, wire),
            Places.on(characters, good.offset[turns[goes_on:, 0]]),
            field=name,
            fields=field.substitutes.fields,
            frames=int(np.count_nonzero(result[good.offset >= first])),
            longest_s=longest_s,
            to_end=bool(result[-1]),
        )


def _judge_spans(
    wire: str,
    characters: Characters,
    skipped: Spans,
    explained: npt.NDArray[np.bool_],
    every: list[Frames],
    causes: Causes,
    span_s: tuple[float, float] | None,
) -> Iterator[Finding]:
    """Yield the stretches between the frames that no loss behind the line explains."""
    total, length = len(characters), max(item.layout.longest for item in every)
    is_text = every[0].layout.boundary.is_text
    too_long = "terminator-missing" if is_text else "overlong-frame"
    reason = skipped.reason.copy()
    at_begin = (skipped.offset == 0) & (reason == Skip.NO_MARKER) & (skipped.length < min(length, total))
    reason[at_begin] = Skip.UNFINISHED
    if _rests_behind(characters, skipped, every, span_s):
        reason[-1] = Skip.TRUNCATED_FRAME
    for skip, kind in (
        (Skip.TRUNCATED_FRAME, "truncated-frame"),
        (Skip.LENGTH_MISMATCH, "length-mismatch"),
        (Skip.NO_MARKER, "resynchronised"),
        (Skip.UNFINISHED, "cut-frame"),
        (Skip.UNDECLARED, "undeclared-frame"),
        (Skip.BAD_STUFFING, "bad-stuffing"),
        (Skip.TOO_LONG, too_long),
    ):
        chosen = np.flatnonzero((reason == skip) & ~explained)
        if not chosen.size:
            continue
        begin, lengths = skipped.offset[chosen], skipped.length[chosen]
        yield make_finding(
            kind,
            wire,
            Places.on(characters, begin, chosen),
            caused_by=causes.find(begin, begin + lengths + 1),
            bytes=int(lengths.sum()),
            total_bytes=total,
        )


def _rests_behind(
    characters: Characters, skipped: Spans, every: list[Frames], span_s: tuple[float, float] | None
) -> bool:
    """Return whether the line rests so long behind a last, unfinished frame that the frame ends with the capture."""
    if not len(skipped) or skipped.reason[-1] != Skip.UNFINISHED or span_s is None or not characters.has_line:
        return False
    begin, end = int(skipped.offset[-1]), int(skipped.offset[-1] + skipped.length[-1])
    good = max(every, key=len)
    if begin == 0 or end != len(characters) or not len(good):
        return False
    rests_s = characters.begin_s[1:] - characters.end_s[:-1]
    inside = np.zeros(len(characters) + 1, dtype=np.int64)
    for frames in every:
        np.add.at(inside, frames.offset, 1)
        np.add.at(inside, frames.offset + frames.length - 1, -1)
    usual_s = float(rests_s[np.cumsum(inside)[: len(rests_s)] > 0].max(initial=0.0))
    character_s = median_of(characters.end_s - characters.begin_s)
    return span_s[1] - float(characters.end_s[-1]) > max(2 * usual_s, RESTS * character_s)


def _within(offsets: Offsets, losses: list[Losses], *, joined: bool = False) -> npt.NDArray[np.bool_]:
    """Return which offsets lie where a buffer or the hardware lost bytes; where frames are `joined` by it, if asked."""
    within = np.zeros(len(offsets), dtype=np.bool_)
    for lost in losses:
        behind = ~lost.by("line") & ((lost.joined > 0) | (not joined))
        begins = np.append(lost.begin[behind], np.iinfo(np.int64).max)
        within |= begins[np.searchsorted(lost.end[behind], offsets, side="right")] <= offsets
    return within


def _computed(frames: Frames, row: int) -> int:
    """Return the checksum that a frame should hold."""
    layout = frames.layout
    if layout.pattern is not None or layout.checksum is None:
        return int(frames.matched.computed[row])
    data = frames.data[row].tobytes()
    begin, end = layout.shape_of(data).covered
    return layout.checksum.method.of(data[begin:end])


def _worst_field(frames: Frames, row: int, fault: FrameFault) -> dict[str, Any]:
    """Return the field of a frame that is at fault, with its value."""
    if frames.layout.pattern is not None:
        return {}
    data = np.frombuffer(frames.data[row].tobytes(), dtype=np.uint8)[None, :]
    for name, slot in frames.layout.shape_of(data.tobytes()).slot.items():
        field = slot.field
        if field is None or not slot.count or slot.kind in ("text", "bytes"):
            continue
        raw = raw_column(data, slot, frames.layout.packing)
        value = scaled(raw, slot).reshape(-1)[0]
        shown = f"{float(value):.6g} {field.unit}".rstrip()
        wanted = fixed_value(slot)
        if fault == FrameFault.UNKNOWN_VALUE and wanted is not None and (raw != wanted).any():
            return {"field": name, "found": int(raw.reshape(-1)[0]), "expected": wanted}
        if fault == FrameFault.UNKNOWN_VALUE and field.names and not names_known(raw, slot)[0]:
            return {"field": name, "value": shown}
        if fault == FrameFault.OUT_OF_RANGE and field.range and not within_range(raw, slot)[0]:
            return {"field": name, "value": shown, "low": field.range[0], "high": field.range[1]}
    return {}
