"""``larkreader new``: write a commented sheet to begin with."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, check_output, json_option, name_of, note, print_written
from .forms import form_of, form_options
from .grouped import command
from .header_options import header_options, read_named

if TYPE_CHECKING:
    from larkreader.declare.run.capture_form import CaptureKind


@command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--from",
    "capture",
    type=InputFile(),
    metavar="CAPTURE",
    help="Declare the wires of a capture, with the settings under which each reads best, and the frames it carries.",
)
@click.option(
    "--header",
    type=InputFile(),
    metavar="FILE",
    help="Declare a frame for each struct of a C header.",
)
@click.option("--struct", "structs", multiple=True, metavar="NAME", help="For these structs of the header alone.")
@header_options
@form_options
@json_option
def new(
    file: Path,
    capture: Path | None,
    header: Path | None,
    structs: Sequence[str],
    target: str,
    define: Sequence[str],
    include: Sequence[Path],
    kind: CaptureKind | None,
    given: dict[str, Any],
    as_json: bool,
) -> int:
    """Write a commented sheet to begin with into FILE, which must not exist yet; - is standard output.

    The exit status is 1 if no settings fit any wire of the capture.
    """
    from larkreader.answers.proposed_sheet import propose_sheet
    from larkreader.declare.document.starter import starter_sheet
    from larkreader.errors import RequestError

    to_output = file == Path("-")
    if to_output and as_json:
        raise RequestError("FILE", "is standard output", "must be a file with --json")
    check_output(None if to_output else file)
    if not to_output and file.exists():
        raise RequestError(str(file), "exists already", advice="Name another file")
    if header is not None:
        if capture is not None or kind is not None or given:
            raise RequestError("--header", "does not go with --from and what describes a capture", "Leave that out")
        return _write(file, _with_structs(header, structs, target, define, include), as_json=as_json)
    for option, stated in (("--struct", structs), ("--define", define), ("--include", include)):
        if stated:
            raise RequestError(option, "is about a header, which is not given", "needs --header FILE")
    if capture is None:
        return _write(file, starter_sheet(), as_json=as_json)
    proposed = propose_sheet(capture, kind=kind, form=form_of(None, given))
    status = _write(file, proposed.text, as_json=as_json)
    if proposed.silent:
        note(f"note: nothing happens on {', '.join(proposed.silent)}: left out")
    if proposed.uncertain:
        note(f"note: the settings of {', '.join(proposed.uncertain)} are not certain; the sheet gives the reason")
    if proposed.unread:
        note(f"note: no settings fit {', '.join(proposed.unread)}; the sheet gives the reason")
    if not to_output:
        note(f"now try: larkreader decode {file} {name_of(capture)}")
    return 1 if len(proposed.unread) == len(proposed.wires) else status


def _with_structs(
    header: Path, structs: Sequence[str], target: str, define: Sequence[str], include: Sequence[Path]
) -> str:
    """Return a sheet to begin with, with a frame for each struct of a header."""
    from larkreader.answers.layout_check.starter_layout import layouts_of_structs
    from larkreader.declare.document.starter import starter_sheet

    read = read_named(header, target, define, include)
    layouts, left_out = layouts_of_structs(read, structs)
    for name, error in left_out.items():
        note(f"note: {name} is left out: {error}")
    for key, layout in layouts.items():
        note(f"{key}: {layout.length if layout.is_fixed else 'at least ' + str(layout.shortest)} bytes")
    note("now add what a header does not contain: how frames are found, scales, units, checksums")
    return starter_sheet(title=f"Frames of {header.name}", layouts=layouts)


def _write(file: Path, text: str, *, as_json: bool) -> int:
    """Write a sheet into a file or to standard output."""
    if file == Path("-"):
        click.echo(text, nl=False)
        return 0
    with file.open("x", encoding="utf-8", newline="\n") as written:
        written.write(text)
    if as_json:
        print_written({str(file): "the sheet"})
    note(f"written to {file}")
    return 0
