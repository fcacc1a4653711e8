"""What one byte costs a streaming reader: bytes that decide nothing, and bytes that end a frame, by boundary.

A character at 115200 baud takes 87 us. Printed are the medians in microseconds and the 99th percentiles.
"""

import time

import numpy as np

import larkreader as lr

FIELDS = [
    {"name": "count", "type": "uint8", "counter": True},
    {"name": "flow", "type": "uint16", "scale": 0.1, "unit": "mL/min"},
    {"name": "state", "type": "uint8", "names": {"idle": 0, "dosing": 1, "fault": 2}},
    {"name": "dosed", "type": "uint32"},
    {"name": "crc", "type": "checksum"},
]
CRC = {"algorithm": "CRC-16/MODBUS"}
VARYING = [FIELDS[0], {"name": "samples", "type": "uint16", "repeat": "rest"}, FIELDS[-1]]
LENGTH = [{"name": "size", "type": "uint8"}, *VARYING]
TEXT = [{"name": "count", "type": "integer"}, {"name": "flow", "type": "decimal"}, {"name": "state", "type": "word"}]
MARKER = {"kind": "marker", "marker": "A5 5A"}
IDLE = {"kind": "idle", "characters": 3.5, "longest": 80}
BOUNDARIES = {
    "marker": (MARKER, FIELDS),
    "marker and end": ({**MARKER, "end": "0D"}, FIELDS),
    "end marker, varying": ({**MARKER, "end": "0D 0A", "longest": 80}, VARYING),
    "length field": ({"kind": "length-field", "field": "size", "marker": "A5", "longest": 80}, LENGTH),
    "fixed": ({"kind": "fixed"}, FIELDS),
    "idle": (IDLE, FIELDS),
    "idle, varying": (IDLE, VARYING),
    "break": ({"kind": "break"}, FIELDS),
    "cobs": ({"kind": "cobs"}, FIELDS),
    "cobs, varying": ({"kind": "cobs"}, VARYING),
    "slip": ({"kind": "slip"}, FIELDS),
    "slip, varying": ({"kind": "slip"}, VARYING),
    "hdlc": ({"kind": "hdlc"}, FIELDS),
    "escape": ({"kind": "escape", "end": "7E", "escape": "7D", "xor": 32}, FIELDS),
    "marker, no checksum": (MARKER, FIELDS[:-1]),
}
LINE_OF_TEXT = {
    "boundary": {"kind": "terminator", "terminator": "\r\n", "longest": 80},
    "pattern": "n={count} f={flow} {state}",
    "fields": TEXT,
}
KINDS = ((1, FIELDS), (2, [FIELDS[0], FIELDS[-1]]))
COUNT = 200


def wires():
    """Yield the layouts of a wire with its name; only frames of the first are sent."""
    for name, (boundary, fields) in BOUNDARIES.items():
        checksum = {"checksum": CRC} if any(field["type"] == "checksum" for field in fields) else {}
        yield name, [lr.FrameLayout(key="flow", boundary=boundary, fields=fields, **checksum)]
    yield "line of text", [lr.FrameLayout(key="flow", **LINE_OF_TEXT)]
    for name in ("marker", "slip"):
        kinds = [[{"name": "kind", "type": "uint8", "equals": kind}, *fields] for kind, fields in KINDS]
        boundary = BOUNDARIES[name][0]
        named = [
            lr.FrameLayout(key=f"l{n}", boundary=boundary, fields=one, checksum=CRC) for n, one in enumerate(kinds)
        ]
        yield f"{name}, two layouts", named


def values_of(random, number):
    """Return the values of a frame."""
    return {
        "count": number % 256,
        "flow": float(random.integers(0, 6000)) / 10,
        "state": "dosing",
        "dosed": int(random.integers(0, 1 << 32)),
        "samples": random.integers(0, 65536, random.integers(1, 12)).tolist(),
    }


def stream_of(layout, line):
    """Return the characters of so many frames, with pauses and breaks where the layout wants them."""
    random = np.random.default_rng(1)
    names = set(layout.slot)
    every = [values_of(random, number) for number in range(COUNT)]
    messages = [layout.as_sent(layout.encode({k: v for k, v in one.items() if k in names})) for one in every]
    gaps, faults, data = [], [], b""
    for message in messages:
        is_broken = layout.boundary.kind == "break"
        data += b"\0" * is_broken + message
        gaps += [80.0] + [0.0] * (len(message) - 1 + is_broken)
        faults += [lr.Fault.BREAK] * is_broken + [0] * len(message)
    return lr.receive(lr.transmit(data, line, gaps=gaps, faults=faults), line)


def main():
    line = lr.LineSettings.parse("115200 8N1")
    print("| boundary | bytes that decide nothing: median | 99 % | bytes that end a frame: median | 99 % |")
    print("|---|---|---|---|---|")
    for name, layouts in wires():
        layout = layouts[0]
        characters = stream_of(layout, line)
        is_timed = layout.boundary.kind in ("idle", "break")
        pieces = [characters[n : n + 1] if is_timed else bytes([characters.value[n]]) for n in range(len(characters))]
        reader, idle, ends, found = lr.decode.LayoutsReader(layouts), [], [], 0
        for piece in pieces:
            begin = time.perf_counter_ns()
            frames = reader.feed(piece)
            cost = time.perf_counter_ns() - begin
            count = sum(map(len, frames.values()))
            (ends if count else idle).append(cost / 1e3)
            found += count
        found += sum(map(len, reader.close().values()))
        assert found == COUNT, (name, found)
        rows = [f"{np.median(one):.0f} | {np.percentile(one, 99):.0f}" for one in (idle[50:], ends[3:])]
        print(f"| {name} | {' | '.join(rows)} |", flush=True)


if __name__ == "__main__":
    main()
