"""From evenly sampled levels to the places where the level changes.

Samples are packed into bits, eight to a byte, and a byte is compared with itself moved on by one sample. Most bytes
hold no change; most of the others hold one, whose place is in a table.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Bits = npt.NDArray[np.uint8]

_REVERSED = np.packbits(np.unpackbits(np.arange(256, dtype=np.uint8)).reshape(-1, 8)[:, ::-1], axis=1)[:, 0]
_LOWEST = np.array([0, *((item & -item).bit_length() - 1 for item in range(1, 256))], dtype=np.uint8)


class LevelChanges:
    """Finds where one channel changes, block by block."""

    count: int

    def __init__(self) -> None:
        self.first_level: int | None = None
        self.count = 0
        self._last = 0

    def feed(self, packed: Bits, count: int) -> npt.NDArray[np.int64]:
        """Take in the next samples, and return the numbers of those that differ from the sample before.

        Parameters
        ----------
        packed : ndarray of uint8
            One bit a sample, the first in the lowest bit. All bytes but the last block's last are full.
        count : int
            How many samples there are.
        """
        if not count:
            return np.empty(0, np.int64)
        if self.first_level is None:
            self.first_level = self._last = int(packed[0] & 1)
        shifted = packed << np.uint8(1)
        shifted[1:] |= packed[:-1] >> np.uint8(7)
        shifted[0] |= self._last
        shifted ^= packed
        places = _set_bits(shifted)
        if count % 8 and len(places):
            places = places[: np.searchsorted(places, count)]
        self._last = int(packed[(count - 1) >> 3] >> ((count - 1) & 7) & 1)
        places += self.count
        self.count += count
        return places


def packed_samples(data: Bits, bits: int, channel: int, packing: str = "lsb") -> Bits:
    """Return one channel of samples with one bit each, the first in the lowest bit.

    Parameters
    ----------
    data : ndarray of uint8, uint16 or uint32
        Whole samples; bytes of eight samples where `bits` is 1.
    bits : {1, 8, 16, 32}
        Bits of a sample.
    channel : int
        Which of them.
    packing : {"lsb", "msb"}
        Which end of a byte holds the first sample where `bits` is 1.
    """
    if bits == 1:
        return data if packing == "lsb" else _REVERSED.take(data)
    return np.packbits(data & data.dtype.type(1 << channel), bitorder="little")


def _set_bits(data: Bits) -> npt.NDArray[np.int64]:
    """Return the numbers of the bits that are set, in ascending order."""
    full = np.flatnonzero(data.view(np.bool_) if data.max(initial=0) <= 1 else data != 0)
    some = data.take(full)
    more = np.flatnonzero(some & (some - np.uint8(1)))
    if not more.size:
        return (full << 3) + _LOWEST.take(some)
    if len(more) > len(full) // 8:
        rows, places = np.nonzero(np.unpackbits(some[:, None], axis=1, bitorder="little"))
        return (full.take(rows) << 3) + places
    rest = some[more]
    rows, places = np.nonzero(np.unpackbits((rest & (rest - np.uint8(1)))[:, None], axis=1, bitorder="little"))
    single = (full << 3) + _LOWEST.take(some)
    return np.sort(np.concatenate([single, (full[more[rows]] << 3) + places]), kind="stable")
