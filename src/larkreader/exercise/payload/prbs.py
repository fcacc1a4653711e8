"""Pseudo-random bit sequences of maximum length, made and checked.

A shift register of n stages gives each bit as the sum, modulo 2, of the bits n and m before it. A sequence of bits
travels in characters, the earliest in bit 0 of each.

ITU-T O.150 (05/1996), clause 5, defines those of 9, 11, 15, 20, 23 and 31 stages by the stages that are added, and says
which are sent inverted. That of 7 stages, x^7 + x^6 + 1, is in no part of it, but as usual.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.errors import RequestError

Bits = npt.NDArray[np.uint8]

SURE_BITS = 32  # beyond those that fill the register, which must follow from it before the place is taken as found


class Sequence(NamedTuple):
    """A sequence of maximum length.

    Parameters
    ----------
    stages, tap : int
        Each bit is the sum of those so many before it.
    is_inverted : bool
        Whether it is sent inverted.
    """

    stages: int
    tap: int
    is_inverted: bool


SEQUENCES: Mapping[int, Sequence] = {
    7: Sequence(7, 6, is_inverted=False),
    9: Sequence(9, 5, is_inverted=False),  # O.150, 5.1: 511 bits
    11: Sequence(11, 9, is_inverted=False),  # 5.2: 2047 bits
    15: Sequence(15, 14, is_inverted=True),  # 5.3: 32 767 bits
    20: Sequence(20, 3, is_inverted=False),  # 5.4: 1 048 575 bits
    23: Sequence(23, 18, is_inverted=True),  # 5.6: 8 388 607 bits
    31: Sequence(31, 28, is_inverted=True),  # 5.8: 2 147 483 647 bits
}


def prbs_bits(stages: int, count: int, seed: int = 0) -> Bits:
    """Return the beginning of a pseudo-random bit sequence.

    Parameters
    ----------
    stages : {7, 9, 11, 15, 20, 23, 31}
        Which: it repeats after ``2 ** stages - 1`` bits.
    count : int
        How many bits.
    seed : int
        The register at the start, its lowest bit the last that went in; all bits 1 where it is 0.

    Returns
    -------
    ndarray of uint8, shape (count,)
        0 and 1, inverted where the sequence is sent so.

    Raises
    ------
    RequestError
        If there is no such sequence.

    Notes
    -----
    The sequence in which each bit is the sum of those n and m before it also has each as the sum of those 2n and 2m
    before it, 4n and 4m, and so on: so it is made in blocks that double.

    Examples
    --------
    >>> lr.exercise.prbs_bits(7, 16).tolist()
    [0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 1, 0, 0]
    """
    if stages not in SEQUENCES:
        known = ", ".join(map(str, SEQUENCES))
        raise RequestError("sequence", f"has {stages} stages", f"must be one of {known}")
    n, _, is_inverted = SEQUENCES[stages]
    register = (seed & ((1 << n) - 1)) or (1 << n) - 1
    start = np.array([register >> place & 1 for place in range(n - 1, -1, -1)], np.uint8)
    bits = continued(start, count, stages)
    return bits ^ np.uint8(is_inverted)


def continued(start: Bits, count: int, stages: int) -> Bits:
    """Return the bits that follow from those that fill the register, none of them inverted."""
    n, m, _ = SEQUENCES[stages]
    bits = np.empty(n + count, np.uint8)
    bits[:n], done, scale = start, n, 1
    while done < n + count:
        while 2 * scale * n <= done:
            scale *= 2
        more = min(m * scale, n * scale, n + count - done)
        far, near = bits[done - n * scale :], bits[done - m * scale :]
        bits[done : done + more] = far[:more] ^ near[:more]
        done += more
    return bits[n:]


def prbs_values(stages: int, count: int, data_bits: int, seed: int = 0) -> npt.NDArray[np.uint16]:
    """Return characters that carry a pseudo-random bit sequence.

    Parameters
    ----------
    stages : {7, 9, 11, 15, 20, 23, 31}
        Which sequence.
    count : int
        How many characters.
    data_bits : int
        Bits of each, the earliest in bit 0.
    seed : int
        As for `prbs_bits`.

    Returns
    -------
    ndarray of uint16, shape (count,)
        The values of the characters.
    """
    return packed(prbs_bits(stages, count * data_bits, seed), data_bits)


def prbs_chunks(stages: int, size: int, data_bits: int, seed: int = 0) -> Iterator[npt.NDArray[np.uint16]]:
    """Yield characters that carry a pseudo-random bit sequence without end, `size` at a time; see `prbs_values`."""
    flip = np.uint8(SEQUENCES[stages].is_inverted)
    bits = prbs_bits(stages, size * data_bits, seed)
    while True:
        yield packed(bits, data_bits)
        bits = continued(bits[-stages:] ^ flip, size * data_bits, stages) ^ flip


def packed(bits: Bits, data_bits: int) -> npt.NDArray[np.uint16]:
    """Return the characters of some bits, the earliest in bit 0 of each."""
    rows = bits.reshape(-1, data_bits).astype(np.uint16)
    packed_rows: npt.NDArray[np.uint16] = (rows << np.arange(data_bits, dtype=np.uint16)).sum(axis=1, dtype=np.uint16)
    return packed_rows


def unpacked(values: npt.NDArray[np.integer], data_bits: int) -> Bits:
    """Return the bits of some characters, bit 0 of each first."""
    return (values[:, None] >> np.arange(data_bits) & 1).astype(np.uint8).reshape(-1)


def find_place(values: npt.NDArray[np.integer], data_bits: int, stages: int) -> int | None:
    """Find the first character from which on a sequence is seen undisturbed.

    Parameters
    ----------
    values : ndarray of int, shape (n,)
        What arrived.
    data_bits : int
        Bits of a character.
    stages : int
        Which sequence.

    Returns
    -------
    int or None
        Its number; None if the sequence is nowhere to be seen in enough characters.
    """
    n, m, is_inverted = SEQUENCES[stages]
    bits = unpacked(values, data_bits) ^ np.uint8(is_inverted)
    if len(bits) < n + SURE_BITS:
        return None
    wrong = bits[n:] ^ bits[:-n] ^ bits[n - m : -m]
    # a register of zeros alone obeys the rule too, but is not a sequence
    alive = np.convolve(bits, np.ones(n, np.uint8))[n - 1 : len(bits) - SURE_BITS] > 0
    before = np.concatenate([[0], np.cumsum(wrong)])
    clean = (before[SURE_BITS:] == before[:-SURE_BITS]) & alive[: len(before) - SURE_BITS]
    at = np.flatnonzero(clean[::data_bits])
    return int(at[0]) if at.size else None


def sequence_from(values: npt.NDArray[np.integer], count: int, data_bits: int, stages: int) -> npt.NDArray[np.uint16]:
    """Return `count` characters of a sequence from those on with which it begins undisturbed."""
    n, _, is_inverted = SEQUENCES[stages]
    needed = -(-n // data_bits)
    first = unpacked(values[:needed], data_bits)[:n] ^ np.uint8(is_inverted)
    bits = np.concatenate([first, continued(first, max(count * data_bits - n, 0), stages)])[: count * data_bits]
    return packed(bits ^ np.uint8(is_inverted), data_bits)
