"""``larkreader new``: write a commented sheet to begin with."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, check_output, note
from .forms import form_of, form_options

if TYPE_CHECKING:
    from larkreader.declare.run.capture_form import CaptureForm


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--from",
    "capture",
    type=InputFile(),
    metavar="CAPTURE",
    help="Declare the wires of a capture, with the settings under which each reads best, and the frames it carries.",
)
@form_options
def new(file: Path, capture: Path | None, kind: str | None, given: dict[str, Any]) -> int:
    """Write a commented sheet to begin with into FILE, which must not exist yet."""
    from larkreader.declare.document.starter import starter_sheet
    from larkreader.errors import RequestError

    check_output(file)
    if file.exists():
        raise RequestError(str(file), "exists already", advice="Name another file")
    text = starter_sheet() if capture is None else _sheet_of(capture, kind, form_of(None, given))
    with file.open("x", encoding="utf-8", newline="\n") as written:
        written.write(text)
    note(f"written to {file}")
    if capture is not None:
        note(f"now try: larkreader decode {file} {capture}")
    return 0


def _sheet_of(capture: Path, kind: str | None, form: CaptureForm) -> str:
    """Return a sheet of the wires of a capture that carry something."""
    from larkreader.capture.files.open import open_capture, signal_names
    from larkreader.capture.trace import Trace
    from larkreader.declare.document.starter import StarterWire, starter_sheet
    from larkreader.decode.characters.receive import receive
    from larkreader.judge.infer.proposal import propose_layout
    from larkreader.judge.verdict.diagnosis import diagnose

    names = signal_names(capture, kind=kind, form=form)  # type: ignore[arg-type]  # as the choices are
    wires = []
    opened = open_capture(capture, {name: name for name in names}, kind=kind, form=form)  # type: ignore[arg-type]  # as the choices are
    if any(map(len, opened.values())):  # channels on which nothing happens are most often not connected
        opened = {name: trace for name, trace in opened.items() if len(trace)}
    for name, trace in opened.items():
        assert isinstance(trace, Trace)
        told = diagnose(trace, wire=name)
        remark = told.findings[0].detail or told.findings[0].text
        if told.proposal is None:
            remark = f"The settings of this wire could not be told. {remark}"
        found = None if told.proposal is None else propose_layout(receive(trace, told.proposal))
        if found is not None:
            remark += (
                f" It carries frames of {found.layout.length} bytes, {found.good} of {found.frames} of them right."
            )
        wires.append(StarterWire(name, told.proposal, remark, None if found is None else found.layout))
    return starter_sheet(
        wires, title=capture.stem, form=form if kind is None else form.model_copy(update={"kind": kind})
    )
