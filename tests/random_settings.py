"""Wires under random settings, of which nothing is declared, and whether a diagnosis states them rightly."""

import numpy as np

import larkreader as lr

BAUDS = (9600, 19200, 57600, 115200)
FORMATS = ("8N1", "8E1", "8O1", "7E1", "7O1", "7N1", "8N2", "8E2", "9N1", "8N1 idle-low", "8N1 msb")
TEXT = b"flow 12.5 mL/min, pressure 101.25 kPa, temperature 21.4 degC, dosed 7.75 mL\r\n"
FRAME = [0xA5, 0x5A, 1, 0, 0, 3, 17, 250, 9, 31, 2]


def blind_case(number: int) -> tuple[lr.LineSettings, lr.Trace]:
    """Return settings and the level changes of a wire under them: text, frames, many or few values, any pauses."""
    random = np.random.default_rng(number)
    line = lr.LineSettings.parse(f"{random.choice(BAUDS)} {random.choice(FORMATS)}")
    size, most = int(random.integers(9, 200)), 1 << line.data_bits
    values = (
        np.resize(np.frombuffer(TEXT, np.uint8), size),
        np.resize(FRAME, size) % most,
        random.integers(0, most, size),
        random.integers(0, 12, size),
        random.integers(most - 12, most, size),
        random.choice(random.integers(0, most, 3), size),
    )[random.integers(6)]
    pauses = (0.0, 1.0, 2.5, random.exponential(3, size), 1 + random.exponential(3, size))[random.integers(5)]
    trace = lr.transmit(values, line, gaps=pauses, clock_error_ppm=float(random.normal(0, 2000)))
    edges = trace.edges + random.normal(0, random.choice([0, 0.02]) / line.baud / trace.tick_s, len(trace)).astype(int)
    if (np.diff(edges) > 0).all():
        trace = lr.Trace(edges, trace.tick_s, trace.first_level, end=trace.end)
    return line, trace


def judge_blind(line: lr.LineSettings, trace: lr.Trace) -> str:
    """Return right, named (among those that the capture does not tell apart), unsure or wrong."""
    diagnosis = lr.diagnose(trace)
    if diagnosis.proposal is None:
        return "unsure"
    if _is_same(diagnosis.proposal, line):
        return "right"
    return "named" if any(_is_same(other, line) for other in diagnosis.survey.alike) else "wrong"


def _is_same(found: lr.LineSettings, line: lr.LineSettings) -> bool:
    """Tell whether settings are those that were sent, but for the number of stop bits."""
    shapes = [(one.data_bits, one.parity, one.idle, one.first_bit) for one in (found, line)]
    return shapes[0] == shapes[1] and abs(found.baud / line.baud - 1) < 0.03
