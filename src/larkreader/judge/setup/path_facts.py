"""What a receive path makes of its characters, as far as findings need it; added up stretch by stretch."""

from __future__ import annotations

from collections import Counter

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import BlockingApplication, ReceivePath
from larkreader.declare.paths.receive_services import DmaService, InterruptService
from larkreader.judge.findings.finding import Places
from larkreader.simulate.replayed import BUFFERS, HARDWARE, Fate, Reads, Replay

Offsets = npt.NDArray[np.int64]
USUAL = 0.5  # of the messages, above which their commonest length is that of all
GROUPS: tuple[tuple[Fate, ...], ...] = (HARDWARE, BUFFERS, (Fate.DISCARDED,), (Fate.HELD_BACK,))
"""Fates of lost characters that are judged together."""


class PathFacts:
    """What findings on a receive path are concluded from.

    Parameters
    ----------
    path : ReceivePath
        What was declared.
    most : int, optional
        How many places are kept of each kind of loss; all unless given.

    Attributes
    ----------
    lost : dict of tuple of Fate to Lost
        By `GROUPS`.
    by_frames, by_rests : Alignment
        How reads lie against frames, and against what the line rests between.
    longest_wait_s : float
        How long a character waited at most in what a service empties, in seconds.
    waiting : int
        How many characters still waited there at the end.
    last_read_s : float, optional
        When the last read returned, in seconds.
    """

    def __init__(self, path: ReceivePath, most: int | None = None) -> None:
        self._path, self._count, self._reads = path, 0, 0
        self.lost: dict[tuple[Fate, ...], Lost] = {fates: Lost(fates, most) for fates in GROUPS}
        length = path.application.length if isinstance(path.application, BlockingApplication) else 0
        self.by_frames: Alignment = Alignment(length, most)
        self.by_rests: Alignment = Alignment(length, most)
        self.longest_wait_s: float = 0.0
        self.waiting: int = 0
        self.last_read_s: float | None = None

    def add(self, part: Replay) -> None:
        """Add the characters and reads that follow, as `ReceiveRun.take` returns them."""
        for lost in self.lost.values():
            lost.add(part, self._count)
        self._add_waits(part)
        for alignment in (self.by_frames, self.by_rests):
            alignment.add(part.reads, self._count, self._reads, self._count + len(part))
        if len(part.reads):
            self.last_read_s = float(part.reads.end_s[-1])
        self._count += len(part)
        self._reads += len(part.reads)

    def _add_waits(self, part: Replay) -> None:
        """Add how long characters waited in what a service empties."""
        if self._path.service.kind == "dma":
            entered_s, left_s = part.fetched_s, part.stored_s
        else:
            entered_s, left_s = part.arrived_s, part.fetched_s
        waits_s = left_s - entered_s
        self.longest_wait_s = float(waits_s[np.isfinite(waits_s)].max(initial=self.longest_wait_s))
        is_left = np.isfinite(entered_s) & np.isnan(left_s) & (part.fate == Fate.LEFT)
        self.waiting += int(np.count_nonzero(is_left))

    @property
    def waits_in(self) -> str | None:
        """Where characters wait for the next, as nothing reports an idle line; None where they do not."""
        service, fifo = self._path.service, self._path.fifo
        if isinstance(service, DmaService):
            return None if "idle" in service.notices else "DMA's block"
        if isinstance(service, InterruptService) and fifo.trigger > 1 and fifo.idle_characters is None:
            return "the FIFO"
        return None


class Lost:
    """The characters that had one of some fates.

    Parameters
    ----------
    fates : tuple of Fate
        Which.
    most : int, optional
        How many places are kept; all unless given.

    Attributes
    ----------
    count : int
        How many characters.
    stretches : int
        In how many stretches that follow one another.
    longest : int
        The longest of these.
    places : Places
        Where, as far as that is kept.
    """

    count: int = 0
    stretches: int = 0
    longest: int = 0

    def __init__(self, fates: tuple[Fate, ...], most: int | None) -> None:
        self._fates, self._most = fates, most
        self.places: Places = Places.at(np.empty(0, np.int64))
        self._goes_on = 0  # how long the stretch is that reaches to the end so far

    def add(self, part: Replay, before: int) -> None:
        """Add the characters that follow so many others."""
        has = np.isin(part.fate, self._fates)
        if not len(has):
            return
        rows = np.flatnonzero(has)
        turns = np.flatnonzero(np.diff(has, prepend=False, append=False)).reshape(-1, 2)
        lengths = turns[:, 1] - turns[:, 0]
        if len(lengths) and turns[0, 0] == 0 and self._goes_on:
            lengths[0] += self._goes_on
            self.stretches -= 1
        self.stretches += len(lengths)
        self.longest = int(lengths.max(initial=self.longest))
        self._goes_on = int(lengths[-1]) if has[-1] else 0
        self.count += len(rows)
        arrived_s = part.arrived_s[rows]
        places = Places.at(rows + before, np.where(np.isfinite(arrived_s), arrived_s, part.lost_s[rows]))
        self.places = _joined(self.places, places, self._most)


class Alignment:
    """How reads of a fixed length lie against messages.

    Parameters
    ----------
    length : int
        How many characters a read asks for; 0 if reads have no fixed length, of which nothing is kept then.
    most : int, optional
        How many places are kept; all unless given.

    Attributes
    ----------
    total : int
        How many reads returned whole.
    wrong : int
        How many of them begin inside a message of that length.
    places : Places
        Where these begin, as far as that is kept.
    inside : int
        How far inside its message the first of them begins.
    odd : int
        How many messages before that have another length.
    messages : int
        How many messages there are.
    last : int
        How long the last is.
    """

    length: int
    total: int = 0
    wrong: int = 0
    inside: int = 0
    odd: int = 0
    messages: int = 0
    last: int = 0

    def __init__(self, length: int, most: int | None) -> None:
        self.length, self._most = length, most
        self.places: Places = Places.at(np.empty(0, np.int64))
        self._starts = np.empty(0, np.int64)
        self._first = 0  # of all messages
        self._known_until = 0  # no read that is not known yet begins before this character
        self._odd_before = 0  # among the messages before those in `_starts`
        self._lengths: Counter[int] = Counter()
        self._waiting: Places = Places.at(np.empty(0, np.int64))  # reads that returned whole

    @property
    def usual(self) -> int:
        """The commonest length of messages, the shortest of several."""
        return min(self._lengths, key=lambda length: (-self._lengths[length], length), default=0)

    @property
    def is_usual(self) -> bool:
        """Whether most messages have that length."""
        return self._lengths[self.usual] > USUAL * self.messages

    def add(self, reads: Reads, before: int, rows: int, until: int) -> None:
        """Add the reads that follow so many characters and reads; no other begins before a character."""
        if not self.length:
            return
        self._known_until = until
        whole = np.flatnonzero(reads.count == self.length)
        places = Places.at(reads.first[whole] + before, reads.begin_s[whole], rows + whole)
        self._waiting = _joined(self._waiting, places, None)

    def add_messages(self, starts: Offsets) -> None:
        """Add the numbers of the first characters of the messages that follow."""
        if self.length and len(starts):
            self._first = self._first if self.messages else int(starts[0])
            self._add_lengths(np.diff(starts, prepend=self._starts[-1:]))
            self._starts = np.append(self._starts, starts)
            self._compare(int(starts[-1]))
        self.messages += len(starts)

    def close(self, end: int) -> None:
        """Take note that the last message ends before a character, and that no other read follows."""
        if self.length and self.messages:
            self.last = end - int(self._starts[-1])
            self._add_lengths(np.array([self.last]))
            self._compare(end)

    def _add_lengths(self, lengths: Offsets) -> None:
        sizes, counts = np.unique(lengths, return_counts=True)
        self._lengths.update(dict(zip(sizes.tolist(), counts.tolist(), strict=True)))

    def _compare(self, until: int) -> None:
        """Find the reads that begin inside a message, of those that begin before a character."""
        due = int(np.searchsorted(self._waiting.offset, until))
        whole = self._waiting[:due]
        whole = whole[whole.offset >= self._first]
        into = whole.offset - self._starts[np.searchsorted(self._starts, whole.offset, side="right") - 1]
        wrong = np.flatnonzero((into > 0) & (into < self.length))
        lengths = np.diff(self._starts, append=until)
        if len(wrong) and not self.wrong:
            self.inside = int(into[wrong[0]])
            begun = int(np.searchsorted(self._starts, whole.offset[wrong[0]]))
            self.odd = self._odd_before + int(np.count_nonzero(lengths[:begun] != self.length))
        self.total += len(whole)
        self.wrong += len(wrong)
        self.places = _joined(self.places, whole[wrong], self._most)
        self._waiting = self._waiting[due:]
        next_read = int(self._waiting.offset[0]) if len(self._waiting) else self._known_until
        done = max(int(np.searchsorted(self._starts, min(next_read, until), side="right")) - 1, 0)
        self._odd_before += int(np.count_nonzero(lengths[:done] != self.length))
        self._starts = self._starts[done:]


def _joined(before: Places, now: Places, most: int | None) -> Places:
    """Return places and those behind, no more than are kept."""
    room = now if most is None else now[: max(most - len(before), 0)]
    if not len(before):
        return room
    return Places(*(np.concatenate([before.column(name), room.column(name)]) for name in Places.COLUMNS))
