"""A capture as a whole: every wire judged, and what only several wires together show."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, TypeVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.event import EventSignal
from larkreader.decode.columns.frame_columns import Frames, Spans
from larkreader.judge.findings.finding import SEVERITIES, Finding, Findings
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.measure.events import EventDelays, Seconds, measure_delays
from larkreader.judge.wire.pauses import KINDS_OF_PAUSES, Pauses, judge_pauses, measure_pauses

from .checked import Checked, add_up
from .counts import FrameCounts, PairCounts, WireCounts
from .past import NO_PAST, Past
from .received import Received
from .so_far import found_so_far
from .wire_findings import WireStretch, conclude_wire, judge_wire_stretch

if TYPE_CHECKING:
    from larkreader.decode.timeline import Timeline
    from larkreader.judge.measure.pair_columns import Pairs
    from larkreader.judge.setup.path_report import PathReport

T = TypeVar("T")
ORDER = {kind: number for number, kind in enumerate(KINDS)}


@dataclass(frozen=True)
class Stretch:
    """What a stretch of a capture shows.

    Parameters
    ----------
    wires : mapping of str to WireStretch
        By wire.
    together : list of Finding
        What only several wires together, or their traffic and a receive path, show.
    pairs : mapping of str to Pairs
        The sheet's pairings, by name.
    pauses : mapping of str to Pauses
        By wire with flow control, how late its sender stopped when a pause was requested.
    paths : mapping of str to PathReport
        By wire, what the declared receive path makes of its characters; only where the stretch is the whole capture.
    events : mapping of str to EventDelays
        Delays from the changes of the sheet's event signals, by their names.
    timeline : Timeline, optional
        The messages of all wires, where the sheet declares anything that takes their times.
    """

    wires: Mapping[str, WireStretch]
    together: list[Finding]
    pairs: Mapping[str, Pairs] = field(default_factory=dict)
    pauses: Mapping[str, Pauses] = field(default_factory=dict)
    paths: Mapping[str, PathReport] = field(default_factory=dict)
    events: Mapping[str, EventDelays] = field(default_factory=dict)
    timeline: Timeline | None = None

    @property
    def frames(self) -> dict[str, Frames]:
        """The frames of all wires, by layout."""
        return {key: frames for item in self.wires.values() for key, frames in item.frames.items()}

    @property
    def skipped(self) -> dict[str, Spans]:
        """By wire, what belongs to no frame; only wires that carry frames."""
        return {key: item.skipped for key, item in self.wires.items() if item.skipped is not None}


@dataclass(frozen=True)
class Judged:
    """What is found in a capture.

    Parameters
    ----------
    stretch : Stretch
        What it shows, taken as one stretch.
    findings : tuple of Finding
        What is wrong or worth knowing, errors first, then in order of place.
    checked : Checked
        What is proven, and what could not be checked.
    """

    stretch: Stretch
    findings: tuple[Finding, ...]
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
    stretch = judge_stretch(sheet, received)
    if sheet.receive:
        from .path_verdicts import judge_paths  # few sheets declare any; it takes a while to load

        paths = judge_paths(sheet, received, stretch.frames, stretch.skipped)
        together = [*stretch.together, *(finding for path in paths.values() for finding in path.findings)]
        stretch = replace(stretch, paths=paths, together=together)
    counts = {key: item.counts for key, item in stretch.wires.items()}
    frames = {key: some for item in stretch.wires.values() for key, some in item.frame_counts.items()}
    found = [
        finding
        for key, item in stretch.wires.items()
        if item.beginning is not None
        for finding in conclude_wire(
            sheet, key, item.beginning, item.counts, item.frame_counts, item.of_characters, item.of_content
        )
    ]
    findings = in_order([*found, *of_wires_that_speak(sheet, stretch.together, counts)])
    heard = {wire: pauses for wire, pauses in stretch.pauses.items() if counts[wire].characters}
    stretch = replace(stretch, pauses=heard, pairs=pairs_that_speak(sheet, stretch.pairs, counts))
    checked = add_up(
        sheet,
        counts,
        frames,
        findings,
        pairs={key: PairCounts.of(item) for key, item in stretch.pairs.items()},
        paths=stretch.paths,
        pauses={key: len(item) for key, item in stretch.pauses.items()},
        wires=wires,
    )
    return Judged(stretch, findings, checked)


def judge_stretch(sheet: Sheet, received: Received, past: Past = NO_PAST) -> Stretch:
    """Judge what a stretch of a capture shows.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    received : Received
        What was received in the stretch.
    past : Past
        What lies before it, and whether more follows.

    Returns
    -------
    Stretch
    """
    characters = received.characters
    # a counter that a reply takes from its request jumps where one was not answered
    taken = {(name, field) for item in sheet.pair.values() for name in item.reply for field in item.match.values()}
    wires = {key: judge_wire_stretch(sheet, key, received, taken, past) for key in characters}
    frames = {key: some for item in wires.values() for key, some in item.frames.items()}
    skipped = {key: item.skipped for key, item in wires.items() if item.skipped is not None}
    is_paused = any(sheet.wire[key].line.flow_control == "xon-xoff" for key in characters)
    inside = {key: _inside_frames(sheet, key, len(held), frames) for key, held in characters.items() if is_paused}
    uncertain = None
    if past.is_shown:
        uncertain = {key: len(characters[key]) if item.certain is None else item.certain for key, item in wires.items()}
        for key, payload in inside.items():
            payload[uncertain[key] :] = True  # what belongs to no frame yet may be payload
    together = list(judge_pauses(sheet, characters, received.clear, inside, past.longest_pause_s, uncertain))
    pauses = measure_pauses(sheet, characters, received.clear, inside)
    pairs: dict[str, Pairs] = {}
    timeline = None
    if _has_turns(sheet):
        ends_s = [extent.end_s for extent in received.extents.values() if extent.end_s is not None]
        end_s = max(ends_s, default=past.now_s)
        timeline = timeline_of(sheet, characters, frames, skipped)
        pairs = _judge_turns(sheet, timeline, characters, frames, end_s, past, together, uncertain)
    if uncertain is not None:
        together = [found_so_far(finding, characters, pauses, uncertain) for finding in together]
    events = {
        key: measure_delays(event, received.changes_s[key], _begins_on(event, sheet, characters, frames))
        for key, event in sheet.event.items()
        if key in received.changes_s
    }
    return Stretch(wires, together, pairs, pauses, events=events, timeline=timeline)


def of_wires_that_speak(sheet: Sheet, findings: Iterable[Finding], counts: Mapping[str, WireCounts]) -> list[Finding]:
    """Return findings without those on wires that carry no character at all.

    What is silent keeps every pause; and whether a silent side of a pairing was connected is not known.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    findings : iterable of Finding
        What was found.
    counts : mapping of str to WireCounts
        By wire.
    """
    speaks = {wire for wire, item in counts.items() if item.characters}
    paired = pairs_that_speak(sheet, sheet.pair, counts)
    return [
        item
        for item in findings
        if (item.kind not in KINDS_OF_PAUSES or item.subject.wire in speaks)
        and (item.subject.kind != "pair" or item.subject.name in paired)
    ]


def pairs_that_speak(sheet: Sheet, pairs: Mapping[str, T], counts: Mapping[str, WireCounts]) -> dict[str, T]:
    """Return what is known of the pairings both sides of which carry characters with times.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    pairs : mapping of str to object
        By pairing.
    counts : mapping of str to WireCounts
        By wire.
    """
    speaks = {wire for wire, item in counts.items() if item.has_times}
    declared = {key: (*sheet.pair[key].request, *sheet.pair[key].reply) for key in pairs}
    return {key: item for key, item in pairs.items() if speaks.issuperset(sheet.wires_of(declared[key]))}


def in_order(findings: Iterable[Finding]) -> Findings:
    """Return findings as they are shown: errors first, then by time and place, a cause before what it causes."""
    return Findings(
        sorted(
            findings,
            key=lambda item: (
                SEVERITIES.index(item.severity),
                item.first_s or 0.0,
                item.offset or 0,
                item.caused_by is not None,
                ORDER[item.kind],
                item.wire,
                item.subject.name,
                item.group,
            ),
        )
    )


def account_for(counts: WireCounts, frames: Iterable[FrameCounts], *, is_framed: bool) -> dict[str, int]:
    """Account for every byte of a wire: total, and of it good, faulty and skipped.

    On a wire that carries frames, bytes of good frames, of faulty frames and of no frame; on another, characters
    without and with a fault.
    """
    total = counts.characters
    if not is_framed:
        return {"total": total, "good": counts.sound, "faulty": total - counts.sound, "skipped": 0}
    every = list(frames)
    good, faulty = sum(item.good_bytes for item in every), sum(item.faulty_bytes for item in every)
    return {"total": total, "good": good, "faulty": faulty, "skipped": counts.skipped}


def _has_turns(sheet: Sheet) -> bool:
    """Return whether a sheet declares anything that takes the times of messages."""
    return bool(sheet.pair or sheet.timing.shared or any(wire.silence_s is not None for wire in sheet.wire.values()))


def timeline_of(
    sheet: Sheet, characters: Mapping[str, Characters], frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> Timeline:
    """Put the messages of all wires on one timeline; see `make_timeline`."""
    from larkreader.decode.timeline import make_timeline  # few sheets need it; it takes a while to load

    return make_timeline(characters, frames, skipped, {key: wire.line for key, wire in sheet.wire.items()})


def _judge_turns(
    sheet: Sheet,
    timeline: Timeline,
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    end_s: float | None,
    past: Past,
    findings: list[Finding],
    uncertain: Mapping[str, int] | None,
) -> dict[str, Pairs]:
    """Return the pairings both sides of which are read; add the findings about them, and about the turns.

    A side may carry nothing in this stretch; `pairs_that_speak` has those of which both sides carry something at all.
    """
    from larkreader.judge.measure.pairs import find_pairs  # few sheets need it; it takes a while to load
    from larkreader.judge.wire.pair_findings import judge_pairs
    from larkreader.judge.wire.turns import judge_turns

    lines = {key: wire.line for key, wire in sheet.wire.items()}
    until_s = end_s if past.replies_until_s is None else past.replies_until_s
    if not len(timeline):
        return {}
    pairs = {
        key: find_pairs(
            pairing,
            timeline,
            frames,
            characters,
            lines,
            until_s,
            past.longest_s.get(key),
            asked_before=not past.begun.isdisjoint(sheet.wires_of(pairing.request)),
            uncertain=uncertain,
        )
        for key, pairing in sheet.pair.items()
        if set(sheet.wires_of((*pairing.request, *pairing.reply))) <= set(characters)
    }
    findings += [finding for item in pairs.values() for finding in judge_pairs(item)]
    if end_s is None and not past.is_open:
        end_s = float(timeline.end_s.max())  # a wire is silent as long as others carry anything
    findings += judge_turns(sheet, timeline, characters, end_s, past.last_end_s)
    return pairs


def _inside_frames(sheet: Sheet, wire: str, count: int, frames: Mapping[str, Frames]) -> npt.NDArray[np.bool_]:
    """Return which characters of a wire lie inside good frames."""
    steps = np.zeros(count + 1, dtype=np.int8)  # no two frames overlap
    for layout in sheet.layouts_of(wire):
        good = frames[layout.key][frames[layout.key].faults == 0]
        np.add.at(steps, good.offset, 1)
        np.add.at(steps, good.offset + good.length, -1)
    return np.asarray(np.cumsum(steps, dtype=np.int8)[:-1] > 0, dtype=np.bool_)


def _begins_on(
    event: EventSignal, sheet: Sheet, characters: Mapping[str, Characters], frames: Mapping[str, Frames]
) -> Seconds:
    """Return when what follows the changes of a signal began, in seconds, ascending."""
    if event.to == "character":
        return characters[event.wire].begin_s
    begins = [frames[layout.key].begin_s for layout in sheet.layouts_of(event.wire)]
    return np.sort(np.concatenate(begins)) if begins else np.empty(0)
