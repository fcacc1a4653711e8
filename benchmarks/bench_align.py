"""What was lost, changed and doubled in a megabyte: ours, and the plain table on a stretch that it can bear."""

from __future__ import annotations

import time

import numpy as np

import larkreader as lr

COUNT = 1_000_000
SHORT = 1500  # characters that the plain table is tried on; its time grows with the square


def plain(sent: bytes, received: bytes) -> int:
    """Return the fewest differences, by the table that a person writes first."""
    row = list(range(len(received) + 1))
    for done, wanted in enumerate(sent, 1):
        above, row = row, [done]
        for place, got in enumerate(received, 1):
            row.append(min(above[place - 1] + (wanted != got), above[place] + 1, row[place - 1] + 1))
    return row[-1]


def damaged(sent, faults: int):
    """Return characters with so many of them lost, changed or doubled, in turn."""
    random = np.random.default_rng(5)
    places = np.sort(random.choice(len(sent) - 1, faults, replace=False))
    received, times = sent.copy(), np.ones(len(sent), int)
    received[places[::3]] ^= 0x40
    times[places[1::3]] = 0
    times[places[2::3]] = 2
    return np.repeat(received, times)


def seconds(work) -> float:
    begin = time.thread_time()
    work()
    return time.thread_time() - begin


def main() -> None:
    sent = np.random.default_rng(3).integers(0, 256, COUNT).astype(np.uint8)
    few = damaged(sent[:SHORT], 5)
    unit = seconds(lambda: plain(sent[:SHORT].tobytes(), few.tobytes())) / SHORT**2
    print(f"the plain table takes {1e9 * unit:.0f} ns a pair, so of a megabyte {unit * COUNT**2 / 3600:,.0f} hours")
    base = 0.0
    for faults in (0, 100, 1000, 10_000, 50_000):
        received = damaged(sent, faults).tobytes() if faults else sent.tobytes()
        taken = seconds(lambda received=received: lr.exercise.align(sent.tobytes(), received))
        base = base or taken
        print(f"{faults:>7,} differences in a megabyte  {taken:8.3f} s of CPU  {taken / base:8.0f} times none at all")


if __name__ == "__main__":
    main()
