"""What returned, compared with what went out: lost, changed, extra and doubled characters.

Both run side by side until they differ. From there the fewest differences after which they agree again are looked
for: after 0, 1, 2, ... of them, on every diagonal (how many more were lost than were extra), the furthest place that
can be reached, as E. Ukkonen, "Algorithms for approximate string matching" (1985) does it. As soon as `SURE` characters
agree behind a difference, the stretch before is settled, so that the time grows with the length, and within a stretch
alone with the square of its differences. Behind `MOST` of them the first half is settled, if enough agrees between them
to make sense. Else the stretch is bridged where `KEY` characters of the first stand in the second again; where they do
not, it counts as changed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .alignment_steps import (
    CHANGED,
    EXTRA,
    LOST,
    SMALL,
    Array,
    Step,
    _all_tried,
    common_length,
    end_of,
    fewest_steps,
)

MOSTLY = 0.6  # share of the characters that are lost from which nothing else is thought of first
KEY = 16  # characters that must agree before both are taken to be in step again
TRIES = 64  # characters behind a difference from which keys are taken
FAR = 1 << 16  # how far ahead both are looked at side by side, in characters
REACH = 1 << 20  # how far the two may be apart, in characters
LOST_SIGHT = 1024  # characters counted as changed where nothing fits; doubled each time

Places = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Alignment:
    """How what was received differs from what was sent.

    Parameters
    ----------
    lost_at : ndarray of int64, shape (n_lost,)
        Places in what was sent of the characters that did not arrive.
    changed_at : ndarray of int64, shape (n_changed, 2)
        Places, in what was sent and in what was received, of the characters that arrived as others.
    extra_at : ndarray of int64, shape (n_extra,)
        Places in what was received of the characters that were not sent.
    doubled : int
        How many of the extra characters repeat what stands before or behind them.
    first : tuple of int and int, optional
        Place of the first difference in what was sent and in what was received.
    """

    lost_at: Places
    changed_at: Places
    extra_at: Places
    doubled: int
    first: tuple[int, int] | None

    @property
    def lost(self) -> int:
        """How many characters did not arrive."""
        return len(self.lost_at)

    @property
    def changed(self) -> int:
        """How many characters arrived as others."""
        return len(self.changed_at)

    @property
    def extra(self) -> int:
        """How many characters arrived and were not sent."""
        return len(self.extra_at)


def align(sent: bytes | Array, received: bytes | Array) -> Alignment:
    """Compare what was received with what was sent.

    Parameters
    ----------
    sent, received : bytes or ndarray of int, shapes (n,) and (m,)
        All of it.

    Returns
    -------
    Alignment
        Its counts obey ``n - lost + extra == m``.
    """
    out, back = _array(sent), _array(received)
    if max(len(out), len(back)) * MOSTLY < abs(len(out) - len(back)) and (found := _only_lost_or_extra(out, back)):
        return found
    return _plainer(align_step_by_step(out, back), out, back)


def align_step_by_step(out: Array, back: Array) -> Alignment:
    """Compare as `align` does, where more may be expected than was sent: a fit that leaves much out may be wrong.

    Parameters
    ----------
    out, back : ndarray of int, shapes (n,) and (m,)
        What was sent, perhaps not to its end, and what was received.

    Returns
    -------
    Alignment
    """
    found = _Differences(out, back)
    here = there = 0
    blind = LOST_SIGHT
    while True:
        same = common_length(out[here:], back[there:])
        here, there = here + same, there + same
        if here == len(out) or there == len(back):
            found.add_lost(here, len(out))
            found.add_extra(there, len(back))
            return found.result()
        steps = fewest_steps(out[here:], back[there:])
        if steps is not None:
            found.add(steps, here, there)
            ahead, beyond, blind = *end_of(steps), LOST_SIGHT
        else:
            ahead, beyond = _bridge(found.keys, out, back, here, there)
            if ahead or beyond:
                blind = LOST_SIGHT
                found.add_stretch(here, here + ahead, there, there + beyond)
            else:
                ahead = beyond = min(blind, len(out) - here, len(back) - there)
                blind *= 2
                found.add_stretch(here, here + ahead, there, there + beyond)
        here, there = here + ahead, there + beyond


def _plainer(found: Alignment, out: Array, back: Array) -> Alignment:
    """Return an alignment in which characters were only lost, or only extra, if that is all that need have happened.

    A buffer that overflows keeps single characters out of long stretches, among which a key is nowhere to be found.
    Fewer differences than the two lengths differ by there cannot be.
    """
    if found.lost + found.changed + found.extra == abs(len(out) - len(back)):
        return found
    return _only_lost_or_extra(out, back) or found


def _only_lost_or_extra(out: Array, back: Array) -> Alignment | None:
    """Return an alignment in which characters were only lost, or only extra; None if there is none."""
    surplus = len(out) - len(back)
    few, many = (back, out) if surplus >= 0 else (out, back)
    kept = _places_within(few, many)
    if kept is None:
        return None
    nothing, others = np.empty(0, np.int64), np.setdiff1d(np.arange(len(many)), kept, assume_unique=True)
    same = common_length(out, back)
    first = (same, same) if len(others) else None
    if surplus >= 0:
        return Alignment(others, nothing.reshape(0, 2), nothing, 0, first)
    return Alignment(nothing, nothing.reshape(0, 2), others, _doubled(back, others), first)


def _places_within(few: Array, many: Array) -> Places | None:
    """Return where the characters of the first stand in the second, in their order; None if they do not."""
    runs: list[Places] = []
    here = there = 0
    while here < len(few):
        same = common_length(few[here:], many[there:])
        runs.append(np.arange(there, there + same))
        here, there = here + same, there + same
        if here == len(few):
            break
        step, begin = 64, there
        while begin < len(many):
            hits = np.flatnonzero(many[begin : begin + step] == few[here])
            if len(hits):
                break
            begin, step = begin + step, min(4 * step, 1 << 16)
        else:
            return None
        there = begin + int(hits[0])
    return np.concatenate(runs) if runs else np.empty(0, np.int64)


def _doubled(back: Array, extra: Places) -> int:
    """Return how many extra characters stand in stretches that repeat their neighbours."""
    if not len(extra):
        return 0
    doubled = 0
    for run in np.split(extra, np.flatnonzero(np.diff(extra) != 1) + 1):
        begin, length = int(run[0]), len(run)
        before, behind = back[max(begin - length, 0) : begin], back[begin + length : begin + 2 * length]
        stretch = back[begin : begin + length]
        if np.array_equal(stretch, before) or np.array_equal(stretch, behind):
            doubled += length
    return doubled


class _Differences:
    """Gathers the differences."""

    def __init__(self, out: Array, back: Array) -> None:
        self._out, self._back = out, back
        self._lost: list[Places] = []
        self._changed: list[Places] = []
        self._extra: list[Places] = []
        self.keys = _Keys(out, back)

    def add(self, steps: list[Step], here: int, there: int) -> None:
        """Add the differences of a stretch that begins at two places."""
        for kind, to in ((LOST, self._lost), (EXTRA, self._extra)):
            places = [step[1] + here if kind == LOST else step[2] + there for step in steps if step[0] == kind]
            if places:
                to.append(np.array(places, np.int64))
        pairs = [(step[1] + here, step[2] + there) for step in steps if step[0] == CHANGED]
        if pairs:
            self._changed.append(np.array(pairs, np.int64))

    def add_lost(self, begin: int, end: int) -> None:
        """Add a stretch of lost characters."""
        if end > begin:
            self._lost.append(np.arange(begin, end))

    def add_extra(self, begin: int, end: int) -> None:
        """Add a stretch of extra characters."""
        if end > begin:
            self._extra.append(np.arange(begin, end))

    def add_stretch(self, here: int, to: int, there: int, until: int) -> None:
        """Add a stretch with many differences: what pairs up by its place is the same or changed."""
        if (to - here) * (until - there) <= SMALL:
            self.add(_all_tried(self._out[here:to], self._back[there:until]), here, there)
            return
        shared = min(to - here, until - there)
        wrong = np.flatnonzero(self._out[here : here + shared] != self._back[there : there + shared])
        if len(wrong):
            self._changed.append(np.column_stack([wrong + here, wrong + there]))
        self.add_lost(here + shared, to)
        self.add_extra(there + shared, until)

    def result(self) -> Alignment:
        """Return all of them."""
        lost, extra = _joined(self._lost), _joined(self._extra)
        changed = np.concatenate(self._changed) if self._changed else np.empty((0, 2), np.int64)
        same = common_length(self._out, self._back)
        first = (same, same) if len(lost) or len(changed) or len(extra) else None
        return Alignment(lost, changed, extra, _doubled(self._back, extra), first)


class _Keys:
    """Finds where some characters of the first stand in the second."""

    def __init__(self, out: Array, back: Array) -> None:
        self.width = out.dtype.itemsize
        self._data = (out.tobytes(), back.tobytes())

    def find(self, of: int, begin: int, within: int) -> int | None:
        """Return where the `KEY` characters at a place of one stand in the other from a place on, if within reach."""
        key = self._data[of][begin * self.width : (begin + KEY) * self.width]
        other, at = self._data[1 - of], within * self.width
        if len(key) < KEY * self.width:
            return None
        while (at := other.find(key, at, (within + REACH) * self.width)) >= 0:
            if at % self.width == 0:
                return at // self.width
            at += 1
        return None


def _array(data: bytes | Array) -> Array:
    if isinstance(data, bytes):
        return np.frombuffer(data, np.uint8)
    return data.astype(np.uint16)


def _joined(parts: list[Places]) -> Places:
    return np.concatenate(parts) if parts else np.empty(0, np.int64)


def _bridge(keys: _Keys, out: Array, back: Array, here: int, there: int) -> tuple[int, int]:
    """Return how many characters of each lie before the nearest place where both are in step; 0 and 0 if nowhere."""
    best, cost = (0, 0), REACH
    straight = _straight_ahead(out[here : here + FAR], back[there : there + FAR])
    if straight is not None:  # changed characters are likelier than as many lost, and as many extra later
        best, cost = (straight, straight), straight
    for ahead in (*range(TRIES), *range(TRIES, LOST_SIGHT, KEY)):
        if ahead >= cost:
            break
        for of, place, other in ((1, there, here), (0, here, there)):
            at = keys.find(of, place + ahead, other)
            if at is not None and max(at - other, ahead) < cost:
                cost = max(at - other, ahead)
                best = (at - other, ahead) if of else (ahead, at - other)
    return best


def _straight_ahead(out: Array, back: Array) -> int | None:
    """Return after how many characters, the same number of each, `KEY` of them agree."""
    length = min(len(out), len(back))
    if length < KEY:
        return None
    agree = np.concatenate([[0], np.cumsum(out[:length] == back[:length])])
    runs = np.flatnonzero(agree[KEY:] - agree[:-KEY] == KEY)
    return int(runs[0]) if runs.size else None
