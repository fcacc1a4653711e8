"""``larkreader timeline``: what was on which wire when, and which reply answers which request."""

from __future__ import annotations

from contextlib import nullcontext
from pathlib import Path
from tempfile import SpooledTemporaryFile
from typing import TYPE_CHECKING, Any

import click

from .common import (
    check_figure,
    check_output,
    check_span,
    console_form,
    exit_status,
    json_option,
    judge_large,
    note,
    print_long_document,
    read_with_progress,
)
from .forms import form_of, form_options
from .grouped import command
from .line_option import sheet_and_capture
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.run.capture_form import CaptureKind
    from larkreader.present.documents.chosen_messages import ChosenMessages

IN_MEMORY = 1 << 23  # bytes of a document, beyond which it is put aside on the disk


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
    from larkreader.present.documents.chosen_messages import ChosenMessages
    from larkreader.sources import opened_to_write

    check_span(from_s, to_s)
    check_output(messages)
    if output is not None:
        check_figure(output)
    declared = open_sheet(sheet)
    with SpooledTemporaryFile(IN_MEMORY) as documents:
        with nullcontext() if messages is None else opened_to_write(messages) as table:
            chosen = ChosenMessages(
                -float("inf") if from_s is None else from_s,
                float("inf") if to_s is None else to_s,
                only_wrong,
                0 if as_json else count,
                console_form()[1],
                table,
                documents if as_json else None,
            )
            how = {"kind": kind, "form": form_of(declared.capture, given)}
            reading = _read(declared, sheet, capture, chosen, how)
            if not chosen.total:
                raise RequestError(str(capture), "has no times", "a timeline needs a capture with times")
            if moved_at_s is not None and not reading.pairs:
                wanted = "parts of a cycle need [pair.NAME] on the sheet"
                raise RequestError("--moved-at", "has nothing to compare", wanted)
        if messages is not None:
            note(f"messages written to {messages}")
        if output is not None:
            _draw(chosen, output)
        if as_json:
            head = {
                "sheet": reading.sheet_name,
                "capture": reading.capture,
                "verdict": reading.verdict,
                "times": "groups" if chosen.in_groups else "exact",
                "pairs": {key: pairs.to_dict() for key, pairs in reading.pairs.items()},
            }
            print_long_document("timeline", head, "messages", documents)
        else:
            _show(reading, chosen, count, moved_at_s)
    return exit_status(reading.verdict)


def _read(
    declared: Sheet, sheet: Path, capture: Path, chosen: ChosenMessages, how: dict[str, Any]
) -> Reading | SummedReading:
    """Read a capture, and choose what is shown: of a large capture stretch by stretch, without its columns."""
    from larkreader.answers.timeline_part import TimelinePart
    from larkreader.errors import RequestError

    def add(part: TimelinePart) -> None:
        chosen.add(part)
        some = [held for held in part.reading.characters.values() if len(held)]
        if some and not chosen.total and not any(held.has_times for held in some):  # so will the rest be
            raise RequestError(str(capture), "has no times", "a timeline needs a capture with times")

    large = judge_large(declared, sheet, capture, {**how, "each": add})
    if large is not None:
        return large

    reading: Reading = read_with_progress(declared, capture, sheet_name=str(sheet), **how)
    chosen.begin_again()
    add(TimelinePart.whole(reading))
    return reading


def _show(reading: Reading | SummedReading, chosen: ChosenMessages, count: int, moved_at_s: float | None) -> None:
    from larkreader.judge.measure.pair_columns import Pairs, PairTimes
    from larkreader.present.tables import timeline_views
    from larkreader.present.text import terminal

    console = terminal.make_console()
    parts: list[Any] = []
    if count:
        wires, pairings = tuple(chosen.wires), len(reading.pairs)
        parts.append(
            timeline_views.timeline_table(chosen.entries, wires, pairings=pairings, width=console.width)
            if chosen.count
            else "Nothing to show."
        )
        if chosen.count > count:
            parts.append(f"... and {chosen.count - count:,} more: --count, --from, --to, --only-wrong")
    if reading.pairs:
        parts.append(timeline_views.pairs_table(reading.pairs, reading.sheet.pair))
        times = {
            key: PairTimes.of(pairs) if isinstance(pairs, Pairs) else pairs.times or PairTimes.nothing()
            for key, pairs in reading.pairs.items()
        }
        if moved_at_s is None and any(len(some.histogram()) > 1 for some in times.values()):
            parts.append(timeline_views.histograms(times, ascii_only=chosen.ascii_only))
        parts += [timeline_views.parts_table(key, some, moved_at_s) for key, some in times.items()]
        parts += timeline_views.times_left_out(reading.pairs, times)
    elif reading.sheet.pair:
        parts.append("Of no pairing were both sides captured.")
    elif len(chosen.wires) > 1:
        parts.append(timeline_views.NO_PAIRS)
    if chosen.in_groups:
        parts.append(timeline_views.IN_GROUPS)
    for number, part in enumerate(parts):
        console.print(*([""] if number else []), part, sep="\n")


def _draw(chosen: ChosenMessages, output: Path) -> None:
    from larkreader.errors import RequestError
    from larkreader.present.figures.style import new_figure, write_figure
    from larkreader.present.figures.timeline import draw_timeline

    drawn = chosen.drawn
    if drawn is None:
        raise RequestError(str(output), "cannot be drawn: there is no message to show")
    if chosen.count > drawn.count:
        note(f"the first {drawn.count} of {chosen.count:,} messages are drawn; --from and --to choose others")
    picture = new_figure()
    draw_timeline(drawn.reading, begin_s=drawn.begin_s, end_s=drawn.end_s, ax=picture.add_subplot())
    write_figure(picture, output)
    note(f"timeline drawn into {output}")
