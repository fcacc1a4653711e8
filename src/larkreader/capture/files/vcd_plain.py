"""Blocks of a VCD file that hold nothing but times and changes of scalars, which most do.

Comparing whole arrays of bytes finds every word's first character, so that only the times and the wanted changes
need be found one by one. A block with anything else in it is left to the general way.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]

PIECE = 1 << 16  # bytes compared at once, so that what arrives of it stays in the processor's cache
HASH = ord("#")
ONE, LETTER_Z = ord("1"), ord("z")  # differ in one bit from "0" and "x"


def plain_changes(text: Bytes, codes: Sequence[bytes], digits: int) -> list[tuple[Places, Places]] | None:
    """Find the changes of some scalars, with the times before them.

    Parameters
    ----------
    text : ndarray of uint8, shape (n,)
        Whole words, with white space before the first, more of it than a time has digits, and behind the last.
    codes : sequence of bytes
        The codes of the scalars.
    digits : int
        How many digits each time has.

    Returns
    -------
    list of tuple of two ndarrays of int64, each of shape (n_changes,), or None
        For each code, where the words of its changes begin, and where that of the latest time before each begins, -1
        if there is none. None if a word begins with anything but ``#``, ``0``, ``1``, ``x`` or ``z``, or is a level by
        itself.
    """
    found: list[list[Places]] = [[] for _ in codes]
    widest = max((len(code) for code in codes), default=0) + 2
    time_at = np.zeros(len(text), dtype=np.bool_)
    for low in range(0, len(text), PIECE):
        piece = text[low : low + PIECE + widest]  # reaches into the next block as far as a change may
        is_space = piece <= 0x20
        begins = is_space[:-1] & ~is_space[1:]  # whether a word begins one byte further
        begins = begins[:PIECE]
        first = piece[1 : len(begins) + 1]
        is_time = np.logical_and(first == HASH, begins, out=time_at[low + 1 : low + 1 + len(begins)])
        begins ^= is_time
        strange = (first | 1 != ONE) & begins
        if strange.any() and ((first | 2 != LETTER_Z) & strange).any():
            return None
        if (begins[: len(piece) - 2] & is_space[2 : len(begins) + 2]).any():  # a level without a code
            return None
        for code, words in zip(codes, found, strict=True):
            last = len(code) + 2
            wanted = begins[: max(len(piece) - last, 0)] & is_space[last : last + len(begins)]
            for place, character in enumerate(code, 2):
                wanted &= piece[place : place + len(wanted)] == character
            words.append(np.flatnonzero(wanted) + (low + 1))
    return [_with_times(np.concatenate(words), time_at, digits) for words in found]


def _with_times(words: Places, time_at: npt.NDArray[np.bool_], digits: int) -> tuple[Places, Places]:
    """Return some words and the latest time before each, which most often is the word before."""
    times = words - (digits + 2)
    elsewhere = np.flatnonzero(~time_at[times])
    if elsewhere.size:
        every = np.append(-1, np.flatnonzero(time_at))
        times[elsewhere] = every[np.searchsorted(every, words[elsewhere]) - 1]
    return words, times
