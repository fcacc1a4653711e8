"""What a report says: plain tables and texts, of which a page or a Markdown document is made."""

from __future__ import annotations

import platform
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader import __version__
from larkreader.answers.reading import Reading
from larkreader.answers.summed_reading import SummedReading
from larkreader.capture.characters import FAULT_NAMES
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.timeline import What
from larkreader.judge.findings.finding import Finding, place
from larkreader.judge.findings.wording import duration
from larkreader.judge.live.examples import FrameExample, FrameExamples
from larkreader.judge.measure.distribution import figures_of
from larkreader.judge.measure.pair_columns import PARTS, Pairs, PairState
from larkreader.judge.measure.statistics import FrameStatistics
from larkreader.judge.verdict.counts import PairCounts
from larkreader.present.tables.finding_views import VERDICTS, in_order
from larkreader.present.tables.frame_explained import headline, parts_of
from larkreader.present.tables.layout_table import layout_heading, layout_rows
from larkreader.present.tables.timeline_rows import TimelineRows
from larkreader.present.tables.timeline_views import IN_GROUPS, PART_NAMES

from .pictures import Picture, pictures_of, waveform_of

MOST_PLACES = 12  # of a finding, that are listed
MOST_MESSAGES = 40  # of the timeline


@dataclass(frozen=True)
class TableOf:
    """A table: a title, headings, and rows of texts; a heading that begins with ``>`` is of numbers."""

    title: str
    heads: Sequence[str]
    rows: Sequence[Sequence[str]]


@dataclass(frozen=True)
class ReportedFinding:
    """A finding with its places and the picture of the first."""

    finding: Finding
    places: Sequence[str]
    picture: Picture | None

    @property
    def more(self) -> int:
        """How many places are not listed."""
        return max(self.finding.count - len(self.places), 0) if self.places else 0


@dataclass(frozen=True)
class ExplainedFrame:
    """One frame taken apart."""

    number: int
    layout: str
    headline: str
    faults: str
    hex: Sequence[str]
    parts: TableOf


@dataclass(frozen=True)
class Report:
    """What a report says.

    Parameters
    ----------
    title : str
        What was read.
    verdict, verdict_text : str
        The verdict, and in words.
    summary : str
        What was captured, in a sentence.
    findings : sequence of ReportedFinding
        Errors first.
    declared, captured : sequence of TableOf
        What the sheet says, and what was found.
    layouts : sequence of TableOf
        Where the fields of frames lie.
    frames : sequence of ExplainedFrame
        Some frames taken apart: faulty frames, and good frames of each layout.
    frames_left : int
        Faulty frames that are not among them.
    pictures : sequence of Picture
        The figures.
    remarks : sequence of str
        What else is worth knowing.
    facts : TableOf
        By what, of which files and how it was made.
    checked : sequence of str
        What was proven, and what could not be checked, a line each.
    """

    title: str
    verdict: str
    verdict_text: str
    summary: str
    findings: Sequence[ReportedFinding]
    declared: Sequence[TableOf]
    captured: Sequence[TableOf]
    layouts: Sequence[TableOf]
    frames: Sequence[ExplainedFrame]
    frames_left: int
    pictures: Sequence[Picture]
    facts: TableOf
    remarks: Sequence[str] = field(default_factory=tuple)
    checked: Sequence[str] = field(default_factory=tuple)

    @property
    def opened(self) -> int:
        """The number of the frame that is open first: the first faulty frame, if there is any."""
        return next((frame.number for frame in self.frames if frame.faults != "no fault"), 0)


def make_report(
    reading: Reading,
    *,
    whole: SummedReading | None = None,
    files: Iterable[tuple[str, str]] = (),
    command: str = "",
    made_at: str = "",
    remarks: Sequence[str] = (),
    with_figures: bool = True,
) -> Report:
    """Gather what a report says of a reading.

    Parameters
    ----------
    reading : Reading
        What was read.
    whole : SummedReading, optional
        What all of a large capture shows, of which `reading` is the first part.
    files : iterable of tuple of str and str
        The files that it was made from: name, and what distinguishes them.
    command : str
        How to make it again.
    made_at : str
        Date and time, as they are to stand there.
    remarks : sequence of str
        What else is worth knowing.
    with_figures : bool
        Whether to draw any, which takes most of the time.

    Returns
    -------
    Report
    """
    counted = whole or reading
    frames, left = _explained(reading, whole)
    result = [*remarks, *([IN_GROUPS] if reading.timeline.in_groups else []), *_part_remark(reading, whole)]
    return Report(
        title=reading.sheet.title or reading.capture or "A UART link",
        verdict=counted.verdict,
        verdict_text=VERDICTS[counted.verdict].partition(": ")[2],
        summary=_summary(counted),
        findings=[
            ReportedFinding(item, _places_of(item), waveform_of(item, reading) if with_figures else None)
            for item, _ in in_order(counted.findings)
        ],
        declared=_declared(reading.sheet),
        captured=_captured(reading, counted),
        layouts=[
            TableOf(layout_heading(layout), ("byte.bit", "field", "type", "meaning"),
                    [(row.place, row.name, row.type, row.meaning) for row in layout_rows(layout)])
            for layout in reading.sheet.frame.values()
        ],
        frames=frames,
        frames_left=left,
        pictures=list(pictures_of(reading)) if with_figures else (),
        facts=_facts(files, command, made_at),
        remarks=result,
        checked=str(counted.checked).splitlines(),
    )  # fmt: skip


def _places_of(finding: Finding) -> list[str]:
    """Return where a finding is, the first places."""
    rows = finding.places.to_list(MOST_PLACES)
    return [text for row in rows if (text := place(row["time_s"], row["offset"]))]


def _summary(reading: Reading | SummedReading) -> str:
    counts = reading.counts
    parts = [f"{item.characters:,} characters on {wire}" for wire, item in counts.items()]
    parts += [f"{item.frames:,} {key} frames" for key, item in reading.frame_counts.items()]
    timed = [item for item in counts.values() if item.has_times]
    span_s = max(item.end_s for item in timed) - min(item.begin_s for item in timed) if timed else 0.0
    return ", ".join(parts) + (f", in {duration(span_s)}" if timed else "") + "."


def _part_remark(reading: Reading, whole: Reading | SummedReading | None) -> list[str]:
    """Return which of what a report says is of the first part of a capture alone."""
    if whole is None:
        return []
    count, total = (sum(item.characters for item in counts.counts.values()) for counts in (reading, whole))
    if count == total:
        return []
    of_first = "Values of fields, periods, parts of a cycle, messages and figures are of the first"
    return [f"{of_first} {count:,} of {total:,} characters; everything else is of all of them."]


def _declared(sheet: Sheet) -> list[TableOf]:
    wires = [
        (key, wire.source, str(wire.line), f"{wire.line.bit_time_s * 1e6:.4g} \u00b5s",
         f"{wire.line.characters_per_second:,.1f}", wire.note)
        for key, wire in sheet.wire.items()
    ]  # fmt: skip
    tables = [TableOf("Wires", ("wire", "signal", "line", ">bit", ">characters/s", "note"), wires)]
    if sheet.frame:
        rows = [(key, item.wire or "", item.marker.hex(" ").upper() or item.boundary.kind,
                 str(item.length) if item.is_fixed else f"{item.shortest} to {item.longest}",
                 _checksum(item.checksum), " ".join(item.slot)) for key, item in sheet.frame.items()]  # fmt: skip
        tables.append(TableOf("Frames", ("frame", "wire", "begins", ">bytes", "checksum", "fields"), rows))
    if sheet.pair:
        pairs = [
            (
                key,
                ", ".join(item.request),
                ", ".join(item.reply),
                ", ".join(f"{name} = {other}" for name, other in item.match.items()) or "the next",
                "" if item.within_s is None else duration(item.within_s),
            )
            for key, item in sheet.pair.items()
        ]
        tables.append(TableOf("Requests and replies", ("pair", "request", "reply", "matched by", ">within"), pairs))
    return tables


def _checksum(declared: Any) -> str:
    if declared is None:
        return "none"
    algorithm = declared.algorithm
    return algorithm if isinstance(algorithm, str) else f"CRC of {algorithm.width} bits"


def _captured(reading: Reading, counted: Reading | SummedReading) -> list[TableOf]:
    """Return what was found: counts of all of the capture, values of what `reading` holds of it."""
    rows = []
    for wire, counts in counted.counts.items():
        parts = counted.bytes_of(wire)
        found = [
            f"{counts.by_fault[fault]:,} {name}" for fault, name in FAULT_NAMES.items() if fault in counts.by_fault
        ]
        shares = (f"{parts[name]:,}" for name in ("good", "faulty", "skipped"))
        rows.append((wire, f"{counts.characters:,}", ", ".join(found) or "none", *shares))
    heads = ("wire", ">characters", "line faults", ">bytes good", ">faulty", ">skipped")
    tables = [TableOf("Wires", heads, rows)]
    if counted.frame_counts:
        result = {key: item.to_dict() for key, item in counted.frame_counts.items()}
        rows = [(key, f"{item['count']:,}", f"{item['good']:,}",
                 ", ".join(f"{count:,} {name}" for name, count in item["faults"].items()) or "none",
                 *_period(reading.statistics[key])) for key, item in result.items()]  # fmt: skip
        tables.append(TableOf("Frames", ("frame", ">found", ">good", "faults", ">period", ">jitter"), rows))
    fields = _field_rows(reading.statistics)
    if fields:
        tables.append(
            TableOf("Fields", ("frame", "field", ">values", ">least", ">mean", ">most", "unit", "names"), fields)
        )
    if reading.pairs:
        tables += _pair_tables(reading.pairs, counted)
    if len(reading.timeline.wires) > 1:
        tables.append(_messages(reading, is_part=bool(_part_remark(reading, counted))))
    return tables


def _period(statistics: FrameStatistics) -> tuple[str, str]:
    period, jitter = ("-" if time is None else duration(time) for time in (statistics.period_s, statistics.jitter_s))
    return period, jitter


def _field_rows(every: Mapping[str, FrameStatistics]) -> list[tuple[str, ...]]:
    rows = []
    for key, statistics in every.items():
        for name, held in statistics.fields.items():
            numbers = ["" if value is None else f"{value:.6g}" for value in (held.least, held.mean, held.most)]
            names = ", ".join(f"{text} {count:,}" for text, count in list(held.names.items())[:6])
            rows.append((key, name, f"{held.count:,}", *numbers, held.unit, names))
    return rows


def _pair_tables(every: Mapping[str, Pairs], counted: Reading | SummedReading) -> list[TableOf]:
    states = (PairState.ANSWERED, PairState.LATE, PairState.DAMAGED_REPLY, PairState.UNANSWERED, PairState.OPEN)
    rows, parts = [], []
    for key, pairs in every.items():
        found = counted.pairs[key]
        counts = found if isinstance(found, PairCounts) else PairCounts.of(found)
        of_states = (f"{counts.by_state[state]:,}" for state in states)
        rows.append((key, f"{counts.requests:,}", *of_states, f"{counts.repeated:,}"))
        result = pairs.parts()
        for name in PARTS:
            held = figures_of(result[name])
            shown = (
                "-" if held[item] is None else duration(held[item])
                for item in ("least_s", "median_s", "nearly_all_s", "most_s")
            )
            parts.append((key, PART_NAMES[name], *shown))
    heads = ("pair", ">requests", ">answered", ">late", ">damaged", ">no reply", ">open", ">repeated")
    return [
        TableOf("Requests and replies", heads, rows),
        TableOf("Parts of a cycle", ("pair", "part", ">least", ">median", ">99 % within", ">most"), parts),
    ]


def _are_cut_off(reading: Reading, rows: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Return which rows of the timeline are of a message that the end of a first part cuts off."""
    timeline = reading.timeline
    counts = np.array([len(reading.characters[wire]) for wire in timeline.wires], dtype=np.int64)
    is_last = timeline.offset[rows] + timeline.length[rows] == counts[timeline.wire[rows]]
    return np.asarray(is_last & (timeline.what[rows] == What.SKIPPED), dtype=np.bool_)


def _messages(reading: Reading, *, is_part: bool) -> TableOf:
    """Return the first messages with which something is wrong; the first messages at all if nothing is."""
    rows = TimelineRows(reading)
    wrong, every = rows.wrong(), np.arange(len(rows.timeline), dtype=np.int64)
    if is_part:
        wrong, every = (some[~_are_cut_off(reading, some)] for some in (wrong, every))
    chosen = (wrong if len(wrong) else every)[:MOST_MESSAGES]
    named = len(reading.pairs) > 1
    wires = rows.timeline.wires
    result = []
    for entry in rows.entries(chosen):
        text = " ".join(
            [entry.text, *([f"({entry.faults})"] if entry.faults else []), *(["into another"] * entry.collides)]
        )
        cells = [text if wire == entry.wire else "" for wire in wires]
        parts = ["; ".join(part.text(named=named) for part in entry.parts)] if reading.pairs else []
        result.append((f"{entry.begin_s:.6f}", *cells, *parts))
    which = "with which something is wrong" if len(wrong) else "in order of time"
    more = f", the first {MOST_MESSAGES}" if len(wrong if len(wrong) else every) > MOST_MESSAGES else ""
    return TableOf(f"Messages {which}{more}", (">at s", *wires, *(["pair"] if reading.pairs else [])), result)


def _explained(reading: Reading, whole: SummedReading | None) -> tuple[list[ExplainedFrame], int]:
    """Return the frames that are taken apart, in order of time, and how many faulty frames are not."""
    if whole is None:
        examples = FrameExamples()
        examples.add(reading.frames, reading.characters)
        by_layout: Mapping[str, Sequence[FrameExample]] = examples.by_layout
    else:
        by_layout = whole.examples
    counts = (whole or reading).frame_counts
    faulty = {key: sum(not item.is_good for item in kept) for key, kept in by_layout.items()}
    left = sum(item.frames - item.good - faulty.get(key, 0) for key, item in counts.items())
    chosen = sorted(
        ((*item.place, key, item) for key, kept in by_layout.items() for item in kept), key=lambda row: row[:3]
    )
    return [_explain(number, key, item) for number, (_, _, key, item) in enumerate(chosen)], left


def _explain(number: int, key: str, example: FrameExample) -> ExplainedFrame:
    frame = example.frame
    data = frame.data[0].tobytes()
    text = headline(frame, 0, example.faults)
    rows = [(part.name or "-", part.type, part.place, part.bits, part.raw, part.value, part.check)
            for part in parts_of(frame, 0)]  # fmt: skip
    heads = ("field", "type", "byte.bit", "bits", ">raw", "value", "check")
    return ExplainedFrame(
        number=number,
        layout=key,
        headline=text,
        faults=text.partition(": ")[2],
        hex=[f"{low:>4}  {data[low : low + 16].hex(' ').upper()}" for low in range(0, len(data), 16)],
        parts=TableOf("", heads, rows),
    )


def _facts(files: Iterable[tuple[str, str]], command: str, made_at: str) -> TableOf:
    """Return what it takes to make a report again."""
    from importlib.metadata import version

    rows = [("made", made_at)] if made_at else []
    rows += [("command", command)] if command else []
    rows += [(f"file {name}", result) for name, result in files]
    rows.append(("Lark Reader", __version__))
    rows.append(("Python", f"{platform.python_version()} on {platform.system()} {platform.machine()}"))
    rows.append(("NumPy, pandas, Matplotlib", ", ".join(map(version, ("numpy", "pandas", "matplotlib")))))
    return TableOf("", ("", ""), rows)
