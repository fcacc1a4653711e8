"""Whether the changes inside characters lie where the bits of a baud begin.

A receiver that looks at the middle of each bit does not notice that a sender is too fast, as long as there are pauses
and no parity: it takes the idle line for the last bits. The changes show it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.decode.characters.receive import receive
from larkreader.errors import CaptureError
from larkreader.judge.findings.finding import Finding, make_finding

from .bit_time import measure_bit

GLITCH = 0.6  # of a bit below which a stretch is a glitch
OFF_GRID = 0.22  # of a bit from which a change lies between the bits
ON_GRID = 0.05  # share of such changes up to which a wire has the baud that is meant
WRONG_BAUD = 0.15  # share from which it has another bit time
LOOKED_AT = 1 << 13  # changes; more make it no clearer
FEWEST = 100  # changes from which anything is concluded
MOST_FAULTS = 0.02  # share of faulty characters above which these suffice by themselves
TOLERATED = 0.03  # of the declared baud by which a sender may be off, in any format


def off_grid(trace: Trace, line: LineSettings, asymmetry_s: float = 0.0) -> tuple[float, float]:
    """Return which share of the changes inside characters lies between the bits, and how many of those are glitches."""
    try:
        read = receive(trace, line)
    except CaptureError:
        return 0.0, 0.0
    bit = 1 / (line.baud * trace.tick_s)
    starts = np.rint(read.begin_s / trace.tick_s).astype(np.int64)
    owner = np.searchsorted(starts, trace.edges, side="right") - 1
    inside = owner >= 0
    far = trace.edges[inside] - starts[owner[inside]]
    within = far < (line.bits_per_character - line.stop_bits + 0.4) * bit
    odd = within & (np.abs(far / bit - np.rint(far / bit)) > OFF_GRID + abs(asymmetry_s) * line.baud)
    narrow = np.diff(trace.edges) < GLITCH * bit
    short = np.append(narrow, False) | np.append(False, narrow)
    count, strange = int(within.sum()), int(odd.sum())
    return strange / max(count, 1), int((odd & short[inside]).sum()) / max(strange, 1)


def judge_baud(wire: str, beginning: Trace, total: int, faulty: int, line: LineSettings) -> Iterator[Finding]:
    """Yield a finding where a wire reads without faults, yet its sender has another baud than declared.

    `beginning` is how its trace begins; `total` and `faulty` count its characters, and those with a parity error, a
    framing error or a break.
    """
    if len(beginning) < FEWEST or faulty > MOST_FAULTS * total:
        return
    some = beginning
    if len(beginning) > LOOKED_AT:
        some = replace(beginning, edges=beginning.edges[:LOOKED_AT], end=int(beginning.edges[LOOKED_AT]))
    share, glitches = off_grid(some, line)
    if share < WRONG_BAUD or glitches > 0.5 or (bit := measure_bit(some)) is None:
        return
    baud = 1 / (bit.ticks * some.tick_s)
    late = abs(bit.asymmetry_ticks) * some.tick_s
    if off_grid(some, line, late)[0] < WRONG_BAUD or abs(baud / line.baud - 1) < TOLERATED:
        return
    evidence = {"declared": line.baud, "measured": f"about {baud:.4g}", "deviation": baud / line.baud - 1}
    yield make_finding("baud-mismatch", wire, **evidence, unnoticed=True)
