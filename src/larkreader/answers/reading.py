"""A capture decoded and judged as its sheet says."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.content import Progress
from larkreader.capture.measured import Measured
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.decode.columns.frame_columns import Frames, Spans
from larkreader.errors import RequestError
from larkreader.harmless import harmless
from larkreader.judge.findings.finding import Finding, Verdict
from larkreader.judge.measure.events import EventDelays
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.counts import FrameCounts, WireCounts
from larkreader.judge.verdict.judged import account_for, judge_received
from larkreader.judge.verdict.received import Received, receive_all, signals_of
from larkreader.judge.wire.pauses import Pauses
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .reading_content import reading_document

if TYPE_CHECKING:
    from larkreader.decode.timeline import Timeline
    from larkreader.judge.infer.level_widths import LevelWidths
    from larkreader.judge.measure.edge_phases import EdgePhases
    from larkreader.judge.measure.gaps import Gaps
    from larkreader.judge.measure.pair_columns import Pairs
    from larkreader.judge.measure.statistics import FrameStatistics
    from larkreader.judge.setup.path_report import PathReport


@dataclass(frozen=True, repr=False)
class Reading(Shown):
    """Everything found in a capture that was read against a sheet.

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
        The name of the sheet's file.
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
    levels : mapping of str to Trace
        By wire, if they were to be kept.
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
    levels: Mapping[str, Trace] = field(default_factory=dict)

    @cached_property
    def statistics(self) -> Mapping[str, FrameStatistics]:
        """Numbers for the frames of each layout and for their fields, by layout; see `measure_frames`."""
        from larkreader.judge.measure.statistics import measure_frames

        return {key: measure_frames(frames, resumed=self.resumed_on(frames)) for key, frames in self.frames.items()}

    def resumed_on(self, frames: Frames) -> tuple[int, ...]:
        """Return where the recording of the wire of some frames went on; see `Characters.resumed`.

        Parameters
        ----------
        frames : Frames
            Of the reading.
        """
        return self.characters[frames.layout.wire or next(iter(self.characters))].resumed

    @cached_property
    def timeline(self) -> Timeline:
        """The messages of all wires in order of time; none of a wire whose source has no times."""
        from larkreader.decode.timeline import make_timeline  # few ask for it, and it takes a while to load

        lines = {key: wire.line for key, wire in self.sheet.wire.items()}
        return make_timeline(self.characters, self.frames, self.skipped, lines)

    @cached_property
    def collisions(self) -> npt.NDArray[np.int64]:
        """The rows of `timeline` whose messages collide with another; int64, shape (n,). See `find_collisions`."""
        from larkreader.judge.wire.turns import find_collisions

        lines = {key: wire.line for key, wire in self.sheet.wire.items()}
        return find_collisions(self.timeline, self.characters, lines, self.sheet.timing.shared)

    @cached_property
    def gaps(self) -> Mapping[str, Gaps]:
        """How long each wire rests, by wire; see `measure_gaps`. None of a wire whose source has no times."""
        from larkreader.judge.measure.gaps import measure_gaps

        return {wire: measure_gaps(self.timeline, self.characters[wire], wire) for wire in self.timeline.wires}

    @cached_property
    def edge_phases(self) -> Mapping[str, EdgePhases]:
        """Where changes lie against bit boundaries, by wire whose levels were kept; see `measure_edge_phases`."""
        from larkreader.judge.measure.edge_phases import measure_edge_phases

        return {
            wire: measure_edge_phases(trace, self.characters[wire], self.sheet.wire[wire].line)
            for wire, trace in self.levels.items()
        }

    @cached_property
    def widths(self) -> Mapping[str, LevelWidths]:
        """How long levels last, by wire whose levels were kept and change; see `measure_widths`."""
        from larkreader.judge.infer.level_widths import measure_widths

        return {
            wire: measure_widths(trace, self.sheet.wire[wire].line)
            for wire, trace in self.levels.items()
            if len(trace) > 1
        }

    @property
    def verdict(self) -> Verdict:
        """What the reading is worth.

        ``"nothing-read"`` without a single character; ``"faults"`` with a finding of severity error, ``"warnings"``
        with one of warning; ``"clean"`` if all that was checked holds. `checked` has what that was, and what was not.
        """
        return self.checked.verdict_with(self.findings)

    @property
    def counts(self) -> Mapping[str, WireCounts]:
        """How much each wire carries."""
        return {wire: WireCounts.of(held, held, self.skipped.get(wire)) for wire, held in self.characters.items()}

    @property
    def frame_counts(self) -> Mapping[str, FrameCounts]:
        """How many frames of each layout there are."""
        return {key: FrameCounts.of(frames) for key, frames in self.frames.items()}

    def bytes_of(self, wire: str) -> dict[str, int]:
        """Account for every byte of a wire: total, and of it good, faulty and skipped.

        On a wire that carries frames, bytes of good frames, of faulty frames and of no frame; on another, characters
        without and with a fault.

        Parameters
        ----------
        wire : str
            The wire.
        """
        characters, layouts = self.characters[wire], self.sheet.layouts_of(wire)
        counts = WireCounts.of(characters, characters, self.skipped.get(wire))
        frames = (FrameCounts.of(self.frames[layout.key]) for layout in layouts)
        return account_for(counts, frames, is_framed=bool(layouts))

    def to_dict(self) -> dict[str, Any]:
        """Return the reading as the JSON document has it: counts and findings, not the columns."""
        return reading_document(self)

    def __repr__(self) -> str:
        wires = ", ".join(f"{wire}: {len(characters):,}" for wire, characters in self.characters.items())
        frames = ", ".join(f"{key}: {len(frames):,}" for key, frames in self.frames.items())
        lines = [f"<Reading of {self.capture}: {self.verdict}; characters {wires}; frames {frames or 'none'}>"]
        lines += [f"  {finding.severity} {finding.kind} on {finding.wire}: {finding.text}" for finding in self.findings]
        return "\n".join(lines)


def read(
    sheet: Sheet | Source,
    capture: Source | Mapping[str, Trace | Characters | bytes],
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    samples: int = 1,
    oversampling: int | None = None,
    check_stops: bool = False,
    keep_levels: bool = False,
    progress: Progress | None = None,
    workers: int = 1,
) -> Reading:
    r"""Read a capture against a sheet: characters, frames, findings, verdict.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path, binary file, or mapping of str to Trace, Characters or bytes
        A file, or what was measured by wire.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
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
    keep_levels : bool
        Whether `Reading.levels` has the levels of the wires, which figures of single characters need; else they are
        left as soon as their characters are found.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.
    workers : int
        How many processes may take part in reading a large file, as of `CaptureFile`.

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
    wires = declared.wires_named(wire)
    pieces: Iterable[Mapping[str, Measured | bytes]]
    if isinstance(capture, Mapping):
        name, pieces = "", [_of_known_wires(capture, declared, wires)]
    elif isinstance(capture, str) or hasattr(capture, "__fspath__") or hasattr(capture, "read"):
        path = path_of(capture)
        name, pieces = (
            harmless(str(path), is_name=True),
            _pieces_in(path, declared, wires, kind, form, progress, workers),
        )
    else:
        wanted = f'must be a file, or a mapping such as {{"{next(iter(declared.wire))}": ...}}'
        raise RequestError("capture", f"is of type {type(capture).__name__}", wanted)
    received = receive_all(
        pieces,
        declared,
        samples=samples,
        oversampling=oversampling,
        check_stops=check_stops,
        keep_levels=keep_levels,
    )
    return reading_of(declared, received, wires, name, sheet_name)


def reading_of(sheet: Sheet, received: Received, wires: Sequence[str], name: str, sheet_name: str) -> Reading:
    """Return the reading of what was received.

    Parameters
    ----------
    sheet, received, wires
        As of `judge_received`.
    name, sheet_name : str
        What the files of the capture and the sheet are called.
    """
    if any(some.resumed for some in received.characters.values()) and not received.extents:
        from .judged_parts import judge_parts  # few recordings have several parts

        parts = judge_parts(sheet, received.characters, wires)
        return Reading(
            sheet,
            name,
            received.characters,
            parts.frames,
            parts.skipped,
            parts.findings,
            sheet_name,
            pairs=parts.pairs,
            pauses=parts.pauses,
            checked=parts.checked,
        )
    judged = judge_received(sheet, received, wires)
    stretch = judged.stretch
    return Reading(
        sheet,
        name,
        received.characters,
        stretch.frames,
        stretch.skipped,
        judged.findings,
        sheet_name,
        stretch.events,
        stretch.paths,
        stretch.pairs,
        stretch.pauses,
        judged.checked,
        received.levels,
    )


def _pieces_in(
    path: Path,
    sheet: Sheet,
    wires: Sequence[str],
    kind: CaptureKind | None,
    form: CaptureForm | None,
    progress: Progress | None,
    workers: int,
) -> Iterator[Mapping[str, Measured]]:
    """Yield what a file holds of some wires, and of the sheet's other signals."""
    form = (form or sheet.capture).with_mark_of(sheet.wire[wires[0]].line)
    with CaptureFile(path, kind=kind, form=form, progress=progress, workers=workers) as file:
        yield from file.pieces(signals_of(sheet, wires, with_events=file.holds_levels))


def _of_known_wires(capture: Mapping[str, Any], sheet: Sheet, wanted: Sequence[str]) -> dict[str, Any]:
    for wire in capture:
        sheet.wires_named(wire)
    return {wire: held for wire, held in capture.items() if wire in wanted}
