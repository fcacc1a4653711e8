"""A capture as a whole: every wire judged, and what only several wires together show."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.event import EventSignal
from larkreader.decode.columns.frame_columns import Frames, Skip, Spans
from larkreader.judge.findings.finding import SEVERITIES, Finding, Findings
from larkreader.judge.measure.events import EventDelays, Seconds, measure_delays
from larkreader.judge.wire.pauses import Pauses, judge_pauses, measure_pauses

from .checked import Checked, add_up
from .received import Received
from .wire_findings import judge_wire, span_of

if TYPE_CHECKING:
    from larkreader.judge.measure.pair_columns import Pairs
    from larkreader.judge.setup.path_report import PathReport


@dataclass(frozen=True)
class Judged:
    """What is found in a capture.

    Parameters
    ----------
    frames : mapping of str to Frames
        By layout.
    skipped : mapping of str to Spans
        By wire, what belongs to no frame; only wires that carry frames.
    findings : tuple of Finding
        What is wrong or worth knowing, errors first, then in order of place.
    events : mapping of str to EventDelays
        Delays from the changes of the sheet's event signals, by their names.
    paths : mapping of str to PathReport
        By wire, what the declared receive path makes of its characters; only of wires whose levels were captured.
    pairs : mapping of str to Pairs
        The sheet's pairings, by name.
    pauses : mapping of str to Pauses
        By wire with flow control, how late its sender stopped when a pause was requested.
    checked : Checked
        What is proven, and what could not be checked.
    """

    frames: Mapping[str, Frames]
    skipped: Mapping[str, Spans]
    findings: tuple[Finding, ...]
    events: Mapping[str, EventDelays]
    paths: Mapping[str, PathReport]
    pairs: Mapping[str, Pairs]
    pauses: Mapping[str, Pauses]
    checked: Checked


def judge_received(sheet: Sheet, received: Received, wires: Sequence[str]) -> Judged:
    """Judge what was received.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    received : Received
        What was received in the capture.
    wires : sequence of str
        The wires that were to be read; of one without a character, `Judged.checked` reports that.

    Returns
    -------
    Judged
    """
    characters = received.characters
    frames: dict[str, Frames] = {}
    skipped: dict[str, Spans] = {}
    findings: list[Finding] = []
    # a counter that a reply takes from its request jumps where one was not answered
    taken = {(name, field) for item in sheet.pair.values() for name in item.reply for field in item.match.values()}
    for key in characters:
        found = judge_wire(sheet, key, received, taken)
        frames |= found.frames
        findings += found.findings
        if found.skipped is not None:
            skipped[key] = found.skipped
    inside = {key: _inside_frames(sheet, key, len(held), frames) for key, held in characters.items()}
    findings += judge_pauses(sheet, characters, received.clear, inside)
    pauses = measure_pauses(sheet, characters, received.clear, inside)
    paths = _paths_of(sheet, received, frames, skipped) if sheet.receive else {}
    findings += [finding for path in paths.values() for finding in path.findings]
    pairs: dict[str, Pairs] = {}
    if _has_turns(sheet):
        end_s = max((extent.end_s for extent in received.extents.values() if extent.end_s is not None), default=None)
        pairs = _judge_turns(sheet, characters, frames, skipped, end_s, findings)
    findings.sort(key=lambda item: (SEVERITIES.index(item.severity), item.first_s or 0.0, item.offset or 0))
    events = {
        key: measure_delays(event, received.changes_s[key], _begins_on(event, sheet, characters, frames))
        for key, event in sheet.event.items()
        if key in received.changes_s
    }
    bytes_of = {key: account_for(sheet, key, held, frames, skipped) for key, held in characters.items()}
    checked = add_up(
        sheet, characters, frames, bytes_of, findings, pairs=pairs, paths=paths, pauses=pauses, wires=wires
    )
    return Judged(frames, skipped, Findings(findings), events, paths, pairs, pauses, checked)


def account_for(
    sheet: Sheet, wire: str, characters: Characters, frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> dict[str, int]:
    """Account for every byte of a wire: total, and of it good, faulty and skipped.

    On a wire that carries frames, bytes of good frames, of faulty frames and of no frame; on another, characters
    without and with a fault.
    """
    total = len(characters)
    layouts = [layout.key for layout in sheet.layouts_of(wire)]
    if not layouts:
        faulty = int(np.count_nonzero(characters.faults))
        return {"total": total, "good": total - faulty, "faulty": faulty, "skipped": 0}
    good = sum(int(frames[key].length[frames[key].faults == 0].sum()) for key in layouts)
    faulty = sum(int(frames[key].length[frames[key].faults != 0].sum()) for key in layouts)
    return {"total": total, "good": good, "faulty": faulty, "skipped": int(skipped[wire].length.sum())}


def _has_turns(sheet: Sheet) -> bool:
    """Return whether a sheet declares anything that takes the times of messages."""
    return bool(sheet.pair or sheet.timing.shared or any(wire.silence_s is not None for wire in sheet.wire.values()))


def _judge_turns(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    skipped: Mapping[str, Spans],
    end_s: float | None,
    findings: list[Finding],
) -> dict[str, Pairs]:
    """Return the pairings of which both sides were captured; add the findings about them, and about the turns."""
    from larkreader.decode.timeline import make_timeline  # few sheets need it; it takes a while to load
    from larkreader.judge.measure.pairs import find_pairs
    from larkreader.judge.wire.pair_findings import judge_pairs
    from larkreader.judge.wire.turns import judge_turns

    lines = {key: wire.line for key, wire in sheet.wire.items()}
    timeline = make_timeline(characters, frames, skipped, lines)
    if not len(timeline):
        return {}
    pairs = {
        key: find_pairs(pairing, timeline, frames, characters, lines, end_s)
        for key, pairing in sheet.pair.items()
        if set(sheet.wires_of((*pairing.request, *pairing.reply))) <= set(timeline.wires)
    }
    findings += [finding for item in pairs.values() for finding in judge_pairs(item)]
    findings += judge_turns(sheet, timeline, characters, end_s)
    return pairs


def _inside_frames(sheet: Sheet, wire: str, count: int, frames: Mapping[str, Frames]) -> npt.NDArray[np.bool_]:
    """Return which characters of a wire lie inside good frames."""
    steps = np.zeros(count + 1, dtype=np.int8)  # no two frames overlap
    for layout in sheet.layouts_of(wire):
        good = frames[layout.key][frames[layout.key].faults == 0]
        np.add.at(steps, good.offset, 1)
        np.add.at(steps, good.offset + good.length, -1)
    return np.asarray(np.cumsum(steps, dtype=np.int8)[:-1] > 0, dtype=np.bool_)


def _paths_of(
    sheet: Sheet, received: Received, frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> dict[str, PathReport]:
    """Return what the declared receive paths make of the wires whose levels were captured."""
    from larkreader.judge.setup.path_report import (  # few sheets declare any; it takes a while to load
        SEARCHED,
        Messages,
        judge_receive_path,
    )

    reports = {}
    for key, held in received.characters.items():
        if key not in sheet.receive or not held.has_times or not held.has_line:
            continue
        span_s = span_of(received, key)
        by_rests = Messages.between_rests(held, sheet.wire[key].line, None if span_s is None else span_s[1])
        starts = _starts_on(sheet, key, frames)
        ends = [frames[layout.key].offset + frames[layout.key].length for layout in sheet.layouts_of(key)]
        is_whole: bool | None = by_rests.is_whole
        if any((end == len(held)).any() for end in ends):
            is_whole = True
        if key in skipped and len(skipped[key]) and skipped[key].reason[-1] == Skip.UNFINISHED:
            is_whole = by_rests.is_whole or False
        messages = Messages(starts, is_whole) if len(starts) else by_rests
        reports[key] = judge_receive_path(sheet, key, held, messages, search=len(held) <= SEARCHED)
    return reports


def _starts_on(sheet: Sheet, wire: str, frames: Mapping[str, Frames]) -> npt.NDArray[np.int64]:
    """Return the offsets of the frames of a wire, ascending."""
    offsets = [frames[layout.key].offset for layout in sheet.layouts_of(wire)]
    return np.sort(np.concatenate(offsets)) if offsets else np.empty(0, np.int64)


def _begins_on(
    event: EventSignal, sheet: Sheet, characters: Mapping[str, Characters], frames: Mapping[str, Frames]
) -> Seconds:
    """Return when what follows the changes of a signal began, in seconds, ascending."""
    if event.to == "character":
        return characters[event.wire].begin_s
    begins = [frames[layout.key].begin_s for layout in sheet.layouts_of(event.wire)]
    return np.sort(np.concatenate(begins)) if begins else np.empty(0)
