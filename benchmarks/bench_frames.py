"""Frames a second of `read_frames` with all field columns, beside the loop that a person would write.

The layout is the status of the dosing rig: 16 bytes, marker, packed fields, CRC. The least that NumPy must do is taken
to be a structured view of frames that are already cut and aligned, without any check.
"""

from __future__ import annotations

import struct

import numpy as np
from compare import compare, show

import larkreader as lr
from larkreader.declare.checks.crc import crc_table
from larkreader.demo.rig import rig_sheet

LAYOUT = rig_sheet().frame["status"]
COUNT = 200_000
PLAIN_COUNT = 4_000
NAMES = {0: "resting", 1: "dosing", 2: "purging", 7: "halted"}
TABLE = crc_table(16, 0x1021, False)


def plain_frames(data: bytes) -> list[tuple]:
    """Search for the marker, check the CRC byte by byte, take the fields apart, check them."""
    found, place = [], 0
    while (place := data.find(b"\xd7\x4b", place)) >= 0 and place + 16 <= len(data):
        register = 0xFFFF
        for byte in data[place + 2 : place + 14]:
            register = (register << 8 & 0xFFFF) ^ TABLE[register >> 8 ^ byte]
        if register != int.from_bytes(data[place + 14 : place + 16], "big"):
            place += 1
            continue
        packed = int.from_bytes(data[place + 4 : place + 7], "little")
        last = data[place + 13]
        flow, state, faults = (packed & 0xFFF) * 0.1, last & 7, 0
        if data[place + 2] != 0x21 or state not in NAMES or last >> 7:
            faults |= 2
        if not 0 <= flow <= 300:
            faults |= 4
        found.append(
            (
                data[place + 2],
                data[place + 3],
                flow,
                (packed >> 12) * 0.25,
                struct.unpack_from(">h", data, place + 7)[0] * 0.01,
                struct.unpack_from("<f", data, place + 9)[0],
                state,
                [bool(last >> bit & 1) for bit in range(3, 7)],
                register,
                faults,
                place,
            )
        )
        place += 16
    return found


def main() -> None:
    rng = np.random.default_rng(1)
    some = [
        LAYOUT.encode({"count": number % 256, "flow": number % 300, "dosed": float(rng.random()), "state": "dosing"})
        for number in range(2048)
    ]
    data = np.frombuffer(b"".join(some) * (COUNT // 2048 + 1), np.uint8)[: 16 * COUNT]
    few = data[: 16 * PLAIN_COUNT].tobytes()
    record = np.dtype(
        [("head", "u1", 4), ("packed", "u1", 3), ("temperature", ">i2"), ("dosed", "<f4"), ("tail", "u1", 3)]
    )

    def ours() -> None:
        frames = lr.read_frames(data, LAYOUT)
        for name in LAYOUT.slot:
            frames[name]

    def structured() -> None:
        rows = data.view(record)
        rows["temperature"] * 0.01
        rows["dosed"].astype(np.float32)

    assert len(lr.read_frames(data, LAYOUT)) == COUNT
    assert len(plain_frames(few)) == PLAIN_COUNT
    seconds = compare({"read_frames": ours, "plain loop": lambda: plain_frames(few), "structured view": structured})
    units = {"read_frames": COUNT, "plain loop": PLAIN_COUNT, "structured view": COUNT}
    show("frames of 16 bytes with marker, packed fields and CRC, all columns", seconds, units, "frame")


if __name__ == "__main__":
    main()
