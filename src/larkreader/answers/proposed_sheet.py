"""Sheets for a capture that has none: from what its levels show, or from line settings alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

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


@dataclass(frozen=True)
class ProposedSheet:
    """A sheet for a capture that had none.

    Parameters
    ----------
    text : str
        The sheet, with comments: the settings under which each wire reads best, and the frames that it seems to carry.
    wires : tuple of StarterWire
        The wires, each with its settings; `StarterWire.line` is None where nothing could be read.
    silent : tuple of str
        The signals that were left out, as nothing happens on them.
    """

    text: str
    wires: tuple[StarterWire, ...]
    silent: tuple[str, ...] = ()

    @property
    def uncertain(self) -> list[str]:
        """The wires whose settings the capture leaves in doubt."""
        return [wire.signal for wire in self.wires if wire.line is not None and not wire.is_certain]

    @property
    def unread(self) -> list[str]:
        """The wires of which no settings can be proposed; the sheet has the settings of the others, or a default."""
        return [wire.signal for wire in self.wires if wire.line is None]


def propose_sheet(
    capture: Source, *, kind: CaptureKind | None = None, form: CaptureForm | None = None
) -> ProposedSheet:
    """Propose a sheet of the wires of a capture that carry something.

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
    ProposedSheet
        The sheet, and how certain it is.

    Raises
    ------
    CaptureError
        If the capture cannot be read, or holds no levels.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow 12.5 mL/min; pressure 101.3 kPa; " * 20, line)})
    >>> print(lr.parse_sheet(lr.answers.propose_sheet(path).text).wire["pump_tx"].line)
    57600 8E1
    """
    with CaptureFile(capture, kind=kind, form=form) as file:
        traces = file.traces({signal: signal for signal in file.signals()})
        title, form = Path(file.name).stem, file.form
    silent = _silent(traces)
    if kind is not None:
        form = form.model_copy(update={"kind": kind})
    wires = tuple(_wire_of(name, trace) for name, trace in traces.items() if name not in silent)
    return ProposedSheet(starter_sheet(wires, title=title, form=form), wires, silent)


class LineSheet(NamedTuple):
    """A sheet of line settings alone.

    Parameters
    ----------
    sheet : Sheet
        A wire for each signal.
    silent : tuple of str
        The signals that were left out, as nothing happens on them.
    """

    sheet: Sheet
    silent: tuple[str, ...]


def sheet_of_line(
    capture: Source,
    line: LineSettings,
    *,
    signals: Sequence[str] = (),
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
) -> LineSheet:
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
    LineSheet
        A wire for each signal, by the signal's name; ``wire`` where the file names none. And what was left out.

    Raises
    ------
    CaptureError
        If the capture cannot be read, or lacks a signal.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow", line)})
    >>> reading = lr.read(lr.answers.sheet_of_line(path, line).sheet, path)
    >>> bytes(reading.characters["pump_tx"].value.astype("u1"))
    b'flow'
    """
    silent: tuple[str, ...] = ()
    with CaptureFile(capture, kind=kind, form=form) as file:
        if not file.holds_levels:
            names = list(file.every_wire()) if file.kind in ("characters", "recording", "log") else ["wire"]
        elif signals or len(file.signals()) < 2:
            names = list(signals) or file.signals()
        else:
            traces = file.traces({signal: signal for signal in file.signals()})
            silent = _silent(traces)
            names = [name for name in traces if name not in silent]
        for signal in signals:
            if not file.holds_levels and signal not in names:
                raise CaptureError(f'{file.name}: wire "{signal}"', "is not in the file", advice=nearest(signal, names))
        form = file.form
    return LineSheet(Sheet(line=line, wire={name: {"signal": name} for name in signals or names}, capture=form), silent)


def _silent(traces: Mapping[str, Trace]) -> tuple[str, ...]:
    """Return the signals on which nothing happens, which are most often not connected; none if nothing does on any."""
    silent = tuple(name for name, trace in traces.items() if not len(trace))
    return silent if len(silent) < len(traces) else ()


def _wire_of(name: str, trace: Trace) -> StarterWire:
    """Return what the sheet has of one wire: its settings, a remark, and the frames that it carries."""
    diagnosis = diagnose(trace, wire=name)
    line, first = diagnosis.likely, diagnosis.findings[0]
    is_certain = diagnosis.proposal is not None
    remark = first.detail or first.text
    if line is None:
        return StarterWire(name, None, f"No settings fit this wire. {remark}", None, is_certain=False)
    if not is_certain:
        remark = f"The settings of this wire are not certain. {remark}"
    found = propose_layout(receive(trace, line))
    if found is None:
        return StarterWire(name, line, remark, None, is_certain)
    remark += f" It carries frames of {found.layout.length} bytes, {found.good} of {found.frames} of them right."
    return StarterWire(name, line, remark, found.layout, is_certain)
