"""A sheet to begin with, of the wires that a capture holds."""

from __future__ import annotations

from pathlib import Path

from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.trace import Trace
from larkreader.declare.document.starter import StarterWire, starter_sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.decode.characters.receive import receive
from larkreader.judge.infer.proposal import propose_layout
from larkreader.judge.verdict.diagnosis import diagnose
from larkreader.sources import Source


def propose_sheet(capture: Source, *, kind: CaptureKind | None = None, form: CaptureForm | None = None) -> str:
    """Return the text of a sheet of the wires of a capture that carry something.

    Parameters
    ----------
    capture : str, path or binary file
        A file of levels or voltages.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
    form : CaptureForm, optional
        What the file does not say of itself.

    Returns
    -------
    str
        A commented sheet: the settings under which each wire reads best, and the frames that it seems to carry.

    Raises
    ------
    CaptureError
        If the capture cannot be read, or holds no levels.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow 12.5 mL/min; pressure 101.3 kPa; " * 20, line)})
    >>> print(lr.parse_sheet(lr.answers.propose_sheet(path)).wire["pump_tx"].line)
    57600 8E1
    """
    with CaptureFile(capture, kind=kind, form=form) as file:
        traces = file.traces({signal: signal for signal in file.signals()})
        title, form = Path(file.name).stem, file.form
    if any(map(len, traces.values())):  # channels on which nothing happens are most often not connected
        traces = {name: trace for name, trace in traces.items() if len(trace)}
    if kind is not None:
        form = form.model_copy(update={"kind": kind})
    return starter_sheet([_wire_of(name, trace) for name, trace in traces.items()], title=title, form=form)


def _wire_of(name: str, trace: Trace) -> StarterWire:
    """Return what the sheet has of one wire: its settings, a remark, and the frames that it carries."""
    diagnosis = diagnose(trace, wire=name)
    line, first = diagnosis.proposal, diagnosis.findings[0]
    remark = first.detail or first.text
    if line is None:
        return StarterWire(name, None, f"The settings of this wire are not certain. {remark}", None)
    found = propose_layout(receive(trace, line))
    if found is None:
        return StarterWire(name, line, remark, None)
    remark += f" It carries frames of {found.layout.length} bytes, {found.good} of {found.frames} of them right."
    return StarterWire(name, line, remark, found.layout)
