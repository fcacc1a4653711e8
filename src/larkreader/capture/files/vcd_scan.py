"""The words of a VCD file (IEEE 1364-2005, clause 18), found block by block with whole-array operations.

A block is split into words at white space. The first character of a word shows what it is: a time (``#``), the
change of a scalar, the value of a vector or a real with its code as the next word, or a keyword (``$``). Only the
changes of the wanted signals are picked out, and only the times that stand before those are turned into numbers,
eight digits at once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.errors import CaptureError

from .levels import UNDRIVEN, UNKNOWN
from .vcd_header import Variable
from .vcd_plain import plain_changes

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Reports = tuple[npt.NDArray[np.int64], Bytes]

PAD = 32  # white space before a block, so that words of 8 bytes may begin before a time
MOST_CODES = 256  # codes with a # that are passed over in search of a time
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
NO_TIME = -1  # of what stands before the first time that is known


@dataclass(frozen=True)
class Scanned:
    """What some blocks of times and scalars hold, found without knowing what stands before them.

    Parameters
    ----------
    untimed : list of int
        How many changes of each variable stand before the first time.
    behind : list of ndarray of uint32 or int64
        When the others of each variable happened, in ticks behind `begin`.
    levels : list of ndarray of uint8
        All levels of each variable.
    begin, end : int
        The first and the last time.
    ends_with_time : bool
        Whether the last word is a time.
    """

    untimed: list[int]
    behind: list[npt.NDArray[Any]]
    levels: list[Bytes]
    begin: int
    end: int
    ends_with_time: bool

    @classmethod
    def of(cls, blocks: Iterable[bytes], wanted: Sequence[tuple[Variable, int]]) -> Scanned | None:
        """Scan blocks; return None unless they hold nothing but times and changes of scalars, as they should be."""
        scan = Scan("", wanted, 0)
        scan.time = NO_TIME
        try:
            if not all(scan.feed_plain(block) for block in blocks) or scan.begin is None:
                return None
        except CaptureError:  # which is found again, with its place
            return None
        times, levels = zip(*scan.taken(), strict=True)
        untimed = [int(np.searchsorted(at, 0)) for at in times]
        kind = np.uint32 if scan.time - scan.begin < 1 << 32 else np.int64  # what is handed over is half as much
        behind = [(at[count:] - scan.begin).astype(kind) for at, count in zip(times, untimed, strict=True)]
        return cls(untimed, behind, list(levels), scan.begin, scan.time, scan.ends_with_time)


class Scan:
    """Picks times and levels of the wanted variables out of blocks."""

    def __init__(self, name: str, wanted: Sequence[tuple[Variable, int]], place: int) -> None:
        self.name = name
        self.wanted = wanted
        self.place = place
        self.begin: int | None = None
        self.time = self.latest = 0  # the file's last report, and where a change was taken last
        self.in_comment = False
        self.ends_with_time = False
        self.truncated = ""
        self.times: list[list[npt.NDArray[np.int64]]] = [[] for _ in wanted]
        self.levels: list[list[Bytes]] = [[] for _ in wanted]

    def feed(self, block: bytes) -> None:
        """Take in the next block, which holds whole changes."""
        if not self.feed_plain(block):
            self._feed_any(_padded(block))
        self.place += len(block)

    def take(self, found: Scanned, size: int) -> bool:
        """Take in what the next blocks hold, `size` bytes in all; return whether they follow what was there before."""
        if self.in_comment or found.begin < self.time:
            return False
        for untimed, behind, levels, kept_times, kept_levels in zip(
            found.untimed, found.behind, found.levels, self.times, self.levels, strict=True
        ):
            at = np.full(len(levels), self.time, dtype=np.int64)
            at[untimed:] = behind
            at[untimed:] += found.begin
            self.latest = max(self.latest, int(at[-1])) if len(at) else self.latest
            kept_times.append(at)
            kept_levels.append(levels)
        self._go_on_to(found.begin, found.end, found.ends_with_time)
        self.place += size
        return True

    def taken(self) -> list[Reports]:
        """Return times and levels of each variable since they were taken last."""
        result = [
            (np.concatenate(times or [np.empty(0, np.int64)]), np.concatenate(levels or [np.empty(0, np.uint8)]))
            for times, levels in zip(self.times, self.levels, strict=True)
        ]
        self.times, self.levels = [[] for _ in self.wanted], [[] for _ in self.wanted]
        return result

    def feed_plain(self, block: bytes) -> bool:
        """Take in a block of times and scalars alone; return whether it is one."""
        if self.in_comment or any(variable.size > 1 for variable, _ in self.wanted):
            return False
        opening, closing = _time_word(block, block.find, 1), _time_word(block, block.rfind, -1)
        if opening < 0 or closing < 0:
            return False
        opening_word, closing_word = (block[at : at + PAD].split(None, 1)[0] for at in (opening, closing))
        if len(opening_word) != len(closing_word) or len(opening_word) > MOST_DIGITS:
            return False  # times of several lengths
        text = _padded(block)
        result = plain_changes(text, [variable.code for variable, _ in self.wanted], len(opening_word) - 1)
        if result is None:
            return False
        begin_time, last_time = (self._one_number(word) for word in (opening_word, closing_word))
        for (words, times), kept_times, kept_levels in zip(result, self.times, self.levels, strict=True):
            at = np.full(len(words), self.time, dtype=np.int64)
            timed = int(np.searchsorted(times, 0))  # words before the first time of the block
            at[timed:] = self._numbers(text, times[timed:] + 1, times[timed:] + len(opening_word))
            self._keep(at, text[words], kept_times, kept_levels)
        self._go_on_to(begin_time, last_time, not block[closing + len(closing_word) :].strip())
        return True

    def _feed_any(self, text: Bytes) -> None:
        """Take in a block of anything that a VCD file may hold."""
        turns = np.flatnonzero(np.diff(text <= 0x20))
        first, behind = turns[0::2] + 1, turns[1::2] + 1
        kind = _KIND[text[first]]
        self._leave_out_comments(text, first, behind, kind)
        vectors = _leave_out_codes(kind)
        if len(vectors) and vectors[-1] == len(kind) - 1:  # only where the file ends
            self.truncated = f'it ends behind "{text[first[-1] : behind[-1]].tobytes().decode("latin-1")[:40]}"'
            first, behind, kind, vectors = first[:-1], behind[:-1], kind[:-1], vectors[:-1]
        self._check(text, first, behind, kind, vectors)
        is_time = kind == TIME
        times = np.flatnonzero(is_time)
        before = np.cumsum(is_time, dtype=np.int64)
        begin_time = last_time = self.time
        if times.size:
            words = [text[first[word] : behind[word]].tobytes() for word in (times[0], times[-1])]
            begin_time, last_time = map(self._one_number, words)
        for (variable, bit), kept_times, kept_levels in zip(self.wanted, self.times, self.levels, strict=True):
            changes, characters = _changes(text, first, behind, kind, vectors, variable, bit)
            number = before[changes]
            at = np.full(len(changes), self.time, dtype=np.int64)
            timed = int(np.searchsorted(number, 1))
            at[timed:] = self._times_before(text, first, behind, times, number[timed:] - 1)
            self._keep(at, characters, kept_times, kept_levels)
        result = np.flatnonzero(kind != KEYWORD)
        ends_with_time = bool(kind[result[-1]] == TIME) if result.size else self.ends_with_time
        self._go_on_to(begin_time, last_time, ends_with_time)

    def _keep(self, at: npt.NDArray[np.int64], characters: Bytes, times: list[Any], levels: list[Any]) -> None:
        if len(at) and (at[0] < self.time or (at[1:] < at[:-1]).any()):
            raise CaptureError(self.name, f"goes back in time, behind {self.time} ticks")
        self.latest = max(self.latest, int(at[-1])) if len(at) else self.latest
        times.append(at)
        levels.append(_LEVEL[characters])

    def _go_on_to(self, begin_time: int, last_time: int, ends_with_time: bool) -> None:
        if begin_time < self.time or last_time < max(begin_time, self.latest):
            raise CaptureError(
                self.name, f"goes back in time, from {max(self.time, begin_time, self.latest)} to {last_time} ticks"
            )
        self.begin = begin_time if self.begin is None else self.begin
        self.time, self.ends_with_time = last_time, ends_with_time

    def _one_number(self, word: bytes) -> int:
        """Turn the word of one time into an integer."""
        if not word[1:].isdigit() or len(word) > MOST_DIGITS + 1:
            raise CaptureError(self.name, f'holds "{word.decode("latin-1")}", which is not a time')
        return int(word[1:])

    def _times_before(
        self, text: Bytes, first: Places, behind: Places, times: Places, number: Places
    ) -> npt.NDArray[np.int64]:
        """Return the times with the given numbers among the words `times`."""
        if len(number) > len(times):  # several changes a time: turn each time into a number once
            return self._numbers(text, first[times] + 1, behind[times])[number]
        words = times[number]
        return self._numbers(text, first[words] + 1, behind[words])

    def _numbers(self, text: Bytes, begin: Places, end: Places) -> npt.NDArray[np.int64]:
        """Turn the decimal numbers between `begin` and `end`, which never fall, into integers."""
        digits = end - begin
        fewest, most = (int(digits.min()), int(digits.max())) if len(digits) else (1, 1)
        if fewest < 1 or most > MOST_DIGITS:
            wrong = int(np.argmax((digits < 1) | (digits > MOST_DIGITS)))
            self._refuse(text, int(begin[wrong]) - 1, int(end[wrong]), "is not a time")
        numbers = self._eight_digits(text, begin, end, min(most, 8) if fewest == most else None)
        if most <= 8:
            return numbers
        if fewest == most and len(numbers) > 2:
            # What stands before the last eight digits rises by one wherever those fall, if nothing else happened.
            higher = self._numbers(text, begin[[0, -1]], end[[0, -1]] - 8)
            falls = np.cumsum(numbers[1:] < numbers[:-1])
            if higher[0] + falls[-1] == higher[1]:
                numbers[0] += higher[0] * 10**8
                numbers[1:] += (higher[0] + falls) * 10**8
                return numbers
        long = np.flatnonzero(digits > 8)
        numbers[long] += self._numbers(text, begin[long], end[long] - 8) * 10**8
        return numbers

    def _eight_digits(self, text: Bytes, begin: Places, end: Places, digits: int | None) -> npt.NDArray[np.int64]:
        """Turn the last eight digits before each `end`, or as many as there are from `begin` on, into integers.

        `digits` says how many there are, up to eight, where all have as many.
        """
        # As items of no alignment: an array of unaligned integers would be copied as a whole before it is indexed.
        eights = np.ndarray((len(text) - 7,), dtype="V8", buffer=text.data, strides=(1,))
        number = eights[end - 8].view("<u8") ^ np.uint64(0x3030303030303030)
        if digits is None:
            before = (8 * (8 - np.minimum(end - begin, 8))).astype(np.uint64)
            number = number >> before << before
        elif digits < 8:
            before = np.uint64(8 * (8 - digits))
            number = number >> before << before
        strange = ((number + np.uint64(0x0606060606060606)) | number) & np.uint64(0xF0F0F0F0F0F0F0F0)
        if strange.any():
            wrong = int(np.argmax(strange != 0))
            self._refuse(text, int(begin[wrong]) - 1, int(end[wrong]), "is not a time")
        for factor, bits, mask in _PAIRING:
            number *= factor
            number >>= bits
            number &= mask
        return number.view(np.int64)

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


def _padded(block: bytes) -> Bytes:
    """Return a block with white space before and behind it."""
    text = np.full(PAD + len(block) + 1, 0x20, dtype=np.uint8)
    text[PAD:-1] = np.frombuffer(block, dtype=np.uint8)
    return text


def _time_word(block: bytes, find: Callable[[bytes, int, int], int], way: int) -> int:
    """Return where the first or the last time of a block begins, -1 if none is found soon.

    A ``#`` within a word belongs to the code of a variable.
    """
    low, high = 0, len(block)
    for _ in range(MOST_CODES):
        at = find(b"#", low, high)
        if at <= 0 or block[at - 1] <= 0x20:
            return at
        low, high = (at + 1, high) if way > 0 else (low, at)
    return -1


def _leave_out_codes(kind: Bytes) -> Places:
    """Return which words are vectors, and take what follows each for its code, whatever it looks like."""
    looks = np.flatnonzero(kind == VECTOR)
    if not looks.size:
        return looks
    run_begins = np.diff(looks, prepend=-2) != 1
    order = np.arange(len(looks))
    within_run = order - np.maximum.accumulate(np.where(run_begins, order, 0))
    vectors: Places = looks[within_run % 2 == 0]  # in a run of words that look like vectors every second word is a code
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
