"""Blocks of a VCD file that hold nothing but times and changes of scalars, which most do.

Comparing whole arrays of bytes tells every word's first character, so that only the times and the wanted changes
need be found one by one. A block with anything else in it is left to the general way.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]

PIECE = 1 << 16  # bytes compared at once, so that what comes of it stays in the processor's cache
HASH = ord("#")
ONE, LETTER_Z = ord("1"), ord("z")  # differ in one bit from "0" and "x"


def plain_changes(text: Bytes, codes: Sequence[bytes]) -> list[tuple[Places, Places]] | None:
    """Find the changes of some scalars, with the times before them.

    Parameters
    ----------
    text : ndarray of uint8, shape (n,)
        Whole words, with white space before the first and behind the last.
    codes : sequence of bytes
        The codes of the scalars.

    Returns
    -------
    list of tuple of two ndarrays of int64, each of shape (n_changes,), or None
        For each code, where the words of its changes begin, and where that of the latest time before each begins, -1
        if there is none. None if a word begins with anything but ``#``, ``0``, ``1``, ``x`` or ``z``.
    """
    found: list[list[Places]] = [[] for _ in codes]
    widest = max((len(code) for code in codes), default=0) + 2
    for low in range(0, len(text), PIECE):
        piece = text[low : low + PIECE + widest]  # reaches into the next one as far as a change may
        is_space = piece <= 0x20
        begins = is_space[:PIECE] & ~is_space[1 : PIECE + 1] if len(piece) > PIECE else is_space[:-1] & ~is_space[1:]
        first = piece[1 : len(begins) + 1]
        is_time = (first == HASH) & begins
        begins ^= is_time
        strange = (first | 1 != ONE) & begins
        if strange.any() and ((first | 2 != LETTER_Z) & strange).any():
            return None
        for code, words in zip(codes, found, strict=True):
            last = len(code) + 2
            wanted = begins[: max(len(piece) - last, 0)] & is_space[last : last + len(begins)]
            for place, character in enumerate(code, 2):
                wanted &= piece[place : place + len(wanted)] == character
            wanted |= is_time[: len(wanted)]
            words.append(np.flatnonzero(wanted) + (low + 1))
    return [_with_times(text, np.concatenate(words)) for words in found]


def _with_times(text: Bytes, words: Places) -> tuple[Places, Places]:
    """Part words in order into changes and times; return the changes and the latest time before each."""
    is_change = text[words] != HASH
    changes = np.flatnonzero(is_change)
    times = np.append(-1, words[np.flatnonzero(~is_change)])
    return words[changes], times[changes - np.arange(len(changes))]
