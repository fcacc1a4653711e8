"""What a report says: plain tables and texts, of which a page or a Markdown document is made."""

from __future__ import annotations

import platform
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from larkreader import __version__
from larkreader.answers.reading import Reading
from larkreader.capture.characters import FAULT_NAMES
from larkreader.declare.document.sheet import Sheet
from larkreader.judge.findings.finding import Finding, place
from larkreader.judge.measure.distribution import figures_of
from larkreader.judge.measure.pair_columns import PARTS, Pairs, PairState
from larkreader.judge.measure.statistics import FrameStatistics
from larkreader.present.tables.finding_views import VERDICTS, in_order
from larkreader.present.tables.frame_explained import headline, parts_of
from larkreader.present.tables.layout_table import layout_heading, layout_rows
from larkreader.present.tables.timeline_rows import TimelineRows
from larkreader.present.tables.timeline_views import IN_GROUPS, PART_NAMES
from larkreader.present.text.terminal import duration

from .pictures import Picture, pictures_of, waveform_of

FAULTY_FRAMES, GOOD_FRAMES = 24, 2  # of each layout, that are explained
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
    frames, left = _explained(reading)
    result = [*remarks, *([IN_GROUPS] if reading.timeline.in_groups else [])]
    return Report(
        title=reading.sheet.title or reading.capture or "A UART link",
        verdict=reading.verdict,
        verdict_text=VERDICTS[reading.verdict].partition(": ")[2],
        summary=_summary(reading),
        findings=[
            ReportedFinding(item, _places_of(item), waveform_of(item, reading) if with_figures else None)
            for item, _ in in_order(reading.findings)
        ],
        declared=_declared(reading.sheet),
        captured=_captured(reading),
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
        checked=str(reading.checked).splitlines(),
    )  # fmt: skip


def _places_of(finding: Finding) -> list[str]:
    """Return where a finding is, the first places."""
    rows = finding.places.to_list(MOST_PLACES)
    return [text for row in rows if (text := place(row["time_s"], row["offset"]))]


def _summary(reading: Reading) -> str:
    parts = [f"{len(characters):,} characters on {wire}" for wire, characters in reading.characters.items()]
    parts += [f"{len(frames):,} {key} frames" for key, frames in reading.frames.items()]
    timeline = reading.timeline
    span = duration(float(timeline.end_s.max() - timeline.begin_s.min())) if len(timeline) else ""
    return ", ".join(parts) + (f", in {span}" if span else "") + "."


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


def _captured(reading: Reading) -> list[TableOf]:
    rows = []
    for wire, characters in reading.characters.items():
        parts = reading.bytes_of(wire)
        faults = ", ".join(
            f"{characters.count(fault_name):,} {name}"
            for fault_name, name in FAULT_NAMES.items()
            if characters.count(fault_name)
        )
        rows.append(
            (
                wire,
                f"{len(characters):,}",
                faults or "none",
                *(f"{parts[name]:,}" for name in ("good", "faulty", "skipped")),
            )
        )
    heads = ("wire", ">characters", "line faults", ">bytes good", ">faulty", ">skipped")
    tables = [TableOf("Wires", heads, rows)]
    if reading.frames:
        result = reading.to_dict()["frames"]
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
        tables += _pair_tables(reading.pairs)
    if len(reading.timeline.wires) > 1:
        tables.append(_messages(reading))
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


def _pair_tables(every: Mapping[str, Pairs]) -> list[TableOf]:
    states = (PairState.ANSWERED, PairState.LATE, PairState.DAMAGED_REPLY, PairState.UNANSWERED, PairState.OPEN)
    rows, parts = [], []
    for key, pairs in every.items():
        repeated = int(np.count_nonzero(pairs.again >= 0))
        rows.append((key, f"{len(pairs):,}", *(f"{pairs.count(state):,}" for state in states), f"{repeated:,}"))
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


def _messages(reading: Reading) -> TableOf:
    """Return the first messages with which something is wrong; the first messages at all if nothing is."""
    rows = TimelineRows(reading)
    wrong = rows.wrong()
    chosen = (wrong if len(wrong) else np.arange(len(rows.timeline), dtype=np.int64))[:MOST_MESSAGES]
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
    more = f", the first {MOST_MESSAGES}" if len(wrong if len(wrong) else rows.timeline) > MOST_MESSAGES else ""
    return TableOf(f"Messages {which}{more}", (">at s", *wires, *(["pair"] if reading.pairs else [])), result)


def _explained(reading: Reading) -> tuple[list[ExplainedFrame], int]:
    """Return the frames that are taken apart, in order of time, and how many faulty frames are not."""
    chosen: list[tuple[float, int, str, int]] = []
    left = 0
    for key, frames in reading.frames.items():
        faulty, good = np.flatnonzero(frames.faults), np.flatnonzero(frames.faults == 0)
        left += max(len(faulty) - FAULTY_FRAMES, 0)
        for row in (*faulty[:FAULTY_FRAMES].tolist(), *good[:GOOD_FRAMES].tolist()):
            begin_s = float(frames.begin_s[row])
            chosen.append((0.0 if np.isnan(begin_s) else begin_s, int(frames.offset[row]), key, row))
    return [_explain(reading, number, key, row) for number, (_, _, key, row) in enumerate(sorted(chosen))], left


def _explain(reading: Reading, number: int, key: str, row: int) -> ExplainedFrame:
    frames = reading.frames[key]
    wire = frames.layout.wire or next(iter(reading.characters))
    offset = int(frames.offset[row])
    faults = reading.characters[wire].faults[offset : offset + int(frames.length[row])]
    data = frames.data[row].tobytes()
    text = headline(frames, row, faults)
    rows = [(part.name or "-", part.type, part.place, part.bits, part.raw, part.value, part.check)
            for part in parts_of(frames, row)]  # fmt: skip
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
