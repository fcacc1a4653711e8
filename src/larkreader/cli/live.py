"""What the commands on a live port share: showing and recording what passes, both ways."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import check_output, console_form, note, say_what_is_worth_knowing

if TYPE_CHECKING:
    from larkreader.capture.files.recording import RecordingWriter
    from larkreader.declare.line import LineSettings
    from larkreader.declare.sheet import Sheet
    from larkreader.exercise.ports.port import Port, Received


TOGETHER_S = 0.02  # what comes from one side within this time is shown together


@dataclass
class _Group:
    """What has come from one side together."""

    wire: str
    at_s: float
    offset: int
    data: bytes = b""
    faults: bytes = b""
    last_s: float = 0.0


class Timeline:
    """Shows what goes out and comes in, on one clock, and records it if asked.

    Parameters
    ----------
    ports : dict of str to Port
        Which wires there are, and the port that each comes from.
    writer : RecordingWriter, optional
        Where to record.
    shown : bool
        Whether to show what passes.
    """

    def __init__(self, ports: dict[str, Port], writer: RecordingWriter | None, *, shown: bool = True) -> None:
        self.counts = dict.fromkeys(ports, 0)
        self.faulty = dict.fromkeys(ports, 0)
        self._ports = ports
        self._writer = writer
        self._shown = shown
        self._width, self._ascii = console_form()
        self._group: _Group | None = None
        self._headed = False
        self._began = {wire: port.now_s() for wire, port in ports.items()}

    def now_s(self, wire: str) -> float:
        """Return the seconds since the timeline began."""
        return self._ports[wire].now_s() - self._began[wire]

    def show(self) -> None:
        """Show what has come together so far: when nothing more has come for a moment, or the other side speaks."""
        from larkreader.present.dump import heading_of, rows_of

        group, self._group = self._group, None
        if group is None or not self._shown:
            return
        width, ascii_only = self._width, self._ascii
        where = (group.at_s, group.wire, group.offset)
        who_width = max(map(len, self.counts))
        if not self._headed:
            click.echo(heading_of(who_width, width))
            self._headed = True
        for row in rows_of(*where, group.data, group.faults, who_width=who_width, width=width, ascii_only=ascii_only):
            click.echo(row)

    def add(self, wire: str, received: Received | bytes, at_s: float | None = None) -> None:
        """Take in what has just passed on a wire, or passed at a time."""
        data = received if isinstance(received, bytes) else received.data
        faults = b"" if isinstance(received, bytes) else received.faults
        if not data:
            return
        at_s = self.now_s(wire) if at_s is None else at_s
        if self._writer is not None:
            self._writer.add(at_s, wire, data, faults)
        last = self._group
        if last is None or last.wire != wire or at_s - last.last_s > TOGETHER_S:
            self.show()
            self._group = last = _Group(wire, at_s, self.counts[wire])
        last.data, last.faults, last.last_s = last.data + data, last.faults + faults, at_s
        self.counts[wire] += len(data)
        self.faulty[wire] += sum(1 for one in faults if one)

    def summary(self) -> str:
        """Show what is left, and say how much passed."""
        self.show()
        parts = []
        for wire, count in self.counts.items():
            faulty = f", {self.faulty[wire]:,} of them faulty" if self.faulty[wire] else ""
            parts.append(f"{wire} {count:,} character{'' if count == 1 else 's'}{faulty}")
        return "; ".join(parts)


@contextmanager
def open_named(name: str, declared: Sheet | None, line: LineSettings | None) -> Iterator[Port]:
    """Open a port by its name, or by its name on the sheet, and start the session as the sheet says.

    Ends the command with status 1 if the device is never ready.
    """
    from larkreader.exercise.ports.open import open_port
    from larkreader.exercise.session import start_session
    from larkreader.present.dump import visible

    known = declared.port.get(name) if declared else None
    if declared is not None and line is None:
        line = declared.line_of(name)
    with open_port(known.at if known else name, line) as port:
        say_what_is_worth_knowing(port)
        if known is not None:
            started = start_session(port, known)
            for one in started.notes:
                note(f"note: {one}")
            if started.before:
                note(f"before it was ready, {len(started.before):,} characters came: {visible(started.before[-60:])}")
            for finding in started.findings:
                note(f"{finding.severity} {finding.kind} on {finding.wire}: {finding.text}")
                note(f"To do: {finding.advice}")
            if started.findings:
                raise click.exceptions.Exit(1)
        yield port


@contextmanager
def recording(path: Path | None, ports: dict[str, Port]) -> Iterator[RecordingWriter | None]:
    """Open a recording of some wires, if a file is named."""
    if path is None:
        yield None
        return
    from larkreader.capture.files.recording import RecordingWriter

    check_output(path)
    wires = {
        wire: {"port": port.name, **({"line": str(port.line)} if port.line is not None else {})}
        for wire, port in ports.items()
    }
    began = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    with RecordingWriter(path, began, wires) as writer:
        yield writer
