"""Results as text for a terminal: what is shown, never what it is."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich import box
from rich.console import Console, Group
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from larkreader.capture.characters import FAULT_NAMES

from .notation import visible

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.frame.layout import FrameLayout
    from larkreader.decode.columns.frame_columns import Frames
    from larkreader.exercise.ports.listing import PortEntry
    from larkreader.judge.findings.finding import Finding
    from larkreader.judge.infer.garble import Garble
    from larkreader.judge.measure.statistics import FrameStatistics
    from larkreader.judge.verdict.checked import Checked
    from larkreader.judge.verdict.diagnosis import Diagnosis

    from .frame_views import ValueView

SHOWN_TEXT = 24  # characters of a message that is shown beside other things
CERTAINTIES = {"likely": "likely", "possible": "possible"}
SEVERITY_STYLES = {"error": "bold reverse", "warning": "bold", "note": "dim"}
MOST_NAMES = 6  # of a field whose counts are shown
LONGEST_WHOLE = 24  # of a name that is not folded
WIDE = 100  # columns of a terminal from which everything is shown
SAMPLE = 40  # characters of what came in that are shown
VERDICTS = {
    "clean": "clean: everything that was checked is right",
    "warnings": "warnings: nothing is broken, but look at the following",
    "faults": "faults: the following is wrong",
    "nothing-read": "nothing read: the capture holds no character of these wires",
}


class _Console(Console):
    """A console that leaves it to the command to end when the reader of its output went away."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def make_console(*, stderr: bool = False) -> Console:
    """Return a console that writes plain text when it is not a terminal."""
    stream = sys.stderr if stderr else sys.stdout
    legacy = None if stream.isatty() else False  # what is no console of Windows has none of its limits
    return _Console(stderr=stderr, highlight=False, emoji=False, soft_wrap=False, legacy_windows=legacy)


def link(sheet: Sheet) -> Group:
    """Show a declared link: its wires with their arithmetic, and its frames."""
    wires = new_table("wire", "signal", "line", ">bit", ">bits/char", ">char/s")
    for key, wire in sheet.wire.items():
        line = wire.line
        wires.add_row(
            key,
            wire.source,
            str(line),
            f"{line.bit_time_s * 1e6:.4g} us",
            f"{line.bits_per_character:g}",
            f"{line.characters_per_second:,.1f}",
        )
    frames = new_table("frame", "wire", "begins", ">bytes", "checksum", "fields")
    for key, layout in sheet.frame.items():
        checksum = layout.checksum.algorithm if layout.checksum else "none"
        frames.add_row(
            key,
            layout.wire or "",
            layout.marker.hex(" ").upper() or layout.boundary.kind,
            str(layout.length) if layout.is_fixed else f"{layout.shortest} to {layout.longest}",
            checksum if isinstance(checksum, str) else f"CRC of {checksum.width} bits",
            " ".join(layout.slot),
        )
    return Group(wires, "", frames) if sheet.frame else Group(wires)


def counts(reading: Reading) -> Group:
    """Show what was found on each wire, and how many frames of each layout."""
    wires = new_table("wire", ">characters", "line faults", ">bytes good", ">faulty", ">skipped")
    for wire, characters in reading.characters.items():
        parts = reading.bytes_of(wire)
        faults = [(characters.count(fault), name) for fault, name in FAULT_NAMES.items()]
        wires.add_row(
            wire,
            f"{len(characters):,}",
            ", ".join(f"{count:,} {name}" for count, name in faults if count) or "none",
            f"{parts['good']:,}",
            _number(parts["faulty"]),
            _number(parts["skipped"]),
        )
    others: list[Any] = ["", events(reading)] if reading.events else []
    if not reading.frames:
        return Group(wires, *others)
    frames = new_table("frame", ">found", ">good", "faults")
    for key, told in reading.to_dict()["frames"].items():
        held = ", ".join(f"{count:,} {name}" for name, count in told["faults"].items())
        frames.add_row(key, f"{told['count']:,}", f"{told['good']:,}", held or "none")
    return Group(wires, "", frames, *others)


def events(reading: Reading) -> Group:
    """Show how long after the changes of other signals something followed, with a histogram."""
    table = new_table("event", ">changes", "followed by", ">how many", ">least", ">median", ">most")
    bars: list[Any] = []
    for key, one in reading.events.items():
        told = one.to_dict()
        times = [duration(told[name]) if told["followed"] else "-" for name in ("min_s", "median_s", "max_s")]
        what = f"a {one.event.to} on {one.event.wire}"
        table.add_row(key, f"{told['changes']:,}", what, f"{told['followed']:,}", *times)
        shown = one.histogram() if len(one.histogram()) > 1 else []
        most = max((count for _, _, count in shown), default=1)
        if shown:
            bars += ["", Text(f"Delays after {key}", style="bold")]
        for low, high, count in shown:
            bars.append(f"{duration(low):>9} to {duration(high):<9} {count:>6,} {'=' * round(24 * count / most)}")
    return Group(table, *bars)


def statistics(told: Mapping[str, FrameStatistics]) -> Group:
    """Show what the frames of each layout hold altogether, and how regularly they come."""
    heads = ("found", "trusted", "frames/s", "period", "least", "most", "jitter", "late", "missing")
    frames = new_table("frame", *(f">{head}" for head in heads))
    fields = new_table("frame", "field", ">values", ">least", ">mean", ">most", "unit", "names")
    for key, one in told.items():
        times = [one.period_s, one.least_s, one.most_s, one.jitter_s]
        shown = ["-" if time is None else duration(time) for time in times]
        rate = "-" if one.rate is None else f"{one.rate:.4g}"
        frames.add_row(key, f"{one.count:,}", f"{one.trusted:,}", rate, *shown, _number(one.late), _number(one.missing))
        for name, held in one.fields.items():
            numbers = ["" if value is None else f"{value:.6g}" for value in (held.least, held.mean, held.most)]
            names = ", ".join(f"{text} {count:,}" for text, count in list(held.names.items())[:MOST_NAMES])
            fields.add_row(key, name, f"{held.count:,}", *numbers, held.unit, names)
    return Group(frames, "", fields)


def frame_parts(frames: Frames, row: int, faults: Any, width: int) -> Group:
    """Show one frame taken apart; without the declared types on a terminal of few columns."""
    from .frame_explained import headline, parts_of

    types = ["type"] if width >= WIDE else []
    table = new_table("field", *types, "byte.bit", "bits", ">raw", "value", "check")
    for part in parts_of(frames, row):
        check = Text(part.check, style="bold reverse" if part.check.startswith("WRONG") else "")
        kind = [part.type] if types else []
        table.add_row(part.name or "-", *kind, part.place, part.bits, part.raw, part.value, check)
    data = frames.data[row].tobytes()
    rows = [f"{low:>4}  {data[low : low + 16].hex(' ').upper()}" for low in range(0, len(data), 16)]
    return Group(
        Text(headline(frames, row, faults), style="bold"), "", *rows, "", kept_whole(table, len(table.columns) - 1)
    )


def findings(found: Sequence[Finding], verdict: str, checked: Checked | None = None) -> Group:
    """Show the verdict, then each finding: where, how often, what it means, what to do; consequences below their cause.

    At the end stands what was proven and what could not be checked.
    """
    parts: list[Any] = [Text(f"Verdict: {VERDICTS[verdict]}", style="bold")]
    for one, depth in in_order(found):
        parts += ["", _head(one), *_sentences(one, depth)]
    if checked is not None and str(checked):
        parts += ["", *(Text(line) for line in str(checked).split("\n"))]
    return Group(*parts)


def in_order(found: Sequence[Finding]) -> Iterator[tuple[Finding, int]]:
    """Yield findings, each followed by its consequences, with how many causes lie above it."""
    present = list(found)

    def below(cause: Finding | None, depth: int) -> Iterator[tuple[Finding, int]]:
        for one in present:
            is_listed = one.caused_by is not None and any(one.caused_by is other for other in present)
            if (one.caused_by if is_listed else None) is cause:
                yield one, depth
                yield from below(one, depth + 1)

    yield from below(None, 0)


def _head(one: Finding) -> Text:
    head = Text.assemble((f" {one.severity} ", SEVERITY_STYLES[one.severity]), f" {one.kind} on ", (one.wire, "bold"))
    if one.frame:
        head.append(f", frame {one.frame}")
    if one.certainty != "proven":
        head.append(f", {CERTAINTIES[one.certainty]}" if one.score is None else f", {_likelihood(one.score)}")
    return head


def _sentences(one: Finding, depth: int = 0) -> list[Padding]:
    """Return what a finding says and what to do; of a consequence, of what it is one."""
    sentences = [Padding(Text(one.text), (0, 0, 0, 2))]
    if depth and one.caused_by is not None:
        sentences.append(Padding(Text(f"A consequence of the {one.caused_by.kind} above."), (0, 0, 0, 2)))
    elif one.advice:
        sentences.append(Padding(Text.assemble(("Fix: ", "bold"), one.advice), (0, 0, 0, 2)))
    return sentences


def explanations(told: Mapping[str, Diagnosis]) -> Group:
    """Show of each wire what is the matter with it, the likeliest explanation first, and the settings to try."""
    parts: list[Any] = []
    for wire, one in told.items():
        parts += [explained(one.findings), ""]
        is_declared = any(finding.kind == "as-declared" for finding in one.findings)
        if one.proposal is not None and one.verdict != "clean" and not is_declared:
            parts += [
                Text.assemble((wire, "bold"), " reads best as ", (str(one.proposal), "bold"), "."),
                "",
            ]
    return Group(*parts[:-1])


def explained(found: Sequence[Finding]) -> Group:
    """Show findings with how likely they are as explanations, where they are some."""
    parts: list[Any] = []
    for one in found:
        parts += [_head(one), *_sentences(one), ""]
    return Group(*parts[:-1])


def garbles(found: Sequence[Garble], *, most: int = 5) -> Table:
    """Show which mistakes explain garbled bytes, the likeliest first, and what was sent if it can be told."""
    table = new_table(">explains", "mistake of the sender", "its settings", "what was sent")
    for one in found[:most]:
        table.add_row(
            f"{100 * one.likeness:.0f} %", one.mistake, str(one.sender), Text(visible(one.recovered[:SHOWN_TEXT]))
        )
    return table


def values(view: ValueView) -> Table:
    """Show the last value, the range and the rate of fields."""
    table = new_table("frame", "field", ">last", "unit", ">least", ">most", ">frames/s")
    before = None
    for key, name, last, unit, least, most, rate, is_odd in view.values():
        held = Text(f"{last} out of range", style="bold reverse") if is_odd else Text(last, style="bold")
        table.add_row("" if key == before else key, name, held, unit, least, most, "" if key == before else rate)
        before = key
    return table


_AVAILABLE = {True: "free", False: "you may not use it", None: "nobody is known to hold it"}


def ports(entries: list[PortEntry]) -> Group:
    """Show which ports there are."""
    if not entries:
        return Group("No serial device is there. Is it plugged in and powered? TCP and stand-ins need no device.")
    lines = []
    for one in entries:
        held = f"held by {', '.join(one.holders)}" if one.holders else _AVAILABLE[one.usable]
        lines.append(Text.assemble((one.path, "bold"), f"  {one.description or 'of unknown make'}; {held}"))
        if one.stable:
            lines.append(Text(f"  always found at {one.stable}"))
    return Group(*lines)


def heading(text: str) -> Text:
    """Show the title of a part."""
    return Text(f"\n{text}\n", style="bold underline")


def files(written: Mapping[str, Any]) -> Table:
    """Show which files were written."""
    table = new_table("file", "what it holds")
    for path, what in written.items():
        table.add_row(path, str(what))
    return table


def bursts(told: Mapping[tuple[str, str], Sequence[Mapping[str, Any]]]) -> Group:
    """Show the figures of bursts of samples."""
    columns = (">at s", ">samples", ">least V", ">most V", ">p-p V", ">mean V", ">Hz", ">Hz apart")
    table = new_table("frame", "field", *columns)
    for (key, name), rows in told.items():
        for row in rows:
            begin_s, samples, *figures = row.values()
            volts = ["-" if one is None else f"{one:.4g}" for one in figures]
            table.add_row(key, name, "-" if begin_s is None else f"{begin_s:.6f}", f"{samples:,}", *volts)
    return Group(table)


def layout_table(layout: FrameLayout) -> Group:
    """Show where the bits of each field of a layout lie, and what they mean."""
    from larkreader.present.layout_table import layout_heading, layout_rows

    table = new_table(*(["byte.bit"] if layout.pattern is None else []), "field", "type", "meaning")
    for row in layout_rows(layout):
        table.add_row(*([row.place] if layout.pattern is None else []), row.name, row.type, row.meaning)
    return Group(Text(layout_heading(layout), style="bold"), kept_whole(table, len(table.columns) - 1))


def new_table(*columns: str) -> Table:
    """Make a table of our own kind; a column that begins with ``>`` is aligned to the right."""
    table = Table(box=box.SIMPLE_HEAD, padding=(0, 1, 0, 0), pad_edge=False, show_edge=False, header_style="bold")
    for column in columns:
        table.add_column(
            column.removeprefix(">"), justify="right" if column.startswith(">") else "left", overflow="fold"
        )
    return table


def kept_whole(table: Table, columns: int) -> Table:
    """Return a table whose first columns are not folded where their words are short, for the others to be."""
    for column in table.columns[:columns]:
        longest = max(map(len, (str(cell) for cell in (column.header, *column.cells))), default=0)
        column.min_width = min(longest, LONGEST_WHOLE)
    return table


def duration(seconds: float) -> str:
    """Write a duration with three digits and a fitting unit."""
    size = abs(seconds)
    if size < 5e-10:
        return "0 s"
    unit, factor = (
        ("s", 1.0) if size >= 1 else ("ms", 1e3) if size >= 1e-3 else ("us", 1e6) if size >= 1e-6 else ("ns", 1e9)
    )
    return f"{seconds * factor:.3g} {unit}"


def _likelihood(score: float) -> str:
    return "almost certain" if score >= 0.99 else "likely" if score >= 0.75 else "possible"


def _number(count: int) -> str:
    return f"{count:,}" if count else "-"
