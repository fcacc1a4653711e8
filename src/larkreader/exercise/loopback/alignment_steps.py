"""The fewest differences between what was sent and what was received, step by step."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

SURE = 256  # characters that agree, after which nothing before them is asked about again
MOST = 64  # differences of a stretch up to which the fewest are looked for
SENSE = 4  # characters that agree a difference, on average, from which so many differences still make sense
SMALL = 1600  # pairs of characters up to which the kinds of difference are chosen by trying all
TOGETHER = 2  # characters behind a difference that are compared on all diagonals at once
NOWHERE = -(1 << 40)  # a place to which no way leads
Array = npt.NDArray[np.integer]
Places = npt.NDArray[np.int64]
Step = tuple[int, int, int]  # kind, place in what was sent, place in what was received
LOST, CHANGED, EXTRA = range(3)


def fewest_steps(out: Array, back: Array) -> list[Step] | None:
    """Return the fewest differences after which `SURE` characters agree; None if there are too many.

    It is the same where both are over, or all is over but a rest of the first.

    ``reach[d][k + d]`` is the furthest place in `out` with d differences on diagonal k, from -d to d; a place there
    lies k further on in `back`. `NOWHERE` where there is no such way.
    """
    n, m = len(out), len(back)
    reach = [np.zeros(1, np.int64)]
    best = 0
    for differences in range(1, MOST + 1):
        diagonals = np.arange(-differences, differences + 1)
        limit = np.minimum(n, m - diagonals)
        begin = _after_one_more(reach[-1], limit)
        end = _extended(out, back, begin, diagonals, limit)
        reach.append(end)
        rest = np.where(end == limit, abs(m - n - diagonals), -1)  # of the other, where either is over
        is_settled = (end - begin >= SURE) | (rest == 0) | (rest > MOST)
        settled = np.flatnonzero(is_settled & (begin >= 0)).tolist()
        if settled:  # of a pattern that repeats, several ways agree from here on: that which ends with the least rest
            at = min(settled, key=lambda place: (abs(m - n - int(diagonals[place])), place))
            return _kinds(out, back, reach, int(diagonals[at]), int(begin[at]))
        best = max(best, int((2 * end + diagonals).max()))
    if best < 2 * SENSE * MOST:
        return None
    # many differences, but sense between them: the ways that may still be best differ in the last characters alone
    likeliest = int((2 * end + diagonals).argmax())
    return _kinds(out, back, reach, int(diagonals[likeliest]), int(begin[likeliest]))[: MOST // 2]


def _ways(last: list[int], differences: int, diagonal: int, n: int, m: int) -> tuple[int, int, int]:
    """Return how far the last of some differences leads on a diagonal, for each kind of it; -1 where it cannot be."""
    place = diagonal + differences - 1  # of the same diagonal in the row above
    lost = last[place + 1] + 1 if 0 <= place + 1 < len(last) and last[place + 1] >= 0 else -1
    changed = last[place] + 1 if 0 <= place < len(last) and last[place] >= 0 else -1
    extra = last[place - 1] if 0 <= place - 1 < len(last) else -1
    limit = min(n, m - diagonal)
    return lost if lost <= limit else -1, changed if changed <= limit else -1, extra if extra <= limit else -1


def _after_one_more(last: Places, limit: Places) -> Places:
    """Return where each diagonal goes on after one more difference, as the greatest of `_ways`."""
    before = np.full(len(limit) + 2, NOWHERE)
    before[2:-2] = last
    begin = np.full(len(limit), NOWHERE)
    for place in (before[2:] + 1, before[1:-1] + 1, before[:-2]):  # lost, changed, extra
        np.maximum(begin, place, out=begin, where=place <= limit)
    return begin


def _extended(out: Array, back: Array, begin: Places, diagonals: Places, limit: Places) -> Places:
    """Return how far each diagonal goes on without a difference.

    Most of them differ within a few characters, which all are compared at once; the others are gone through alone.
    """
    end = begin.copy()
    going = np.flatnonzero((end >= 0) & (end < limit))
    for _ in range(TOGETHER):
        here = end[going]
        going = going[out[here] == back[here + diagonals[going]]]
        end[going] += 1
        going = going[end[going] < limit[going]]
        if not len(going):
            return end
    for place in going.tolist():
        last, other = int(end[place]), int(end[place] + diagonals[place])
        end[place] += common_length(out[last:], back[other:])
    return end


def _kinds(out: Array, back: Array, reach: list[Places], diagonal: int, stop: int) -> list[Step]:
    """Return the differences of the way that ends on a diagonal, where it last differed at `stop`."""
    differences, n, m = len(reach) - 1, len(out), len(back)
    if differences > 1 and stop * (stop + diagonal) <= SMALL:
        return _all_tried(out[:stop], back[: stop + diagonal])
    steps: list[Step] = []
    here = stop
    rows: list[list[int]] = [row.tolist() for row in reach[:-1]]
    for d in range(differences, 0, -1):
        ways = _ways(rows[d - 1], d, diagonal, n, m)
        kind = next(kind for kind in (CHANGED, LOST, EXTRA) if ways[kind] == here)
        here -= kind != EXTRA
        steps.append((kind, here, here + diagonal - (kind == EXTRA) + (kind == LOST)))
        diagonal += (kind == LOST) - (kind == EXTRA)
        if d > 1:
            here = max(_ways(rows[d - 2], d - 1, diagonal, n, m))
    return steps[::-1]


def _all_tried(sent: Array, received: Array) -> list[Step]:
    """Return the differences of two short stretches: the fewest, and of those that way which loses least."""
    out, back = sent.tolist(), received.tolist()
    rows = [[(place, 0) for place in range(len(back) + 1)]]  # differences, lost
    for done, wanted in enumerate(out, 1):
        above, row = rows[-1], [(done, done)]
        for place, got in enumerate(back, 1):
            total, lost = above[place - 1]
            best = (total + (wanted != got), lost)
            if (above[place][0] + 1, above[place][1] + 1) < best:
                best = (above[place][0] + 1, above[place][1] + 1)
            if (row[-1][0] + 1, row[-1][1]) < best:
                best = (row[-1][0] + 1, row[-1][1])
            row.append(best)
        rows.append(row)
    steps: list[Step] = []
    here, there = len(out), len(back)
    while here or there:
        total, lost = rows[here][there]
        if here and there:
            differs = out[here - 1] != back[there - 1]
            if rows[here - 1][there - 1] == (total - differs, lost):
                here, there = here - 1, there - 1
                if differs:
                    steps.append((CHANGED, here, there))
                continue
        if here and rows[here - 1][there] == (total - 1, lost - 1):
            here -= 1
            steps.append((LOST, here, there))
        else:
            there -= 1
            steps.append((EXTRA, here, there))
    return steps[::-1]


def end_of(steps: list[Step]) -> tuple[int, int]:
    """Return how many characters of each lie up to the last difference."""
    kind, here, there = steps[-1]
    return here + (kind != EXTRA), there + (kind != LOST)


def common_length(out: Array, back: Array) -> int:
    """Return how many characters agree from the beginning on."""
    length = min(len(out), len(back))
    low, block = 0, 256
    while low < length:
        high = min(low + block, length)
        differ = out[low:high] != back[low:high]
        place = int(differ.argmax())
        if differ[place]:
            return low + place
        low, block = high, min(4 * block, 1 << 22)
    return length
