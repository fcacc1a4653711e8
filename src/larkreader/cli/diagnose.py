"""``larkreader diagnose``: what a wire really looks like, and why it does not read as declared."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from .builds import build_options, check_build_options, report_to_build
from .common import (
    InputFile,
    capture_argument,
    check_output,
    exit_status,
    json_option,
    naming,
    note,
    print_document,
    workers,
)
from .forms import form_of, form_options
from .grouped import command
from .output_file import OutputFile
from .stepping import diagnose_port, is_port, probe_port

if TYPE_CHECKING:
    from larkreader.answers.diagnosis import CaptureDiagnosis
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.run.capture_form import CaptureKind
    from larkreader.present.documents.annotations import Remark


@command()
@capture_argument
@click.argument("sheet", type=InputFile(), required=False)
@click.option("--wire", metavar="NAME", help="Look at this wire of the sheet alone; without a sheet, at this signal.")
@form_options
@click.option("--sent", metavar="TEXT", help="What was sent, if CAPTURE holds the bytes that were received of it.")
@click.option(
    "--expect",
    type=click.Choice(["text", "counter"]),
    default="text",
    show_default=True,
    help="What is known of what was sent, if it is not known itself.",
)
@click.option(
    "--seconds",
    type=click.FloatRange(0.05, 600),
    default=0.4,
    show_default=True,
    help="How long to listen at each setting of a port.",
)
@click.option("--ask", metavar="TEXT", help="What to send a device first, so that it answers.")
@click.option(
    "--write", type=OutputFile(".toml"), metavar="FILE", help="Write the settings found on a port as a sheet."
)
@click.option("--flow-probe", is_flag=True, help="Find out whether a port swallows XON and XOFF; it needs an echo.")
@json_option
@build_options
def diagnose(
    capture: Path,
    sheet: Path | None,
    wire: str | None,
    kind: CaptureKind | None,
    given: dict[str, Any],
    sent: str | None,
    expect: Literal["text", "counter"],
    seconds: float,
    ask: str | None,
    write: Path | None,
    flow_probe: bool,
    as_json: bool,
    junit: Path | None,
    annotations: str | None,
) -> int:
    r"""Find out what the wires of CAPTURE look like, and why they do not read as SHEET declares them.

    Without SHEET the settings are found under which each wire reads best. Where CAPTURE holds bytes alone, both ends
    are simulated under each mistake; --sent says what was sent, with \r \n \xHH for single bytes. Where CAPTURE is
    a port, bauds and formats are stepped through. The exit status is 1 if a wire is not as declared.
    """
    from larkreader.answers.diagnosis import diagnose_capture
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.exercise.payload.typed_input import text_of

    check_build_options(junit, annotations, as_json=as_json)
    declared = None if sheet is None else open_sheet(sheet)
    if is_port(str(capture), declared):
        if sent is not None or expect != "text":
            raise RequestError("--sent and --expect", f"go with bytes that were captured, and {capture} is a port")
        if junit is not None or annotations is not None:
            raise RequestError("--junit and --annotations", f"go with a capture, and {capture} is a port")
        return _of_port(
            str(capture), sheet, declared, wire, seconds, ask, write, flow_probe=flow_probe, as_json=as_json
        )
    if flow_probe or ask is not None or write is not None:
        raise RequestError("--flow-probe, --ask and --write", f"go with a port, and {capture} is none")
    known = None if sent is None else text_of(sent, 1)
    form = form_of(None if declared is None else declared.capture, given)
    with naming("sent", "expect"):
        found = diagnose_capture(
            capture, declared, kind=kind, form=form, wire=wire, sent=known, expect=expect, workers=workers()
        )
    if found.silent:
        note(f"note: nothing happens on {', '.join(found.silent)}")
    name = f"diagnose {capture}" + (f" {sheet}" if sheet is not None else "")
    remarks = _remarks_of(found)
    if report_to_build(junit, annotations, name, found.findings, sheet=sheet, capture=capture, more=remarks):
        return exit_status(found.verdict)
    if as_json:
        print_document("diagnosis", {"sheet": None if sheet is None else str(sheet), **found.to_dict()})
    else:
        _show(found)
    return exit_status(found.verdict)


def _of_port(
    name: str,
    sheet: Path | None,
    declared: Sheet | None,
    wire: str | None,
    seconds: float,
    ask: str | None,
    write: Path | None,
    *,
    flow_probe: bool,
    as_json: bool,
) -> int:
    """Find out at which settings a device at a port speaks, or what a port does with XON and XOFF."""
    from larkreader.errors import RequestError
    from larkreader.exercise.payload.typed_input import text_of

    check_output(write)
    if flow_probe:
        line = declared.line_of(name) if declared else None
        return probe_port(name, declared, line, as_json=as_json)
    asked = b"" if ask is None else text_of(ask, 1)
    if write is not None and write.exists():
        raise RequestError(str(write), "exists already", advice="Name another file")
    return diagnose_port(
        name, sheet, declared=declared, wire=wire, seconds=seconds, ask=asked, write=write, as_json=as_json
    )


def _parts_of(found: CaptureDiagnosis) -> dict[str, str]:
    """Return by wire how far it was looked at, where that is not to its end."""
    more = "s more are in the capture, and not judged"
    return {
        wire: f"{wire} was looked at up to {until_s:.6g} s; {end_s - until_s:.6g} {more}"
        for wire, (until_s, end_s) in found.looked_at_s.items()
    }


def _remarks_of(found: CaptureDiagnosis) -> Iterator[Remark]:
    """Yield what a build server is given of bytes that do not read."""
    from larkreader.present.documents.annotations import Remark

    for wire, text in _parts_of(found).items():
        yield Remark("note", f"a part of {wire} was looked at", f"{text}.", f"wire.{wire}")
    for wire, garbled in found.of_bytes.items():
        if not garbled.explanations:
            text = "No single mistake of the sender's settings explains what was received."
            yield Remark("warning", f"unexplained bytes on {wire}", text, f"wire.{wire}")
        elif garbled.explanations[0].mistake != "none":
            best = garbled.explanations[0]
            share = f"{100 * best.likeness:.0f} %"
            text = f"{best.mistake}: the sender would be set to {best.sender}, which explains {share}."
            yield Remark("error", f"garbled bytes on {wire}", text, f"wire.{wire}")


def _show(found: CaptureDiagnosis) -> None:
    from larkreader.present.tables import finding_views, survey_views
    from larkreader.present.text import terminal

    console = terminal.make_console()
    if levels := found.of_levels:
        console.print(survey_views.surveys({name: item.survey for name, item in levels.items()}))
        console.print()
        console.print(finding_views.explanations(levels))
    for text in _parts_of(found).values():
        console.print(f"\n{text}.", soft_wrap=True)
    for name, garbled in found.of_bytes.items():
        if not garbled.explanations:
            console.print(f"{name}: no single mistake of the sender's settings explains what was received.")
        elif garbled.explanations[0].mistake == "none":
            console.print(
                f"{name}: {100 * garbled.explanations[0].likeness:.0f} % of what was received makes sense as declared."
            )
        else:
            console.print(f"What was received on {name} is explained by", soft_wrap=True)
            console.print()
            console.print(finding_views.garbles(garbled.explanations))
    for garbled in found.of_bytes.values():
        if garbled.findings:
            console.print()
            console.print(finding_views.explained(garbled.findings))
