"""What to send: patterns whose every character is known beforehand."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.run.loopback import WITH_CONTENT, LoopbackPlan

from .prbs import prbs_chunks
from .typed_input import frame_of

CHUNK = 1 << 16  # characters that are made at once
LINES = 4096  # that are written at once
HALF_WAY = 500_000  # of the numbers of lines
MOST_FRAMES = 1 << 16  # that are made beforehand
LINE_LENGTH = 12  # characters of a numbered line with its ending

Values = npt.NDArray[np.uint16]


def pattern_of(plan: LoopbackPlan) -> Values:
    """Return all that a plan sends.

    Parameters
    ----------
    plan : LoopbackPlan

    Returns
    -------
    ndarray of uint16, shape (n,)
        As many characters as the plan has, or more for whole lines.
    """
    return np.concatenate([*pattern_pieces(plan, CHUNK)])


def length_of(plan: LoopbackPlan) -> int:
    """Return how many characters a plan sends: those that it has, or more for whole lines."""
    return -(-plan.characters // LINE_LENGTH) * LINE_LENGTH if plan.pattern == "lines" else plan.characters


def pattern_pieces(plan: LoopbackPlan, size: int) -> Iterator[Values]:
    """Yield what a plan sends, in pieces.

    Parameters
    ----------
    plan : LoopbackPlan
    size : int
        How many characters each has, the last perhaps fewer.

    Yields
    ------
    ndarray of uint16
    """
    left, held = length_of(plan), np.empty(0, np.uint16)
    chunks = _chunks_of(plan)
    while left:
        while len(held) < min(size, left):
            held = np.concatenate([held, _allowed(plan, next(chunks))])
        count = min(size, left)
        yield held[:count]
        held, left = held[count:], left - count


def _allowed(plan: LoopbackPlan, values: Values) -> Values:
    """Return values as the plan has them: mirrored, and without those to be avoided."""
    if plan.mirrored and plan.pattern not in ("lines", *WITH_CONTENT):
        values = values ^ np.uint16((1 << plan.data_bits) - 1)
    hit = np.isin(values, plan.avoid)
    return np.where(hit, values ^ (1 << (plan.data_bits - 1)), values).astype(np.uint16) if hit.any() else values


def _chunks_of(plan: LoopbackPlan) -> Iterator[Values]:
    """Yield a pattern that never ends, in chunks whose size does not depend on the plan."""
    name, bits = plan.pattern, plan.data_bits
    every = np.setdiff1d(np.arange(1 << bits), plan.avoid).astype(np.uint16)
    ones = (1 << bits) - 1
    if name.startswith("prbs-"):
        yield from prbs_chunks(int(name.removeprefix("prbs-")), CHUNK, bits, plan.seed)
    elif name == "random":
        random = np.random.default_rng(plan.seed)
        while True:
            yield every[random.integers(0, len(every), CHUNK)]
    elif name == "lines":
        first = HALF_WAY if plan.mirrored else 0
        while True:
            lines = b"".join(b"line %06d\n" % (number % (2 * HALF_WAY)) for number in range(first, first + LINES))
            yield np.frombuffer(lines, np.uint8).astype(np.uint16)
            first += LINES
    else:
        rows: dict[str, npt.ArrayLike] = {
            "counting": every,
            "all-values": np.concatenate([every, every[::-1]]),
            "alternating": [0x155 & ones, ~0x155 & ones],
            "walking-one": 1 << np.arange(bits),
            "walking-zero": ones ^ (1 << np.arange(bits)),
            "runs": np.repeat(np.resize([0, ones], 18), np.repeat(1 << np.arange(9), 2)),
        }
        row = np.frombuffer(plan.content, np.uint8) if name in WITH_CONTENT else np.asarray(rows[name])
        whole = np.tile(row.astype(np.uint16), -(-CHUNK // len(row)))
        while True:
            yield whole


def frame_pattern(layout: FrameLayout, characters: int) -> bytes:
    """Return frames of a layout, one after the other, whose counter rises; all else in them is zero, or as it must be.

    Parameters
    ----------
    layout : FrameLayout
        Its frames are delimited by bytes.
    characters : int
        How many bytes at least.

    Returns
    -------
    bytes
        Whole frames, as they travel.
    """
    out, number = bytearray(), 0
    while len(out) < characters:
        out += frame_of(layout, (), number)
        number += 1
    return bytes(out)


def frame_turn(layout: FrameLayout) -> bytes:
    """Return frames of a layout for one turn of its counter, or `MOST_FRAMES`; they can be sent again and again."""
    cycle = layout.counter.cycle if layout.counter is not None else 1
    return b"".join(frame_of(layout, (), number) for number in range(min(cycle, MOST_FRAMES)))


def as_written(values: npt.NDArray[np.integer], data_bits: int) -> bytes:
    """Return characters as a port takes them: a byte each, or two with nine data bits, the low one first."""
    return values.astype("<u2" if data_bits > 8 else np.uint8).tobytes()


def as_values(data: bytes, data_bits: int) -> Values:
    """Return the characters that a port gave; half of one at the end is left out."""
    if data_bits > 8:
        return np.frombuffer(data[: len(data) // 2 * 2], "<u2").astype(np.uint16)
    return np.frombuffer(data, np.uint8).astype(np.uint16)
