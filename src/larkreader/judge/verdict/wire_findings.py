"""Everything that is found on one wire by itself: its settings, characters, frames, losses and text."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.paths.receive_path import LineApplication
from larkreader.decode.columns.frame_columns import CONTRADICTED, Frames, Spans
from larkreader.judge.findings.character_kinds import FAULT_OF
from larkreader.judge.findings.finding import Finding, Places, frame_subject, make_finding
from larkreader.judge.infer.off_grid import judge_baud
from larkreader.judge.wire.character_faults import judge_characters
from larkreader.judge.wire.counting import judge_counting
from larkreader.judge.wire.frame_faults import Causes, judge_frames
from larkreader.judge.wire.sequence import Losses, find_losses, lost_by_hardware
from larkreader.judge.wire.text_checks import judge_no_frames, judge_text

from .received import Received
from .setting_suspicion import judge_settings
from .startup import find_startup, read_after

LINE_FAULTS = ("parity-error", "framing-error", "break", "noise", "false-start", "short-stop")  # of wrong settings
CAUSES = tuple(kind for kind, fault in FAULT_OF.items() if fault != Fault.SHORT_STOP)  # of what frames show
FEW_GOOD = 0.2  # of the bytes in good frames, up to which a small change of the layout is looked for


@dataclass(frozen=True)
class WireFindings:
    """What was found on one wire.

    Parameters
    ----------
    findings : list of Finding
        What is wrong or worth knowing.
    frames : mapping of str to Frames
        By layout.
    skipped : Spans, optional
        What belongs to no frame; None on a wire without layouts.
    """

    findings: list[Finding]
    frames: Mapping[str, Frames] = field(default_factory=dict)
    skipped: Spans | None = None


def judge_wire(sheet: Sheet, wire: str, received: Received, taken: Collection[tuple[str, str]] = ()) -> WireFindings:
    """Cut the characters of a wire into frames, and judge all of it.

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

    Returns
    -------
    WireFindings
    """
    characters, line, layouts = received.characters[wire], sheet.wire[wire].line, sheet.layouts_of(wire)
    beginning = received.beginnings.get(wire)
    startup = find_startup(characters, line, layouts, beginning)
    frames = read_after(startup, characters, layouts) if layouts else {}
    every = list(frames.values())
    skipped = every[0].skipped if every else None
    losses = find_losses(every, characters, taken)
    held = characters if startup is None else startup.left_out(characters)
    if any(layout.boundary.opened_by == "break" for layout in layouts):
        held = replace(held, faults=held.faults & ~np.uint8(Fault.BREAK))  # they begin frames, as declared
    good = sum(int(item.length[~item.has_fault(CONTRADICTED)].sum()) for item in every)
    share = good / len(held) if len(held) else 0.0
    suspects = list(judge_settings(wire, held, beginning, line, layouts, good_share=share))
    suspects = suspects or list(_judge_layouts(wire, characters, every))
    suspect = suspects[0] if suspects else None
    of_line = judge_characters(wire, held, line, received.extents.get(wire), missing=lost_by_hardware(losses))
    of_characters = _caused_by(suspect, of_line, LINE_FAULTS)
    findings = [*suspects, *of_characters]
    if skipped is not None:
        findings += _judge_content(wire, held, every, skipped, losses, of_characters, suspect, received)
    else:
        begin = 0 if startup is None else startup.count
        findings += judge_text(wire, characters, _ending_of(sheet, wire), begin=begin)
        findings += judge_counting(wire, characters, line.data_bits)
    if startup is not None:
        findings.append(startup.finding(wire, characters))
    if beginning is not None and suspect is None:
        findings += judge_baud(wire, beginning, characters, line)
    return WireFindings(findings, frames, skipped)


def _judge_content(
    wire: str,
    characters: Characters,
    every: list[Frames],
    skipped: Spans,
    losses: list[Losses],
    of_characters: list[Finding],
    suspect: Finding | None,
    received: Received,
) -> Iterator[Finding]:
    """Yield what is wrong with the frames of a wire."""
    causes = Causes(tuple(character for character in of_characters if character.kind in CAUSES))
    span_s = span_of(received, wire)
    found = judge_frames(wire, characters, every, skipped, losses, causes=causes, span_s=span_s)
    of_frames = _caused_by(suspect, found)
    yield from of_frames
    if not any((item.faults == 0).any() for item in every):
        yield from judge_no_frames(wire, characters)
        if suspect is None and not any(item.severity == "error" for item in (*of_frames, *of_characters)):
            yield from _judge_no_good_frame(wire, characters, every)


def span_of(received: Received, wire: str) -> tuple[float, float] | None:
    """Return from when to when a wire was captured, in seconds; None where only its characters are known."""
    extent = received.extents.get(wire)
    return None if extent is None or extent.end_s is None else (extent.begin_s, extent.end_s)


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


def _judge_layouts(wire: str, characters: Characters, every: list[Frames]) -> Iterator[Finding]:
    """Yield the small change of a layout that makes its frames right, where next to none is."""
    for frames in every:
        trusted = ~frames.has_fault(CONTRADICTED)
        if len(every) > 1 or int(frames.length[trusted].sum()) > FEW_GOOD * len(characters):
            continue
        from larkreader.judge.infer.layout_search import (
            find_layout_change,  # few layouts are in doubt, and it takes a while to load
        )

        good = int(np.count_nonzero(trusted))
        found = find_layout_change(characters.value.astype(np.uint8), frames.layout)
        if found is not None:
            evidence = {"change": found.change, "good": found.good, "of": found.total, "declared_good": good}
            yield make_finding("layout-suspect", frame_subject(frames.layout.key, wire), certainty="likely", **evidence)


def _judge_no_good_frame(wire: str, characters: Characters, every: list[Frames]) -> Iterator[Finding]:
    """Yield that a wire with declared layouts has no good frame, though it carries something."""
    if len(characters):
        layouts = [item.layout.key for item in every]
        count = len(characters)
        yield make_finding("no-good-frame", wire, Places.on(characters, 0), characters=count, layouts=layouts)
