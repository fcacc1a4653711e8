"""How much memory commands take on large captures of every kind, beyond what they take on ten seconds of the same kind.

The captures hold the demo's traffic over and over. A first table reads characters piece by piece from levels, which
takes the same memory however large the file is; a second runs whole commands, which hold what they read, and gives
their memory in MB and as a multiple of the file.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

import larkreader as lr
from larkreader.capture.files.byte_files import write_bytes
from larkreader.capture.files.csv_characters import write_characters
from larkreader.capture.files.recording import write_recording
from larkreader.demo.rig import Rig, make_rig, write_rig

SIZE = 100e6  # bytes of each file, unless the command line says otherwise
PEAK = """
import re, sys
from pathlib import Path

def peak():  # in MB, of this process since it began
    return int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) / 1e3
"""
READ = """
import larkreader as lr
from larkreader.capture.files.open import open_pieces

form = lr.CaptureForm(rate=1e6, bits=8, kind="samples")
lr.CharacterReader(lr.LineSettings.parse("57600 8E1")).close()
before = peak()
reader = lr.CharacterReader(lr.LineSettings.parse("57600 8E1"))
count = 0
for pieces in open_pieces(sys.argv[1], {"tx": sys.argv[2]}, form=form):
    count += len(reader.feed(pieces["tx"]))
print(count + len(reader.close()), peak() - before)
"""
RUN = """
from larkreader.cli import main

sys.argv = ["larkreader", *sys.argv[1:]]
try:
    status = main()
except SystemExit as end:
    status = end.code
print("", status, peak(), file=sys.stderr)
"""


def long_traces(rig: Rig, again: int) -> dict[str, lr.Trace]:
    """Return the rig's traces over and over, with times that go on."""
    each = max(trace.end or 0 for trace in rig.traces.values())
    begins = np.arange(again)[:, None] * each
    return {
        name: lr.Trace((trace.edges + begins).ravel(), trace.tick_s, trace.first_level, begin=0, end=each * again)
        for name, trace in rig.traces.items()
    }


def long_characters(rig: Rig, again: int) -> dict[str, lr.Characters]:
    """Return the rig's characters over and over, with times that go on."""
    each = max(trace.end_s for trace in rig.traces.values())
    found = {}
    for name, wire in rig.sheet.wire.items():
        read = lr.receive(rig.traces[wire.source], wire.line)
        begins = np.arange(again)[:, None] * each
        times = ((column + begins).ravel() for column in (read.begin_s, read.end_s))
        found[name] = lr.Characters(*times, np.tile(read.value, again), np.tile(read.faults, again), np.empty(0))
    return found


def write_all(folder: Path, size: float) -> dict[str, list[str]]:
    """Write captures of about a size; return what the command line needs for each."""
    rig = make_rig(faulty=False)
    write: dict[str, tuple[float, Callable[[Path, int], object]]] = {  # bytes of ten seconds, about
        "a.vcd": (360e3, lambda path, again: lr.write_vcd(path, long_traces(rig, again))),
        "a.raw": (10e6, lambda path, again: lr.capture.write_samples(path, long_traces(rig, again), 1e6)),
        "a.csv": (160e3, lambda path, again: write_characters(path, long_characters(rig, again))),
        "a.jsonl": (180e3, lambda path, again: write_recording(path, long_characters(rig, again))),
        "a.bin": (3.2e3, lambda path, again: write_bytes(path, long_characters(rig, again)["from_pump"])),
    }
    for name, (each, written) in write.items():
        written(folder / name, max(int(size / each), 1))
    return {"a.vcd": [], "a.csv": [], "a.jsonl": [], "a.bin": ["--wire", "from_pump", "--kind", "bytes"]}


def measured(program: str, *arguments: str) -> list[str]:
    """Return what a program of its own prints, by words."""
    done = subprocess.run(
        [sys.executable, "-c", PEAK + program, *arguments], capture_output=True, text=True, check=True
    )
    return (done.stdout + done.stderr).split()


def main() -> None:
    size = float(sys.argv[1]) if len(sys.argv) > 1 else SIZE
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_rig(folder, make_rig())
        options = write_all(folder, size)
        (folder / "short").mkdir()
        write_all(folder / "short", 0)
        for capture, signal in (("a.raw", "1"), ("a.vcd", "pump_tx")):
            count, megabytes = measured(READ, str(folder / capture), signal)
            shown = f"{capture}, {(folder / capture).stat().st_size / 1e6:,.0f} MB, read piece by piece"
            print(f"{shown}: {int(count):,} characters, {float(megabytes):.0f} MB")
        sheet = str(folder / "rig.toml")
        commands: dict[str, Callable[[str], list[str]]] = {
            "decode": lambda path: ["decode", sheet, path],
            "timeline": lambda path: ["timeline", sheet, path],
            "diagnose": lambda path: ["diagnose", path, sheet],
            "report": lambda path: ["report", sheet, path, "-o", str(folder / "report.html")],
            "convert": lambda path: ["convert", path, str(folder / ("out.npz" if path.endswith("vcd") else "out.csv"))],
        }
        print(f"{'':10}" + "".join(f"{capture:>16}" for capture in options))
        for command, words in commands.items():
            cells = [f"{command:10}"]
            for capture, rest in options.items():
                more = [] if command == "convert" else rest
                usual = peak_of(folder, [*words(str(folder / "short" / capture)), *more])
                found = peak_of(folder, [*words(str(folder / capture)), *more])
                megabytes = (folder / capture).stat().st_size / 1e6
                over = 0.0 if found is None else found - (usual or 0.0)
                cells.append(f"{'refused':>16}" if found is None else f"{over:>8.0f} MB {over / megabytes:>4.1f}")
            print("".join(cells))


def peak_of(folder: Path, words: list[str]) -> float | None:
    """Return how much memory a command took at most, in MB; None if it is not possible."""
    *_, status, peak = measured(RUN, *words)
    for left in ("out.npz", "out.csv", "report.html"):
        (folder / left).unlink(missing_ok=True)
    return None if status == "2" else float(peak)


if __name__ == "__main__":
    main()
