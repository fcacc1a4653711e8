"""Why a capture does not read as declared: what its levels look like, and what could have garbled its bytes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from larkreader.capture.characters import Characters
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import RequestError
from larkreader.judge.findings.finding import Finding, Verdict, verdict_of
from larkreader.judge.infer.garble import Garble, find_garble
from larkreader.judge.verdict.diagnosis import Diagnosis, diagnose
from larkreader.judge.wire.loss_findings import explain_losses
from larkreader.shown import Shown
from larkreader.sources import Source

FEW_SILENT = 1  # signals without a change that are looked at like the others


@dataclass(frozen=True)
class GarbledWire:
    """What may have happened to the bytes of a wire.

    Parameters
    ----------
    explanations : list of Garble
        Mistakes of the sender's settings, the likeliest first; none if no single one explains the bytes.
    findings : tuple of Finding
        Losses that the bytes show.
    """

    explanations: Sequence[Garble]
    findings: tuple[Finding, ...] = ()

    @property
    def verdict(self) -> Verdict:
        """As of a reading, or ``"warnings"`` if nothing explains the bytes."""
        if self.explanations and self.explanations[0].mistake != "none":
            return "faults"
        found = verdict_of(self.findings)
        return "warnings" if not self.explanations and found == "clean" else found

    def to_dict(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {
            "explanations": [
                {
                    "mistake": explanation.mistake,
                    "sender": str(explanation.sender),
                    "likeness": round(explanation.likeness, 3),
                    "recovered_hex": explanation.recovered.hex(" "),
                }
                for explanation in self.explanations
            ],
            "findings": [finding.to_dict() for finding in self.findings],
        }


@dataclass(frozen=True, repr=False)
class CaptureDiagnosis(Shown):
    """What is wrong with the wires of a capture.

    Parameters
    ----------
    capture : str
        What was looked at.
    wires : mapping of str to Diagnosis or GarbledWire
        By wire: of levels what they look like, of bytes what may have happened to them.
    silent : tuple of str
        Signals that were left out because nothing happens on them.
    """

    capture: str
    wires: Mapping[str, Diagnosis | GarbledWire]
    silent: tuple[str, ...] = ()

    @property
    def of_levels(self) -> dict[str, Diagnosis]:
        """The wires whose levels were captured."""
        return {wire: item for wire, item in self.wires.items() if isinstance(item, Diagnosis)}

    @property
    def of_bytes(self) -> dict[str, GarbledWire]:
        """The wires of which bytes were captured."""
        return {wire: item for wire, item in self.wires.items() if isinstance(item, GarbledWire)}

    @property
    def findings(self) -> list[Finding]:
        """The findings of all wires."""
        return [finding for wire in self.wires.values() for finding in wire.findings]

    @property
    def verdict(self) -> Verdict:
        """The worst verdict of its wires."""
        verdicts = {wire.verdict for wire in self.wires.values()}
        order: tuple[Verdict, ...] = ("faults", "warnings", "nothing-read", "clean")
        return next((item for item in order if item in verdicts), "clean")

    def __repr__(self) -> str:
        lines = [f"{wire}: {item!r}" for wire, item in self.wires.items()]
        return "\n".join([f"<CaptureDiagnosis of {self.capture}: {self.verdict}>", *lines])

    def to_dict(self) -> dict[str, Any]:
        """Return the diagnosis as the JSON document has it."""
        wires = {wire: item.to_dict() for wire, item in self.wires.items()}
        return {"capture": self.capture, "verdict": self.verdict, "wires": wires}


def diagnose_capture(
    capture: Source,
    sheet: Sheet | None = None,
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    sent: bytes | None = None,
    expect: Literal["text", "counter"] = "text",
) -> CaptureDiagnosis:
    """Find out what the wires of a capture look like, and why they do not read as declared.

    Parameters
    ----------
    capture : str, path or binary file
        The file.
    sheet : Sheet, optional
        What was declared; without it, the settings are found under which each signal reads best.
    kind : str, optional
        What the file is, as in `open_capture`; found from its content if not given.
    form : CaptureForm, optional
        What the file does not say of itself; what the sheet says if not given.
    wire : str, optional
        Look at this wire of the sheet alone, or without a sheet at this signal.
    sent : bytes, optional
        What was sent, where the capture holds bytes.
    expect : {"text", "counter"}
        What is known of what was sent, if it is not known itself; see `find_garble`.

    Returns
    -------
    CaptureDiagnosis
        Of each wire.

    Raises
    ------
    CaptureError
        If the capture cannot be read.
    RequestError
        If the wire is not on the sheet, a wire has no character, or `sent` or `expect` goes with levels.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path, line = pathlib.Path(tempfile.mkdtemp()) / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    >>> lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow 12.5 mL/min; pressure 101.3 kPa; " * 20, line)})
    >>> print(lr.answers.diagnose_capture(path).of_levels["pump_tx"].proposal)
    57600 8E1
    """
    form = form or (CaptureForm() if sheet is None else sheet.capture)
    with CaptureFile(capture, kind=kind, form=form) as file:
        held = _held_in(file, sheet, wire)
        name = file.name
    silent: tuple[str, ...] = ()
    if sheet is None:
        idle = [item for item, what in held.items() if isinstance(what, Trace) and not len(what)]
        silent = tuple(idle) if FEW_SILENT < len(idle) < len(held) else ()
    wires: dict[str, Diagnosis | GarbledWire] = {}
    for item, what in held.items():
        if item in silent:
            continue
        line, layouts = (None, ()) if sheet is None else (sheet.wire[item].line, sheet.layouts_of(item))
        if isinstance(what, Trace | Voltages):
            if sent is not None or expect != "text":
                raise RequestError("sent" if sent is not None else "expect", "goes with bytes, not with levels")
            wires[item] = diagnose(what, line, layouts=layouts, wire=item)
        elif line is None or not len(what):
            raise RequestError(f"wire {item}", f"has nothing on it in {name}")
        else:
            wires[item] = _of_bytes(item, what, line, layouts, sent, expect)
    return CaptureDiagnosis(name, wires, silent)


def _held_in(file: CaptureFile, sheet: Sheet | None, wire: str | None) -> Mapping[str, Trace | Voltages | Characters]:
    """Return what a file holds of the wires of a sheet, or of its own signals."""
    if sheet is not None:
        signals = {item: sheet.wire[item].source for item in sheet.wires_named(wire)}
    else:
        signals = {item: item for item in (file.signals() if wire is None else [wire])}
    if file.kind == "voltages" and file.form.thresholds is None:
        return {item: file.voltages(signal) for item, signal in signals.items()}
    return file.wires(signals)


def _of_bytes(
    wire: str,
    characters: Characters,
    line: LineSettings,
    layouts: Sequence[FrameLayout],
    sent: bytes | None,
    expect: Literal["text", "counter"],
) -> GarbledWire:
    if characters.value.max() > 0xFF:
        raise RequestError(f"wire {wire}", "has characters of nine bits", "must have 8 data bits at most")
    received = bytes(characters.value.tolist())
    framed = layouts if expect == "text" else ()
    explanations = find_garble(received, line, sent, expect=expect, layouts=framed)
    return GarbledWire(explanations, tuple(explain_losses(wire, characters, layouts)))
