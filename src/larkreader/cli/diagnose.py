"""``larkreader diagnose``: what a wire really looks like, and why it does not read as declared."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import capture_argument, json_option, kind_option, print_json

if TYPE_CHECKING:
    from larkreader.declare.sheet import Sheet


@click.command()
@capture_argument
@click.argument("sheet", type=click.Path(path_type=Path), required=False)
@click.option("--wire", metavar="NAME", help="Look at this wire of the sheet alone; without a sheet, at this signal.")
@kind_option
@json_option
def diagnose(capture: Path, sheet: Path | None, wire: str | None, kind: str | None, as_json: bool) -> int:
    """Find out what the wires of CAPTURE look like, and why they do not read as SHEET declares them.

    Without SHEET the settings are found under which each wire reads best. The exit status is 1 if a wire is not as
    declared.
    """
    from larkreader.capture.files.open import open_capture
    from larkreader.capture.trace import Trace
    from larkreader.declare.sheet import open_sheet
    from larkreader.errors import CaptureError
    from larkreader.judge.diagnosis import diagnose as diagnose_wire
    from larkreader.judge.findings import verdict_of

    declared = None if sheet is None else open_sheet(sheet)
    signals = _signals_of(capture, declared, wire, kind)
    told = {}
    for name, what in open_capture(capture, signals, kind=kind, wire=wire if declared else None).items():  # type: ignore[arg-type]  # as the choices are
        if not isinstance(what, Trace):
            raise CaptureError(
                str(capture), "holds characters, not levels", "must be a VCD file or level changes in CSV"
            )
        line = declared.wire[name].line if declared else None
        told[name] = diagnose_wire(what, line, layouts=declared.layouts_of(name) if declared else (), wire=name)
    verdict = verdict_of(tuple(finding for one in told.values() for finding in one.findings))
    if as_json:
        wires = {name: one.to_dict() for name, one in told.items()}
        print_json(
            {
                "sheet": None if sheet is None else str(sheet),
                "capture": str(capture),
                "verdict": verdict,
                "wires": wires,
            }
        )
    else:
        from larkreader.present import terminal

        console = terminal.make_console()
        console.print(terminal.surveys({name: one.survey for name, one in told.items()}))
        console.print()
        console.print(terminal.explanations(told))
    return 1 if verdict == "faults" else 0


def _signals_of(capture: Path, declared: Sheet | None, wire: str | None, kind: str | None) -> dict[str, str]:
    """Return the signals to look at, by wire: the sheet's, the one that is named, or all."""
    from larkreader.capture.files.open import signal_names

    if declared is not None:
        return {key: one.source for key, one in declared.wire.items()}
    names = [wire] if wire is not None else signal_names(capture, kind=kind)  # type: ignore[arg-type]  # as the choices are
    return {name: name for name in names}
