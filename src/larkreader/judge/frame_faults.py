"""What is held against the frames of one wire, and against what lies between them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.boundary import TerminatorBoundary
from larkreader.decode.frame_columns import FRAME_FAULT_NAMES, FrameFault, Frames, Skip, Spans
from larkreader.decode.unpack import raw_column, scaled
from larkreader.decode.verify import fixed_value, names_known, within_range

from .checksum_search import explain_mismatches
from .findings import Finding, make_finding, time_of
from .sequence import Losses, judge_losses
from .statistics import judge_period

NEARLY_ALL = 0.8  # of the frames; if so many checksums fail, the declared one is wrong


def judge_frames(
    wire: str,
    characters: Characters,
    every: list[Frames],
    skipped: Spans,
    losses: list[Losses],
    *,
    is_stray: bool = False,
) -> Iterator[Finding]:
    """Yield what is held against the frames of one wire, and what lies between them but a first, stray character."""
    for frames in every:
        key = frames.layout.key
        for fault in (FrameFault.CHECKSUM_MISMATCH, FrameFault.UNKNOWN_VALUE, FrameFault.OUT_OF_RANGE):
            places = np.flatnonzero(frames.faults & fault)
            if fault == FrameFault.CHECKSUM_MISMATCH:  # what a loss has joined from two frames is told with the loss
                places = places[~_within(frames.offset[places], losses)]
            if places.size:
                first = int(frames.offset[places[0]])
                detail, advice, meaning = _worst_field(frames, int(places[0]), fault), "", None
                if fault == FrameFault.CHECKSUM_MISMATCH and len(places) > NEARLY_ALL * len(frames):
                    told, advice = "", ""
                    if frames.layout.pattern is None:
                        told, advice = explain_mismatches(frames.data[places], frames.layout)
                    detail = f"{detail} {told}".rstrip()
                    meaning = "The two ends compute the checksum differently." if told else None
                yield make_finding(
                    FRAME_FAULT_NAMES[fault],
                    wire,
                    len(places),
                    of=(len(frames), f"{key} frames"),
                    first_s=time_of(characters, first),
                    offset=first,
                    frame=key,
                    detail=detail,
                    meaning=meaning,
                    advice=advice or None,
                )
        yield from _judge_substitutes(wire, characters, frames)
        yield from judge_period(wire, characters, frames)
    for lost in losses:
        yield from judge_losses(lost, characters, wire)
    explained = _within(skipped.offset, losses)
    breaks = np.concatenate([[0], np.cumsum((characters.faults & Fault.BREAK) != 0)])
    explained |= breaks[skipped.offset + skipped.length] - breaks[skipped.offset] == skipped.length
    explained |= is_stray & (skipped.offset == 0) & (skipped.length == 1)
    yield from _judge_spans(wire, characters, skipped, explained, every)


def _judge_substitutes(wire: str, characters: Characters, frames: Frames) -> Iterator[Finding]:
    """Yield since when and for how long the sender says that values are substitutes, field by field that says so."""
    good = frames[(frames.faults & FrameFault.CHECKSUM_MISMATCH) == 0]
    for name, slot in frames.layout.slot.items():
        field = slot.field
        if field is None or field.substitutes is None or not len(good):
            continue
        told = good.raw(name) == field.substituting
        turns = np.flatnonzero(np.diff(told, prepend=False, append=False)).reshape(-1, 2)
        if not len(turns):
            continue
        first = int(good.offset[turns[0, 0]])
        detail = f"By {name}, {', '.join(field.substitutes.fields)} are substitutes in {int(told.sum()):,} frames"
        if characters.has_times:
            ends_s = np.append(good.begin_s, good.begin_s[-1])[turns[:, 1]]
            longest = float((ends_s - good.begin_s[turns[:, 0]]).max())
            detail += f", for {longest:.3g} s at the longest"
        detail += ", at the end still." if told[-1] else "."
        yield make_finding(
            "substitute-values",
            wire,
            len(turns),
            first_s=time_of(characters, first),
            offset=first,
            frame=frames.layout.key,
            detail=detail,
        )


def _judge_spans(
    wire: str, characters: Characters, skipped: Spans, explained: npt.NDArray[np.bool_], every: list[Frames]
) -> Iterator[Finding]:
    """Yield what lies between the frames and is not explained by a loss behind the line."""
    total, length = len(characters), max(one.layout.longest for one in every)
    is_text = isinstance(every[0].layout.boundary, TerminatorBoundary)
    too_long = "terminator-missing" if is_text else "overlong-frame"
    reason = skipped.reason.copy()
    at_begin = (skipped.offset == 0) & (reason == Skip.NO_MARKER) & (skipped.length < min(length, total))
    reason[at_begin] = Skip.UNFINISHED
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
        first, number = int(skipped.offset[chosen[0]]), int(skipped.length[chosen].sum())
        yield make_finding(
            kind,
            wire,
            len(chosen),
            first_s=time_of(characters, first),
            offset=first,
            detail=f"{number:,} of {total:,} bytes lie there.",
        )


def _within(offsets: npt.NDArray[np.int64], losses: list[Losses]) -> npt.NDArray[np.bool_]:
    """Tell which offsets lie where a buffer or the hardware lost bytes."""
    within = np.zeros(len(offsets), dtype=np.bool_)
    for lost in losses:
        behind = ~lost.by("line")
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


def _worst_field(frames: Frames, row: int, fault: FrameFault) -> str:
    """Name the field of a frame that is at fault, with what it holds."""
    if fault == FrameFault.CHECKSUM_MISMATCH:
        layout = frames.layout
        assert layout.checksum is not None
        assert layout.checksum_slot is not None
        stored, computed = frames.raw(layout.checksum_slot.name)[row], _computed(frames, row)
        digits = -(-layout.checksum.method.width // 4)
        return f"The first holds 0x{int(stored):0{digits}X}, computed is 0x{computed:0{digits}X}."
    if frames.layout.pattern is not None:
        return f'The first is "{frames.data[row].tobytes().decode("latin-1").encode("unicode_escape").decode()}".'
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
            return f"The first has {name} = {int(raw.reshape(-1)[0])}, where {wanted} is declared."
        if fault == FrameFault.UNKNOWN_VALUE and field.names and not names_known(raw, slot)[0]:
            return f"The first has {name} = {shown}, which has no name."
        if fault == FrameFault.OUT_OF_RANGE and field.range and not within_range(raw, slot)[0]:
            return f"The first has {name} = {shown}, declared are {field.range[0]:g} to {field.range[1]:g}."
    return "The first has reserved bits, a digit or a text that are not what they must be."
