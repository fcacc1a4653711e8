"""Recorded wires as ports: what arrived then arrives again, at the times of then, faster if wanted."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.link.line import LineSettings
from larkreader.errors import PortError, RequestError

from .port import Port, Received

LEAST_WAIT_S = 1e-3  # of real time; what is shorter is waited for together
COUNTS = {"overrun": "overruns", "overflow": "buffer overflows"}  # by the names that a recording has


class Group(NamedTuple):
    """What arrived together: when, in seconds; on which wire; characters; their faults; what the driver counted."""

    time_s: float
    wire: str
    data: bytes
    faults: bytes
    counted: Sequence[tuple[str, int]]


class Replay:
    """A recording that runs: the clock and the traffic that the ports of its wires share.

    Parameters
    ----------
    pieces : iterable of mapping of str to Characters
        What was recorded, piece by piece, with times.
    wires : sequence of str
        The wires that are replayed.
    speed : float
        How many times as fast as it was recorded; infinite for as fast as it goes.

    Raises
    ------
    RequestError
        If the speed is not above 0.
    """

    def __init__(self, pieces: Iterable[Mapping[str, Characters]], wires: Sequence[str], speed: float = 1.0) -> None:
        if not speed > 0:
            raise RequestError("speed", f"is {speed:g}", "must be above 0")
        self._groups = _groups_of(pieces, wires)
        self._waiting: deque[Group] = deque()
        self._speed, self._now_s = speed, 0.0
        self._owed_s = 0.0  # of real time, not waited for yet

    @property
    def now_s(self) -> float:
        """What time it is, in seconds on the clock of the recording."""
        return self._now_s

    @property
    def is_over(self) -> bool:
        """Whether all that was recorded has arrived."""
        return self.next is None

    @property
    def next(self) -> Group | None:
        """What arrives next; None at the end."""
        if not self._waiting and (group := next(self._groups, None)) is not None:
            self._waiting.append(group)
        return self._waiting[0] if self._waiting else None

    def take(self, wire: str, limit_s: float) -> Group | None:
        """Wait for what arrives next, and return it if it is on a wire; None once the time is up.

        Parameters
        ----------
        wire : str
            The wire.
        limit_s : float
            How long to wait, in seconds on the clock of the recording.
        """
        group = self.next
        until_s = self._now_s + max(limit_s, self._speed * LEAST_WAIT_S)
        if group is None or group.time_s > until_s:
            self._advance(until_s)
            return None
        self._advance(group.time_s)
        return self._waiting.popleft() if group.wire == wire else None

    def _advance(self, time_s: float) -> None:
        """Let the clock go on, not back."""
        if time_s > self._now_s:
            self._owed_s += (time_s - self._now_s) / self._speed
            self._now_s = time_s
        if self._owed_s >= LEAST_WAIT_S:
            time.sleep(self._owed_s)
            self._owed_s = 0.0


class ReplayPort(Port):
    """One wire of a recording that runs.

    Parameters
    ----------
    replay : Replay
        The recording.
    wire : str
        The wire.
    line : LineSettings, optional
        Its settings.
    name : str
        What it is called.
    """

    name: str
    line: LineSettings | None
    marks_faults = True
    is_simulated = True

    def __init__(self, replay: Replay, wire: str, line: LineSettings | None = None, name: str = "") -> None:
        self._replay, self._wire = replay, wire
        self._counts = dict.fromkeys(COUNTS.values(), 0)
        self.line, self.name = line, name or wire

    def read_some(self, most: int, limit_s: float) -> Received:
        """Receive what arrived together in the recording, whatever its length; wait up to `limit_s` of its seconds."""
        self._check_open()
        group = self._replay.take(self._wire, limit_s)
        if group is None:
            return Received(b"", "time")
        for name, count in group.counted:
            if name in COUNTS:
                self._counts[COUNTS[name]] += count
        return Received(group.data, "time", group.faults)

    def write(self, data: bytes, limit_s: float | None = None) -> None:
        """Raise `PortError`: nothing can be sent into a recording."""
        raise PortError(f"port {self.name}", "is a recording", "takes nothing")

    def error_counters(self) -> dict[str, int]:
        """Return what the driver had counted in the recording by now."""
        return dict(self._counts)

    def now_s(self) -> float:
        """Return the time on the clock of the recording, in seconds."""
        return self._replay.now_s

    def close(self) -> None:
        """Receive nothing more."""
        self._closed = True


def _groups_of(pieces: Iterable[Mapping[str, Characters]], wires: Sequence[str]) -> Iterator[Group]:
    """Yield what arrived together on some wires, in order of time."""
    for piece in pieces:
        found = [group for wire in wires if wire in piece for group in _groups_on(wire, piece[wire])]
        yield from sorted(found, key=lambda group: group.time_s)


def _groups_on(wire: str, characters: Characters) -> Iterator[Group]:
    if not len(characters):
        return
    if not characters.has_times:
        raise RequestError(f"wire {wire}", "has no times", "must be of a recording")
    begins = np.flatnonzero(np.diff(characters.begin_s, prepend=np.nan) != 0).tolist()
    data, faults = characters.value.astype(np.uint8).tobytes(), characters.faults.tobytes()
    for first, end in pairwise([*begins, len(characters)]):
        counted = [(name, count) for place, name, count in characters.counted if first <= place < end]
        marked = faults[first:end] if any(faults[first:end]) else b""
        yield Group(float(characters.begin_s[first]), wire, data[first:end], marked, counted)
