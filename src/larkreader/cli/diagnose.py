"""``larkreader diagnose``: what a wire really looks like, and why it does not read as declared."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .builds import build_options, check_build_options, report_to_build
from .common import InputFile, capture_argument, check_output, exit_status, json_option, note, print_document
from .forms import form_of, form_options
from .stepping import diagnose_port, is_port, probe_port

if TYPE_CHECKING:
    from larkreader.capture.characters import Characters
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.run.capture_form import CaptureForm
    from larkreader.judge.findings.finding import Finding
    from larkreader.judge.infer.garble import Garble
    from larkreader.judge.verdict.diagnosis import Diagnosis
    from larkreader.present.annotations import Remark

FEW_SILENT = 1  # signals without a change that are shown like the others


@click.command()
@capture_argument
@click.argument("sheet", type=InputFile(), required=False)
@click.option("--wire", metavar="NAME", help="Look at this wire of the sheet alone; without a sheet, at this signal.")
@form_options
@click.option("--sent", metavar="TEXT", help="What was sent, where CAPTURE holds the bytes that came of it.")
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
    "--write", type=click.Path(path_type=Path), metavar="FILE", help="Write the settings found on a port as a sheet."
)
@click.option("--flow-probe", is_flag=True, help="Find out whether a port swallows XON and XOFF; it needs an echo.")
@json_option
@build_options
def diagnose(
    capture: Path,
    sheet: Path | None,
    wire: str | None,
    kind: str | None,
    given: dict[str, Any],
    sent: str | None,
    expect: str,
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
    from larkreader.capture.characters import Characters
    from larkreader.capture.files.kinds import find_kind
    from larkreader.capture.files.open import open_capture, open_voltages
    from larkreader.capture.trace import Trace
    from larkreader.capture.voltages import Voltages
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.exercise.by_hand import text_of
    from larkreader.judge.infer.garble import find_garble
    from larkreader.judge.verdict.diagnosis import diagnose as diagnose_wire
    from larkreader.judge.wire.loss_findings import explain_losses

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
    signals = _signals_of(capture, declared, wire, kind, form)
    told: dict[str, Diagnosis] = {}
    garbled: dict[str, list[Garble]] = {}
    lost: dict[str, tuple[Finding, ...]] = {}
    kind = kind or find_kind(capture, form)
    opened: dict[str, Trace | Voltages | Characters] = {}
    if kind == "voltages" and form.thresholds is None:
        wanted = {wire: signals[wire]} if declared is not None and wire in signals else signals
        opened |= {name: open_voltages(capture, signal, form=form) for name, signal in wanted.items()}
    else:
        opened |= open_capture(capture, signals, kind=kind, wire=wire if declared else None, form=form)  # type: ignore[arg-type]  # as the choices are
    silent = [name for name, what in opened.items() if isinstance(what, Trace) and not len(what)]
    if declared is None and len(silent) > FEW_SILENT and len(silent) < len(opened):
        note(f"note: nothing happens on {', '.join(silent)}")
        opened = {name: what for name, what in opened.items() if name not in silent}
    for name, what in opened.items():
        line = declared.wire[name].line if declared else None
        if isinstance(what, (Trace, Voltages)):
            layouts = declared.layouts_of(name) if declared else ()
            told[name] = diagnose_wire(what, line, layouts=layouts, wire=name)
        elif line is not None and len(what):
            framed = declared.layouts_of(name) if declared and expect == "text" else ()
            garbled[name] = find_garble(_bytes_of(what, name), line, known, expect=expect, layouts=framed)  # type: ignore[arg-type]  # as the choices are
        else:
            raise RequestError(f"wire {name}", f"has nothing on it in {capture}")
        if isinstance(what, Characters) and declared is not None:
            lost[name] = tuple(explain_losses(name, what, declared.layouts_of(name)))
    if told and (known is not None or expect != "text"):
        raise RequestError("--sent" if known is not None else "--expect", "goes with bytes, not with levels")
    verdict = _verdict_of(told, garbled, lost)
    found = [finding for one in (*(one.findings for one in told.values()), *lost.values()) for finding in one]
    name = f"diagnose {capture}" + (f" {sheet}" if sheet is not None else "")
    remarks = _remarks_of(garbled)
    if report_to_build(junit, annotations, name, found, sheet=sheet, capture=capture, more=remarks):
        return exit_status(verdict)
    if as_json:
        document = {"sheet": None if sheet is None else str(sheet), "capture": str(capture), "verdict": verdict}
        wires = {name: one.to_dict() for name, one in told.items()} | _json_of(garbled, lost)
        print_document("diagnosis", {**document, "wires": wires})
    else:
        _show(told, garbled, lost)
    return exit_status(verdict)


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
    from larkreader.exercise.by_hand import text_of

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


def _remarks_of(garbled: dict[str, list[Garble]]) -> Iterator[Remark]:
    """Yield what a build server is given of bytes that do not read."""
    from larkreader.present.annotations import Remark

    for wire, found in garbled.items():
        if not found:
            text = "No single mistake of the sender's settings explains what was received."
            yield Remark("warning", f"unexplained bytes on {wire}", text, f"wire.{wire}")
        elif found[0].mistake != "none":
            best = found[0]
            text = (
                f"{best.mistake}: the sender would be set to {best.sender}, which explains {100 * best.likeness:.0f} %."
            )
            yield Remark("error", f"garbled bytes on {wire}", text, f"wire.{wire}")


def _verdict_of(
    told: dict[str, Diagnosis], garbled: dict[str, list[Garble]], lost: dict[str, tuple[Finding, ...]]
) -> str:
    from larkreader.judge.findings.finding import verdict_of

    found = [finding for one in told.values() for finding in one.findings]
    verdict = verdict_of((*found, *(finding for one in lost.values() for finding in one)))
    if any(found and found[0].mistake != "none" for found in garbled.values()):
        return "faults"
    return "warnings" if not all(garbled.values()) else verdict


def _json_of(garbled: dict[str, list[Garble]], lost: dict[str, tuple[Finding, ...]]) -> dict[str, Any]:
    return {
        name: {
            "explanations": [
                {
                    "mistake": one.mistake,
                    "sender": str(one.sender),
                    "likeness": round(one.likeness, 3),
                    "recovered_hex": one.recovered.hex(" "),
                }
                for one in found
            ],
            "findings": [finding.to_dict() for finding in lost.get(name, ())],
        }
        for name, found in garbled.items()
    }


def _show(told: dict[str, Diagnosis], garbled: dict[str, list[Garble]], lost: dict[str, tuple[Finding, ...]]) -> None:
    from larkreader.present import survey_views, terminal

    console = terminal.make_console()
    if told:
        console.print(survey_views.surveys({name: one.survey for name, one in told.items()}))
        console.print()
        console.print(terminal.explanations(told))
    for name, found in garbled.items():
        if not found:
            console.print(f"{name}: no single mistake of the sender's settings explains what came.")
            continue
        if found[0].mistake == "none":
            console.print(f"{name}: {100 * found[0].likeness:.0f} % of what came makes sense as declared.")
            continue
        console.print(f"What came on {name} is explained by", soft_wrap=True)
        console.print()
        console.print(terminal.garbles(found))
    for found_lost in filter(None, lost.values()):
        console.print()
        console.print(terminal.explained(found_lost))


def _bytes_of(what: Characters, name: str) -> bytes:
    from larkreader.errors import RequestError

    if len(what) and what.value.max() > 0xFF:
        raise RequestError(f"wire {name}", "has characters of nine bits", "must have 8 data bits at most")
    return bytes(what.value.tolist())


def _signals_of(
    capture: Path, declared: Sheet | None, wire: str | None, kind: str | None, form: CaptureForm
) -> dict[str, str]:
    """Return the signals to look at, by wire: the sheet's, the one that is named, or all."""
    from larkreader.capture.files.open import signal_names

    if declared is not None:
        return {key: one.source for key, one in declared.wire.items()}
    names = [wire] if wire is not None else signal_names(capture, kind=kind, form=form)  # type: ignore[arg-type]  # as the choices are
    return {name: name for name in names}
