"""What came back against what went out: lost, changed and extra characters.

Both run side by side until they differ. From there the nearest place is looked for at which `KEY` characters of the
one stand in the other again; what lies between is compared exactly if it is short. Where nothing fits within `REACH`
characters, that stretch counts as changed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

KEY = 8  # characters that must agree before both are taken to be in step again
REACH = 1024  # how far the two may be apart, in characters
SHORT = 96  # characters of a stretch up to which it is compared exactly

Bytes = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class Alignment:
    """How what was received differs from what was sent.

    Parameters
    ----------
    lost, changed, extra : int
        Characters that did not arrive, arrived as others, or arrived and were not sent.
    first : tuple of int and int, optional
        Place of the first difference in what was sent and in what was received.
    """

    lost: int
    changed: int
    extra: int
    first: tuple[int, int] | None


def align(sent: bytes, received: bytes) -> Alignment:
    """Compare what was received with what was sent.

    Parameters
    ----------
    sent, received : bytes
        All of it.

    Returns
    -------
    Alignment
        Its counts obey ``len(sent) - lost + extra == len(received)``.
    """
    out, back = np.frombuffer(sent, np.uint8), np.frombuffer(received, np.uint8)
    lost = changed = extra = 0
    first: tuple[int, int] | None = None
    here = there = 0
    while True:
        same = _common(out[here:], back[there:])
        here, there = here + same, there + same
        if here == len(out) and there == len(back):
            return Alignment(lost, changed, extra, first)
        first = first or (here, there)
        ahead, beyond = _in_step_again(sent, received, here, there)
        one = _compare(sent[here : here + ahead], received[there : there + beyond])
        lost, changed, extra = lost + one[0], changed + one[1], extra + one[2]
        here, there = here + ahead, there + beyond


def _common(out: Bytes, back: Bytes) -> int:
    """Return how many characters agree from the beginning on."""
    length = min(len(out), len(back))
    low, block = 0, 4096
    while low < length:
        high = min(low + block, length)
        differ = out[low:high] != back[low:high]
        if differ.any():
            return low + int(np.argmax(differ))
        low, block = high, min(4 * block, 1 << 22)
    return length


def _in_step_again(sent: bytes, received: bytes, here: int, there: int) -> tuple[int, int]:
    """Return how many characters of each lie before the nearest place where both are in step."""
    rest_out, rest_back = len(sent) - here, len(received) - there
    best, cost = None, REACH + 1
    if (straight := _straight_ahead(sent, received, here, there)) is not None:
        best, cost = (
            (straight, straight),
            straight,
        )  # changed characters are likelier than as many lost and as many extra
    for ahead in range(min(REACH, rest_out) + 1):
        if ahead >= cost:
            break
        key = sent[here + ahead : here + ahead + KEY]
        if len(key) < KEY:
            break
        found = received.find(key, there, there + cost + KEY)
        if found >= 0 and max(ahead, found - there) < cost:
            best, cost = (ahead, found - there), max(ahead, found - there)
    if best is not None:
        return best
    if min(rest_out, rest_back) <= REACH:  # one side ends here; what the other has beyond it is lost or extra
        return rest_out, rest_back
    return REACH, REACH


def _straight_ahead(sent: bytes, received: bytes, here: int, there: int) -> int | None:
    """Return after how many characters, the same number of each, `KEY` of them agree."""
    length = min(REACH + KEY, len(sent) - here, len(received) - there)
    if length < KEY:
        return None
    out, back = np.frombuffer(sent, np.uint8), np.frombuffer(received, np.uint8)
    agree = out[here : here + length] == back[there : there + length]
    runs = np.flatnonzero(np.lib.stride_tricks.sliding_window_view(agree, KEY).all(axis=1))
    return int(runs[0]) if runs.size else None


def _compare(sent: bytes, received: bytes) -> tuple[int, int, int]:
    """Return how many characters of a stretch are lost, changed and extra, with as few differences as can be."""
    surplus = len(received) - len(sent)
    if max(len(sent), len(received)) > SHORT:
        shared = min(len(sent), len(received))
        pairs = np.frombuffer(sent[:shared], np.uint8) != np.frombuffer(received[:shared], np.uint8)
        return max(-surplus, 0), int(np.count_nonzero(pairs)), max(surplus, 0)
    # The fewest differences, and of those that way which loses least: dynamic programming over prefixes.
    row = [(place, 0, 0, place) for place in range(len(received) + 1)]  # differences, lost, changed, extra
    for done, wanted in enumerate(sent, 1):
        above = row
        row = [(done, done, 0, 0)]
        for place, got in enumerate(received, 1):
            total, lost, changed, extra = above[place - 1]
            differs = int(wanted != got)
            choices = [(total + differs, lost, changed + differs, extra)]
            total, lost, changed, extra = above[place]
            choices.append((total + 1, lost + 1, changed, extra))
            total, lost, changed, extra = row[place - 1]
            choices.append((total + 1, lost, changed, extra + 1))
            row.append(min(choices))
    return row[-1][1:]
