"""Run commands for hours and look whether they lose anything or grow: `python tools/endure.py NAME --seconds 3600`.

``recording``: `larkreader listen --record --roll` on a pseudo terminal, with random bytes at 1 Mbit/s.
``pump``: `larkreader serve pump` on a pseudo terminal, with set-points at 1 Mbit/s.
``simulated``: `larkreader listen stand-in:pump` with a sheet, for six hours of its own time.
``reader``: a `FrameReader` given 10^9 bytes of noise, of markers, and of a frame that never ends.

Memory is read once a second; its slope is fitted after the first tenth, and given with its standard error. With
``--short`` each takes a few seconds, in which memory still grows as caches fill, and some is allowed.
"""

from __future__ import annotations

import argparse
import json
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

import larkreader as lr
from larkreader.capture.files.open import open_every_wire
from larkreader.declare.document.sheet_file import open_shipped_sheet

RATE = 100_000  # characters a second: 1 Mbit/s of 8N1
STEP_S = 0.01  # between writes
PATTERN = np.random.default_rng(1).integers(0, 256, 65_521, np.uint8)  # of a prime length: no size of file divides it
PAGE = 4096
LINE = "1000000 8N1"
SIZE = 1e9  # bytes of each kind for a reader
FIELDS: dict[str, Any] = {
    "fields": [
        {"name": "count", "type": "uint8"},
        {"name": "flow", "type": "uint16", "repeat": 3},
        {"name": "crc", "type": "checksum"},
    ],
    "checksum": {"algorithm": "CRC-16/IBM-3740"},
}
BOUNDARIES: dict[str, Any] = {
    "terminator": {"kind": "terminator", "terminator": "\r\n"},
    "cobs": {"kind": "cobs"},
    "slip": {"kind": "slip"},
    "hdlc": {"kind": "hdlc"},
    "escape": {"kind": "escape", "begin": "10 02", "end": "10 03", "escape": "10"},
}
ENDS = {
    "terminator": b"\r\n",
    "cobs": b"\0\0",
    "slip": b"\xc0\xc0",
    "hdlc": b"~~",
    "escape": b"\x10\x03",
    "marker": b"",
}
SHIPPED = Path(lr.__file__).parent / "data" / "rig.toml"


def main() -> int:
    """Run what is named; return 1 if anything was lost or grew."""
    runs: dict[str, Callable[[float, Path], bool]] = {
        "recording": recording, "pump": pump, "simulated": simulated, "reader": reader,
    }  # fmt: skip
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("names", nargs="*", metavar="NAME", choices=[*runs, []], default=[])
    parser.add_argument("--seconds", type=float, default=3600.0, help="of real time; simulated time is six times that")
    parser.add_argument("--short", action="store_true", help="take a few seconds for each")
    given = parser.parse_args()
    if given.short:
        given.seconds, Memory.allowed, globals()["SIZE"] = 5.0, 100.0, 4e6
    is_sound = True
    for name in given.names or list(runs):
        with tempfile.TemporaryDirectory() as folder:
            is_sound &= runs[name](given.seconds, Path(folder))
    return 0 if is_sound else 1


def recording(seconds: float, folder: Path) -> bool:
    """Record random bytes, in files of 100 MB, and compare what stands in them with what was sent."""
    with lr.open_port("pty") as far:
        words = ["listen", far.name, "--record", "talk.jsonl", "--roll", "100 MB", "--show", "nothing"]
        command = started([*words, "--line", LINE], folder)
        while not list(folder.glob("talk*")):
            time.sleep(0.1)
        time.sleep(1.0)  # it listens
        memory = Memory(command.pid)
        sent = 0
        for count in paced(seconds, memory):
            far.write(expected(sent, count).tobytes(), 30.0)
            sent += count
        time.sleep(1.0)
        _, errors = ended(command)
    files = [item["file"] for item in json.loads(next(folder.glob("*manifest*")).read_text())["recordings"]]
    found, last_s, is_equal = 0, 0.0, True
    for name in files:
        held = next(iter(open_every_wire(folder / name).values()))
        is_equal &= bool((held.value == expected(found, len(held))).all())
        is_equal &= bool(held.begin_s[0] >= last_s) and bool((np.diff(held.begin_s) >= 0).all())
        found, last_s = found + len(held), float(held.begin_s[-1])
    print(f"recording: sent {sent:,}, recorded {found:,} in {len(files)} files, equal and in order: {is_equal}")
    print(f"  {memory}; status {command.returncode}; {errors[-1]}", flush=True)
    return is_equal and found == sent and memory.is_flat


def pump(seconds: float, folder: Path) -> bool:
    """Send set-points to the pump head, and read what it reports."""
    sheet = open_shipped_sheet("rig")
    setpoint, status = sheet.frame["setpoint"], sheet.frame["status"]
    command = started(["serve", "pump", "pty", "--line", LINE, "--json"], folder)
    name = json.loads(read_document(command))["ports"][0]
    reader, damaged, good, counts = lr.FrameReader(status), 0, 0, []
    frame = setpoint.encode({"flow": 42.5, "valve": [1, 0, 0, 0]})
    with lr.open_port(name, lr.LineSettings.parse(LINE)) as port:
        memory = Memory(command.pid)
        sent = arrived = 0

        def take(limit_s: float) -> None:
            nonlocal arrived, good, damaged
            data = port.read_some(65536, limit_s).data
            arrived += len(data)
            frames = reader.feed(data)
            good += int((frames.faults == 0).sum())
            damaged += int((frames.faults != 0).sum())
            counts.extend(frames[frames.faults == 0]["count"].tolist())

        for count in paced(seconds, memory):
            whole = frame * round(count / len(frame))
            port.write(whole, 30.0)
            sent += len(whole)
            take(0.0)
        time.sleep(0.5)
        take(0.1)
        _, errors = ended(command)
    received = int(re.search(r"([\d,]+) characters received", errors[-1])[1].replace(",", ""))
    steps = np.diff(counts) % 256
    expected_length = (good + damaged) * status.length
    is_sound = received == sent and arrived == expected_length and set(steps.tolist()) <= {1, 2}
    print(
        f"pump: sent {sent:,}, it received {received:,}; "
        f"it sent {good:,} good frames and {damaged:,} with a wrong checksum"
    )
    print(f"  as wanted: {is_sound}; {memory}; status {command.returncode}", flush=True)
    return is_sound and memory.is_flat


def simulated(seconds: float, folder: Path) -> bool:
    """Listen to the pump head for hours of simulated time, record and judge it."""
    span_s = 6 * seconds
    (folder / "rig.toml").write_bytes(SHIPPED.read_bytes())
    words = ["listen", "stand-in:pump", "--sheet", "rig.toml", "--wire", "from_pump", "--show", "nothing"]
    words += ["--record", "talk.jsonl", "--roll", "1 h", "--seconds", f"{span_s:.0f}"]
    began = time.monotonic()
    command = started(words, folder)
    memory = Memory(command.pid)
    while command.poll() is None:
        memory.look()
        time.sleep(0.2)
    _, errors = ended(command)
    files = [item["file"] for item in json.loads(next(folder.glob("*manifest*")).read_text())["recordings"]]
    found = sum(len(next(iter(open_every_wire(folder / name).values()))) for name in files)
    counted = int(re.search(r"from_pump ([\d,]+) characters", "\n".join(errors))[1].replace(",", ""))
    print(
        f"simulated: {span_s / 3600:.1f} h in {time.monotonic() - began:.0f} s; "
        f"{counted:,} characters, {found:,} in {len(files)} files"
    )
    print(f"  {memory}; status {command.returncode}", flush=True)
    return found == counted and memory.is_flat


def reader(seconds: float, folder: Path) -> bool:
    """Give readers of frames 10^9 bytes of each kind; their memory is that of this process."""
    generator = np.random.default_rng(2)
    noise = generator.integers(0, 256, 1 << 20, np.uint8).tobytes()
    status = open_shipped_sheet("rig").frame["status"]
    layouts = {"marker": status, **{name: lr.FrameLayout(boundary=kind, **FIELDS) for name, kind in BOUNDARIES.items()}}
    blocks = {
        name: {"noise": noise, "what ends frames": ENDS[name] * (1 << 19), "one frame": b"x" * (1 << 20)}
        for name in layouts
    }
    blocks["marker"] = {
        "noise": noise,
        "markers": b"\xd7\x4b" * (1 << 19),
        "half a frame, again and again": status.encode({})[:-1] * (1 << 16),
    }
    is_flat = True
    for name, layout in layouts.items():
        for what, block in blocks[name].items():
            memory = Memory()
            stream, found, size = lr.FrameReader(layout), 0, 0
            began = time.process_time()
            for _ in range(int(SIZE) // len(block) + 1):
                found += len(stream.feed(block))
                size += len(block)
                memory.look()
            found += len(stream.close())
            rate = size / 1e6 / (time.process_time() - began)
            print(
                f"reader by {name}: {size:,} bytes of {what}: {found:,} frames, {rate:.0f} MB/s; {memory}", flush=True
            )
            is_flat &= memory.is_flat
    return is_flat


class Memory:
    """The memory of a process over time."""

    allowed = 1.0  # MB of growth

    def __init__(self, pid: int | str = "self") -> None:
        self._path = Path(f"/proc/{pid}/statm")
        self.seconds: list[float] = []
        self.megabytes: list[float] = []

    def look(self) -> None:
        """Measure it, if it is there."""
        try:
            pages = int(self._path.read_text().split()[1])
        except (OSError, IndexError):
            return
        self.seconds.append(time.monotonic())
        self.megabytes.append(pages * PAGE / 1e6)

    def slope(self) -> tuple[float, float]:
        """Return the slope in MB over the whole run, and its standard error, after the first tenth.

        Neighbouring values hang together, so that the error is taken from the means of twenty stretches.
        """
        times, sizes = np.array(self.seconds), np.array(self.megabytes)
        kept = times >= times[0] + (times[-1] - times[0]) / 10
        times = (times[kept] - times[0]) / (times[-1] - times[0])
        count = min(20, len(times))
        x, y = (np.array([part.mean() for part in np.array_split(column, count)]) for column in (times, sizes[kept]))
        (slope, _), covariance = np.polyfit(x, y, 1, cov=True)
        return float(slope), float(covariance[0, 0] ** 0.5)

    @property
    def is_flat(self) -> bool:
        """Whether it grew by no more than twice the error, or by less than what is allowed."""
        slope, error = self.slope()
        return slope <= max(2 * error, self.allowed)

    def __str__(self) -> str:
        slope, error = self.slope()
        least, most = min(self.megabytes), max(self.megabytes)
        return f"memory {least:.1f} to {most:.1f} MB, slope {slope:+.2f} ± {error:.2f} MB over the run"


def expected(offset: int, count: int) -> np.ndarray:
    """Return what is sent from a place on."""
    return PATTERN[np.arange(offset, offset + count) % len(PATTERN)]


def paced(seconds: float, memory: Memory) -> Iterator[int]:
    """Yield how many characters are due, again and again; what the program was too late for is caught up with."""
    began = time.monotonic()
    given = looked = 0
    while (passed := time.monotonic() - began) < seconds:
        if passed >= looked:
            memory.look()
            looked += 1
        due = int(passed * RATE) - given
        if due > 0:
            yield due
            given += due
        time.sleep(STEP_S)


def started(arguments: list[str], folder: Path) -> subprocess.Popen[str]:
    """Start the command, with a thread that keeps what it prints to standard error."""
    command = subprocess.Popen(
        [sys.executable, "-m", "larkreader", *arguments],
        cwd=folder,
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    command.kept = []  # type: ignore[attr-defined]
    command.keeper = threading.Thread(target=lambda: command.kept.extend(command.stderr or ()), daemon=True)  # type: ignore[attr-defined]
    command.keeper.start()  # type: ignore[attr-defined]
    return command


def read_document(command: subprocess.Popen[str]) -> str:
    """Return the first JSON document that the command prints."""
    text = ""
    for line in command.stdout or ():
        text += line
        try:
            json.loads(text)
        except ValueError:
            continue
        return text
    raise RuntimeError("it ended without a document")


def ended(command: subprocess.Popen[str]) -> tuple[str, list[str]]:
    """End the command if it runs, and return what it printed."""
    if command.poll() is None:
        command.send_signal(signal.SIGTERM)  # SIGINT is ignored in what a shell starts in the background
    out = command.stdout.read() if command.stdout else ""
    command.wait(120)
    command.keeper.join()  # type: ignore[attr-defined]
    return out, [line.strip() for line in command.kept if line.strip()]  # type: ignore[attr-defined]


if __name__ == "__main__":
    sys.exit(main())
