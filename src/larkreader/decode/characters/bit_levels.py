"""The levels of the bits of characters, as a sender puts them on a wire."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Fault
from larkreader.declare.link.line import LineSettings

from .receive import expected_parity


def levels_of(sent: npt.NDArray[np.uint16], line: LineSettings, fault: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """Return the logical level of each bit and of the idle time behind: uint8, shape (n, bits + 1)."""
    stop = line.stop_position
    levels = np.ones((len(sent), stop + 2), dtype=np.uint8)
    levels[:, 0] = 0
    for bit in range(line.data_bits):
        weight = bit if line.first_bit == "lsb" else line.data_bits - 1 - bit
        levels[:, 1 + bit] = sent >> weight & 1
    if line.has_parity:
        levels[:, stop - 1] = expected_parity(sent, line) ^ (fault & np.uint8(Fault.PARITY) != 0)
    levels[fault & np.uint8(Fault.FRAMING) != 0, stop] = 0
    levels[fault & np.uint8(Fault.BREAK) != 0, : stop + 1] = 0
    return levels
