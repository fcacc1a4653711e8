"""Stretches of a stream between delimiters, before anything is known of what they hold."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from larkreader.decode.stream import Bytes, Places


class PacketState(IntEnum):
    """What a stretch between delimiters is."""

    WHOLE = 0
    """A packet."""
    EMPTY = 1
    """Nothing between two delimiters."""
    OUTSIDE = 2
    """What lies before the first delimiter, or between the end of a packet and the beginning of the next."""
    TRUNCATED = 3
    """A packet inside which the next packet begins."""
    BAD_STUFFING = 4
    """A packet that no sender can have stuffed so."""
    TOO_LONG = 5
    """More bytes than a packet can have."""
    UNFINISHED = 6
    """A packet whose end is not there."""


@dataclass(frozen=True)
class Stretches:
    """Where the stretches between delimiters begin and end, with and without those delimiters."""

    begin: Places
    end: Places
    inner: Places
    inner_end: Places
    state: npt.NDArray[np.uint8]
    open_from: int
    """Where one begins whose end has not come, or the number of bytes if there is none."""
    open_inner: int
    """Where the content of that packet begins."""
    open_state: PacketState
    """What that packet is if nothing follows it."""
    kept: int = 0
    """Bytes at the very end that may belong to a delimiter which is not there as a whole."""


def closed_by(places: Places, widths: Places, kept: int = 0) -> Stretches:
    """Return the stretches that delimiters close."""
    ends = places + widths
    begins = np.concatenate([np.zeros(min(len(ends), 1), dtype=np.int64), ends[:-1]])
    state = np.zeros(len(ends), dtype=np.uint8)
    open_from = int(ends[-1]) if len(ends) else 0
    return Stretches(begins, ends, begins, places, state, open_from, open_from, PacketState.UNFINISHED, kept)


def opened_by(places: Places, width: int, kept: int = 0, *, continues: bool = False) -> Stretches:
    """Return the stretches that delimiters of one width open; the last of them is open, the first if it `continues`."""
    is_outside = not len(places) or places[0] != 0 or continues
    begins, inner = places, places + width
    if is_outside:
        begins, inner = np.insert(begins, 0, 0), np.insert(inner, 0, 0)
    state = np.zeros(len(begins), dtype=np.uint8)
    state[0] = PacketState.OUTSIDE if is_outside else PacketState.WHOLE
    at_end = PacketState(int(state[-1]))
    return Stretches(
        begins[:-1], begins[1:], inner[:-1], begins[1:], state[:-1], int(begins[-1]), int(inner[-1]), at_end, kept
    )


def occurrences(stream: Bytes, marker: bytes) -> Places:
    """Return where some bytes stand, overlapping places included."""
    if len(stream) < len(marker):
        return np.empty(0, np.int64)
    room = len(stream) - len(marker) + 1
    found = stream[:room] == marker[0]
    for place in range(1, min(len(marker), 2)):
        found &= stream[place : place + room] == marker[place]
    places = np.flatnonzero(found)
    for place in range(2, len(marker)):
        places = places[stream[places + place] == marker[place]]
    return places
