"""What to send: patterns whose every character is known beforehand."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.declare.loopback import LoopbackPlan


def pattern_of(plan: LoopbackPlan) -> npt.NDArray[np.uint8]:
    """Return all that a plan sends: uint8, shape (plan.characters,)."""
    values = 1 << plan.data_bits
    if plan.pattern == "random":
        return np.random.default_rng(plan.seed).integers(0, values, plan.characters).astype(np.uint8)
    if plan.pattern == "alternating":
        return np.resize(np.array([0x55, 0xAA], np.uint8) & (values - 1), plan.characters)
    return (np.arange(plan.characters) % values).astype(np.uint8)
