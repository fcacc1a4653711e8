"""Messages put on a wire with the faults that each is to have, and the findings that must come out.

Whoever makes the messages knows when which character is on a wire; nothing here asks the receiver.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from larkreader.capture.characters import Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.exercise.line.impair import add_spike
from larkreader.exercise.line.transmission import transmit
from larkreader.judge.findings.finding import Finding


@dataclass(frozen=True)
class Injected:
    """One kind of fault that was put on a wire, as the finding that must come out."""

    kind: str
    wire: str
    count: int
    first_s: float
    offset: int | None


@dataclass
class Message:
    """One message on a wire: its characters with the faults that each is to have."""

    at_s: float
    values: list[int]
    faults: dict[int, Fault] = field(default_factory=dict)
    marks: list[tuple[str, int]] = field(default_factory=list)  # kind of finding, and the character that it names


def on_wire(
    messages: Iterable[Message], line: LineSettings, wire: str, spikes: list[float], end_s: float
) -> tuple[Trace, list[Injected]]:
    """Put messages on a wire; return its trace and the findings that must come out."""
    values: list[int] = []
    faults: list[int] = []
    begins: list[float] = []
    gaps: list[float] = []
    marks: dict[str, list[int]] = {}
    free_s = 0.0
    for message in messages:
        begin_s, first = max(message.at_s, free_s), len(values)
        for place, value in enumerate(message.values):
            fault = message.faults.get(place, Fault(0))
            gaps.append(max(begin_s - free_s, 0.0) * line.baud)
            values.append(value)
            faults.append(int(fault))
            begins.append(begin_s)
            held = bool(fault & (Fault.FRAMING | Fault.BREAK))
            free_s = begin_s + (line.bits_per_character + held) * line.bit_time_s
            begin_s = free_s
        for kind, place in message.marks:
            marks.setdefault(kind, []).append(first + place)
    trace = transmit(values, line, gaps=gaps, faults=faults, begin_s=0.0, end_s=end_s, name=wire)
    injected = [Injected(kind, wire, len(places), begins[places[0]], places[0]) for kind, places in marks.items()]
    for at_s in spikes:
        trace = add_spike(trace, at_s, 0.2 * line.bit_time_s)
    if spikes:
        injected.append(Injected("false-start", wire, len(spikes), spikes[0], None))
    return trace, injected


def is_found(injected: Iterable[Injected], findings: Iterable[Finding]) -> bool:
    """Return whether findings are exactly the faults that were put on the wires: kind, wire, count, place and time."""
    found = {
        (finding.kind, finding.wire, finding.count, finding.offset, round(finding.first_s or 0.0, 6))
        for finding in findings
    }
    return found == {(item.kind, item.wire, item.count, item.offset, round(item.first_s, 6)) for item in injected}
