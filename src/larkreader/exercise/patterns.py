"""What to send: patterns whose every character is known beforehand."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.declare.layout import FrameLayout
from larkreader.declare.loopback import WITH_CONTENT, LoopbackPlan

from .prbs import prbs_values

HALF_WAY = 500_000  # of the numbers of lines
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
    values = _all_of(plan)
    if plan.mirrored and plan.pattern not in ("lines", *WITH_CONTENT):
        values = values ^ np.uint16((1 << plan.data_bits) - 1)
    hit = np.isin(values, plan.avoid)
    return np.where(hit, values ^ (1 << (plan.data_bits - 1)), values).astype(np.uint16) if hit.any() else values


def _all_of(plan: LoopbackPlan) -> Values:
    name, count, bits = plan.pattern, plan.characters, plan.data_bits
    every = np.setdiff1d(np.arange(1 << bits), plan.avoid).astype(np.uint16)
    ones = (1 << bits) - 1
    if name == "lines":
        first = HALF_WAY if plan.mirrored else 0
        lines = [b"line %06d\n" % ((first + number) % (2 * HALF_WAY)) for number in range(-(-count // LINE_LENGTH))]
        return np.frombuffer(b"".join(lines), np.uint8).astype(np.uint16)
    if name in WITH_CONTENT:
        return np.resize(np.frombuffer(plan.content, np.uint8).astype(np.uint16), count)
    if name.startswith("prbs-"):
        return prbs_values(int(name.removeprefix("prbs-")), count, bits, plan.seed)
    if name == "random":
        return every[np.random.default_rng(plan.seed).integers(0, len(every), count)]
    rows: dict[str, npt.ArrayLike] = {
        "counting": every,
        "all-values": np.concatenate([every, every[::-1]]),
        "alternating": [0x155 & ones, ~0x155 & ones],
        "walking-one": 1 << np.arange(bits),
        "walking-zero": ones ^ (1 << np.arange(bits)),
        "runs": np.repeat(np.resize([0, ones], 18), np.repeat(1 << np.arange(9), 2)),
    }
    return np.resize(np.asarray(rows[name]).astype(np.uint16), count)


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
    from .by_hand import frame_of

    out, number = bytearray(), 0
    while len(out) < characters:
        out += frame_of(layout, (), number)
        number += 1
    return bytes(out)


def as_written(values: npt.NDArray[np.integer], data_bits: int) -> bytes:
    """Return characters as a port takes them: a byte each, or two with nine data bits, the low one first."""
    return values.astype("<u2" if data_bits > 8 else np.uint8).tobytes()


def as_values(data: bytes, data_bits: int) -> Values:
    """Return the characters that a port gave; half of one at the end is left out."""
    if data_bits > 8:
        return np.frombuffer(data[: len(data) // 2 * 2], "<u2").astype(np.uint16)
    return np.frombuffer(data, np.uint8).astype(np.uint16)
