"""The samples of many characters at once, each character as one word.

Each edge inside a character turns over all samples behind it. So the exclusive or of one mask an edge is the whole
character: a word whose bit `n` says whether sample `n` was at start level.

Edges are taken in pairs, the change to start level and the change back, with times in units of a small part of a bit,
which fit into half a word: one look-up fetches a pair, and a table of masks by units is small. Where an edge lies so
near to a sample that the unit does not decide which of them is first, the mask bears a mark, and the characters with
a mark are sampled again in whole ticks.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Ticks = npt.NDArray[np.int64]
Words = npt.NDArray[np.uint16]

UNITS = 256  # a bit at least, where it has so many ticks
DOUBT = 0x8000  # the mark; no character has so many samples
MOST_UNITS = 1 << 30  # from the first edge of a block to its last
FAR = (1 << 31) - 1  # units, of an edge that is not there
FEWEST = 128  # characters that are worth units of their own
FEWEST_FAR = 2048  # characters that are worth being halved until their times fit
MANY_EDGES = 48  # edges a character beyond which its samples are searched instead
LARGEST_TABLE = 1 << 16  # entries of a table indexed by ticks; finer time goes through a second look-up


def sample_words(edges: Ticks, at: Ticks, row: Ticks) -> Words:
    """Sample the wire at `row` ticks after some of its edges.

    Parameters
    ----------
    edges : ndarray of int64, shape (n_edges,)
        When the level changed, in ticks.
    at : ndarray of int64, shape (n_characters,)
        Numbers of the edges at which characters begin, in order: all of them even, or all odd.
    row : ndarray of int64, shape (n_samples,)
        When each sample is taken, after the start; an edge at that very tick has happened. 15 samples at most.

    Returns
    -------
    ndarray of uint16, shape (n_characters,)
        Bit `n` is set where sample `n` was at the level behind the start.
    """
    shift = max(0, (int(row[0]) * 2 // UNITS).bit_length() - 1)
    count = len(at)
    first, behind = (int(at[0]), min(int(at[-1]) + MANY_EDGES, len(edges))) if count else (0, 1)
    is_far = count > 0 and int(edges[behind - 1] - edges[first]) >> shift >= MOST_UNITS
    if count < (FEWEST_FAR if is_far else FEWEST):
        return _exact_words(edges, at, row)
    if is_far:
        half = count // 2
        return np.concatenate([sample_words(edges, at[:half], row), sample_words(edges, at[half:], row)])
    words, doubtful = _words_by_units(edges[first:behind], (at - first) >> 1, row, shift)
    if doubtful.size:
        words[doubtful] = _exact_words(edges, at[doubtful], row)
    return words


def _words_by_units(edges: Ticks, at: Ticks, row: Ticks, shift: int) -> tuple[Words, npt.NDArray[np.intp]]:
    """Sample characters that begin at pairs number `at`; return which of them are to be sampled again."""
    units = np.full(len(edges) // 2 * 2 + 4, FAR, dtype=np.int32)
    units[: len(edges)] = (edges - edges[0]) >> shift
    pairs, masks = units.view(np.int64), _masks_by_units(row, shift)
    start = units.take(2 * at, mode="clip")
    origin = np.repeat(start, 2)
    turned = np.zeros(2 * len(at), dtype=np.uint16)  # for both edges of a pair
    seen = turned.copy()
    rest: npt.NDArray[np.intp] | None = None  # the characters that have further edges, unless all are gone through
    for _ in range(MANY_EDGES // 2):
        offset = pairs.take(at, mode="clip").view(np.int32)
        offset -= origin
        mask = masks.take(offset.astype(np.intp), mode="clip")
        if rest is None:
            turned ^= mask
            seen |= mask
        else:
            turned.view(np.uint32)[rest] ^= mask.view(np.uint32)
            seen.view(np.uint32)[rest] |= mask.view(np.uint32)
        going = mask[1::2] != 0
        left = np.count_nonzero(going)
        if not left:
            break
        if left < 0.6 * len(going):
            some = np.flatnonzero(going)
            rest = some if rest is None else rest.take(some, mode="clip")
            at, origin = at.take(some, mode="clip"), origin.view(np.int64).take(some, mode="clip").view(np.int32)
        at = at + 1
    else:
        seen.view(np.uint32)[slice(None) if rest is None else rest] |= np.uint32(DOUBT)
    both = turned.view(np.uint32)
    words = (both ^ both >> np.uint32(16)).astype(np.uint16)
    marks = seen.view(np.uint32)
    return words & np.uint16(DOUBT - 1), np.flatnonzero((marks & np.uint32(DOUBT << 16 | DOUBT)) != 0)


def _masks_by_units(row: Ticks, shift: int) -> Words:
    """Tabulate, for a distance in units, the samples that lie behind it, with a mark where the unit does not decide."""
    distance = np.arange((int(row[-1]) >> shift) + 3) << shift
    if shift:  # either time is rounded down, so the distance is nearly a unit less or more
        least, most = distance - (1 << shift) + 1, distance + (1 << shift) - 1
    else:
        least = most = distance
    least_count, most_count = np.searchsorted(row, least), np.searchsorted(row, most)
    by_count = np.array(
        [((1 << len(row)) - 1) & ~((1 << passed) - 1) for passed in range(len(row) + 1)], dtype=np.uint16
    )
    masks = by_count.take(most_count)
    masks[least_count != most_count] |= np.uint16(DOUBT)
    return masks


def _exact_words(edges: Ticks, at: Ticks, row: Ticks) -> Words:
    """Sample characters with times in whole ticks."""
    masks = _MaskTable(row)
    words = np.full(len(at), masks.every, dtype=np.uint16)
    origin, who, last = edges[at], np.arange(len(at)), len(edges) - 1
    whole = True  # whether every character has further edges
    for further in range(1, MANY_EDGES):
        edge = at + further
        beyond = edge[-1] > last
        offset = edges.take(edge, mode="clip") - origin
        if beyond:
            offset[edge > last] = row[-1] + 1
        if whole:
            words ^= masks.behind(offset)
        else:
            words[who] ^= masks.behind(offset)
        going = offset <= row[-1]
        left = np.count_nonzero(going)
        if not left:
            return words
        if left < 0.7 * len(going):
            who, at, origin, whole = who[going], at[going], origin[going], False
    for bit, instant in enumerate(row):
        passed = np.searchsorted(edges, origin + instant, side="right") - at
        words[who] = words[who] & ~np.uint16(1 << bit) | (passed & 1).astype(np.uint16) << np.uint16(bit)
    return words


class _MaskTable:
    """From an edge's distance to its start, the samples that lie behind it."""

    def __init__(self, row: Ticks) -> None:
        self.row = row
        self.every = (1 << len(row)) - 1
        masks = [self.every & ~((1 << passed) - 1) for passed in range(len(row) + 1)]
        self.by_count = np.array([*masks, 0], dtype=np.uint16)
        self.shift = 0
        if row[-1] + 2 > LARGEST_TABLE:  # a bucket no longer than a bit holds one sample at most
            self.shift = int(np.diff(row, prepend=-row[0] - 1).min()).bit_length() - 1
        buckets = np.arange((int(row[-1]) >> self.shift) + 2) << self.shift
        self.count = np.searchsorted(row, buckets)
        self.by_tick = self.by_count[self.count]

    def behind(self, offset: Ticks) -> Words:
        """Return one mask for each offset: bit n is set if sample n lies at the offset or behind it."""
        if not self.shift:
            return self.by_tick.take(offset, mode="clip")
        count = self.count.take(offset >> self.shift, mode="clip")
        count += offset > self.row.take(count, mode="clip")
        return self.by_count.take(count)
