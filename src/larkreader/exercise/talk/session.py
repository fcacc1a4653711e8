"""The start of a session on a port: control lines, a reset pulse, start-up noise, and the word that says "ready"."""

from __future__ import annotations

from dataclasses import dataclass

from larkreader.declare.run.port import DeclaredPort
from larkreader.errors import PortError
from larkreader.exercise.payload.typed_input import text_of
from larkreader.exercise.ports.port import Port
from larkreader.judge.findings.finding import Finding, make_finding

MOST_BEFORE_READY = 1 << 20  # characters of start-up output; more is not a start-up


@dataclass(frozen=True)
class Started:
    """How a session began.

    Parameters
    ----------
    before : bytes
        What was received before the device was ready; it belongs to no dialogue.
    findings : tuple of Finding
        ``never-ready``, if the word did not come.
    notes : tuple of str
        What was asked for and the port has not.
    """

    before: bytes
    findings: tuple[Finding, ...] = ()
    notes: tuple[str, ...] = ()


def start_session(port: Port, declared: DeclaredPort) -> Started:
    """Do what must be done before the device at a port can be talked to.

    Parameters
    ----------
    port : Port
        Just opened.
    declared : DeclaredPort
        What to do.

    Returns
    -------
    Started

    Raises
    ------
    PortError
        If the port is gone.
    """
    notes = [note for line in ("rts", "dtr") if (note := _set(port, line, getattr(declared, line)))]
    if declared.reset is not None:
        note = _set(port, declared.reset.line, True)
        if note:
            notes.append(note)
        else:
            port.read(
                MOST_BEFORE_READY, declared.reset.hold_s
            )  # what was sent before the reset does not show the state now
            _set(port, declared.reset.line, False)
    before = port.read(MOST_BEFORE_READY, declared.settle_s).data if declared.settle_s else b""
    if declared.ready is None:
        return Started(before, notes=tuple(notes))
    word = text_of(declared.ready, 0)
    deadline = port.now_s() + declared.ready_within_s
    while not before.endswith(word) and port.now_s() < deadline and len(before) < MOST_BEFORE_READY:
        before += port.read_some(1, max(deadline - port.now_s(), 0.0)).data
    if before.endswith(word):
        return Started(before[: -len(word)], notes=tuple(notes))
    evidence = {"waited_s": declared.ready_within_s, "word": declared.ready, "characters": len(before)}
    return Started(before, (make_finding("never-ready", declared.key, **evidence),), tuple(notes))


def _set(port: Port, line: str, asserted: bool | None) -> str:
    """Assert or release a control line; return what to note if the port has none."""
    if asserted is None:
        return ""
    try:
        port.set_modem_line(line, asserted)
    except PortError as error:
        return f"{line} was left alone: {error.where.removeprefix('port ')} {error.found}"
    return ""
