"""Stuffed bytes back to what they stand for, all packets at once.

With an escape byte every byte is kept but the escapes; what follows one is looked up. Of escapes in a row only every
second one escapes. With consistent overhead byte stuffing each code byte says where the next code byte lies: all
packets are gone through in lockstep, from code byte to code byte, the last few of them one by one.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.stuffing import BEGINS, ENDS, FULL_BLOCK, Stuffing
from larkreader.decode.stream import Bytes, Places

Mask = npt.NDArray[np.bool_]
FEW = 24  # packets that are cheaper one by one


def find_flags(stream: Bytes, stuffing: Stuffing) -> tuple[Places, Mask, int, int]:
    """Find the delimiters of packets.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        What arrived, from the beginning of a packet on.
    stuffing : Stuffing
        What delimits.

    Returns
    -------
    ndarray of int64, shape (n_flags,)
        Where each begins.
    ndarray of bool, shape (n_flags,)
        Whether it begins a packet, rather than ends one.
    int
        Bytes of a delimiter.
    int
        Bytes at the end that may belong to one that is not there as a whole.
    """
    if len(stuffing.end) == 1:
        first, *others = stuffing.plain
        found = stream == first
        for byte in others:
            found |= stream == byte
        places = np.flatnonzero(found)
        return places, _table(stuffing, BEGINS)[stream[places]], 1, 0
    escapes = _escapes(stream, stuffing)
    kept = int(len(escapes) > 0 and escapes[-1] == len(stream) - 1)
    meaning = np.array(stuffing.behind, dtype=np.int64)[stream[escapes[: len(escapes) - kept] + 1]]
    is_flag = (meaning == BEGINS) | (meaning == ENDS)
    return escapes[: len(escapes) - kept][is_flag], meaning[is_flag] == BEGINS, 2, kept


def unstuffed(stream: Bytes, begin: Places, end: Places, stuffing: Stuffing) -> tuple[Ragged, Mask]:
    """Turn back what an escape byte has stuffed.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where packets lie.
    begin, end : ndarray of int64, shape (n_packets,)
        First byte of the content of each, and the byte behind the last; in order, and none within another.
    stuffing : Stuffing
        What stands for what.

    Returns
    -------
    Ragged
        What each held before it was stuffed.
    ndarray of bool, shape (n_packets,)
        Whether every escape is followed by a byte that may follow one.
    """
    sound = np.ones(len(begin), dtype=np.bool_)
    escapes = _escapes(stream, stuffing)
    of = np.searchsorted(begin, escapes, side="right") - 1
    if len(begin):
        inside = (of >= 0) & (escapes < end[of])
        escapes, of = escapes[inside], of[inside]
    if not len(begin) or not len(escapes):
        return Ragged(stream, begin, end - begin), sound
    behind = np.array(stuffing.behind, dtype=np.int64)[stream.take(escapes + 1, mode="clip")]
    wrong = (escapes + 1 >= end[of]) | (behind < 0)
    sound[of[wrong]] = False
    values = stream.copy()
    values[escapes[~wrong] + 1] = behind[~wrong]
    kept = np.ones(len(stream), dtype=np.bool_)
    kept[escapes] = False
    each = np.bincount(of, minlength=len(begin))
    fewer = np.cumsum(each) - each  # of the packets before each
    return Ragged(values[kept], begin - fewer, end - begin - each), sound


def without_zeros(stream: Bytes, begin: Places, end: Places) -> tuple[Ragged, Mask]:
    """Turn back consistent overhead byte stuffing.

    Parameters
    ----------
    stream : ndarray of uint8, shape (n_bytes,)
        Where packets lie.
    begin, end : ndarray of int64, shape (n_packets,)
        First byte of each, and the zero behind it; in order, and none within another.

    Returns
    -------
    Ragged
        What each held before it was stuffed.
    ndarray of bool, shape (n_packets,)
        Whether its code bytes lead to its end.
    """
    sound = np.ones(len(begin), dtype=np.bool_)
    dropped = np.zeros(
        len(stream), dtype=np.bool_
    )  # code bytes for which no zero stands, but for the first of each packet
    values = stream.copy()
    here = np.flatnonzero(end > begin)
    place = begin[here]
    while len(here) > FEW:
        code = stream[place]
        ahead = place + code
        inside = ahead < end[here]
        sound[here[(ahead > end[here]) | (code == 0)]] = False
        inside &= code != 0
        here, place, code = here[inside], ahead[inside], code[inside]
        values[place] = 0
        dropped[place[code == FULL_BLOCK]] = True
    for number, first in zip(here.tolist(), place.tolist(), strict=True):
        sound[number] = _one_by_one(stream, first, int(end[number]), values, dropped)
    begin = np.minimum(begin + 1, end)  # behind the first code byte
    places = np.flatnonzero(dropped)
    if not len(places):
        return Ragged(values, begin, end - begin), sound
    before, behind = np.searchsorted(places, begin), np.searchsorted(places, end)
    return Ragged(values[~dropped], begin - before, end - begin - (behind - before)), sound


def _one_by_one(stream: Bytes, first: int, end: int, values: Bytes, dropped: Mask) -> bool:
    """Go from code byte to code byte of one packet; return whether they lead to its end."""
    codes = stream[first:end].tobytes()
    zeros, gone, place, size = [], [], 0, len(codes)
    while True:
        code = codes[place]
        place += code
        if place >= size or not code:
            break
        zeros.append(place)
        if code == FULL_BLOCK:
            gone.append(place)
    if zeros:
        values[np.array(zeros) + first] = 0
    if gone:
        dropped[np.array(gone) + first] = True
    return bool(code) and place == size


def _escapes(stream: Bytes, stuffing: Stuffing) -> Places:
    """Return which bytes escape the next byte: of escapes in a row every second."""
    places: Places = np.flatnonzero(stream == stuffing.escape)
    if not len(places):
        return places
    begins_row = np.concatenate([[True], np.diff(places) != 1])
    rows = np.flatnonzero(begins_row)
    if len(rows) == len(places):
        return places
    within = np.arange(len(places)) - np.repeat(rows, np.diff(np.append(rows, len(places))))
    active: Places = places[within % 2 == 0]
    return active


def _table(stuffing: Stuffing, meaning: int) -> Mask:
    table = np.zeros(256, dtype=np.bool_)
    table[[byte for byte, result in stuffing.plain.items() if result == meaning]] = True
    return table
