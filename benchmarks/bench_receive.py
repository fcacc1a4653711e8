"""Characters a second of `receive`, beside the loop that a person would write and the least that NumPy must do."""

from __future__ import annotations

import numpy as np
from compare import compare, show

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
COUNT = 400_000
PLAIN_COUNT = 10_000


def plain_receive(edges: list[int], first_level: int, bit: float) -> list[tuple[int, int, bool, bool]]:
    """Walk from edge to edge and sample each bit: 8E1, idle high."""
    found = []
    place, count, level = 0, len(edges), first_level
    while place < count:
        level ^= 1
        start = edges[place]
        place += 1
        if level:
            continue
        bits = []
        for sample in range(11):
            at = start + (sample + 0.5) * bit
            while place < count and edges[place] <= at:
                level ^= 1
                place += 1
            bits.append(level)
        if bits[0]:
            continue
        value = sum(bit_value << number for number, bit_value in enumerate(bits[1:9]))
        found.append((start, value, bits[9] != value.bit_count() & 1, not bits[10]))
    return found


def main() -> None:
    rng = np.random.default_rng(1)
    random = rng.integers(0, 256, COUNT)
    some_gaps = rng.exponential(3, COUNT) * (rng.random(COUNT) < 0.3)
    alternating = lr.transmit(np.full(COUNT, 0x55), LINE)
    cases = {
        "random values, no gaps": lr.transmit(random, LINE),
        "random values, gaps": lr.transmit(random, LINE, gaps=some_gaps),
        "0x55 without gaps, out of step": lr.Trace(alternating.edges[3:], alternating.tick_s, 0, end=alternating.end),
    }
    bit = LINE.bit_time_s / 1e-9
    for title, trace in cases.items():
        few = trace.edges[: 11 * PLAIN_COUNT].tolist()
        ours, plain = len(lr.receive(trace, LINE)), len(plain_receive(few, trace.first_level, bit))
        seconds = compare(
            {
                "receive": lambda trace=trace: lr.receive(trace, LINE),
                "plain loop": lambda few=few, trace=trace: plain_receive(few, trace.first_level, bit),
                "copy of the edges": lambda trace=trace: trace.edges + 1,
            }
        )
        show(title, seconds, {"receive": ours, "plain loop": plain, "copy of the edges": ours}, "character")


if __name__ == "__main__":
    main()
