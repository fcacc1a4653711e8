"""What comes out of reading, with its types; type-checked, and run."""

from typing import Any, assert_type

import numpy as np
import numpy.typing as npt

import larkreader as lr

line = lr.LineSettings.parse("57600 8E1")
layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 2}, fields=[{"name": "flow", "type": "uint16"}])
trace = lr.transmit(b"\x10\x00\x20\x00", line)
characters = lr.receive(trace, line)
assert_type(characters.value, npt.NDArray[np.uint16])
assert_type(characters.begin_s, npt.NDArray[np.float64])
assert_type(characters[1:3], lr.Characters)
assert_type(characters[characters.begin_s > 1e-4], lr.Characters)

frames = lr.read_frames(characters, layout)
assert_type(frames["flow"], npt.NDArray[Any])
assert_type(frames[0:2], lr.Frames)
assert_type(frames[frames.begin_s > 1e-4], lr.Frames)
assert_type(frames.faults, npt.NDArray[np.uint8])
assert frames["flow"].tolist() == [16, 32]

sheet = lr.Sheet(line=line, wire={"pump": {}}, frame={"flow": layout})
reading = lr.read(sheet, {"pump": trace})
assert_type(reading.findings[0] if reading.findings else None, lr.Finding | None)
assert_type(reading.frames["flow"], lr.Frames)
for finding in reading.findings:
    assert_type(finding.kind, str)

settings = lr.find_divisors(57_600, lr.Clock(hertz=8_000_000), lr.BaudGenerator())
assert_type(settings, list[lr.judge.BaudSetting])
assert_type(settings[0].error, float)

with lr.SimulatedPort(line, lambda data: data) as port:
    result = lr.run_loopback(port, lr.LoopbackPlan(characters=256))
assert_type(result, lr.LoopbackResult)
assert result.verdict == "pass"
assert_type(lr.plan(sheet), lr.Plan)
