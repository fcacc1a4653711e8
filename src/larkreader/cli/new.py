"""``larkreader new``: write a commented sheet to begin with."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, check_output, note
from .forms import form_of, form_options
from .grouped import command

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
@form_options
def new(file: Path, capture: Path | None, kind: CaptureKind | None, given: dict[str, Any]) -> int:
    """Write a commented sheet to begin with into FILE, which must not exist yet."""
    from larkreader.answers.proposed_sheet import propose_sheet
    from larkreader.declare.document.starter import starter_sheet
    from larkreader.errors import RequestError

    check_output(file)
    if file.exists():
        raise RequestError(str(file), "exists already", advice="Name another file")
    text = starter_sheet() if capture is None else propose_sheet(capture, kind=kind, form=form_of(None, given))
    with file.open("x", encoding="utf-8", newline="\n") as written:
        written.write(text)
    note(f"written to {file}")
    if capture is not None:
        note(f"now try: larkreader decode {file} {capture}")
    return 0
