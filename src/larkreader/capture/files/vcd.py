"""VCD files (IEEE 1364-2005, clause 18), read in blocks with whole-array operations.

A block is split into words at white space. The first character of a word tells what it is: a time (``#``), the
change of a scalar, the value of a vector or a real with its code as the next word, or a keyword (``$``). Only the
changes of the wanted signals are picked out, and only the times that stand before those are turned into numbers,
eight digits at once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

import numpy as np
import numpy.typing as npt

from ...errors import CaptureError
from ..trace import Trace
from .levels import UNDRIVEN, UNKNOWN, trace_of_changes
from .vcd_header import Variable, read_header

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Progress = Callable[[int, int], None]

BLOCK = 4 << 20
PAD = 32  # white space before a block, so that words of 8 bytes may begin before a time
MOST_DIGITS = 19  # of a time; more does not fit into 64 bits

OTHER, SCALAR, TIME, VECTOR, KEYWORD = range(5)
_KIND = np.zeros(256, dtype=np.uint8)
_KIND[list(b"01xXzZuUwWlLhH-")] = SCALAR
_KIND[ord("#")] = TIME
_KIND[list(b"bBrRsS")] = VECTOR
_KIND[ord("$")] = KEYWORD

_LEVEL = np.full(256, UNKNOWN, dtype=np.uint8)
_LEVEL[list(b"0lL")] = 0
_LEVEL[list(b"1hH")] = 1
_LEVEL[list(b"zZ")] = UNDRIVEN


def read_vcd(
    path: Path, signals: Sequence[str], *, name: str | None = None, progress: Progress | None = None
) -> dict[str, Trace]:
    """Read the level changes of some signals of a VCD file.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    signals : sequence of str
        Which signals, by their full names or as much of their ends as makes them unique.
    name : str, optional
        What to call the file in messages.
    progress : callable, optional
        Called with the bytes read and the bytes there are, now and then.

    Returns
    -------
    dict of str to Trace
        One trace for each of `signals`. A signal that is undefined (x) or undriven (z) for a while keeps its level
        there, and the trace says so in ``unknown``. The end of recording is known where the file closes with a
        time of its own.

    Raises
    ------
    CaptureError
        If the file is not a VCD file, is damaged, or lacks a signal.
    """
    name = name or path.name
    size = path.stat().st_size
    with path.open("rb") as file:
        header = read_header(file, name)
        wanted = {signal: header.find(signal, name) for signal in signals}
        scan = _Scan(name, list(wanted.values()), file.tell())
        for block in _blocks(file):
            scan.feed(block)
            if progress:
                progress(scan.place, size)
    return {
        signal: trace_of_changes(
            np.concatenate(times or [np.empty(0, np.int64)]),
            np.concatenate(levels or [np.empty(0, np.uint8)]),
            tick_s=header.tick_s,
            begin=scan.begin or 0,
            last=scan.time,
            end_is_known=scan.ends_with_time,
            name=signal,
        )
        for signal, times, levels in zip(wanted, scan.times, scan.levels, strict=True)
    }


def _blocks(file: BinaryIO) -> Iterator[bytes]:
    """Yield the rest of the file in pieces that end at white space and never between a vector and its code."""
    tail = b""
    while piece := file.read(BLOCK):
        text = tail + piece
        cut = text.rfind(b"\n") + 1 or max(text.rfind(b" "), text.rfind(b"\t")) + 1
        words = text[max(0, cut - 4096) : cut].split()
        if words and words[-1][:1] in b"bBrRsS":  # its code may come next
            cut = text.rfind(words[-1], 0, cut)
        tail = text[cut:]
        if cut:
            yield text[:cut]
    if tail:
        yield tail


class _Scan:
    """Picks times and levels of the wanted variables out of blocks."""

    def __init__(self, name: str, wanted: Sequence[tuple[Variable, int]], place: int) -> None:
        self.name = name
        self.wanted = wanted
        self.place = place
        self.begin: int | None = None
        self.time = 0
        self.in_comment = False
        self.ends_with_time = False
        self.times: list[list[npt.NDArray[np.int64]]] = [[] for _ in wanted]
        self.levels: list[list[Bytes]] = [[] for _ in wanted]

    def feed(self, block: bytes) -> None:
        """Take in the next block, which holds whole changes."""
        text = np.full(PAD + len(block) + 1, 0x20, dtype=np.uint8)
        text[PAD:-1] = np.frombuffer(block, dtype=np.uint8)
        turns = np.flatnonzero(np.diff(text <= 0x20))
        first, behind = turns[0::2] + 1, turns[1::2] + 1
        kind = _KIND[text[first]]
        self._leave_out_comments(text, first, behind, kind)
        vectors = _leave_out_codes(kind)
        self._check(text, first, behind, kind, vectors)
        is_time = kind == TIME
        times = np.flatnonzero(is_time)
        before = np.cumsum(is_time, dtype=np.int32)
        last_time = self.time
        if times.size:
            ends = self._numbers(text, first[times[[0, -1]]] + 1, behind[times[[0, -1]]])
            self.begin = int(ends[0]) if self.begin is None else self.begin
            last_time = int(ends[1])
        for (variable, bit), kept_times, kept_levels in zip(
            self.wanted, self.times, self.levels, strict=True
        ):
            changes, characters = _changes(text, first, behind, kind, vectors, variable, bit)
            number = before[changes]
            at = np.full(len(changes), self.time, dtype=np.int64)
            timed = np.flatnonzero(number)
            at[timed] = self._times_before(text, first, behind, times, number[timed] - 1)
            kept_times.append(at)
            kept_levels.append(_LEVEL[characters])
        if last_time < self.time:
            raise CaptureError(self.name, f"goes back in time, from {self.time} to {last_time} ticks")
        self.time = last_time
        told = np.flatnonzero(kind != KEYWORD)
        if told.size:
            self.ends_with_time = bool(kind[told[-1]] == TIME)
        self.place += len(block)

    def _times_before(
        self, text: Bytes, first: Places, behind: Places, times: Places, number: Places
    ) -> npt.NDArray[np.int64]:
        """Return the times with the given numbers among the words `times`."""
        if len(number) > len(times):  # several changes a time: turn each time into a number once
            at = self._numbers(text, first[times] + 1, behind[times])[number]
        else:
            words = times[number]
            at = self._numbers(text, first[words] + 1, behind[words])
        if len(at) and (at[0] < self.time or (np.diff(at) < 0).any()):
            raise CaptureError(self.name, f"goes back in time, near {at[0]} ticks")
        return at

    def _numbers(self, text: Bytes, begin: Places, end: Places) -> npt.NDArray[np.int64]:
        """Turn the decimal numbers between `begin` and `end` into integers, eight digits at once."""
        digits = end - begin
        wrong = np.flatnonzero((digits < 1) | (digits > MOST_DIGITS))
        eights = np.ndarray((len(text) - 7,), dtype="<u8", buffer=text.data, strides=(1,))
        total = np.zeros(len(begin), dtype=np.uint64)
        most = int(digits.max()) if len(digits) and not wrong.size else 0
        for done in range(0, most, 8):
            unused = (8 * (8 - np.clip(digits - done, 0, 8))).astype(np.uint64)
            zeros = np.uint64(0x3030303030303030)
            number = (eights[end - 8 - done] ^ zeros) >> unused << unused
            low, high = np.uint64(0x0606060606060606), np.uint64(0xF0F0F0F0F0F0F0F0)
            not_digits = np.flatnonzero(((number + low) | number) & high)
            if not_digits.size:
                wrong = not_digits
                break
            for factor, bits, mask in _PAIRING:
                number = (number * factor >> bits) & mask
            total += number * np.uint64(10**done)
        if wrong.size:
            self._refuse(text, int(begin[wrong[0]]) - 1, int(end[wrong[0]]), "is no time")
        return total.astype(np.int64)

    def _leave_out_comments(self, text: Bytes, first: Places, behind: Places, kind: Bytes) -> None:
        begins = 0 if self.in_comment else None
        for word in np.flatnonzero(kind == KEYWORD).tolist():
            keyword = text[first[word] : behind[word]].tobytes()
            if begins is None and keyword == b"$comment":
                begins = word
            elif begins is not None and keyword == b"$end":
                kind[begins:word] = KEYWORD
                begins = None
        self.in_comment = begins is not None
        if begins is not None:
            kind[begins:] = KEYWORD

    def _check(self, text: Bytes, first: Places, behind: Places, kind: Bytes, vectors: Places) -> None:
        codes = np.zeros(len(kind) + 1, dtype=np.bool_)
        codes[vectors + 1] = True
        short = (kind == SCALAR) & (behind - first < 2)
        strange = np.flatnonzero(((kind == OTHER) & ~codes[:-1]) | short)
        if strange.size:
            word = int(strange[0])
            self._refuse(text, int(first[word]), int(behind[word]), "is neither a time nor a change")
        if len(vectors) and vectors[-1] == len(kind) - 1:
            self._refuse(text, int(first[-1]), int(behind[-1]), "has no code behind it; the file is cut off")

    def _refuse(self, text: Bytes, begin: int, end: int, why: str) -> None:
        word = text[begin : min(end, begin + 40)].tobytes().decode("latin-1")
        raise CaptureError(f"{self.name}: byte {self.place + begin - PAD}", f'"{word}" {why}')


# Neighbouring digits to numbers of two, four, eight digits: multiply, shift, keep (the lower address holds the
# higher digit, so each factor is 10^k * 2^bits + 1 with the bytes in little-endian order).
_PAIRING = [
    (np.uint64(10 << 8 | 1), np.uint64(8), np.uint64(0x00FF00FF00FF00FF)),
    (np.uint64(100 << 16 | 1), np.uint64(16), np.uint64(0x0000FFFF0000FFFF)),
    (np.uint64(10000 << 32 | 1), np.uint64(32), np.uint64(0x00000000FFFFFFFF)),
]


def _leave_out_codes(kind: Bytes) -> Places:
    """Return which words are vectors, and take what follows each for its code, whatever it looks like."""
    looks = np.flatnonzero(kind == VECTOR)
    if not looks.size:
        return looks
    run_begins = np.diff(looks, prepend=-2) != 1
    order = np.arange(len(looks))
    within_run = order - np.maximum.accumulate(np.where(run_begins, order, 0))
    vectors = looks[within_run % 2 == 0]  # in a run of words that look like vectors every other one is a code
    codes = vectors[vectors + 1 < len(kind)] + 1
    kind[codes] = OTHER
    return vectors


def _changes(
    text: Bytes, first: Places, behind: Places, kind: Bytes, vectors: Places, variable: Variable, bit: int
) -> tuple[Places, Bytes]:
    """Return the words that change one variable, and the character of its new level."""
    code = np.frombuffer(variable.code, dtype=np.uint8)
    words = np.flatnonzero((kind == SCALAR) & (behind - first == len(code) + 1))
    for place, character in enumerate(code, 1):
        words = words[text[first[words] + place] == character]
    characters = text[first[words]]
    if not vectors.size:
        return words, characters
    ids = vectors[behind[vectors + 1] - first[vectors + 1] == len(code)] + 1
    for place, character in enumerate(code):
        ids = ids[text[first[ids] + place] == character]
    values = ids - 1
    # A value shorter than its vector is extended on the left: by 0, or by x or z where it begins so (18.2.1).
    leftmost = text[first[values] + 1]
    extension = np.where(leftmost == ord("1"), np.uint8(ord("0")), leftmost)
    is_short = behind[values] - first[values] - 1 <= bit
    wanted = np.where(is_short, extension, text[behind[values] - 1 - np.where(is_short, 0, bit)])
    order = np.argsort(np.concatenate([words, values]), kind="stable")
    return np.concatenate([words, values])[order], np.concatenate([characters, wanted])[order]
