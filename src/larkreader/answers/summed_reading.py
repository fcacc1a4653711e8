"""A large capture of characters, judged in bounded memory: counts and findings, without columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.content import Progress
from larkreader.capture.measured import Measured
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import open_sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError
from larkreader.harmless import harmless
from larkreader.judge.findings.finding import Findings, Verdict
from larkreader.judge.live.examples import FrameExample, FrameExamples
from larkreader.judge.live.stretches import StretchJudge
from larkreader.judge.live.sums import Sum, wires_judged_together
from larkreader.judge.measure.events import EventDelays
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.counts import FrameCounts, PairCounts, WireCounts
from larkreader.judge.verdict.judged import account_for
from larkreader.judge.verdict.wire_findings import Beginning
from larkreader.judge.wire.pauses import Pauses
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .reading import Reading, read
from .reading_content import reading_document

if TYPE_CHECKING:
    from larkreader.judge.setup.path_report import PathReport

FIRST_PART = 1 << 20  # characters of which the columns are held all the same
PARTS = 64  # in which they are taken
LARGE_STRETCH, LARGE_MOST = 1 << 18, 1 << 22  # of what is there already, a longer stretch costs less time


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
    """

    sheet: Sheet
    capture: str
    total: Sum
    findings: Findings
    checked: Checked
    sheet_name: str = ""
    examples: Mapping[str, Sequence[FrameExample]] = field(default_factory=dict)

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

    @property
    def events(self) -> Mapping[str, EventDelays]:
        """Empty, as a capture of characters has no changes of signals."""
        return {}

    @property
    def paths(self) -> Mapping[str, PathReport]:
        """Empty, as what receive paths make of characters takes levels."""
        return {}

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
    progress: Progress | None = None,
    stretch: int = LARGE_STRETCH,
    most: int = LARGE_MOST,
) -> SummedReading:
    r"""Judge a large capture of characters in bounded memory: what `read` concludes from it, without its columns.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path or binary file
        A file of characters: a recording, bytes, a log, a table.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
    form : CaptureForm, optional
        What the file does not say of itself; what the sheet says unless given.
    wire : str, optional
        Read this wire alone.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.
    stretch, most : int
        As of `LiveReading`.

    Returns
    -------
    SummedReading
        Bad data never raises; it is a finding.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    CaptureError
        If the capture cannot be read, or holds levels.
    RequestError
        If `wire` is not on the sheet, or is needed and not given.

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
    seen: dict[str, None] = {}
    judges = _Judges(declared, wires, stretch, most)
    with CaptureFile(path, kind=kind, form=form, progress=progress) as file:
        for piece in file.pieces({key: declared.wire[key].source for key in wires}):
            found = _characters_in(piece, file.name)
            seen |= dict.fromkeys(found)
            judges.add(found)
    total, findings, checked = judges.close(tuple(key for key in declared.wire if key in seen), wires)
    name = harmless(str(path), is_name=True)
    return SummedReading(declared, name, total, findings, checked, sheet_name, judges.examples.by_layout)


def read_first_part(
    sheet: Sheet | Source,
    capture: Source,
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    most: int = FIRST_PART,
) -> Reading:
    r"""Read the first part of a capture of characters, with its columns; `judge_capture` judges all of it.

    Parameters
    ----------
    sheet : Sheet, str, path or binary file
        What was declared, or the file that holds it.
    capture : str, path or binary file
        A file of characters: a recording, bytes, a log, a table.
    kind : str, optional
        As of `judge_capture`.
    form : CaptureForm, optional
        As of `judge_capture`.
    wire : str, optional
        Read this wire alone.
    most : int
        After how many characters of all wires the part ends.

    Returns
    -------
    Reading
        As if the capture ended there.

    Raises
    ------
    SheetError
        If the sheet cannot be used.
    CaptureError
        If the capture cannot be read, or holds levels.
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
    parts: dict[str, list[Characters]] = {}
    with CaptureFile(path, kind=kind, form=form) as file:
        pieces = file.pieces({key: declared.wire[key].source for key in wires})
        for part in _first_of((_characters_in(piece, file.name) for piece in pieces), most):
            for key, some in part.items():
                parts.setdefault(key, []).append(some)
    held = {key: Characters.joined(parts[key]) for key in declared.wire if key in parts}
    reading = read(declared, held, wire=wire)
    return replace(reading, capture=harmless(str(path), is_name=True), sheet_name=sheet_name)


def _opened(sheet: Sheet | Source) -> tuple[Sheet, str]:
    """Return a sheet, and the name of the file from which it was opened."""
    if isinstance(sheet, Sheet):
        return sheet, ""
    path = path_of(sheet)
    return open_sheet(path), str(path)


def _characters_in(piece: Mapping[str, Measured], name: str) -> dict[str, Characters]:
    """Return a piece of a capture that must hold characters."""
    found = {key: item for key, item in piece.items() if isinstance(item, Characters)}
    if len(found) < len(piece):
        raise CaptureError(name, "holds levels", "must be a file of characters", "Use lr.read")
    return found


def _first_of(pieces: Iterable[Mapping[str, Characters]], most: int) -> Iterator[Mapping[str, Characters]]:
    """Yield pieces in smaller parts, until there are so many characters."""
    count = 0
    for piece in pieces:
        for part in _parts(piece, max(most // PARTS, 1)):
            yield part
            count += sum(map(len, part.values()))
            if count >= most:
                return


class _Judges:
    """What judges the wires of a capture piece by piece."""

    def __init__(self, sheet: Sheet, wires: tuple[str, ...], stretch: int, most: int) -> None:
        self._sheet, self._size = sheet, stretch
        self._groups = wires_judged_together(sheet, wires)
        self.examples = FrameExamples()
        self._judges = [
            StretchJudge(sheet, some, stretch=stretch, most=most, examples=self.examples) for some in self._groups
        ]

    def add(self, piece: Mapping[str, Characters]) -> None:
        """Take in what happened next on the wires, a stretch at a time."""
        for judge, group in zip(self._judges, self._groups, strict=True):
            for part in _parts({wire: piece[wire] for wire in group if wire in piece}, self._size):
                for wire, characters in part.items():
                    judge.add(wire, characters)
                judge.settle()

    def close(self, there: tuple[str, ...], wires: tuple[str, ...]) -> tuple[Sum, Findings, Checked]:
        """Return what was found."""
        total = Sum()
        beginnings: dict[str, Beginning] = {}
        for judge in self._judges:
            some, begins = judge.close()
            total.take(some)
            beginnings |= begins
            total.cuts += judge.cuts
        total.wires = {wire: total.wires[wire] for wire in there}
        findings = total.conclude(self._sheet, beginnings)
        return total, findings, total.check(self._sheet, findings, wires)


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
