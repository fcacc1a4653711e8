"""A large capture, judged in bounded memory: counts and findings, without columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.content import Progress
from larkreader.capture.measured import Measured
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import RequestError
from larkreader.harmless import harmless
from larkreader.judge.findings.finding import Findings, Verdict
from larkreader.judge.live.examples import FrameExample, FrameExamples
from larkreader.judge.live.followers import Followers
from larkreader.judge.live.stretches import Settled, StretchJudge
from larkreader.judge.live.sums import Sum, wires_judged_together
from larkreader.judge.measure.events import EventDelays
from larkreader.judge.setup.path_report import PathSum
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.counts import FrameCounts, PairCounts, WireCounts
from larkreader.judge.verdict.judged import account_for
from larkreader.judge.verdict.received import Receiver, receive_all, signals_of
from larkreader.judge.verdict.wire_findings import Beginning
from larkreader.judge.wire.pauses import Pauses
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .large import needs_whole
from .reading import Reading, reading_of
from .reading_content import reading_document

FIRST_PART = 1 << 20  # characters of which the columns are held all the same
FIRST_PART_OF_LEVELS = (
    1 << 16
)  # of a capture of levels, which are kept for figures, and whose receive paths are replayed
PARTS = 64  # in which they are taken
LARGE_STRETCH, LARGE_MOST = 1 << 18, 1 << 22  # of what is there already, a longer stretch costs less time
STRETCH_OF_LEVELS, MOST_OF_LEVELS = 1 << 16, 1 << 20  # beside which a piece of the levels is there


@dataclass(frozen=True, repr=False)
class SummedReading(Shown):
    """What a capture shows that was judged stretch by stretch: counts and findings.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    capture : str
        What was read.
    total : object
        Counts, and what the stretches show.
    findings : tuple of Finding
        What is wrong or worth knowing, errors first, then in order of place; of many places the first thousand.
    checked : Checked
        What the reading proves, and what it could not check.
    sheet_name : str
        The name of the sheet's file.
    examples : mapping of str to sequence of FrameExample
        By layout, the first faulty and the first good frames.
    events : mapping of str to EventDelays
        As of `Reading`.
    paths : mapping of str to PathSum
        By wire, what the declared receive path makes of its characters; only of wires whose levels were captured.
    """

    sheet: Sheet
    capture: str
    total: Sum
    findings: Findings
    checked: Checked
    sheet_name: str = ""
    examples: Mapping[str, Sequence[FrameExample]] = field(default_factory=dict)
    events: Mapping[str, EventDelays] = field(default_factory=dict)
    paths: Mapping[str, PathSum] = field(default_factory=dict)

    @property
    def verdict(self) -> Verdict:
        """What the reading is worth, as `Reading.verdict`."""
        return self.checked.verdict_with(self.findings)

    @property
    def counts(self) -> Mapping[str, WireCounts]:
        """How much each wire carries."""
        return self.total.counts

    @property
    def frame_counts(self) -> Mapping[str, FrameCounts]:
        """How many frames of each layout there are."""
        return {key: some for item in self.total.wires.values() for key, some in item.frames.items()}

    @property
    def pairs(self) -> Mapping[str, PairCounts]:
        """What became of the requests of each pairing."""
        return self.total.pairs

    @property
    def pauses(self) -> Mapping[str, Pauses]:
        """By wire with flow control that carries anything, when its sender was to pause, and how late it stopped."""
        counts = self.counts
        speaks = {wire for wire, item in counts.items() if item.characters}
        return {wire: pauses for wire, pauses in self.total.pauses.items() if wire in speaks}

    def bytes_of(self, wire: str) -> dict[str, int]:
        """Account for every byte of a wire, as `Reading.bytes_of`.

        Parameters
        ----------
        wire : str
            The wire.
        """
        item = self.total.wires[wire]
        return account_for(item.counts, item.frames.values(), is_framed=bool(self.sheet.layouts_of(wire)))

    def to_dict(self) -> dict[str, Any]:
        """Return the reading as the JSON document has it."""
        return reading_document(self)

    def __repr__(self) -> str:
        wires = ", ".join(f"{wire}: {counts.characters:,}" for wire, counts in self.counts.items())
        return f"<SummedReading of {self.capture}: {self.verdict}; characters {wires}; {len(self.findings)} findings>"


def judge_capture(
    sheet: Sheet | Source,
    capture: Source,
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    samples: int = 1,
    oversampling: int | None = None,
    check_stops: bool = False,
    progress: Progress | None = None,
    workers: int = 1,
    stretch: int | None = None,
    most: int | None = None,
) -> SummedReading:
    r"""Judge a large capture in bounded memory: what `read` concludes from it, without its columns.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path or binary file
        The file.
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
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.
    workers : int
        As of `read`.
    stretch, most : int, optional
        As of `LiveReading`, but longer unless given.

    Returns
    -------
    SummedReading
        Bad data never raises; it is a finding. What receive paths could stand is looked for up to 20,000 characters.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    CaptureError
        If the capture cannot be read.
    RequestError
        If `wire` is not on the sheet, or is needed and not given; if a wire has a clear-to-send signal in a capture of
        levels, of which only the whole shows how it is used.

    Examples
    --------
    >>> import io
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"}, fields=[{"name": "flow", "type": "uint8"}]
    ... )
    >>> sheet = lr.Sheet(wire={"pump": {}}, frame={"status": layout})
    >>> reading = lr.answers.judge_capture(sheet, io.BytesIO(b"\xd7\x05" * 1000), kind="bytes")
    >>> reading.verdict, reading.frame_counts["status"].good
    ('clean', 1000)
    """
    declared, sheet_name = _opened(sheet)
    wires = tuple(declared.wires_named(wire))
    path = path_of(capture)
    form = (form or declared.capture).with_mark_of(declared.wire[wires[0]].line)
    receiver = Receiver(declared, samples=samples, oversampling=oversampling, check_stops=check_stops)
    with CaptureFile(path, kind=kind, form=form, progress=progress, workers=workers) as file:
        if file.holds_levels and (needs := needs_whole(declared, wires)):
            raise RequestError(f'wire "{needs}"', "has a clear-to-send signal", "must be read whole", "Use lr.read")
        usual, usual_most = (STRETCH_OF_LEVELS, MOST_OF_LEVELS) if file.holds_levels else (LARGE_STRETCH, LARGE_MOST)
        judges = _Judges(declared, wires, stretch or usual, most or usual_most, with_levels=file.holds_levels)
        for piece in file.pieces(signals_of(declared, wires, with_events=file.holds_levels)):
            judges.add(receiver.add(piece), receiver)
    judges.add(receiver.close(), receiver)
    name = harmless(str(path), is_name=True)
    return judges.close(wires, name, sheet_name)


def read_first_part(
    sheet: Sheet | Source,
    capture: Source,
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    keep_levels: bool = False,
    workers: int = 1,
    most: int | None = None,
) -> Reading:
    r"""Read the first part of a capture, with its columns; `judge_capture` judges all of it.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path or binary file
        The file.
    kind : str, optional
        As of `judge_capture`.
    form : CaptureForm, optional
        As of `judge_capture`.
    wire : str, optional
        Read this wire alone.
    keep_levels : bool
        As of `read`.
    workers : int
        As of `read`.
    most : int, optional
        After how many characters of all wires the part ends: a million, or 65,536 of levels, unless given; that of
        levels ends with a piece of the file.

    Returns
    -------
    Reading
        As if the capture ended there.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    CaptureError
        If the capture cannot be read.
    RequestError
        If `wire` is not on the sheet, or is needed and not given.

    Examples
    --------
    >>> import io
    >>> sheet = lr.Sheet(wire={"pump": {}})
    >>> reading = lr.answers.read_first_part(sheet, io.BytesIO(b"flow" * 1000), kind="bytes", most=100)
    >>> len(reading.characters["pump"])
    100
    """
    declared, sheet_name = _opened(sheet)
    wires = declared.wires_named(wire)
    path = path_of(capture)
    form = (form or declared.capture).with_mark_of(declared.wire[wires[0]].line)
    with CaptureFile(path, kind=kind, form=form, workers=workers) as file:
        pieces = file.pieces(signals_of(declared, wires, with_events=file.holds_levels))
        most = most or (FIRST_PART_OF_LEVELS if file.holds_levels else FIRST_PART)
        parts = pieces if file.holds_levels else _smaller(pieces, max(most // PARTS, 1))
        received = receive_all(parts, declared, keep_levels=keep_levels, most=most)
    return reading_of(declared, received, wires, harmless(str(path), is_name=True), sheet_name)


def _smaller(pieces: Iterable[Mapping[str, Measured]], size: int) -> Iterator[Mapping[str, Characters]]:
    """Yield pieces of characters in parts of some size."""
    for piece in pieces:
        yield from _parts({wire: some for wire, some in piece.items() if isinstance(some, Characters)}, size)


def _opened(sheet: Sheet | Source) -> tuple[Sheet, str]:
    """Return a sheet, and the name of the file from which it was opened."""
    if isinstance(sheet, Sheet):
        return sheet, ""
    path = path_of(sheet)
    return open_sheet(path), str(path)


class _Judges:
    """What judges the wires of a capture piece by piece."""

    def __init__(self, sheet: Sheet, wires: tuple[str, ...], stretch: int, most: int, *, with_levels: bool) -> None:
        self._sheet, self._size = sheet, stretch
        self._groups = wires_judged_together(sheet, wires)
        self._examples = FrameExamples()
        self._followers = Followers(sheet, wires) if with_levels else None
        self._judges = [
            StretchJudge(sheet, some, stretch=stretch, most=most, settled=self._settle) for some in self._groups
        ]
        self._waiting: dict[str, Characters] = {}
        self._ends_s: dict[str, float | None] = {}
        self._seen: dict[str, None] = {}

    def add(self, piece: Mapping[str, Characters], receiver: Receiver) -> None:
        """Take in what happened next on the wires, a stretch at a time."""
        self._seen |= dict.fromkeys(piece)
        if self._followers is not None:
            known = receiver.received
            self._ends_s = {wire: extent.end_s for wire, extent in known.extents.items()}
            self._followers.add_changes(receiver.taken_changes())
            for judge in self._judges:
                judge.note_levels(known.extents, known.beginnings)
        for judge, group in zip(self._judges, self._groups, strict=True):
            some = {wire: piece[wire] for wire in group if wire in piece}
            if len(group) > 1:
                some = self._known_together(some, min(map(receiver.decided_s, group)))
            for part in _parts(some, self._size):
                for wire, characters in part.items():
                    judge.add(wire, characters)
                judge.settle()

    def _settle(self, settled: Settled) -> None:
        """Take in a stretch that is given up."""
        self._examples.add(settled.stretch.frames, settled.held, settled.first, settled.before)
        if self._followers is not None:
            self._followers.settle(settled)

    def _known_together(self, piece: Mapping[str, Characters], until_s: float) -> dict[str, Characters]:
        """Return the characters up to the time until which all wires are known, and keep the others."""
        found = {}
        for wire, some in piece.items():
            characters = Characters.joined([self._waiting.pop(wire), some]) if wire in self._waiting else some
            count = int(np.searchsorted(characters.begin_s, until_s)) if until_s < np.inf else len(characters)
            found[wire] = characters.between(0, count)
            if until_s < np.inf:
                self._waiting[wire] = characters.between(count)
        return found

    def close(self, wires: tuple[str, ...], name: str, sheet_name: str) -> SummedReading:
        """Return what was found."""
        total = Sum()
        beginnings: dict[str, Beginning] = {}
        for judge in self._judges:
            some, begins = judge.close()
            total.take(some)
            beginnings |= begins
            total.cuts += judge.cuts
        total.wires = {wire: total.wires[wire] for wire in self._sheet.wire if wire in self._seen}
        paths, events = {}, {}
        if self._followers is not None:
            paths, events = self._followers.paths(self._judges, self._ends_s), self._followers.events()
        of_paths = [finding for path in paths.values() for finding in path.findings]
        findings = total.conclude(self._sheet, beginnings, of_paths)
        checked = total.check(self._sheet, findings, wires, paths)
        return SummedReading(
            self._sheet, name, total, findings, checked, sheet_name, self._examples.by_layout, events, paths
        )


def _parts(piece: Mapping[str, Characters], size: int) -> Iterator[Mapping[str, Characters]]:
    """Yield a piece of some wires in parts of some size: up to the same time on all of them, where there are times."""
    if not piece:
        return
    longest = max(piece.values(), key=len)
    count = -(-sum(map(len, piece.values())) // size)
    if count < 2 or (len(piece) > 1 and not longest.has_times):
        yield piece
        return
    first = dict.fromkeys(piece, 0)
    for number in range(1, count + 1):
        place = len(longest) * number // count
        if number == count:
            end = {wire: len(characters) for wire, characters in piece.items()}
        elif len(piece) == 1:
            end = dict.fromkeys(piece, place)
        else:
            until_s = longest.begin_s[place]
            end = {wire: int(np.searchsorted(some.begin_s, until_s)) for wire, some in piece.items()}
        yield {wire: some.between(first[wire], end[wire]) for wire, some in piece.items()}
        first = end
