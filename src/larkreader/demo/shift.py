"""Twenty seconds at the controller's port as a program recorded them, with a known list of faults."""

from __future__ import annotations

import math
from pathlib import Path

from larkreader.capture.characters import Fault
from larkreader.capture.files.recording import RecordingWriter
from larkreader.declare.document.sheet import Sheet

from .wires import Injected

WIRE = "from_pump"
BEGAN = "2026-05-01T08:30:00.000Z"
FRAMES, PERIOD_S = 400, 0.05
CHANGED, HIGH, LOST, NOISY = 80, range(160, 163), 240, 320  # frames: a bit changed, values too high, bytes lost, parity
LOST_BYTES = slice(6, 11)
FLIPPED = 5  # the byte of a frame in which a bit is changed


def write_shift(folder: Path, sheet: Sheet) -> tuple[Path, tuple[Injected, ...]]:
    """Write the recording.

    Parameters
    ----------
    folder : pathlib.Path
        Where to; it must exist.
    sheet : Sheet
        Of the dosing rig.

    Returns
    -------
    tuple of pathlib.Path and tuple of Injected
        The file, and the findings that must come out.
    """
    path = folder / "shift.jsonl"
    path.unlink(missing_ok=True)
    layout, offset, injected = sheet.frame["status"], 0, []
    with RecordingWriter(path, BEGAN, {WIRE: {"port": "/dev/ttyUSB0", "line": str(sheet.wire[WIRE].line)}}) as writer:
        for number in range(FRAMES):
            at_s = round(PERIOD_S * (number + 1), 6)
            data, faults = bytearray(layout.encode(_values(number, at_s))), b""
            if number in (CHANGED, NOISY):
                data[FLIPPED] ^= 0x10
                injected.append(Injected("checksum-mismatch", WIRE, 1, at_s, offset))
            if number == NOISY:
                faults = bytes(int(Fault.PARITY) if place == FLIPPED else 0 for place in range(len(data)))
                injected.append(Injected("parity-error", WIRE, 1, at_s, offset + FLIPPED))
            if number == HIGH[0]:
                injected.append(Injected("out-of-range", WIRE, len(HIGH), at_s, offset))
            if number == LOST:
                del data[LOST_BYTES]
                injected.append(Injected("overflow", WIRE, 1, at_s, offset))
            writer.add(at_s, WIRE, bytes(data), faults)
            offset += len(data)
    return path, tuple(injected)


def _values(number: int, at_s: float) -> dict[str, object]:
    """Return what the pump head measures at a time."""
    flow = 320.0 if number in HIGH else 120 + 60 * math.sin(at_s / 2)
    return {
        "count": number % 256,
        "flow": flow,
        "pressure": 101.25 + 0.4 * math.cos(at_s / 3),
        "temperature": 21.5 + 0.02 * at_s,
        "dosed": 2.0 * at_s,
        "state": "dosing",
        "valve": [True, False, False, True],
    }
