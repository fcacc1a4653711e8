"""Sheets for a capture that has none: from what its levels show, or from line settings alone."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.starter import StarterWire, starter_sheet
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.decode.characters.receive import receive
from larkreader.errors import CaptureError, nearest
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


def sheet_of_line(
    capture: Source,
    line: LineSettings,
    *,
    signals: Sequence[str] = (),
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
) -> Sheet:
    """Return a sheet without frames for a capture whose wires all have the same line settings.

    Parameters
    ----------
    capture : str, path or binary file
        The file.
    line : LineSettings
        The settings.
    signals : sequence of str
        The signals to read; by default all that change, or all wires of a capture of characters.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
    form : CaptureForm, optional
        What the file does not contain.

    Returns
    -------
    Sheet
        A wire for each signal, by the signal's name; ``wire`` where the file names none.

    Raises
    ------
    CaptureError
        If the capture cannot be read, or lacks a signal.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> reading = lr.read(lr.answers.sheet_of_line(path, line), path)
    >>> bytes(reading.characters["pump_tx"].value.astype("u1"))
    b'flow'
    """
    with CaptureFile(capture, kind=kind, form=form) as file:
        if not file.holds_levels:
            names = list(file.every_wire()) if file.kind in ("characters", "recording", "log") else ["wire"]
        elif signals or len(file.signals()) < 2:
            names = list(signals) or file.signals()
        else:
            traces = file.traces({signal: signal for signal in file.signals()})
            names = [name for name, trace in traces.items() if len(trace)] or list(traces)
        for signal in signals:
            if not file.holds_levels and signal not in names:
                raise CaptureError(f'{file.name}: wire "{signal}"', "is not in the file", advice=nearest(signal, names))
        form = file.form
    return Sheet(line=line, wire={name: {"signal": name} for name in signals or names}, capture=form)


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
