"""A wire of which nothing is known: its settings, its frames and its checksum, found from the levels alone."""

import numpy as np

import larkreader as lr
from larkreader.declare.document.starter import StarterWire, starter_sheet

# What the maker of the pump head would know, and we do not.
secret = lr.FrameLayout(
    boundary={"kind": "marker", "marker": "D7 4B"},
    fields=[
        {"name": "kind", "type": "uint8", "equals": 0x21},
        {"name": "count", "type": "uint8", "counter": True},
        {"name": "flow", "type": "uint16", "scale": 0.1},
        {"name": "crc", "type": "checksum"},
    ],
    checksum={"algorithm": "CRC-16/MODBUS", "from": "kind"},
)
frames = [secret.encode({"count": n, "flow": round(40 + 35 * float(np.sin(n / 7)), 1)}) for n in range(120)]
gaps = np.where(np.arange(len(frames) * secret.length) % secret.length == 0, 200.0, 0.0)
wire = lr.transmit(b"".join(frames), lr.LineSettings.parse("38400 8O1"), gaps=gaps, clock_error_ppm=2500)

diagnosis = lr.diagnose(wire)
assert diagnosis.proposal is not None
print("the line:", diagnosis.proposal)

found = lr.propose_layout(lr.receive(wire, diagnosis.proposal))
assert found is not None
assert found.layout.checksum is not None
print(f"the frames: {found.layout.length} bytes behind {found.layout.marker.hex(' ')}, {found.good} of them right")
print(f"the checksum: {found.layout.checksum.algorithm} from {found.layout.checksum.from_}")

sheet = lr.parse_sheet(starter_sheet([StarterWire("pump_tx", diagnosis.proposal, "", found.layout)], title="Found"))
reading = lr.read(sheet, {"pump_tx": wire})
print(f"read by the sheet that was made: {reading.verdict}, {len(reading.frames['message'])} frames")
