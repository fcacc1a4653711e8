"""Samples a second of the readers of raw sample files, beside the loop that a person would write."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from compare import compare, show

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
RATE = 1e6  # 17 samples a bit
COUNT = 60_000


def plain_packed(data: bytes) -> list[int]:
    """Walk through the samples, one bit each, and keep the numbers of those that differ from the one before."""
    found, before, number = [], data[0] & 1, 0
    for byte in data:
        for bit in range(8):
            level = byte >> bit & 1
            if level != before:
                found.append(number)
                before = level
            number += 1
    return found


def plain_channel(data: bytes, mask: int) -> list[int]:
    """Do the same with a byte a sample."""
    found, before = [], data[0] & mask
    for number, byte in enumerate(data):
        level = byte & mask
        if level != before:
            found.append(number)
            before = level
    return found


def main() -> None:
    rng = np.random.default_rng(1)
    trace = lr.transmit(rng.integers(0, 256, COUNT), LINE, gaps=rng.exponential(9, COUNT))
    other = lr.transmit(rng.integers(0, 256, COUNT), LINE, gaps=rng.exponential(9, COUNT))
    with tempfile.TemporaryDirectory() as folder:
        for bits, title in ((1, "one bit a sample"), (8, "one of eight channels")):
            path = Path(folder) / f"{bits}.raw"
            form = lr.CaptureForm(rate=RATE, bits=bits, kind="samples")
            lr.capture.write_samples(
                path, {"0": trace} if bits == 1 else {"0": other, "1": other, "2": trace}, RATE, form
            )
            signal, data = ("0" if bits == 1 else "2"), path.read_bytes()
            samples = len(data) * 8 // bits
            ours = lr.open_trace(path, signal, form=form).edges.tolist()
            plain = plain_packed(data) if bits == 1 else plain_channel(data, 4)
            assert ours == plain
            seconds = compare(
                {
                    "open_trace": lambda path=path, signal=signal, form=form: lr.open_trace(path, signal, form=form),
                    "plain loop": lambda data=data, bits=bits: (
                        plain_packed(data) if bits == 1 else plain_channel(data, 4)
                    ),
                    "np.fromfile": lambda path=path: np.fromfile(path, np.uint8),
                },
                rounds=3,
            )
            show(f"{title}, {samples / 1e6:.0f} M samples", seconds, dict.fromkeys(seconds, samples), "sample")


if __name__ == "__main__":
    main()
