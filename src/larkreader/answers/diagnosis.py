"""Why a capture does not read as declared: what its levels look like, and what could have garbled its bytes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import RequestError
from larkreader.judge.findings.finding import Finding, Verdict, verdict_of
from larkreader.judge.infer.garble import LOOKED_AT, Expected, Garble, find_garble
from larkreader.judge.verdict.diagnosis import Diagnosis, diagnose
from larkreader.judge.wire.loss_findings import explain_losses
from larkreader.shown import Shown
from larkreader.sources import Source, path_of

from .large import is_large_stream

FEW_SILENT = 1  # signals without a change that are looked at like the others
LOSSES = ("counter-gap", "overflow", "overrun")  # as `explain_losses` finds them


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
    looked_at_s : mapping of str to tuple of float and float
        By wire of which only the first part was looked at: when that ends, and when the capture does, in seconds.
    """

    capture: str
    wires: Mapping[str, Diagnosis | GarbledWire]
    silent: tuple[str, ...] = ()
    looked_at_s: Mapping[str, tuple[float, float]] = field(default_factory=dict)

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
        for wire, (until_s, end_s) in self.looked_at_s.items():
            wires[wire]["looked_at"] = {"until_s": until_s, "end_s": end_s}
        return {"capture": self.capture, "verdict": self.verdict, "wires": wires}


def diagnose_capture(
    capture: Source,
    sheet: Sheet | None = None,
    *,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
    sent: bytes | None = None,
    expect: Expected = "text",
    workers: int = 1,
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
    workers : int
        How many processes may take part in reading a large file, as of `CaptureFile`.

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
    path = path_of(capture)
    with CaptureFile(path, kind=kind, form=form, workers=workers) as file:
        if not file.holds_levels:
            return _of_characters(file, path, sheet, wire, sent, expect)
        signals = _signals_of(file, sheet, wire)
        parts = file.first_parts(signals)
        name = file.name
    if sent is not None or expect != "text":
        raise RequestError("sent" if sent is not None else "expect", "goes with bytes, not with levels")
    silent: tuple[str, ...] = ()
    if sheet is None:
        idle = [item for item, part in parts.items() if isinstance(part.measured, Trace) and not len(part.measured)]
        silent = tuple(idle) if FEW_SILENT < len(idle) < len(parts) else ()
    wires: dict[str, Diagnosis | GarbledWire] = {}
    for item, part in parts.items():
        if item not in silent:
            line, layouts = (None, ()) if sheet is None else (sheet.wire[item].line, sheet.layouts_of(item))
            wires[item] = diagnose(part.measured, line, layouts=layouts, wire=item)
    looked_at_s = {item: (part.until_s, part.end_s) for item, part in parts.items() if not part.is_whole}
    return CaptureDiagnosis(name, wires, silent, looked_at_s)


def _signals_of(file: CaptureFile, sheet: Sheet | None, wire: str | None) -> dict[str, str]:
    """Return what a file calls the wires of a sheet, or its own signals."""
    if sheet is not None:
        return {item: sheet.wire[item].source for item in sheet.wires_named(wire)}
    return {item: item for item in (file.signals() if wire is None else [wire])}


def _of_characters(
    file: CaptureFile,
    path: Path,
    sheet: Sheet | None,
    wire: str | None,
    sent: bytes | None,
    expect: Expected,
) -> CaptureDiagnosis:
    """Diagnose a capture of characters: its first bytes show a mistake in the settings, all of it shows losses."""
    signals = _signals_of(file, sheet, wire)
    if sheet is None:
        raise RequestError(f"wire {next(iter(signals))}", f"has nothing on it in {file.name}")
    if is_large_stream(path, file.kind, file.form):
        from .summed_reading import judge_capture  # few captures are so large

        reading = judge_capture(sheet, path, kind=file.kind, form=file.form, wire=wire)
        lost = (item for item in reading.findings if item.kind in LOSSES and not item.evidence.get("counted"))
        losses = [replace(item, caused_by=None) for item in lost]  # the causes are not among what is diagnosed
        found = {item: tuple(loss for loss in losses if loss.wire == item) for item in signals}
        first = _first_characters(file, signals)
    else:
        first = {item: what for item, what in file.wires(signals).items() if isinstance(what, Characters)}
        found = {item: tuple(explain_losses(item, what, sheet.layouts_of(item))) for item, what in first.items()}
    wires = {}
    for item, what in first.items():
        if not len(what):
            raise RequestError(f"wire {item}", f"has nothing on it in {file.name}")
        if what.value.max() > 0xFF:
            raise RequestError(f"wire {item}", "has characters of nine bits", "must have 8 data bits at most")
        framed = sheet.layouts_of(item) if expect == "text" else ()
        received = what.value[:LOOKED_AT].astype(np.uint8).tobytes()
        explanations = find_garble(received, sheet.wire[item].line, sent, expect=expect, layouts=framed)
        wires[item] = GarbledWire(explanations, found[item])
    return CaptureDiagnosis(file.name, wires)


def _first_characters(file: CaptureFile, signals: Mapping[str, str]) -> dict[str, Characters]:
    """Return the characters with which each wire begins, as many as show a mistake in the settings."""
    parts: dict[str, list[Characters]] = {}
    for piece in file.pieces(signals):
        for wire, some in piece.items():
            held = parts.setdefault(wire, [])
            if isinstance(some, Characters) and sum(map(len, held)) < LOOKED_AT:
                held.append(some[:LOOKED_AT])
        if all(sum(map(len, parts.get(wire, []))) >= LOOKED_AT for wire in signals):
            break
    return {wire: Characters.joined(held) for wire, held in parts.items()}
