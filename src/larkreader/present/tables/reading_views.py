"""What a sheet declares and a capture holds, as tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import accumulate, groupby
from typing import TYPE_CHECKING, Any

from rich.console import Group
from rich.table import Table
from rich.text import Text

from larkreader.capture.characters import FAULT_NAMES

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.frame.layout import FrameLayout
    from larkreader.decode.columns.frame_columns import Frames
    from larkreader.judge.measure.statistics import FrameStatistics

    from .value_view import ValueView
from larkreader.judge.findings.wording import duration
from larkreader.present.text.terminal import ERROR, WIDE, kept_whole, new_table, wire_text

ROW = 16  # bytes of a frame in a row, at most
MOST_NAMES = 6  # of a field whose counts are shown


def link(sheet: Sheet) -> Group:
    """Show a declared link: its wires with their arithmetic, and its frames."""
    wires = new_table("wire", "signal", "line", ">bit", ">bits/char", ">char/s")
    for key, wire in sheet.wire.items():
        line = wire.line
        wires.add_row(
            wire_text(key, key, sheet.wire),
            wire.source,
            str(line),
            f"{line.bit_time_s * 1e6:.4g} µs",
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


def counts(reading: Reading | SummedReading) -> Group:
    """Show what was found on each wire, and how many frames of each layout."""
    wires = new_table("wire", ">characters", "line faults", ">bytes good", ">faulty", ">skipped")
    for wire, carried in reading.counts.items():
        parts = reading.bytes_of(wire)
        faults = [(carried.by_fault.get(fault, 0), name) for fault, name in FAULT_NAMES.items()]
        wires.add_row(
            wire_text(wire, wire, reading.sheet.wire),
            f"{carried.characters:,}",
            ", ".join(f"{count:,} {name}" for count, name in faults if count) or "none",
            f"{parts['good']:,}",
            _number(parts["faulty"]),
            _number(parts["skipped"]),
        )
    others: list[Any] = ["", events(reading)] if reading.events else []
    if not reading.frame_counts:
        return Group(wires, *others)
    frames = new_table("frame", ">found", ">good", "faults")
    for key, found in reading.frame_counts.items():
        held = ", ".join(f"{count:,} {name}" for name, count in found.to_dict()["faults"].items())
        frames.add_row(key, f"{found.frames:,}", f"{found.good:,}", held or "none")
    return Group(wires, "", frames, *others)


def events(reading: Reading | SummedReading) -> Group:
    """Show how long after the changes of other signals something followed, with a histogram."""
    table = new_table("event", ">changes", "followed by", ">how many", ">least", ">median", ">most")
    bars: list[Any] = []
    for key, item in reading.events.items():
        result = item.to_dict()
        times = [duration(result[name]) if result["followed"] else "-" for name in ("min_s", "median_s", "max_s")]
        what = f"a {item.event.to} on {item.event.wire}"
        table.add_row(key, f"{result['changes']:,}", what, f"{result['followed']:,}", *times)
        shown = item.histogram() if len(item.histogram()) > 1 else []
        most = max((count for _, _, count in shown), default=1)
        if shown:
            bars += ["", Text(f"Delays after {key}", style="bold")]
        for low, high, count in shown:
            bars.append(f"{duration(low):>9} to {duration(high):<9} {count:>6,} {'=' * round(24 * count / most)}")
    return Group(table, *bars)


def statistics(result: Mapping[str, FrameStatistics]) -> Group:
    """Show what the frames of each layout hold altogether, and how regularly they come."""
    heads = ("found", "trusted", "per s", "period", "least", "most", "jitter", "late", "missing")
    frames = new_table("frame", *(f">{head}" for head in heads))
    fields = new_table("frame", "field", ">values", ">least", ">mean", ">most", "unit", "names")
    for key, item in result.items():
        times = [item.period_s, item.least_s, item.most_s, item.jitter_s]
        shown = ["-" if time is None else duration(time) for time in times]
        rate = "-" if item.rate is None else f"{item.rate:.4g}"
        frames.add_row(
            key, f"{item.count:,}", f"{item.trusted:,}", rate, *shown, _number(item.late), _number(item.missing)
        )
        for name, held in item.fields.items():
            numbers = ["" if value is None else f"{value:.6g}" for value in (held.least, held.mean, held.most)]
            names = ", ".join(f"{text} {count:,}" for text, count in list(held.names.items())[:MOST_NAMES])
            fields.add_row(key, name, f"{held.count:,}", *numbers, held.unit, names)
    return Group(frames, "", fields)


def frame_parts(frames: Frames, row: int, faults: Any, width: int) -> Group:
    """Show one frame taken apart; without the declared types on a terminal of few columns."""
    from .byte_groups import byte_rows
    from .frame_explained import headline, parts_of

    types = ["type"] if width >= WIDE else []
    table = new_table("field", *types, "byte.bit", "bits", ">raw", "value", "check")
    for part in parts_of(frames, row):
        check = Text(part.check, style=ERROR if part.check.startswith("WRONG") else "")
        kind = [part.type] if types else []
        table.add_row(part.name or "-", *kind, part.place, part.bits, part.raw, part.value, check)
    data = frames.data[row].tobytes()
    parts = byte_rows(frames.layout, data, ROW)
    places = accumulate(map(len, parts), initial=0)
    rows = [f"{place:>4}  {part.hex(' ').upper()}" for place, part in zip(places, parts, strict=False)]
    return Group(
        Text(headline(frames, row, faults), style="bold"), "", *rows, "", kept_whole(table, len(table.columns) - 1)
    )


def values(view: ValueView) -> Table:
    """Show of each field the last value, how it moved and its range; below a frame's name its rate and its age.

    On a narrow terminal a value that is not to be trusted has the reason in the place of its strip.
    """
    from .value_view import STRIP_S, WIDE  # few show values live, and it takes a while to load

    is_wide = view.form.width >= WIDE
    reason = [""] if is_wide else []
    table = new_table("frame", "field", ">last", "unit", f"last {STRIP_S:g} s", ">least", ">most", *reason)
    for key, rows in groupby(view.rows(), key=lambda row: row.frame):
        every = list(rows)
        age = [] if every[0].age_s is None else [f"{duration(every[0].age_s)} ago"]
        heads = [key, *([f"{every[0].rate}/s"] if every[0].rate else []), *age]
        for number, row in enumerate(every):
            is_last = number == len(every) - 1
            head = "\n".join(heads[number:] if is_last else heads[number : number + 1])
            last = Text(row.last, style=ERROR if row.odd else "bold")
            odd = Text(row.odd, style=ERROR)
            strip = Text(row.strip) if is_wide or not row.odd else odd
            table.add_row(head, row.field, last, row.unit, strip, row.least, row.most, *([odd] if is_wide else []))
    table.columns[4].no_wrap = True
    return table


def bursts(result: Mapping[tuple[str, str], Sequence[Mapping[str, Any]]]) -> Group:
    """Show the figures of bursts of samples."""
    columns = (">at s", ">samples", ">least V", ">most V", ">p-p V", ">mean V", ">Hz", ">Hz apart")
    table = new_table("frame", "field", *columns)
    for (key, name), rows in result.items():
        for row in rows:
            begin_s, samples, *figures = row.values()
            volts = ["-" if figure is None else f"{figure:.4g}" for figure in figures]
            table.add_row(key, name, "-" if begin_s is None else f"{begin_s:.6f}", f"{samples:,}", *volts)
    return Group(table)


def layout_table(layout: FrameLayout) -> Group:
    """Show where the bits of each field of a layout lie, and what they mean."""
    from .layout_table import element_rows, layout_heading, layout_rows

    table = new_table(*(["byte.bit"] if layout.pattern is None else []), "field", "type", "meaning")
    for row in layout_rows(layout):
        table.add_row(*([row.place] if layout.pattern is None else []), row.name, row.type, row.meaning)
        for place, name in element_rows(row, layout.packing):
            table.add_row(f"  {place}", f"  {name}", "", "")
    return Group(Text(layout_heading(layout), style="bold"), kept_whole(table, len(table.columns) - 1))


def _number(count: int) -> str:
    return f"{count:,}" if count else "-"
