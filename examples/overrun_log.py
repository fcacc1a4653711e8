"""Who lost the bytes? An interrupt handler's log with overrun flags, and the same loss without them."""

import numpy as np

import larkreader as lr
from larkreader.demo.rig import rig_sheet

sheet = rig_sheet()
layout = sheet.frame["status"]
data = b"".join(layout.encode({"count": number, "flow": 120.0, "state": "dosing"}) for number in range(50))
kept = data[:325] + data[328:]  # three characters were lost in the receive register

plain = lr.Characters.from_bytes(kept)
faults = np.zeros(len(kept), np.uint8)
faults[325] = lr.Fault.OVERRUN  # set on the first character behind the loss
logged = lr.Characters(plain.begin_s, plain.end_s, plain.value, faults, np.empty(0), has_line=False)

for name, characters in (("with overrun flags", logged), ("bytes alone", plain)):
    print(name)
    for finding in lr.read(sheet, {"from_pump": characters}).findings:
        print(f"  {finding.kind}: {finding.text}")
        print(f"  fix: {finding.advice}")
