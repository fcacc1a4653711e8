"""A large VCD file of two wires into characters: by one process and by several, in turn, by the clock on the wall.

The other processes are begun anew each time, as a command does it. The size of the file in bytes, and how many
processes there are to be, may stand on the command line.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from memory import long_traces

import larkreader as lr
from larkreader.demo.rig import make_rig
from larkreader.processes import cores

SIZE = 1e9
TEN_SECONDS = 360e3  # bytes of the demo's traffic
TURNS = 3


def read(path: Path, sheet: lr.Sheet, workers: int) -> dict[str, lr.Characters]:
    """Return the characters of each wire."""
    readers = {key: lr.CharacterReader(wire.line) for key, wire in sheet.wire.items()}
    parts: dict[str, list[lr.Characters]] = {key: [] for key in readers}
    with lr.capture.CaptureFile(path, workers=workers) as file:
        for pieces in file.pieces({key: wire.source for key, wire in sheet.wire.items()}):
            for key, trace in pieces.items():
                parts[key].append(readers[key].feed(trace))
    return {key: lr.Characters.joined([*held, readers[key].close()]) for key, held in parts.items()}


def main() -> None:
    size = float(sys.argv[1]) if len(sys.argv) > 1 else SIZE
    workers = int(sys.argv[2]) if len(sys.argv) > 2 else cores()
    rig = make_rig(faulty=False)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.vcd"
        lr.write_vcd(path, long_traces(rig, max(int(size / TEN_SECONDS), 1)))
        found, ratios = {}, []
        for _ in range(TURNS):
            seconds = []
            for count in (1, workers):
                began = time.perf_counter()
                found[count] = read(path, rig.sheet, count)
                seconds.append(time.perf_counter() - began)
            ratios.append(seconds[0] / seconds[1])
        for key, some in found[1].items():
            for name in lr.Characters.COLUMNS:
                same = found[workers][key].column(name)
                assert np.array_equal(some.column(name), same, equal_nan=name in ("begin_s", "end_s"))
        shown = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        print(
            f"{path.stat().st_size / 1e6:,.0f} MB of VCD, two wires: {workers} processes, {shown} times as fast as one"
        )


if __name__ == "__main__":
    main()
