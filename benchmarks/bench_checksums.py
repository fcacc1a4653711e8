"""Checksums of many short messages and of one long buffer, beside the loop that a person would write."""

from __future__ import annotations

import zlib

import numpy as np
from compare import compare, show

import larkreader as lr
from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.decode.check.checksums import checksums_of_rows

MESSAGES, LENGTH = 100_000, 14
BUFFER = 1 << 24
PLAIN = 1 << 19  # bytes of the buffer that the plain loop goes through


def main() -> None:
    rng = np.random.default_rng(1)
    rows = rng.integers(0, 256, (MESSAGES, LENGTH), dtype=np.uint8)
    messages = [row.tobytes() for row in rows]
    for name in ("CRC-16/IBM-3740", "CRC-32/ISO-HDLC", "sum-8", "fletcher-16"):
        one = ALGORITHMS[name]
        assert checksums_of_rows(rows, one).tolist() == [one.of(message) for message in messages]
        seconds = compare(
            {
                "of rows": lambda one=one: checksums_of_rows(rows, one),
                "plain loop": lambda one=one: [one.of(message) for message in messages],
            },
            rounds=3,
        )
        show(f"{MESSAGES:,} messages of {LENGTH} bytes, {name}", seconds, dict.fromkeys(seconds, MESSAGES), "message")
    data = rng.integers(0, 256, BUFFER, dtype=np.uint8).tobytes()
    assert lr.calculate_checksum(data, "CRC-32/ISO-HDLC") == zlib.crc32(data)
    for name in ("CRC-16/MODBUS", "CRC-32/ISO-HDLC", "CRC-32/ISCSI", "CRC-64/XZ", "adler-32", "sum-16"):
        one = ALGORITHMS[name]
        lr.calculate_checksum(data, one)
        seconds = compare(
            {
                "checksum_of": lambda one=one: lr.calculate_checksum(data, one),
                "plain loop": lambda one=one: one.of(data[:PLAIN]),
            },
            rounds=3,
        )
        show(f"{BUFFER >> 20} MiB, {name}", seconds, {"checksum_of": BUFFER, "plain loop": PLAIN}, "byte")


if __name__ == "__main__":
    main()
