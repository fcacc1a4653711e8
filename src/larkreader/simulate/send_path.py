"""What a send path makes of messages: what goes out when, what never does, and how long the code waits.

A character waits in the FIFO, or in the buffer behind it, until the shift register takes it over; there it stays until
it is on the wire. All times are whole nanoseconds.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import Columns
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.send_path import Direction, SendPath

from .receive_run import seconds_of
from .senders import MISSING, NEVER, nanoseconds

Seconds = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]


class SendFate(IntEnum):
    """What became of a character that was to be sent."""

    SENT = 0
    """It went out whole."""
    OVERWRITTEN = 1
    """The data register was written to again before it was empty, or the FIFO while it was full."""
    CUT = 2
    """The call gave up before its turn."""
    DROPPED = 3
    """There was no room for it in the buffer."""
    BROKEN = 4
    """It was on the wire when the sender let go of that."""


@dataclass(frozen=True, eq=False, repr=False)
class SendReplay(Columns):
    """Messages that ran through a send path; all columns have shape (n_messages,).

    Parameters
    ----------
    path : SendPath
        What was declared.
    asked_s, called_s, returned_s : ndarray of float64
        When a message was to be sent, when the call for it began, and when that returned, in seconds.
    first : ndarray of int64
        Number of its first character.
    count : ndarray of int64
        How many characters the call is to send, a NUL that is counted included.
    done_s : ndarray of float64
        When the last of its characters that went out was complete. NaN where none did.
    released_s : ndarray of float64
        When the shared wire was let go, at the earliest. NaN where it was not: the wire is not shared, or the next
        message was there.
    fate : ndarray of uint8, shape (n_characters,)
        What became of each character, as `SendFate`.
    begin_s : ndarray of float64, shape (n_characters,)
        When each began. NaN where it never did.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("asked_s", "called_s", "returned_s", "first", "count", "done_s", "released_s")

    path: SendPath
    asked_s: Seconds
    called_s: Seconds
    returned_s: Seconds
    first: Counts
    count: Counts
    done_s: Seconds
    released_s: Seconds
    fate: npt.NDArray[np.uint8]
    begin_s: Seconds

    @property
    def blocked_s(self) -> Seconds:
        """How long each call kept its caller, in seconds."""
        return self.returned_s - self.called_s

    def count_of(self, fate: SendFate) -> int:
        """Return how many characters had a fate.

        Parameters
        ----------
        fate : SendFate
            The fate.
        """
        return int(np.count_nonzero(self.fate == fate))

    def to_dict(self) -> dict[str, Any]:
        """Return the replay as JSON has it: counts, not the columns."""
        blocked = self.blocked_s
        span_s = float(self.returned_s[-1] - self.asked_s[0]) if len(self) else 0.0
        return {
            "messages": len(self),
            "characters": len(self.fate),
            "fates": {fate.name.lower(): n for fate in SendFate if (n := self.count_of(fate))},
            "blocked_s": {
                "total": float(blocked.sum()),
                "longest": float(blocked.max(initial=0.0)),
                "share": float(blocked.sum()) / span_s if span_s else 0.0,
            },
        }


class _Register:
    """The hardware and the buffer behind it: who waits, and when each character begins."""

    def __init__(self, places: int, character: int) -> None:
        self._places, self._character = places, character
        self.begins: list[int] = []  # of the characters that got in, in order
        self.numbers: list[int] = []

    def room_at(self) -> int:
        """Return when there is, or was, room for one more."""
        return self.begins[-self._places] if len(self.begins) >= self._places else MISSING

    def put(self, number: int, at: int) -> None:
        """Let a character in, for which there is room."""
        free = self.begins[-1] + self._character if self.begins else MISSING
        self.begins.append(max(at, free))
        self.numbers.append(number)

    def replace(self, number: int) -> int:
        """Put a character in the place of the last character that waits; return that."""
        lost, self.numbers[-1] = self.numbers[-1], number
        return lost


def replay_send(asked_s: npt.ArrayLike, lengths: npt.ArrayLike, path: SendPath, line: LineSettings) -> SendReplay:
    """Run messages through a send path.

    Parameters
    ----------
    asked_s : array_like of float, shape (n_messages,)
        When each is to be sent, in seconds, ascending. A call that is still waiting puts off the next.
    lengths : array_like of int, shape (n_messages,)
        How many characters each has, a NUL that only ends it in memory not counted.
    path : SendPath
        What was declared.
    line : LineSettings
        The wire's settings.

    Returns
    -------
    SendReplay
        What became of each message and of each of its characters.

    Examples
    --------
    Code that writes ten characters without waiting for an empty register: all but the first, which went on to the
    shift register at once, and the last are written over.

    >>> path = lr.SendPath(call={"kind": "register", "checks": False, "every_s": 1e-6})
    >>> result = lr.simulate.replay_send([0.0], [10], path, lr.LineSettings.parse("57600 8E1"))
    >>> result.count_of(lr.simulate.SendFate.SENT), result.count_of(lr.simulate.SendFate.OVERWRITTEN)
    (2, 8)
    """
    asked = np.rint(np.asarray(asked_s, dtype=np.float64) * 1e9).astype(np.int64).tolist()
    counts = np.asarray(lengths, dtype=np.int64) + path.call.counts_nul
    firsts = np.cumsum(counts) - counts
    total = int(counts.sum())
    character = round(line.character_time_s * 1e9)
    register = _Register(path.fifo + path.buffer, character)
    fate = np.full(total, SendFate.CUT, np.uint8)
    called, returned = [], []
    free_at = MISSING
    for at, first, count in zip(asked, firsts.tolist(), counts.tolist(), strict=True):
        begin = max(at, free_at)
        ready = begin + (nanoseconds(path.direction.before_s) if path.direction is not None else 0)
        wanted = count if path.call.length is None else min(count, path.call.length)
        free_at = _call(path, register, range(first, first + wanted), ready, begin, fate, character)
        called.append(begin)
        returned.append(free_at)
    begins = np.full(total, MISSING, np.int64)
    begins[register.numbers] = register.begins
    fate[register.numbers] = SendFate.SENT
    done = _last_done(begins, firsts, counts, character)
    released = np.full(len(counts), MISSING, np.int64)
    if path.direction is not None:
        released = _release(path.direction, begins, fate, firsts, counts, np.array(returned), done, line)
    return SendReplay(
        path=path,
        asked_s=seconds_of(asked),
        called_s=seconds_of(called),
        returned_s=seconds_of(returned),
        first=firsts,
        count=counts,
        done_s=seconds_of(done),
        released_s=seconds_of(released),
        fate=fate,
        begin_s=seconds_of(begins),
    )


def _call(
    path: SendPath,
    register: _Register,
    numbers: Sequence[int],
    ready: int,
    begin: int,
    fate: npt.NDArray[np.uint8],
    character: int,
) -> int:
    """Play the call for one message; return when it returns."""
    call, at = path.call, ready
    deadline = NEVER if call.limit_s is None else begin + nanoseconds(call.limit_s)
    for place, number in enumerate(numbers):
        if call.kind == "register" and place:
            at += nanoseconds(call.every_s)
        room = register.room_at()
        if room > at:
            if not call.checks:
                lost = register.replace(number) if path.fifo == 1 else number
                fate[lost] = SendFate.OVERWRITTEN
                continue
            if call.kind == "queued" and path.full == "drop-new":
                fate[number] = SendFate.DROPPED
                continue
            at = room
        if at > deadline:
            return deadline
        register.put(number, at)
    if call.returns == "sent" and register.begins:
        at = min(max(at, register.begins[-1] + character), deadline)
    return at


def _last_done(begins: Counts, firsts: Counts, counts: Counts, character: int) -> Counts:
    """Return when the last character of each message that went out was complete; `MISSING` where none did."""
    last = np.array(
        [begins[first : first + count].max(initial=MISSING) for first, count in zip(firsts, counts, strict=True)],
        dtype=np.int64,
    )
    return np.where(last == MISSING, MISSING, last + character)


def _release(
    direction: Direction,
    begins: Counts,
    fate: npt.NDArray[np.uint8],
    firsts: Counts,
    counts: Counts,
    returned: Counts,
    done: Counts,
    line: LineSettings,
) -> Counts:
    """Return when the wire is let go behind each message, and note which characters that breaks."""
    character, after = round(line.character_time_s * 1e9), nanoseconds(direction.after_s)
    data = round(line.stop_position * line.bit_time_s * 1e9)
    events = {"register-empty": done - character, "complete": done, "after": returned}
    released = np.where(done == MISSING, MISSING, events[direction.released] + after)
    for message in range(len(done) - 1):
        behind = begins[firsts[message + 1] : firsts[message + 1] + counts[message + 1]]
        next_begin = behind[behind > MISSING].min(initial=NEVER)
        if next_begin <= released[message]:
            released[message] = MISSING  # the next is there already
    for message in np.flatnonzero(released > MISSING).tolist():
        own = slice(firsts[message], firsts[message] + counts[message])
        fate[own][(begins[own] > MISSING) & (begins[own] + data > released[message])] = SendFate.BROKEN
    return released
