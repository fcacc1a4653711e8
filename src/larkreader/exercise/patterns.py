"""What to send: patterns whose every character is known beforehand."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.declare.loopback import LoopbackPlan

LINE_LENGTH = 12  # characters of a numbered line with its ending


def pattern_of(plan: LoopbackPlan) -> npt.NDArray[np.uint8]:
    """Return all that a plan sends: uint8, of shape (plan.characters,), or longer for whole lines."""
    values = 1 << plan.data_bits
    if plan.pattern == "lines":
        lines = [b"line %06d\n" % number for number in range(-(-plan.characters // LINE_LENGTH))]
        return np.frombuffer(b"".join(lines), np.uint8)
    if plan.pattern == "all-values":
        up = np.arange(values)
        return np.resize(np.concatenate([up, up[::-1]]), plan.characters).astype(np.uint8)
    if plan.pattern == "random":
        return np.random.default_rng(plan.seed).integers(0, values, plan.characters).astype(np.uint8)
    if plan.pattern == "alternating":
        return np.resize(np.array([0x55, 0xAA], np.uint8) & (values - 1), plan.characters)
    return (np.arange(plan.characters) % values).astype(np.uint8)
