"""Checksums of any stretches of one long array, at a cost that does not depend on how long the stretches are.

Along the array a running checksum is kept, as if it were one message. What a stretch adds to it follows from the
values at both its ends: for a sum it is the difference; for a CRC the value at the beginning is first moved on by the
length of the stretch, which is a multiplication by a power of x modulo the generator polynomial. So a million false
markers with a length field each cost no more than a million multiplications.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.declare.checks.checksum import Algorithm
from larkreader.declare.checks.crc import CrcAlgorithm, start_register
from larkreader.declare.checks.sums import SumAlgorithm

from .checksums import Registers, advance, finished_registers, finished_sums, registers_of_rows, table_of
from .long_checksum import moved

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Results = npt.NDArray[np.uint64]
Running = npt.NDArray[Any]
STRETCH = 64  # bytes that are run through one after the other, side by side with other stretches
BLOCK = 1 << 20  # bytes worked on at once
FEW, SHORT = 8, 512  # stretches, and bytes in all, that are cheaper one by one


def checksums_of_stretches(stream: Bytes, begin: Places, end: Places, algorithm: Algorithm) -> Results:
    """Compute the checksum of some stretches of an array.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where they lie.
    begin, end : ndarray of int64, shape (n_stretches,)
        First byte of each, and the byte behind its last.
    algorithm : CrcAlgorithm or SumAlgorithm
        The algorithm.

    Returns
    -------
    ndarray of uint64, shape (n_stretches,)
    """
    if not len(begin):
        return np.empty(0, dtype=np.uint64)
    if len(begin) <= FEW and int((end - begin).sum()) <= SHORT:
        every = zip(begin.tolist(), end.tolist(), strict=True)
        return np.array([algorithm.of(stream[first:behind].tobytes()) for first, behind in every], dtype=np.uint64)
    low, high = int(begin.min()), int(end.max())
    used, begin, end = stream[low:high], begin - low, end - low
    if isinstance(algorithm, SumAlgorithm):
        return _sums(used, begin, end, algorithm)
    running = _picked(used, begin, end, np.zeros(1, table_of(algorithm).dtype), partial(_registers, crc=algorithm))
    entering, leaving = running[0, : len(begin)], running[0, len(begin) :]
    entering = _moved_on(entering ^ running.dtype.type(start_register(algorithm)), end - begin, algorithm)
    return finished_registers(leaving ^ entering, algorithm)


def _picked(
    stream: Bytes, begin: Places, end: Places, start: Running, run: Callable[[Bytes, int, Running], Running]
) -> Running:
    """Return the running values at the beginnings, then at the ends: shape (n_values, 2 * n_stretches)."""
    places = np.concatenate([begin, end])
    order = np.argsort(places, kind="stable")
    in_order = places[order]
    picked = np.empty((len(start), len(places)), dtype=start.dtype)
    carried = start
    for low in range(0, len(stream), BLOCK):
        block = stream[low : low + BLOCK]
        running = run(block, low, carried)
        here = order[slice(*np.searchsorted(in_order, [low, low + BLOCK]))]
        picked[:, here] = running[:, places[here] - low]
        carried = running[:, len(block)]
    at_end = order[np.searchsorted(in_order, len(stream)) :]
    picked[:, at_end] = carried[:, None]
    return picked


def _registers(block: Bytes, low: int, carried: Running, crc: CrcAlgorithm) -> Running:
    """Return the register before each byte of a block, and behind the last byte."""
    count = -(-len(block) // STRETCH)
    padded = np.zeros(count * STRETCH, dtype=np.uint8)
    padded[: len(block)] = block
    columns = np.ascontiguousarray(padded.reshape(count, STRETCH).T)
    ends = registers_of_rows(padded.reshape(count, STRETCH), crc)
    ends[0] ^= moved(carried, crc, STRETCH)[0]
    apart = 1
    while apart < count:  # each end takes in what the stretches before it leave, twice as many every time
        ends[apart:] ^= moved(ends[:-apart], crc, apart * STRETCH)
        apart *= 2
    begins = np.concatenate([carried, ends[:-1]])
    running = np.empty((STRETCH, count), dtype=carried.dtype)
    for place, column in enumerate(columns):
        running[place] = begins
        begins = advance(begins, crc, column)
    every: Running = np.append(running.T.reshape(-1), begins[-1:])[None, :]
    return every


def _moved_on(registers: Registers, by: Places, crc: CrcAlgorithm) -> Registers:
    """Return each register after some bytes of nothing."""
    registers = registers.copy()
    for power in range(int(by.max()).bit_length()):
        those = np.flatnonzero(by >> power & 1)
        registers[those] = moved(registers[those], crc, 1 << power)
    return registers


def _sums(stream: Bytes, begin: Places, end: Places, algorithm: SumAlgorithm) -> Results:
    """Add up stretches; of words, bytes at even and at odd places apart, as either may come first in one."""
    values = 2 * algorithm.item if algorithm.combine == "weigh" else algorithm.item
    running = _picked(stream, begin, end, np.zeros(values, np.uint64), partial(_running_sums, algorithm=algorithm))
    count = len(begin)
    before, behind = running[:, :count], running[:, count:]
    added = before ^ behind if algorithm.combine == "xor" else behind - before
    odd = (begin & 1).astype(np.bool_)
    items = (end - begin + algorithm.item - 1) // algorithm.item
    if algorithm.item == 1:
        first, heavy = added[0], added[-1]
    else:
        leading, other = np.where(odd, added[1], added[0]), np.where(odd, added[0], added[1])
        shift = np.uint64(8)
        low, high = (leading, other) if algorithm.little else (other, leading)
        first = low ^ high << shift if algorithm.combine == "xor" else low + (high << shift)
        heavy = np.where(odd, added[-1], added[values - 2]) + (np.where(odd, added[values - 2], added[-1]) << shift)
    if algorithm.combine == "weigh":
        return _weighed(begin, items, first, heavy, (np.where(odd, added[0], added[1]), algorithm))
    return finished_sums(first, algorithm)


def _weighed(
    begin: Places,
    items: Places,
    first: Results,
    heavy: Results,
    second_half: tuple[Results, SumAlgorithm],
) -> Results:
    """Return sums of sums: each item counts as often as there are items from it on."""
    others, algorithm = second_half
    modulus, width = np.uint64(algorithm.modulus), np.uint64(algorithm.width // 2)
    size = algorithm.item
    beyond = (begin + size * items).astype(np.uint64)  # items from a place on: (beyond - place) / size
    if size == 2:  # the other byte of a word lies one place further on, but counts as often
        heavy = heavy - (others << np.uint64(8))
    total: Results = (beyond * first - heavy) // np.uint64(size) + np.uint64(algorithm.start) * items.astype(np.uint64)
    both: Results = total % modulus << width
    both |= (first + np.uint64(algorithm.start)) % modulus
    return both


def _running_sums(block: Bytes, low: int, carried: Running, algorithm: SumAlgorithm) -> Running:
    """Return the sums before each byte of a block and behind the last byte; then those of place times value."""
    parts = np.zeros((len(carried), len(block) + 1), dtype=np.uint64)
    for half in range(algorithm.item):
        mine = slice(half, None, algorithm.item)  # blocks begin at even places
        parts[half, 1:][mine] = block[mine]
        if algorithm.combine == "weigh":
            places = np.arange(low, low + len(block), dtype=np.uint64)[mine]
            parts[algorithm.item + half, 1:][mine] = places * block[mine]
    parts[:, 0] = carried
    if algorithm.combine == "xor":
        return np.bitwise_xor.accumulate(parts, axis=1)
    return np.cumsum(parts, axis=1, dtype=np.uint64)
