"""Everything that is found on one wire by itself: its settings, characters, frames, losses and text.

What a stretch of a wire shows is judged stretch by stretch: faults of characters, frames and what lies between them,
losses. What only the wire as a whole shows is concluded from its beginning and from counts that add up: whether it was
set up too early, whether other settings fit better, whether any frame is good. A capture that is read as a whole is one
stretch.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.paths.receive_path import LineApplication
from larkreader.decode.columns.frame_columns import Frames, Spans
from larkreader.decode.cut.frames import certain_until
from larkreader.judge.findings.character_kinds import FAULT_OF
from larkreader.judge.findings.finding import Finding, Places, frame_subject, make_finding
from larkreader.judge.infer.off_grid import judge_baud
from larkreader.judge.measure.statistics import LATE
from larkreader.judge.wire.carried import Habit
from larkreader.judge.wire.character_faults import judge_characters
from larkreader.judge.wire.counting import judge_counting, passes_highest
from larkreader.judge.wire.frame_faults import Causes, judge_frames
from larkreader.judge.wire.loss_findings import blame_hardware
from larkreader.judge.wire.sequence import find_losses, lost_by_hardware
from larkreader.judge.wire.text_checks import judge_no_frames, judge_text

from .counts import FrameCounts, WireCounts
from .past import NO_PAST, Past
from .received import Received
from .setting_suspicion import judge_settings
from .so_far import of_frames_so_far
from .startup import Startup, find_startup, read_after

LINE_FAULTS = ("parity-error", "framing-error", "break", "noise", "false-start", "short-stop")  # of wrong settings
CAUSES = tuple(kind for kind, fault in FAULT_OF.items() if fault != Fault.SHORT_STOP)  # of what frames show
FEW_GOOD = 0.2  # of the bytes in good frames, up to which a small change of the layout is looked for
BEGINNING = 1 << 16  # characters; what so many do not show of settings, text and layouts, more do not show either


@dataclass(frozen=True)
class Beginning:
    """How a wire begins, from which it is concluded what it is.

    Parameters
    ----------
    characters, held : Characters
        The first of the wire; and the same without the faults that are explained.
    startup : Startup, optional
        What the wire did before its first idle time, where that is not a message.
    trace : Trace, optional
        Its first level changes, where the capture has them.
    span_s : tuple of float, optional
        From when to when it was captured, in seconds; None where only its characters are known.
    """

    characters: Characters
    held: Characters
    startup: Startup | None = None
    trace: Trace | None = None
    span_s: tuple[float, float] | None = None


@dataclass(frozen=True)
class WireStretch:
    """What a stretch of one wire shows.

    Parameters
    ----------
    of_characters, of_content : list of Finding
        What is wrong with its characters; with its frames, or with the pattern that it carries.
    counts : WireCounts
        How much it carries.
    frame_counts : mapping of str to FrameCounts
        By layout, how many frames.
    beginning : Beginning, optional
        How the wire begins, in its first stretch.
    frames : mapping of str to Frames
        By layout.
    skipped : Spans, optional
        What belongs to no frame; None on a wire without layouts.
    habits : mapping of str to Habit
        By layout, how its sender makes frames.
    passed_highest : bool
        Whether its characters, or those before, count up beyond the highest value; of a wire without layouts.
    certain : int, optional
        The number of the first character of which it is not certain yet to which frame it belongs; None where all is.
    """

    of_characters: list[Finding]
    of_content: list[Finding]
    counts: WireCounts
    frame_counts: Mapping[str, FrameCounts]
    beginning: Beginning | None
    frames: Mapping[str, Frames] = field(default_factory=dict)
    skipped: Spans | None = None
    habits: Mapping[str, Habit] = field(default_factory=dict)
    passed_highest: bool = False
    certain: int | None = None


def judge_wire_stretch(
    sheet: Sheet, wire: str, received: Received, taken: Collection[tuple[str, str]] = (), past: Past = NO_PAST
) -> WireStretch:
    """Cut the characters of a stretch of a wire into frames, and judge what they show.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wire : str
        The wire.
    received : Received
        What was read from the capture.
    taken : collection of tuple of str and str
        Layouts and fields that are not counters of their own; see `find_losses`.
    past : Past
        What lies before the stretch.

    Returns
    -------
    WireStretch
    """
    characters, line, layouts = received.characters[wire], sheet.wire[wire].line, sheet.layouts_of(wire)
    trace, first = received.beginnings.get(wire), past.first.get(wire, 0)
    startup = None if wire in past.begun else find_startup(characters, line, layouts, trace)
    frames = read_after(startup, characters, layouts) if layouts else {}
    every = list(frames.values())
    skipped = every[0].skipped if every else None
    if past.is_open and not past.is_cut and skipped is not None and len(skipped) and _reaches_end(skipped, characters):
        skipped = skipped[:-1]  # what it is shows when more has arrived
        frames = {key: replace(item, skipped=skipped) for key, item in frames.items()}
        every = list(frames.values())
    certain, judged, spans = None, every, skipped
    if past.is_shown and skipped is not None:
        begin = 0 if startup is None else startup.count
        certain = begin + certain_until(characters[begin:], layouts)
        spans = skipped[skipped.offset < certain]
        judged = [replace(item[item.offset < certain], skipped=spans) for item in every]
    habits = {item.layout.key: Habit.of(item, characters, first, past.habits.get(item.layout.key)) for item in judged}
    losses = find_losses(judged, characters, taken, habits, past.last_frames)
    held = unexplained(characters, startup, layouts)
    missing = lost_by_hardware(losses)
    begins = wire not in past.begun and (len(characters) > 0 or not past.is_open)
    extent = received.extents.get(wire)
    of_characters = list(judge_characters(wire, held, line, extent, missing=missing, begins=begins))
    passed_highest = False
    if spans is not None:
        causes = Causes(tuple(character for character in of_characters if character.kind in CAUSES))
        span_s = span_of(received, wire)
        if span_s is None and past.now_s is not None and len(characters):
            span_s = (float(characters.begin_s[0]), past.now_s)
        of_content = list(
            judge_frames(
                wire,
                characters,
                judged,
                spans,
                losses,
                begun=every,
                causes=causes,
                span_s=span_s,
                last_begin_s=past.last_begin_s,
                substituting_s=past.substituting_s,
                first=first,
                is_open=past.is_open and past.now_s is None,
            )
        )
        if past.is_shown:
            of_content = of_frames_so_far(of_content, judged, past.last_frames)
    else:
        passed_highest = wire in past.passed_highest
        of_content = list(judge_counting(wire, characters, line.data_bits, passed_highest=passed_highest))
        passed_highest |= passes_highest(characters, line.data_bits)
    beginning = None
    if wire not in past.begun:
        beginning = Beginning(characters[:BEGINNING], held[:BEGINNING], startup, trace, span_of(received, wire))
    counts = WireCounts.of(characters, held, skipped, first)
    frame_counts = {key: FrameCounts.of(item, first) for key, item in frames.items()}
    return WireStretch(
        of_characters, of_content, counts, frame_counts, beginning, frames, skipped, habits, passed_highest, certain
    )


def conclude_wire(
    sheet: Sheet,
    wire: str,
    beginning: Beginning,
    counts: WireCounts,
    frames: Mapping[str, FrameCounts],
    of_characters: Iterable[Finding],
    of_content: Iterable[Finding],
    *,
    is_open: bool = False,
) -> list[Finding]:
    """Return all findings on a wire: those of its stretches, and what only the wire as a whole shows.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wire : str
        The wire.
    beginning : Beginning
        How it begins.
    counts : WireCounts
        How much it carries.
    frames : mapping of str to FrameCounts
        By layout.
    of_characters, of_content : iterable of Finding
        What its stretches show.
    is_open : bool
        Whether more follows: then nothing is concluded from frames that are not there, and no other settings are
        looked for before there is enough to judge them by.
    """
    line, layouts, startup = sheet.wire[wire].line, sheet.layouts_of(wire), beginning.startup
    total = counts.characters
    share = sum(item.trusted_bytes for item in frames.values()) / total if total else 0.0
    is_enough = not is_open or total >= BEGINNING
    suspects = (
        []
        if not is_enough
        else list(
            judge_settings(
                wire,
                beginning.held,
                beginning.trace,
                line,
                layouts,
                good_share=share,
                total=total,
                faulty=counts.faulty,
            )
        )
    )
    if is_enough and not suspects:
        suspects = list(_judge_layouts(wire, beginning.characters, total, layouts, frames))
    suspect = suspects[0] if suspects else None
    before = list(of_characters)
    blamed, of_content = blame_hardware(before, list(of_content), counts.counted)
    of_characters = _caused_by(suspect, blamed, LINE_FAULTS)
    now = {id(old): new for old, new in zip(before, of_characters, strict=True)}
    of_content = [
        item if item.caused_by is None else replace(item, caused_by=now.get(id(item.caused_by), item.caused_by))
        for item in of_content
    ]
    findings = [*suspects, *of_characters]
    if layouts:
        of_frames = _caused_by(suspect, of_content)
        findings += of_frames
        if is_enough and not any(item.good for item in frames.values()):
            findings += judge_no_frames(wire, beginning.characters)
            if suspect is None and not any(item.severity == "error" for item in (*of_frames, *of_characters)):
                findings += _judge_no_good_frame(wire, beginning.characters, total, layouts)
        findings += _judge_silent_layouts(wire, counts, beginning.span_s, layouts, frames)
    else:
        begin = 0 if startup is None else startup.count
        findings += judge_text(wire, beginning.characters, _ending_of(sheet, wire), begin=begin)
        findings += of_content
    if startup is not None:
        findings.append(startup.finding(wire, beginning.characters))
    if beginning.trace is not None and suspect is None:
        findings += judge_baud(wire, beginning.trace, total, counts.faulty_by_line, line)
    return findings


def unexplained(characters: Characters, startup: Startup | None, layouts: Sequence[FrameLayout]) -> Characters:
    """Return characters without faults that are explained: of the start-up, and breaks that begin frames."""
    held = characters if startup is None else startup.left_out(characters)
    if any(layout.boundary.opened_by == "break" for layout in layouts):
        held = replace(held, faults=held.faults & ~np.uint8(Fault.BREAK))
    return held


def span_of(received: Received, wire: str) -> tuple[float, float] | None:
    """Return from when to when a wire was captured, in seconds; None where only its characters are known."""
    extent = received.extents.get(wire)
    return None if extent is None or extent.end_s is None else (extent.begin_s, extent.end_s)


def _reaches_end(skipped: Spans, characters: Characters) -> bool:
    return int(skipped.offset[-1] + skipped.length[-1]) == len(characters)


def _ending_of(sheet: Sheet, wire: str) -> str | None:
    """Return how the application of a wire says that its lines end; None where it does not."""
    path = sheet.receive.get(wire)
    application = path.application if path is not None else None
    if not isinstance(application, LineApplication):
        return None
    names = {0x0D: "CR", 0x0A: "LF", 0x00: "NUL"}
    values = bytes.fromhex(application.terminator)
    return " ".join(names[value] for value in values) if set(values) <= names.keys() else None


def _caused_by(cause: Finding | None, found: Iterable[Finding], kinds: Collection[str] | None = None) -> list[Finding]:
    """Return findings as consequences of a wrong setting or layout, if there is one: all, or those of some kinds."""
    if cause is None:
        return list(found)
    return [
        replace(item, caused_by=cause) if item.caused_by is None and (kinds is None or item.kind in kinds) else item
        for item in found
    ]


def _judge_layouts(
    wire: str,
    characters: Characters,
    total: int,
    layouts: Sequence[FrameLayout],
    frames: Mapping[str, FrameCounts],
) -> Iterator[Finding]:
    """Yield the small change of a layout that makes its frames right, where next to none is."""
    if len(layouts) != 1:
        return
    layout, counts = layouts[0], frames[layouts[0].key]
    if counts.trusted_bytes > FEW_GOOD * total:
        return
    from larkreader.judge.infer.layout_search import (
        find_layout_change,  # few layouts are in doubt, and it takes a while to load
    )

    found = find_layout_change(characters.value.astype(np.uint8), layout)
    if found is not None:
        evidence = {"change": found.change, "good": found.good, "of": found.total, "declared_good": counts.trusted}
        yield make_finding("layout-suspect", frame_subject(layout.key, wire), certainty="likely", **evidence)


def _judge_no_good_frame(
    wire: str, characters: Characters, total: int, layouts: Sequence[FrameLayout]
) -> Iterator[Finding]:
    """Yield that a wire with declared layouts has no good frame, though it carries something."""
    if total:
        names = [layout.key for layout in layouts]
        yield make_finding("no-good-frame", wire, Places.on(characters, 0), characters=total, layouts=names)


def _judge_silent_layouts(
    wire: str,
    counts: WireCounts,
    span_s: tuple[float, float] | None,
    layouts: Sequence[FrameLayout],
    frames: Mapping[str, FrameCounts],
) -> Iterator[Finding]:
    """Yield the layouts with a period of which there is no frame at all."""
    begin_s, end_s = span_s or (counts.begin_s, counts.end_s)
    for layout in layouts:
        period_s = layout.period
        if period_s is None or not counts.has_times or frames[layout.key].frames:
            continue
        if end_s - begin_s >= LATE * period_s:
            subject = frame_subject(layout.key, wire)
            yield make_finding("silent-layout", subject, period_s=period_s, span_s=end_s - begin_s)
