"""``larkreader report``: a reading as one HTML page, or as Markdown."""

from __future__ import annotations

import shlex
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import (
    check_output,
    exit_status,
    json_option,
    note,
    print_written,
    progress_of,
    read_with_progress,
    wire_option,
    workers,
)
from .forms import form_of, form_options
from .grouped import command
from .line_option import sheet_and_capture

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.run.capture_form import CaptureForm, CaptureKind

LARGEST = 64 << 20  # bytes of a capture whose levels are kept for figures


@command()
@sheet_and_capture
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), required=True, metavar="FILE", help="The page; - for Markdown."
)
@click.option("--markdown", is_flag=True, help="Write Markdown, and the figures into a folder beside it.")
@wire_option
@form_options
@json_option
def report(
    sheet: Path,
    capture: Path,
    output: Path,
    markdown: bool,
    wire: str | None,
    kind: CaptureKind | None,
    given: dict[str, Any],
    as_json: bool,
) -> int:
    """Write what CAPTURE holds, read as SHEET declares it, to hand to a colleague.

    One page that needs nothing else: verdict, findings with places and advice, faulty frames taken apart, figures,
    tables, and what it takes to make it again. The exit status is 1 if there is a finding of severity error.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.present.report.page import report_of, write_page
    from larkreader.present.report.render import render_markdown

    to_screen = output == Path("-")
    if to_screen and not markdown:
        raise RequestError("-o", 'is "-"', "a page needs a file; --markdown can be written to standard output")
    if to_screen and as_json:
        raise RequestError("-o", 'is "-"', "must be a file with --json")
    check_output(None if to_screen else output)
    if output.resolve() in (sheet.resolve(), capture.resolve()):
        raise RequestError("-o", f'is "{output}"', "must be another file than the sheet and the capture")
    declared = open_sheet(sheet)
    form = form_of(declared.capture, given)
    reading, whole, remarks = _read(declared, sheet, capture, kind, form, wire, with_figures=not to_screen)
    with progress_of("drawing figures", shown=True):
        content = report_of(
            reading,
            whole=whole,
            files=[sheet, capture],
            command=shlex.join(["larkreader", *sys.argv[1:]]) if sys.argv[1:2] == ["report"] else "",
            remarks=remarks,
            with_figures=not to_screen,
        )
    verdict = (whole or reading).verdict
    if to_screen:
        click.echo(render_markdown(content), nl=False)
    else:
        page, *figures = write_page(output, content, markdown=markdown)
        if as_json:
            held = {str(page): "the report", **{str(figure): "a figure" for figure in figures}}
            print_written(held, verdict=verdict)
        into = f", its {len(figures)} figures into {output.with_name(f'{output.stem}_figures')}" if markdown else ""
        note(f"report written to {output}{into}")
    return exit_status(verdict)


def _read(
    declared: Sheet,
    sheet: Path,
    capture: Path,
    kind: CaptureKind | None,
    form: CaptureForm,
    wire: str | None,
    *,
    with_figures: bool,
) -> tuple[Reading, SummedReading | None, list[str]]:
    """Read a capture: whole, or the first part with what all of it shows; and what is left out of figures."""
    from larkreader.answers.large import is_large_capture

    if is_large_capture(declared, capture, kind, form, wire):
        from larkreader.answers.summed_reading import judge_capture, read_first_part

        with progress_of(f"reading {capture.name}", shown=True) as progress:
            whole = judge_capture(
                declared, capture, kind=kind, form=form, wire=wire, progress=progress, workers=workers()
            )
        first = read_first_part(declared, capture, kind=kind, form=form, wire=wire, keep_levels=with_figures)
        return replace(first, sheet_name=str(sheet)), whole, []
    is_large = capture.is_file() and capture.stat().st_size > LARGEST
    reading = read_with_progress(
        declared,
        capture,
        sheet_name=str(sheet),
        kind=kind,
        form=form,
        wire=wire,
        keep_levels=with_figures and not is_large,
    )
    remark = f"The capture has more than {LARGEST >> 20} MiB: figures of single levels are left out."
    return reading, None, [remark] if is_large and with_figures else []
