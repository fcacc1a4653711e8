"""The bauds in general use."""

from __future__ import annotations

STANDARD_BAUDS = (
    300, 600, 1200, 2400, 4800, 9600, 14_400, 19_200, 28_800, 31_250, 38_400, 57_600, 76_800, 115_200, 128_000, 153_600,
    230_400, 250_000, 256_000, 460_800, 500_000, 921_600, 1_000_000, 1_500_000, 2_000_000, 3_000_000,
)  # fmt: skip
"""Those that POSIX `termios` implementations and Windows name, that of MIDI, and what is usual beside them."""
