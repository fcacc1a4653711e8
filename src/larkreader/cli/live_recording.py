"""Recording what passes on live wires: in a file, in several, on standard output."""

from __future__ import annotations

import re
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from .common import check_output

if TYPE_CHECKING:
    from larkreader.capture.files.recording import RecordingWriter
    from larkreader.capture.files.rolled_recording import RolledRecording
    from larkreader.exercise.ports.port import Port

    Writer = RecordingWriter | RolledRecording

SECONDS = {"s": 1.0, "min": 60.0, "h": 3600.0}
LEAST_STEP_S = 1.0  # of the system's clock, that is worth a note
SIZES = {"kB": 1000, "MB": 1000**2, "GB": 1000**3}


@contextmanager
def recording(
    path: Path | None, ports: dict[str, Port], *, to_output: bool, roll: Roll | None = None
) -> Iterator[list[Writer]]:
    """Open recordings of some wires: in a file if it is named, rolled over if wanted, and on standard output."""
    from larkreader.capture.files.recording import RecordingWriter
    from larkreader.capture.files.rolled_recording import RolledRecording

    to_output = to_output or path == Path("-")
    path = None if path == Path("-") else path
    check_output(path)
    began, wires = began_now(), wires_of(ports)
    with ExitStack() as stack:
        writers: list[Writer] = []
        if path is not None and roll is not None:
            rolled = RolledRecording(path, began, wires, most_bytes=roll.most_bytes, most_s=roll.most_s)
            writers.append(stack.enter_context(rolled))
        elif path is not None:
            writers.append(stack.enter_context(RecordingWriter(path, began, wires)))
        if to_output:
            writers.append(RecordingWriter(sys.stdout.buffer, began, wires))
        yield writers


def began_now() -> str:
    """Return what time it is, as a recording has it."""
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def wires_of(ports: dict[str, Port]) -> dict[str, dict[str, str]]:
    """Return what a recording says of its wires."""
    return {
        wire: {"port": port.name, **({"line": str(port.line)} if port.line is not None else {})}
        for wire, port in ports.items()
    }


class ClockSteps:
    """Notices when the clock of the system is set while a command runs; its own times go on all the same."""

    def __init__(self) -> None:
        self._apart_s = time.time() - time.monotonic()

    def look(self) -> float:
        """Return by how many seconds the clock was set since the last look; 0 for less than a second."""
        apart_s = time.time() - time.monotonic()
        step_s = apart_s - self._apart_s
        if abs(step_s) < LEAST_STEP_S:
            return 0.0
        self._apart_s = apart_s
        return step_s


def quantity_of(text: str, units: Mapping[str, float]) -> float | None:
    """Read a number with one of some units, such as ``1.5 h``; return None for anything else, and for nothing."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]+)\s*", text)
    return float(match[1]) * units[match[2]] or None if match is not None and match[2] in units else None


def size_of(option: str, text: str) -> int:
    """Read a size such as ``100 MB``; raise `RequestError` else."""
    from larkreader.errors import RequestError

    if (size := quantity_of(text, SIZES)) is None:
        raise RequestError(f'{option} "{text}"', "is not a size", 'must be such as "500 kB" or "100 MB"')
    return round(size)


class Roll(NamedTuple):
    """After how many bytes, or seconds, the next file of a recording begins."""

    most_bytes: int | None = None
    most_s: float | None = None

    @classmethod
    def parse(cls, text: str) -> Roll:
        """Read ``1 h``, ``10 min``, ``30 s``, ``500 kB`` or ``100 MB``; raise `RequestError` else."""
        from larkreader.errors import RequestError

        if (size := quantity_of(text, SIZES)) is not None:
            return cls(most_bytes=round(size))
        if (seconds := quantity_of(text, SECONDS)) is not None:
            return cls(most_s=seconds)
        wanted = 'must be a time or a size, such as "1 h" or "100 MB"'
        raise RequestError(f'--roll "{text}"', "is neither a time nor a size", wanted)
