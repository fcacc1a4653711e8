"""Rows a second of the tables that are written, beside an f-string a row."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from compare import compare, show

import larkreader as lr
from larkreader.present.documents.frame_tables import write_frames

COUNT = 5_000_000
PLAIN_COUNT = 200_000
LINE = lr.LineSettings.parse("115200 8N1")
SHEET = """
sheet = 1
[line]
baud = 921600
format = "8N1"

[wire.from_pump]

[frame.flow]
boundary = { kind = "marker", marker = "D7 4B" }
fields = [
    { name = "count", type = "uint16" },
    { name = "flow", type = "int16", scale = 0.01, unit = "mL/min" },
    { name = "pressure", type = "float32", unit = "kPa" },
    { name = "is_open", type = "flag" },
    { reserved = 7 },
    { name = "crc", type = "checksum" },
]
checksum = { algorithm = "CRC-16/MODBUS" }
"""


def characters_of(count: int) -> lr.Characters:
    """Return characters with gaps, timed to 10 ns."""
    rng = np.random.default_rng(4)
    begin_s = np.cumsum(rng.integers(8_700, 40_000, count)) * 1e-8
    value = rng.integers(0, 256, count).astype(np.uint16)
    faults = np.where(rng.random(count) < 0.001, 1, 0).astype(np.uint8)
    return lr.Characters(begin_s, begin_s + LINE.character_time_s, value, faults, np.empty(0))


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.csv"
        characters = characters_of(COUNT)
        few = characters[:PLAIN_COUNT]

        def plain_characters() -> None:
            rows = zip(few.begin_s.tolist(), few.end_s.tolist(), few.value.tolist(), few.faults.tolist(), strict=True)
            with path.open("w") as file:
                for begin, end, value, faults in rows:
                    file.write(f"{begin:.12f},{end:.12f},from_pump,{value},{faults}\n")

        ways = {
            "write_characters": lambda: lr.capture.write_characters(path, {"from_pump": characters}),
            "f-string a row": plain_characters,
        }
        units = {"write_characters": COUNT, "f-string a row": PLAIN_COUNT}
        show("five columns of characters", compare(ways), units, "row")

        sheet = lr.parse_sheet(SHEET)
        layout = sheet.frame["flow"]
        rng = np.random.default_rng(5)
        columns = {
            "count": np.arange(1 << 16),
            "flow": rng.integers(-32_768, 32_768, 1 << 16) * 0.01,
            "pressure": rng.normal(120, 5, 1 << 16).astype(np.float32),
            "is_open": rng.random(1 << 16) < 0.5,
        }
        reading = lr.read(sheet, {"from_pump": b"".join(layout.encode_all(columns)) * 8})
        frames = reading.frames["flow"]

        def plain_frames() -> None:
            names = ("offset", "count", "flow", "pressure", "is_open")
            rows = zip(*((frames.offset if name == "offset" else frames[name]).tolist() for name in names), strict=True)
            with path.open("w") as file:
                for offset, count, flow, pressure, is_open in rows:
                    file.write(f"from_pump,flow,{offset},,,{count},{flow},{pressure},{is_open}\n")

        ways = {"write_frames": lambda: write_frames(path, reading), "f-string a row": plain_frames}
        units = {"write_frames": len(frames), "f-string a row": len(frames)}
        show("nine columns of frames, one of them floats of 32 bits", compare(ways), units, "row")


if __name__ == "__main__":
    main()
