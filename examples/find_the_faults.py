"""What is wrong with the link? Read the dosing rig's capture and print what was found, place by place."""

import tempfile
from pathlib import Path

import larkreader as lr
from larkreader.demo.rig import make_rig, write_rig

with tempfile.TemporaryDirectory() as folder:
    files = write_rig(Path(folder), make_rig())
    reading = lr.read(files["sheet"], files["capture"])

print("verdict:", reading.verdict)
for wire in reading.characters:
    print(wire, reading.bytes_of(wire))
for finding in reading.findings:
    place = f"at {finding.first_s:.6f} s"
    if finding.offset is not None:
        place += f", character {finding.offset}"
    print(f"{finding.severity:8} {finding.kind:18} {finding.wire:10} {finding.count:2}  {place}")
