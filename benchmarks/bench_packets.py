"""Bytes a second of `read_frames` on stuffed and on self-delimiting frames, beside the loops that a person would write.

Packets of 10 to 60 random bytes by consistent overhead byte stuffing and by RFC 1055; then frames with a marker, a
length field and a CRC of 16 bits over as many bytes. The least that NumPy must do is taken to be one copy of the bytes.
"""

from __future__ import annotations

import numpy as np
from compare import compare, show

import larkreader as lr
from larkreader.declare.checks.crc import crc_table

COUNT = 100_000
PLAIN_COUNT = 2_000
TABLE = crc_table(16, 0x8005, True)
DATA = [{"name": "data", "type": "bytes", "repeat": "rest"}]
COBS = lr.FrameLayout(boundary={"kind": "cobs"}, fields=DATA)
SLIP = lr.FrameLayout(boundary={"kind": "slip"}, fields=DATA)
LENGTH = lr.FrameLayout(
    boundary={"kind": "length-field", "field": "size", "marker": "D7 4B", "counts": "payload"},
    fields=[{"name": "size", "type": "uint8"}, *DATA, {"name": "crc", "type": "checksum"}],
    checksum={"algorithm": "CRC-16/MODBUS"},
)


def plain_cobs(stream: bytes) -> list[bytes]:
    """Go from byte to byte, counting down to the next code byte."""
    packets, packet, left, code = [], bytearray(), 0, 0xFF
    for byte in stream:
        if byte == 0:
            packets.append(bytes(packet))
            packet, left, code = bytearray(), 0, 0xFF
        elif left == 0:
            if code != 0xFF:
                packet.append(0)
            code, left = byte, byte - 1
        else:
            packet.append(byte)
            left -= 1
    return packets


def plain_slip(stream: bytes) -> list[bytes]:
    """Go from byte to byte, minding escapes."""
    packets, packet, is_escaped = [], bytearray(), False
    for byte in stream:
        if byte == 0xC0:
            packets.append(bytes(packet))
            packet = bytearray()
        elif is_escaped:
            packet.append({0xDC: 0xC0, 0xDD: 0xDB}[byte])
            is_escaped = False
        elif byte == 0xDB:
            is_escaped = True
        else:
            packet.append(byte)
    return packets


def plain_length(stream: bytes) -> list[bytes]:
    """Search for the marker, take as many bytes as the length says, check the CRC byte by byte."""
    packets, place = [], 0
    while (place := stream.find(b"\xd7\x4b", place)) >= 0 and place + 5 <= len(stream):
        end = place + 3 + stream[place + 2]
        register = 0xFFFF
        for byte in stream[place:end]:
            register = register >> 8 ^ TABLE[(register ^ byte) & 0xFF]
        if register != int.from_bytes(stream[end : end + 2], "little"):
            place += 1
            continue
        packets.append(stream[place + 3 : end])
        place = end + 2
    return packets


def main() -> None:
    rng = np.random.default_rng(2)
    lengths = rng.integers(10, 61, 4096)
    for title, layout, plain in (
        ("COBS", COBS, plain_cobs),
        ("SLIP", SLIP, plain_slip),
        ("marker, length and CRC", LENGTH, plain_length),
    ):
        some = [layout.as_sent(layout.encode({"data": rng.integers(0, 256, size).tolist()})) for size in lengths]
        few = b"".join(some[:PLAIN_COUNT])
        data = np.frombuffer(b"".join(some) * (COUNT // len(some)), np.uint8)
        assert [row.tobytes() for row in lr.read_frames(few, layout)["data"]] == plain(few)

        def ours(layout: lr.FrameLayout = layout, data: np.ndarray = data) -> None:
            lr.read_frames(data, layout)

        def loop(plain=plain, few: bytes = few) -> None:
            plain(few)

        def copy(data: np.ndarray = data) -> None:
            data.copy()

        seconds = compare({"read_frames": ours, "plain loop": loop, "copy": copy})
        units = {"read_frames": len(data), "plain loop": len(few), "copy": len(data)}
        show(f"packets of 10 to 60 bytes: {title}", seconds, units, "byte")


if __name__ == "__main__":
    main()
