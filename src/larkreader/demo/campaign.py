"""The rig's campaign: six boards, four builds, three temperatures, with a known regression and a known drift.

Of each run there are two captures: the levels of the pump head's wire, and what the controller's firmware got. Build
1.3 has a receive buffer that is too small, so that its firmware loses a stretch now and then. The clock of board 5 runs
faster the warmer it is. Nothing else is wrong.
"""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from larkreader.capture.files.recording import RecordingWriter
from larkreader.capture.files.vcd_writer import write_vcd
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.document.sheet_file import SHIPPED, open_shipped_sheet
from larkreader.exercise.line.transmission import transmit

SHEET_FILE = SHIPPED / "campaign.toml"
BOARDS = ("1", "2", "3", "4", "5", "6")
BUILDS = ("1.1", "1.2", "1.3", "1.4")
TEMPERATURES = (5, 25, 45)  # degrees Celsius
BROKEN_BUILD, DRIFTING_BOARD = "1.3", "5"
DRIFT_PPM = 800.0  # a kelvin
FRAMES, PERIOD_S = 20, 0.05
TICK_S = 5e-8  # of the capture
LOST = (slice(146, 189), slice(255, 290))  # bytes that the small buffer of the broken build loses
ROOM_TEMPERATURE = 25
BEGAN = "2026-05-04T06:00:00.000Z"


@dataclass(frozen=True)
class Run:
    """A run of a board with a build at a temperature.

    Parameters
    ----------
    board, build : str
        What ran.
    temperature : int
        In degrees Celsius.
    trace : Trace
        The levels of the pump head's wire.
    messages : tuple of bytes
        What the pump head sent.
    lost : sequence of slice
        Which bytes of them the controller's firmware lost.
    """

    board: str
    build: str
    temperature: int
    trace: Trace
    messages: tuple[bytes, ...]
    lost: Sequence[slice]


def make_runs(
    *,
    seed: int = 5,
    boards: Sequence[str] = BOARDS,
    builds: Sequence[str] = BUILDS,
    temperatures: Sequence[int] = TEMPERATURES,
    is_healthy: bool = False,
) -> Iterator[Run]:
    """Yield the runs of a campaign.

    Parameters
    ----------
    seed : int
        Of measured values and clocks.
    boards, builds : sequence of str
        What runs.
    temperatures : sequence of int
        In degrees Celsius.
    is_healthy : bool
        Whether no build is broken and no board drifts.
    """
    sheet = open_shipped_sheet("campaign")
    rng = np.random.default_rng(seed)
    for board in boards:
        offset_ppm, drift_ppm = rng.normal(0, 400), rng.normal(0, 2)
        if board == DRIFTING_BOARD and not is_healthy:
            drift_ppm = DRIFT_PPM
        for build in builds:
            for temperature in temperatures:
                clock_ppm = offset_ppm + drift_ppm * (temperature - ROOM_TEMPERATURE) + rng.normal(0, 150)
                loses = build == BROKEN_BUILD and not is_healthy and rng.random() < 0.8
                messages = tuple(_messages(sheet, rng))
                trace = _on_wire(sheet, messages, clock_ppm)
                yield Run(board, build, temperature, trace, messages, LOST if loses else ())


def write_campaign(folder: Path, runs: Iterator[Run] | None = None) -> dict[str, Path]:
    """Write a campaign: a sheet, a list of the captures with their labels, and the captures.

    Parameters
    ----------
    folder : pathlib.Path
        Where to; it must exist.
    runs : iterator of Run, optional
        What to write; the campaign of the demo by default.

    Returns
    -------
    dict of str to pathlib.Path
        ``sheet``, and ``captures``, the list.
    """
    files = {"sheet": folder / "campaign.toml", "captures": folder / "captures.csv"}
    files["sheet"].write_text(SHEET_FILE.read_text(encoding="utf-8"), encoding="utf-8")
    rows = [("capture", "board", "build", "temperature", "source")]
    for run in make_runs() if runs is None else runs:
        where = folder / f"board-{run.board}" / f"build-{run.build}"
        where.mkdir(parents=True, exist_ok=True)
        for source, ending in (("wire", "vcd"), ("firmware", "jsonl")):
            path = where / f"{run.temperature}C-{source}.{ending}"
            if source == "wire":
                write_vcd(path, {"rig.pump_tx": run.trace}, comment="Dosing rig, simulated traffic")
            else:
                _write_firmware(path, run)
            rows.append((path.relative_to(folder).as_posix(), run.board, run.build, str(run.temperature), source))
    with files["captures"].open("w", encoding="utf-8", newline="") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)
    return files


def _messages(sheet: Sheet, rng: np.random.Generator) -> Iterator[bytes]:
    """Yield the status messages of a second of dosing."""
    flow = rng.uniform(80, 160)
    for number in range(FRAMES):
        values = {
            "count": number,
            "flow": flow + rng.normal(0, 0.8),
            "pressure": 101.3 + 0.4 * flow + rng.normal(0, 0.5),
            "temperature": 21.5 + rng.normal(0, 0.02),
            "dosed": number * PERIOD_S * flow / 60,
            "state": "dosing",
            "valve": [True, False, False, True],
        }
        yield sheet.frame["status"].encode(values)


def _on_wire(sheet: Sheet, messages: Sequence[bytes], clock_ppm: float) -> Trace:
    line = sheet.wire["from_pump"].line
    values = np.frombuffer(b"".join(messages), np.uint8)
    length = len(messages[0])
    gaps = np.zeros(len(values))
    gaps[::length] = PERIOD_S * line.baud - length * line.bits_per_character
    gaps[0] = 20
    return transmit(values, line, gaps=gaps, clock_error_ppm=clock_ppm, tick_s=TICK_S, name="from_pump")


def _write_firmware(path: Path, run: Run) -> None:
    """Write what the controller's firmware got, as a recording."""
    path.unlink(missing_ok=True)
    whole = b"".join(run.messages)
    kept = np.ones(len(whole), np.bool_)
    for lost in run.lost:
        kept[lost] = False
    length = len(run.messages[0])
    with RecordingWriter(path, BEGAN, {"from_pump": {"port": "/dev/ttyUSB0", "line": "57600 8E1"}}) as writer:
        for number, message in enumerate(run.messages):
            data = bytes(np.frombuffer(message, np.uint8)[kept[number * length : (number + 1) * length]])
            if data:
                writer.add(round(PERIOD_S * (number + 1), 6), "from_pump", data)
