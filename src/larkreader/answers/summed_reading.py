"""A large capture, judged in bounded memory: counts and findings, without columns."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

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
from larkreader.judge.live.examples import FrameExample
from larkreader.judge.live.sums import Sum
from larkreader.judge.measure.events import EventDelays
from larkreader.judge.setup.path_report import PathSum
from larkreader.judge.verdict.checked import Checked
from larkreader.judge.verdict.counts import FrameCounts, PairCounts, WireCounts
from larkreader.judge.verdict.judged import account_for
from larkreader.judge.verdict.received import Receiver, receive_all, signals_of
from larkreader.judge.wire.pauses import Pauses
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .capture_judge import CaptureJudge, parts_of
from .large import needs_whole
from .reading import Reading, reading_of
from .reading_content import reading_document
from .timeline_part import TimelinePart

FIRST_PART = 1 << 20  # characters of which the columns are held all the same
FIRST_PART_OF_LEVELS = 1 << 16  # the same of levels, which are kept for figures, and whose receive paths are replayed
PARTS = 64  # in which they are taken
LARGE_STRETCH, LARGE_MOST = 1 << 18, 1 << 22  # of what is there already, a longer stretch costs less time
SHORT_STRETCH, SHORT_MOST = 1 << 16, 1 << 20  # beside which a piece of the levels, or the messages, are there


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
        return self.total.pairs_on(self.sheet)

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
    each: Callable[[TimelinePart], object] | None = None,
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
    each : callable, optional
        Called with each part of the capture once it is judged, in order of time, as `TimelinePart`: its columns are
        left then. All wires are judged together then.

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
        levels, of which only the whole shows how it is used; or if times go back on wires that concern each other.

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
        is_short = file.holds_levels or each is not None
        usual, usual_most = (SHORT_STRETCH, SHORT_MOST) if is_short else (LARGE_STRETCH, LARGE_MOST)
        judge = CaptureJudge(
            declared, wires, stretch or usual, most or usual_most, with_levels=file.holds_levels, each=each
        )
        for piece in file.pieces(signals_of(declared, wires, with_events=file.holds_levels)):
            judge.add(receiver.add(piece), receiver)
    judge.add(receiver.close(), receiver)
    total, findings, checked, examples, events, paths = judge.close()
    name = harmless(str(path), is_name=True)
    return SummedReading(declared, name, total, findings, checked, sheet_name, examples, events, paths)


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
        yield from parts_of({wire: some for wire, some in piece.items() if isinstance(some, Characters)}, size)


def _opened(sheet: Sheet | Source) -> tuple[Sheet, str]:
    """Return a sheet, and the name of the file from which it was opened."""
    if isinstance(sheet, Sheet):
        return sheet, ""
    path = path_of(sheet)
    return open_sheet(path), str(path)
