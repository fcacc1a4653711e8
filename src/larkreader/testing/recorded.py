"""A port that records what passes through another, and keeps the recording if it is wanted at the end."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from larkreader.capture.files.recording import RecordingWriter
from larkreader.declare.link.line import LineSettings
from larkreader.exercise.ports.port import Port, Received


class RecordedPort(Port):
    """A port that records what passes through another.

    Parameters
    ----------
    port : Port
        The other; it is closed with this port.
    folder : pathlib.Path
        Where the recording is written.
    name : str
        What it is called, without its ending.
    keep : callable
        Asked at the end whether a recording is to be kept.
    """

    name: str
    line: LineSettings | None
    marks_faults: bool
    notes: tuple[str, ...]

    def __init__(self, port: Port, folder: Path, name: str, keep: Callable[[Path], bool]) -> None:
        self._port, self._keep = port, keep
        self.name, self.line, self.marks_faults, self.notes = port.name, port.line, port.marks_faults, port.notes
        self._path, number = folder / f"{name}.jsonl", 1
        while self._path.exists():
            number += 1
            self._path = folder / f"{name}-{number}.jsonl"
        self._had_folder = folder.exists()
        folder.mkdir(parents=True, exist_ok=True)
        began = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
        declared = {"port": port.name, **({"line": str(port.line)} if port.line is not None else {})}
        self._writer = RecordingWriter(self._path, began, {"out": declared, "in": declared})
        self._begin_s = port.now_s()
        self._is_closed = False

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Send all of `data`, and record it."""
        self._writer.add(self._port.now_s() - self._begin_s, "out", data)
        self._port.write(data, limit_s)

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what is there, and record it."""
        some = self._port.read_some(most, limit_s)
        if some.data:
            self._writer.add(self._port.now_s() - self._begin_s, "in", some.data, some.faults)
        return some

    def now_s(self) -> float:
        """Return the time on the other port's clock, in seconds."""
        return self._port.now_s()

    def set_modem_line(self, name: str, asserted: bool) -> None:
        """Assert or release a control line of the other port."""
        self._port.set_modem_line(name, asserted)

    def send_break(self) -> None:
        """Send a break from the other port."""
        self._port.send_break()

    def modem_lines(self) -> dict[str, bool]:
        """Return the control lines of the other port."""
        return self._port.modem_lines()

    def error_counters(self) -> dict[str, int]:
        """Return what the other port's driver has counted."""
        return self._port.error_counters()

    def path_fates(self) -> dict[str, int]:
        """Return what became of the characters at the other port's simulated far end."""
        return self._port.path_fates()

    def close(self) -> None:
        """Close the other port, and throw the recording away unless it is wanted."""
        if self._is_closed:
            return
        self._is_closed = True
        self._port.close()
        self._writer.close()
        if not self._keep(self._path):
            self._path.unlink()
            if not self._had_folder and not any(self._path.parent.iterdir()):
                self._path.parent.rmdir()
