"""What it costs to judge characters as they arrive, beside one reading of the whole, by how often it is looked at.

Ten seconds at 1 Mbit/s in groups of 20 ms, as a port delivers them; fifty characters are changed on the way. Printed is
the CPU time as a share of the time on the line, and as a multiple of one reading of all of it.
"""

import time

import numpy as np

import larkreader as lr

LINE = lr.LineSettings.parse("1000000 8E1")
GROUP_S, SECONDS, CHANGED = 0.02, 10.0, 50
FIELDS = [
    {"name": "count", "type": "uint8", "counter": True},
    {"name": "flow", "type": "uint16", "repeat": 5},
    {"name": "crc", "type": "checksum"},
]
LAYOUT = lr.FrameLayout(
    boundary={"kind": "marker", "marker": "A5 5A"}, checksum={"algorithm": "CRC-16/MODBUS"}, fields=FIELDS
)
SHEET = lr.Sheet(line=LINE, wire={"pump": {}}, frame={"status": LAYOUT})


def make_groups():
    """Return when each group arrives, and what."""
    random = np.random.default_rng(1)
    size = int(LINE.characters_per_second * GROUP_S)
    frames = (
        LAYOUT.encode({"count": number % 256, "flow": random.integers(0, 65536, 5).tolist()})
        for number in range(int(size * SECONDS / GROUP_S / LAYOUT.length) + 1)
    )
    data = bytearray(b"".join(frames))
    for place in random.integers(0, len(data), CHANGED):
        data[place] ^= 0x10
    return [
        (round(GROUP_S * (number + 1), 6), bytes(data[first : first + size]))
        for number, first in enumerate(range(0, len(data), size))
    ]


def seconds_of(work):
    begun = time.process_time()
    work()
    return time.process_time() - begun


def judge(groups, every_s):
    live, looked_s = lr.LiveReading(SHEET), 0.0
    for at_s, data in groups:
        live.feed("pump", data, at_s)
        if every_s and at_s >= looked_s + every_s:
            live.changed()
            looked_s = at_s
    return live.close().findings


def main():
    groups = make_groups()
    characters = lr.Characters.from_groups((at_s, data, b"") for at_s, data in groups)
    judge(groups[:50], 0.1)
    whole_s = min(seconds_of(lambda: lr.read(SHEET, {"pump": characters})) for _ in range(5))
    print(f"{'looked at':>20} {'of the line':>12} {'of a reading':>13}")
    for name, every_s in (("at the end", 0.0), ("twice a second", 0.5), ("ten times a second", 0.1)):
        spent_s = min(seconds_of(lambda every_s=every_s: judge(groups, every_s)) for _ in range(3))
        print(f"{name:>20} {100 * spent_s / groups[-1][0]:>10.1f} % {spent_s / whole_s:>13.1f}")


if __name__ == "__main__":
    main()
