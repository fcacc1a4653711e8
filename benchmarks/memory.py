"""How much memory it takes to read the characters of a large file piece by piece, beyond interpreter and libraries."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
SIZE = 1 << 30  # bytes of each file, unless the command line says otherwise
READ = """
import re, sys
from pathlib import Path
import larkreader as lr
from larkreader.capture.files.open import open_pieces

def peak():  # in MB, of this process since it began
    return int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) / 1e3

form = lr.CaptureForm(rate=1e6, bits=8, kind="samples")
lr.CharacterReader(lr.LineSettings.parse("57600 8E1")).close()
before = peak()
reader = lr.CharacterReader(lr.LineSettings.parse("57600 8E1"))
count = faulty = 0
for pieces in open_pieces(sys.argv[1], {"tx": sys.argv[2]}, form=form):
    characters = reader.feed(pieces["tx"])
    count, faulty = count + len(characters), faulty + int((characters.faults != 0).sum())
print(count + len(reader.close()), faulty, peak() - before)
"""


def write_raw(path: Path, size: int) -> None:
    """Write samples of a busy wire, over and over."""
    trace = lr.transmit(np.random.default_rng(1).integers(0, 256, 20_000), LINE, gaps=3.0)
    part = path.with_suffix(".part")
    lr.capture.write_samples(part, {"tx": trace}, 1e6)
    data = part.read_bytes()
    with path.open("wb") as file:
        for _ in range(max(1, size // len(data))):
            file.write(data)


def write_long_vcd(path: Path, size: int) -> None:
    """Write changes of a busy wire, over and over, with times that go on."""
    trace = lr.transmit(np.random.default_rng(1).integers(0, 256, 20_000), LINE, gaps=3.0)
    rows = np.frombuffer(b"#000000000000000\n0!\n" * len(trace), np.uint8).reshape(len(trace), -1).copy()
    rows[:, 17] = ord("0") + (np.arange(len(trace)) + 1 - trace.first_level) % 2
    with path.open("wb") as file:
        file.write(b"$timescale 1 ns $end\n$var wire 1 ! tx $end\n$enddefinitions $end\n#0\n1!\n")
        for again in range(max(1, size // rows.size)):
            left = trace.edges + again * (trace.end or 0)
            for place in range(15, 0, -1):
                left, digit = np.divmod(left, 10)
                rows[:, place] = digit + ord("0")
            file.write(rows.tobytes())


def main() -> None:
    size = int(float(sys.argv[1])) if len(sys.argv) > 1 else SIZE
    with tempfile.TemporaryDirectory() as folder:
        for name, write, signal in (("a.raw", write_raw, "0"), ("a.vcd", write_long_vcd, "tx")):
            path = Path(folder) / name
            write(path, size)
            found = subprocess.run(
                [sys.executable, "-c", READ, str(path), signal], capture_output=True, text=True, check=True
            ).stdout
            count, faulty, megabytes = found.split()
            print(
                f"{name}, {path.stat().st_size / 1e6:,.0f} MB: {int(count):,} characters, {faulty} faulty,"
                f" {float(megabytes):.0f} MB of memory"
            )


if __name__ == "__main__":
    main()
