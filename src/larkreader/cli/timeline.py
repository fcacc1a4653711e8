"""``larkreader timeline``: what was on which wire when, and which reply answers which request."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import (
    check_figure,
    check_output,
    check_span,
    console_form,
    exit_status,
    json_option,
    note,
    print_document,
    read_with_progress,
)
from .forms import form_of, form_options
from .grouped import command
from .line_option import sheet_and_capture
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.declare.run.capture_form import CaptureKind
    from larkreader.present.tables.timeline_rows import TimelineRows

MOST_DRAWN = 400  # messages that a figure can distinguish


@command()
@sheet_and_capture
@json_option
@click.option("--from", "from_s", type=float, metavar="SECONDS", help="Begin with what begins from this time on.")
@click.option("--to", "to_s", type=float, metavar="SECONDS", help="End before what begins at this time.")
@click.option(
    "--count", type=click.IntRange(0), default=40, show_default=True, help="How many messages to show; 0 for none."
)
@click.option("--only-wrong", is_flag=True, help="Show only faulty messages, with their requests or replies.")
@click.option(
    "--moved-at", "moved_at_s", type=float, metavar="SECONDS", help="Compare the parts of a cycle before and after."
)
@click.option("--messages", type=OutputFile(".csv"), metavar="FILE", help="Write all messages, and what pairs, as CSV.")
@click.option("-o", "--output", type=OutputFile(".png"), metavar="FILE", help="Draw what is shown: .png, .svg or .pdf.")
@form_options
def timeline(
    sheet: Path,
    capture: Path,
    as_json: bool,
    from_s: float | None,
    to_s: float | None,
    count: int,
    only_wrong: bool,
    moved_at_s: float | None,
    messages: Path | None,
    output: Path | None,
    kind: CaptureKind | None,
    given: dict[str, Any],
) -> int:
    """Show the messages of all wires of CAPTURE in order of time, and which reply answers which request.

    What answers what stands as [pair.NAME] on SHEET; wires that are one medium, as [timing]. The exit status is 1 if
    there is a finding of severity error.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.present.tables.timeline_rows import TimelineRows, write_messages

    check_span(from_s, to_s)
    check_output(messages)
    if output is not None:
        check_figure(output)
    declared = open_sheet(sheet)
    reading = read_with_progress(
        declared, capture, sheet_name=str(sheet), kind=kind, form=form_of(declared.capture, given)
    )
    if not len(reading.timeline):
        raise RequestError(str(capture), "has no times", "a timeline needs a capture with times")
    if moved_at_s is not None and not reading.pairs:
        raise RequestError("--moved-at", "has nothing to compare", "parts of a cycle need [pair.NAME] on the sheet")
    _, ascii_only = console_form()
    rows = TimelineRows(reading, ascii_only=ascii_only)
    chosen = rows.between(-float("inf") if from_s is None else from_s, float("inf") if to_s is None else to_s)
    if only_wrong:
        wrong = set(rows.wrong().tolist())
        chosen = chosen[[row in wrong for row in chosen.tolist()]]
    if messages is not None:
        write_messages(messages, reading)
        note(f"messages written to {messages}")
    if output is not None:
        _draw(rows, chosen, output)
    if as_json:
        print_document("timeline", _document(reading, rows, chosen))
    else:
        _show(reading, rows, chosen, count, moved_at_s, ascii_only=ascii_only)
    return exit_status(reading.verdict)


def _show(
    reading: Reading, rows: TimelineRows, chosen: Any, count: int, moved_at_s: float | None, *, ascii_only: bool
) -> None:
    from larkreader.present.tables import timeline_views
    from larkreader.present.text import terminal

    console = terminal.make_console()
    parts: list[Any] = []
    if count:
        entries = rows.entries(chosen[:count])
        pairings = len(reading.pairs)
        parts.append(
            timeline_views.timeline_table(entries, rows.timeline.wires, pairings=pairings, width=console.width)
            if len(chosen)
            else "Nothing to show."
        )
        if len(chosen) > count:
            parts.append(f"... and {len(chosen) - count:,} more: --count, --from, --to, --only-wrong")
    if reading.pairs:
        parts.append(timeline_views.pairs_table(reading.pairs, reading.sheet.pair))
        if moved_at_s is None and any(len(pairs.histogram()) > 1 for pairs in reading.pairs.values()):
            parts.append(timeline_views.histograms(reading.pairs, ascii_only=ascii_only))
        parts += [timeline_views.parts_table(key, pairs, moved_at_s) for key, pairs in reading.pairs.items()]
    elif reading.sheet.pair:
        parts.append("Of no pairing were both sides captured.")
    elif len(rows.timeline.wires) > 1:
        parts.append(timeline_views.NO_PAIRS)
    if rows.timeline.in_groups:
        parts.append(timeline_views.IN_GROUPS)
    for number, part in enumerate(parts):
        console.print(*([""] if number else []), part, sep="\n")


def _document(reading: Reading, rows: TimelineRows, chosen: Any) -> dict[str, Any]:
    """Return the messages and pairs as JSON has them."""
    timeline = rows.timeline
    messages = []
    for entry in rows.entries(chosen):
        result: dict[str, Any] = {
            "begin_s": round(entry.begin_s, 12),
            "end_s": round(entry.end_s, 12),
            "wire": entry.wire,
            "is": timeline.name_of(entry.row),
            "offset": int(timeline.offset[entry.row]),
            "length": int(timeline.length[entry.row]),
            "faults": entry.faults.split("+") if entry.faults else [],
            "text": entry.text,
        }
        if entry.collides:
            result["collides"] = True
        if entry.parts:
            result["pairs"] = [
                {
                    "pair": part.pair,
                    "number": part.number if part.number >= 0 else None,
                    "role": part.role,
                    "state": part.state,
                    "latency_s": None if part.latency_s != part.latency_s else round(part.latency_s, 12),
                    "again": part.again,
                }
                for part in entry.parts
            ]
        messages.append(result)
    return {
        "sheet": reading.sheet_name,
        "capture": reading.capture,
        "verdict": reading.verdict,
        "times": "groups" if timeline.in_groups else "exact",
        "pairs": {key: pairs.to_dict() for key, pairs in reading.pairs.items()},
        "messages": messages,
    }


def _draw(rows: TimelineRows, chosen: Any, output: Path) -> None:
    from larkreader.errors import RequestError
    from larkreader.present.figures.style import new_figure, write_figure
    from larkreader.present.figures.timeline import draw_timeline

    if not len(chosen):
        raise RequestError(str(output), "cannot be drawn: there is no message to show")
    if len(chosen) > MOST_DRAWN:
        note(f"the first {MOST_DRAWN} of {len(chosen):,} messages are drawn; --from and --to choose others")
    shown = chosen[:MOST_DRAWN]
    picture = new_figure()
    begin_s, end_s = float(rows.timeline.begin_s[shown[0]]), float(rows.timeline.end_s[shown].max())
    draw_timeline(rows.reading, begin_s=begin_s, end_s=end_s, ax=picture.add_subplot())
    write_figure(picture, output)
    note(f"timeline drawn into {output}")
