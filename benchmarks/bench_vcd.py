"""Megabytes a second of the VCD reader, beside the loop that a person would write and reading the file at all."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from compare import compare, show

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
COUNT = 150_000


def plain_vcd(path: Path, code: str) -> list[tuple[int, str]]:
    """Walk through the lines and keep the changes of one signal."""
    found, now = [], 0
    with path.open() as file:
        for line in file:
            if line.startswith("$enddefinitions"):
                break
        for line in file:
            line = line.strip()
            if not line:
                continue
            if line[0] == "#":
                now = int(line[1:])
            elif line[0] in "01xXzZ" and line[1:] == code:
                found.append((now, line[0]))
    return found


def main() -> None:
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        for title, others in (("two wires, both busy", 1), ("one wire among thirty", 29)):
            path = Path(folder) / f"{others}.vcd"
            count = 2 * COUNT // (others + 1)
            traces = {
                f"rig.wire{number}": lr.transmit(rng.integers(0, 256, count), LINE, gaps=rng.exponential(9, count))
                for number in range(others + 1)
            }
            lr.write_vcd(path, traces)
            size = path.stat().st_size
            ours = lr.open_trace(path, "rig.wire0")
            assert len(ours) == len(traces["rig.wire0"]) == len(plain_vcd(path, "!")) - 1
            seconds = compare(
                {
                    "open_trace": lambda path=path: lr.open_trace(path, "rig.wire0"),
                    "plain loop": lambda path=path: plain_vcd(path, "!"),
                    "np.fromfile": lambda path=path: np.fromfile(path, np.uint8),
                }
            )
            show(f"{title}, {size / 1e6:.0f} MB", seconds, dict.fromkeys(seconds, size), "byte")
            print(f"  {size / 1e6 / seconds['open_trace']:.0f} MB/s")


if __name__ == "__main__":
    main()
