"""A capture decoded and judged as its sheet says."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.files.content import Progress
from larkreader.capture.files.open import CapturePath
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.declare.link.event import EventSignal
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.decode.columns.frame_columns import FRAME_FAULT_NAMES, Frames, Skip, Spans
from larkreader.errors import RequestError, nearest
from larkreader.judge.findings.finding import SEVERITIES, Finding, Findings, Verdict
from larkreader.judge.measure.events import EventDelays, Seconds, measure_delays
from larkreader.judge.verdict.checked import Checked, add_up
from larkreader.judge.verdict.received import Received, receive_all
from larkreader.judge.verdict.wire_findings import judge_wire, span_of
from larkreader.judge.wire.pauses import Pauses, judge_pauses, measure_pauses
from larkreader.shown import Shown
from larkreader.sources import path_of

from .measured import measured_in

if TYPE_CHECKING:
    from larkreader.decode.timeline import Timeline
    from larkreader.judge.measure.pair_columns import Pairs
    from larkreader.judge.measure.statistics import FrameStatistics
    from larkreader.judge.setup.path_report import PathReport

COUNTED = ("parity", "framing", "break", "noise", "overrun")  # in the JSON document, each a name of `Fault`


@dataclass(frozen=True, repr=False)
class Reading(Shown):
    """Everything that came out of one capture read against one sheet.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    capture : str
        What was read.
    characters : mapping of str to Characters
        By wire.
    frames : mapping of str to Frames
        By layout.
    skipped : mapping of str to Spans
        By wire, what belongs to no frame; only wires that carry frames.
    findings : tuple of Finding
        What is wrong or worth knowing, errors first, then in order of place.
    sheet_name : str
        Where the sheet came from.
    events : mapping of str to EventDelays
        Delays from the changes of the sheet's event signals, by their names; none where the capture has no levels.
    paths : mapping of str to PathReport
        By wire, what the declared receive path makes of its characters; only of wires whose levels were captured.
    pairs : mapping of str to Pairs
        The sheet's pairings, by name: which reply answers which request.
    pauses : mapping of str to Pauses
        By wire with flow control, how late its sender stopped when a pause was requested.
    checked : Checked
        What the reading proves, and what it could not check.
    """

    sheet: Sheet
    capture: str
    characters: Mapping[str, Characters]
    frames: Mapping[str, Frames]
    skipped: Mapping[str, Spans]
    findings: tuple[Finding, ...]
    sheet_name: str = ""
    events: Mapping[str, EventDelays] = field(default_factory=dict)
    paths: Mapping[str, PathReport] = field(default_factory=dict)
    pairs: Mapping[str, Pairs] = field(default_factory=dict)
    pauses: Mapping[str, Pauses] = field(default_factory=dict)
    checked: Checked = field(default_factory=lambda: Checked((), (), is_read=True))

    @cached_property
    def statistics(self) -> Mapping[str, FrameStatistics]:
        """Numbers for the frames of each layout and for their fields, by layout; see `measure_frames`."""
        from larkreader.judge.measure.statistics import measure_frames

        return {key: measure_frames(frames) for key, frames in self.frames.items()}

    @cached_property
    def timeline(self) -> Timeline:
        """The messages of all wires in order of time; none of a wire whose source has no times."""
        return _timeline_of(self.sheet, self.characters, self.frames, self.skipped)

    @property
    def verdict(self) -> Verdict:
        """What the reading is worth.

        ``"nothing-read"`` without a single character; ``"faults"`` with a finding of severity error, ``"warnings"``
        with one of warning; ``"clean"`` if all that was checked holds. `checked` has what that was, and what was not.
        """
        return self.checked.verdict_with(self.findings)

    def bytes_of(self, wire: str) -> dict[str, int]:
        """Account for every byte of a wire: total, and of it good, faulty and skipped.

        On a wire that carries frames, bytes of good frames, of faulty frames and of no frame; on another, characters
        without and with a fault.

        Parameters
        ----------
        wire : str
            The wire.
        """
        return _bytes_of(self.sheet, wire, self.characters[wire], self.frames, self.skipped)

    def to_dict(self) -> dict[str, Any]:
        """Return the reading as the JSON document has it: counts and findings, not the columns."""
        return {
            "sheet": self.sheet_name,
            "capture": self.capture,
            "verdict": self.verdict,
            "checked": self.checked.to_dict(),
            "wires": {wire: self._wire_dict(wire) for wire in self.characters},
            "frames": {key: _frames_dict(frames) for key, frames in self.frames.items()},
            **({"events": {key: one.to_dict() for key, one in self.events.items()}} if self.sheet.event else {}),
            **({"pairs": {key: one.to_dict() for key, one in self.pairs.items()}} if self.pairs else {}),
            **({"receive": {key: one.to_dict() for key, one in self.paths.items()}} if self.paths else {}),
            **({"pauses": {key: one.to_dict() for key, one in self.pauses.items()}} if self.pauses else {}),
            "findings": [finding.to_dict() for finding in self.findings],
        }

    def _wire_dict(self, wire: str) -> dict[str, Any]:
        characters = self.characters[wire]
        counts = {name: characters.count(Fault[name.upper()]) for name in COUNTED}
        return {
            "line": str(self.sheet.wire[wire].line),
            "characters": len(characters),
            **counts,
            "rates": {name: count / len(characters) if len(characters) else 0.0 for name, count in counts.items()},
            "bytes": self.bytes_of(wire),
        }

    def __repr__(self) -> str:
        wires = ", ".join(f"{wire}: {len(characters):,}" for wire, characters in self.characters.items())
        frames = ", ".join(f"{key}: {len(frames):,}" for key, frames in self.frames.items())
        lines = [f"<Reading of {self.capture}: {self.verdict}; characters {wires}; frames {frames or 'none'}>"]
        lines += [f"  {finding.severity} {finding.kind} on {finding.wire}: {finding.text}" for finding in self.findings]
        return "\n".join(lines)


def read(
    sheet: Sheet | CapturePath,
    capture: CapturePath | Mapping[str, Trace | Characters | bytes],
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    samples: int = 1,
    oversampling: int | None = None,
    check_stops: bool = False,
    progress: Progress | None = None,
) -> Reading:
    r"""Read a capture against a sheet: characters, frames, findings, verdict.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path, binary file, or mapping of str to Trace, Characters or bytes
        A file, or what was measured by wire.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content unless said.
    form : CaptureForm, optional
        What the file does not say of itself; what the sheet says unless given.
    wire : str, optional
        Read this wire alone.
    samples : {1, 3}
        As of `receive`.
    oversampling : int, optional
        As of `receive`.
    check_stops : bool
        As of `receive`.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.

    Returns
    -------
    Reading
        Bad data never raises; it is a finding.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    CaptureError
        If the capture cannot be read.
    RequestError
        If `wire` is not on the sheet, or is needed and not given, or `capture` is neither a file nor a mapping.

    Examples
    --------
    >>> layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 2}, fields=[{"name": "flow", "type": "uint16"}])
    >>> sheet = lr.Sheet(wire={"pump": {}}, frame={"flow": layout})
    >>> reading = lr.read(sheet, {"pump": lr.transmit(b"\x10\x00\x20\x00", sheet.wire["pump"].line)})
    >>> reading.verdict, reading.frames["flow"]["flow"].tolist()
    ('clean', [16, 32])
    """
    if isinstance(sheet, Sheet):
        sheet_name, declared = "", sheet
    else:
        sheet_path = path_of(sheet)
        sheet_name, declared = str(sheet_path), open_sheet(sheet_path)
    pieces: Iterable[Mapping[str, Any]]
    if isinstance(capture, Mapping):
        name, pieces = "", iter([_of_known_wires(capture, declared, wire)])
    elif not isinstance(capture, str) and not hasattr(capture, "__fspath__") and not hasattr(capture, "read"):
        wanted = f'must be a file, or a mapping such as {{"{next(iter(declared.wire))}": ...}}'
        raise RequestError("capture", f"is of type {type(capture).__name__}", wanted)
    else:
        path = path_of(capture)
        name = str(path)
        pieces = measured_in(path, declared, kind=kind, form=form, wire=wire, progress=progress)
    options = {"samples": samples, "oversampling": oversampling, "check_stops": check_stops}
    received = receive_all(pieces, declared, options)
    characters = received.characters
    frames: dict[str, Frames] = {}
    skipped: dict[str, Spans] = {}
    findings: list[Finding] = []
    # a counter that a reply takes from its request jumps where one was not answered
    taken = {(name, field) for one in declared.pair.values() for name in one.reply for field in one.match.values()}
    for key in characters:
        found = judge_wire(declared, key, received, taken)
        frames |= found.frames
        findings += found.findings
        if found.skipped is not None:
            skipped[key] = found.skipped
    inside = {key: _inside_frames(declared, key, len(told), frames) for key, told in characters.items()}
    findings += judge_pauses(declared, characters, received.clear, inside)
    pauses = measure_pauses(declared, characters, received.clear, inside)
    paths = _paths_of(declared, received, characters, frames, skipped) if declared.receive else {}
    findings += [finding for one in paths.values() for finding in one.findings]
    pairs: dict[str, Pairs] = {}
    if _has_turns(declared):
        end_s = max((one.end_s for one in received.extents.values() if one.end_s is not None), default=None)
        pairs = _judge_turns(declared, characters, frames, skipped, end_s, findings)
    findings.sort(key=lambda one: (SEVERITIES.index(one.severity), one.first_s or 0.0, one.offset or 0))
    events = {
        key: measure_delays(event, received.changes_s[key], _begins_on(event, declared, characters, frames))
        for key, event in declared.event.items()
        if key in received.changes_s
    }
    checked = add_up(
        declared,
        characters,
        frames,
        {key: _bytes_of(declared, key, held, frames, skipped) for key, held in characters.items()},
        findings,
        pairs=pairs,
        paths=paths,
        pauses=pauses,
        wires=[*declared.wire] if wire is None else [wire],
    )
    found_all = Findings(findings)
    return Reading(
        declared, name, characters, frames, skipped, found_all, sheet_name, events, paths, pairs, pauses, checked
    )


def _bytes_of(
    sheet: Sheet, wire: str, characters: Characters, frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> dict[str, int]:
    """Account for every byte of a wire; see `Reading.bytes_of`."""
    total = len(characters)
    layouts = [layout.key for layout in sheet.layouts_of(wire)]
    if not layouts:
        faulty = int(np.count_nonzero(characters.faults))
        return {"total": total, "good": total - faulty, "faulty": faulty, "skipped": 0}
    good = sum(int(frames[key].length[frames[key].faults == 0].sum()) for key in layouts)
    faulty = sum(int(frames[key].length[frames[key].faults != 0].sum()) for key in layouts)
    return {"total": total, "good": good, "faulty": faulty, "skipped": int(skipped[wire].length.sum())}


def _has_turns(sheet: Sheet) -> bool:
    """Tell whether a sheet declares anything that takes the times of messages."""
    return bool(sheet.pair or sheet.timing.shared or any(wire.silence_s is not None for wire in sheet.wire.values()))


def _timeline_of(
    sheet: Sheet, characters: Mapping[str, Characters], frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> Timeline:
    from larkreader.decode.timeline import make_timeline  # few ask for it, and it takes a while to load

    return make_timeline(characters, frames, skipped, {key: wire.line for key, wire in sheet.wire.items()})


def _judge_turns(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    skipped: Mapping[str, Spans],
    end_s: float | None,
    findings: list[Finding],
) -> dict[str, Pairs]:
    """Return the pairings of which both sides were captured; add the findings about them, and about the turns."""
    from larkreader.judge.measure.pairs import find_pairs
    from larkreader.judge.wire.pair_findings import judge_pairs
    from larkreader.judge.wire.turns import judge_turns

    timeline = _timeline_of(sheet, characters, frames, skipped)
    if not len(timeline):
        return {}
    lines = {key: wire.line for key, wire in sheet.wire.items()}
    pairs = {
        key: find_pairs(pairing, timeline, frames, characters, lines, end_s)
        for key, pairing in sheet.pair.items()
        if set(sheet.wires_of((*pairing.request, *pairing.reply))) <= set(timeline.wires)
    }
    findings += [finding for one in pairs.values() for finding in judge_pairs(one)]
    findings += judge_turns(sheet, timeline, characters, end_s)
    return pairs


def _inside_frames(sheet: Sheet, wire: str, count: int, frames: Mapping[str, Frames]) -> npt.NDArray[np.bool_]:
    """Return which characters of a wire lie inside good frames."""
    steps = np.zeros(count + 1, dtype=np.int64)
    for layout in sheet.layouts_of(wire):
        good = frames[layout.key][frames[layout.key].faults == 0]
        np.add.at(steps, good.offset, 1)
        np.add.at(steps, good.offset + good.length, -1)
    return np.asarray(np.cumsum(steps)[:-1] > 0, dtype=np.bool_)


def _paths_of(
    sheet: Sheet,
    received: Received,
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    skipped: Mapping[str, Spans],
) -> dict[str, PathReport]:
    """Return what the declared receive paths make of the wires whose levels were captured."""
    from larkreader.judge.setup.path_report import (  # few sheets declare any; it takes a while to load
        SEARCHED,
        Messages,
        judge_receive_path,
    )

    reports = {}
    for key, held in characters.items():
        if key not in sheet.receive or not held.has_times or not held.has_line:
            continue
        span_s = span_of(received, key)
        by_rests = Messages.between_rests(held, sheet.wire[key].line, None if span_s is None else span_s[1])
        starts = _starts_on(sheet, key, frames)
        ends = [frames[layout.key].offset + frames[layout.key].length for layout in sheet.layouts_of(key)]
        is_whole: bool | None = by_rests.is_whole
        if any((one == len(held)).any() for one in ends):
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


def _of_known_wires(capture: Mapping[str, Any], sheet: Sheet, wanted: str | None) -> dict[str, Any]:
    for wire in [*capture, *([] if wanted is None else [wanted])]:
        if wire not in sheet.wire:
            raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(sheet.wire)))
    return {wire: what for wire, what in capture.items() if wanted in (None, wire)}


def _frames_dict(frames: Frames) -> dict[str, Any]:
    counts = {name: int(np.count_nonzero(frames.faults & fault)) for fault, name in FRAME_FAULT_NAMES.items()}
    return {
        "count": len(frames),
        "good": int(np.count_nonzero(frames.faults == 0)),
        "faults": {name: count for name, count in counts.items() if count},
    }
