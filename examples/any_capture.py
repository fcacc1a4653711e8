"""The pump head's wire as an oscilloscope, a sampler and a log saw it: each read by the same sheet."""

import tempfile
from pathlib import Path

import numpy as np

import larkreader as lr

SHEET = """
sheet = 1
[line]
baud = 57_600
format = "8E1"
[wire.from_pump]
signal = "0"
[frame.status]
boundary = { kind = "marker", marker = "D7 4B" }
fields = [
  { name = "count", type = "uint8", counter = true },
  { name = "flow", type = "uint16", scale = 0.1, unit = "mL/min" },
  { name = "crc", type = "checksum" },
]
checksum = { algorithm = "CRC-16/IBM-3740" }
"""
sheet = lr.parse_sheet(SHEET)
layout, line = sheet.frame["status"], sheet.wire["from_pump"].line
frames = b"".join(layout.encode({"count": n, "flow": 12.5 + n}) for n in range(20))
wire = lr.transmit(frames, line, gaps=np.where(np.arange(len(frames)) % layout.length == 0, 80.0, 0.0))

folder = Path(tempfile.mkdtemp())
rate = 1e6
times = np.arange(int(wire.end_s * rate)) / rate
levels = wire.first_level ^ (np.searchsorted(wire.edges_s, times, side="right") & 1)
np.save(folder / "scope.npy", 0.1 + 3.2 * levels + 0.02 * np.random.default_rng(1).standard_normal(len(times)))
lr.capture.write_samples(folder / "logic.raw", {"0": wire}, rate)
log = [f"{n * 0.01:.3f},{frames[7 * n : 7 * n + 7].hex(' ')}\n" for n in range(20)]
(folder / "log.csv").write_text("time_s,hex\n" + "".join(log))

form = lr.CaptureForm(kind="samples", rate=rate)  # what a file does not say of itself
for name in ("scope.npy", "logic.raw", "log.csv"):
    reading = lr.read(sheet, folder / name, form=form)
    flow = reading.frames["status"]["flow"]
    print(f"{name}: {reading.verdict}, {len(flow)} frames, flow {flow[0]} to {flow[-1]} {layout.unit['flow']}")

levels_seen = lr.measure_wire(lr.open_voltages(folder / "scope.npy", "0", form=form), line).levels
assert levels_seen is not None
print(f"levels {levels_seen.low_v:.1f} and {levels_seen.high_v:.1f} V, read by {', '.join(levels_seen.read_by)}")
