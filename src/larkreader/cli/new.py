"""``larkreader new``: write a commented sheet to begin with."""

from __future__ import annotations

from pathlib import Path

import click

from .common import check_output, kind_option, note


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--from",
    "capture",
    type=click.Path(path_type=Path),
    metavar="CAPTURE",
    help="Declare the wires of a capture, with the settings under which each reads best.",
)
@kind_option
def new(file: Path, capture: Path | None, kind: str | None) -> int:
    """Write a commented sheet to begin with into FILE, which must not exist yet."""
    from larkreader.declare.starter import starter_sheet
    from larkreader.errors import RequestError

    check_output(file)
    if file.exists():
        raise RequestError(str(file), "exists already", advice="Name another file")
    text = starter_sheet() if capture is None else _sheet_of(capture, kind)
    with file.open("x", encoding="utf-8", newline="\n") as written:
        written.write(text)
    note(f"written to {file}")
    if capture is not None:
        note(f"now try: larkreader decode {file} {capture}")
    return 0


def _sheet_of(capture: Path, kind: str | None) -> str:
    """Return a sheet of the wires of a capture that carry something."""
    from larkreader.capture.files.open import open_capture, signal_names
    from larkreader.capture.trace import Trace
    from larkreader.declare.starter import StarterWire, starter_sheet
    from larkreader.judge.diagnosis import diagnose

    names = signal_names(capture, kind=kind)  # type: ignore[arg-type]  # as the choices are
    wires = []
    for name, trace in open_capture(capture, {name: name for name in names}, kind=kind).items():  # type: ignore[arg-type]  # as the choices are
        assert isinstance(trace, Trace)
        told = diagnose(trace, wire=name)
        remark = told.findings[0].text.split(" Under these", 1)[0]
        if told.proposal is None:
            remark = f"The settings of this wire could not be told. {remark}"
        wires.append(StarterWire(name, told.proposal, remark))
    return starter_sheet(wires, title=capture.stem)
