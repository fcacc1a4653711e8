"""One row a character: when it was on the wire, what it holds, its faults."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import IntFlag
from itertools import accumulate
from operator import itemgetter
from typing import Any, ClassVar, Self

import numpy as np
import numpy.typing as npt

from .columns import Columns


class Fault(IntFlag):
    """What a receiver holds against a character; 0 is a good character."""

    PARITY = 1
    """The parity bit does not fit the data bits."""
    FRAMING = 2
    """The line was not at idle level in the middle of the first stop bit."""
    BREAK = 4
    """Start, data, parity and stop bit were all at start level. Such a character has no other fault."""
    NOISE = 8
    """The three samples of a bit did not agree."""
    OVERRUN = 16
    """The hardware lost the character just before."""
    UNKNOWN_LEVEL = 32
    """The capture does not know the level for a part of the character."""
    SHORT_STOP = 64
    """The line was not at idle level in the second stop bit, where that was to be looked at."""
    BY_BLOCK = 128
    """The port reports faults by the block, so a character of this block has the others, not surely this character."""


FAULT_NAMES: dict[Fault, str] = {
    Fault.PARITY: "parity",
    Fault.FRAMING: "framing",
    Fault.BREAK: "break",
    Fault.NOISE: "noise",
    Fault.OVERRUN: "overrun",
    Fault.UNKNOWN_LEVEL: "unknown-level",
    Fault.SHORT_STOP: "short-stop",
    Fault.BY_BLOCK: "by-block",
}


def fault_names(faults: int) -> str:
    """Write the flags of one character as names joined by ``+``; nothing for a good character."""
    return "+".join(name for fault, name in FAULT_NAMES.items() if faults & fault)


@dataclass(frozen=True, eq=False, repr=False)
class Characters(Columns):
    """The characters of one wire, in order of time; all columns have shape (n_characters,).

    Parameters
    ----------
    begin_s : ndarray of float64
        Leading edge of the start bit, in seconds on the clock of the capture. NaN where the source has no times.
    end_s : ndarray of float64
        End of the last stop bit, in seconds; the next start where that is earlier; for a break, the return to
        idle. NaN where the source has no times.
    value : ndarray of uint16
        The data bits alone; kept even when a check fails.
    faults : ndarray of uint8
        Its faults, as flags of `Fault`.
    false_starts_s : ndarray of float64, shape (n_false_starts,)
        Changes to start level that had gone half a bit later.
    starts_mid_character : bool
        Whether the wire was at start level when the capture began, so that a character may be cut off there.
    unfinished_s : float, optional
        Start of a character that the end of the capture cuts off; it is not a row.
    has_line : bool
        Whether the rows come from the levels of a wire. Bytes that software recorded show no line faults unless
        they were noted.
    truncated : str
        How the capture breaks off, where its file is cut off; nothing for a whole file.
    counted : tuple of tuple of int, str and int
        What the receiver's driver has counted: number of the first character of the group that arrived when it had;
        which of ``"overrun"``, ``"overflow"``, ``"parity"``, ``"framing"`` and ``"break"``; and how many, at least.
    address_mark : ndarray of bool, optional
        Whether the ninth bit marks the character as an address, on a line where it does; `value` is without it then.
    resumed : tuple of int
        Numbers of the first characters behind a time in which nothing was recorded, one for each such time; the number
        of characters where none followed.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("begin_s", "end_s", "value", "faults")

    begin_s: npt.NDArray[np.float64]
    end_s: npt.NDArray[np.float64]
    value: npt.NDArray[np.uint16]
    faults: npt.NDArray[np.uint8]
    false_starts_s: npt.NDArray[np.float64]
    starts_mid_character: bool = False
    unfinished_s: float | None = None
    has_line: bool = True
    truncated: str = ""
    counted: tuple[tuple[int, str, int], ...] = ()
    address_mark: npt.NDArray[np.bool_] | None = None
    resumed: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        self.check_lengths()

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the columns that there are."""
        return self.COLUMNS if self.address_mark is None else (*self.COLUMNS, "address_mark")

    def with_ninth_bit_apart(self) -> Characters:
        """Return the same with the ninth bit of each value as its address mark, if it is not so already."""
        if self.address_mark is not None:
            return self
        return replace(self, value=self.value & np.uint16(0xFF), address_mark=self.value > 0xFF)

    @classmethod
    def from_bytes(cls, data: bytes | npt.NDArray[np.uint8]) -> Self:
        """Make characters of bytes that were recorded without times or faults.

        Parameters
        ----------
        data : bytes or ndarray of uint8, shape (n_characters,)
            The values of the characters.
        """
        value = np.frombuffer(data, dtype=np.uint8) if isinstance(data, bytes) else np.asarray(data, dtype=np.uint8)
        untimed = np.broadcast_to(np.float64("nan"), value.shape)
        return cls(
            untimed,
            untimed,
            value.astype(np.uint16),
            np.zeros(value.shape, np.uint8),
            np.empty(0),
            has_line=False,
        )

    @classmethod
    def from_groups(
        cls,
        groups: Iterable[tuple[float, bytes, bytes]],
        counted: Iterable[tuple[int, str, int]] = (),
        resumed: Iterable[int] = (),
    ) -> Self:
        """Make characters of what software received together.

        Parameters
        ----------
        groups : iterable of tuple of float, bytes and bytes
            When each group arrived, in seconds; its characters; their flags of `Fault`, or nothing if there are none.
            Faults that are known by the block alone become `counted`: no character is accused of them.
        counted : iterable of tuple of int, str and int
            What the receiver's driver has counted: number of the group that arrived when it had, and as in `counted`.
        resumed : iterable of int
            Numbers of the first groups behind a time in which nothing was recorded.
        """
        known = [(at_s, data, faults or bytes(len(data))) for at_s, data, faults in groups]
        data = np.frombuffer(b"".join(data for _, data, _ in known), np.uint8)
        at_s = np.repeat([at_s for at_s, _, _ in known], [len(data) for _, data, _ in known]).astype(np.float64)
        faults = np.frombuffer(b"".join(faults for _, _, faults in known), np.uint8).copy()
        group = np.repeat(np.arange(len(known)), [len(data) for _, data, _ in known])
        first = [0, *accumulate(len(data) for _, data, _ in known)]
        by_group = ((first[number], what, count) for number, what, count in counted)
        every = tuple(sorted((*by_group, *_counted_by_block(faults, group)), key=itemgetter(0)))
        faults[faults & np.uint8(Fault.BY_BLOCK) != 0] = 0
        value = data.astype(np.uint16)
        again = tuple(first[number] for number in resumed)
        return cls(at_s, at_s.copy(), value, faults, np.empty(0), has_line=False, counted=every, resumed=again)

    @classmethod
    def joined(cls, pieces: Iterable[Characters]) -> Characters:
        """Make one table of pieces that follow each other, such as what `CharacterReader` returns.

        Parameters
        ----------
        pieces : iterable of Characters
            One at least, of one wire.

        Returns
        -------
        Characters
        """
        parts = list(pieces)
        if len(parts) == 1:
            return parts[0]
        begin_s, end_s, value, faults = (_concatenated([part.column(name) for part in parts]) for name in cls.COLUMNS)
        offsets = np.cumsum([0, *(len(part) for part in parts)]).tolist()
        marks = [part.address_mark for part in parts if part.address_mark is not None]
        return cls(
            begin_s,
            end_s,
            value,
            faults,
            np.concatenate([part.false_starts_s for part in parts]),
            starts_mid_character=parts[0].starts_mid_character,
            unfinished_s=parts[-1].unfinished_s,
            has_line=parts[0].has_line,
            truncated=parts[-1].truncated,
            counted=tuple(
                (offset + place, name, count)
                for offset, part in zip(offsets, parts, strict=False)
                for place, name, count in part.counted
            ),
            address_mark=np.concatenate(marks) if marks else None,
            resumed=tuple(
                offset + place for offset, part in zip(offsets, parts, strict=False) for place in part.resumed
            ),
        )

    def between(self, first: int, end: int | None = None) -> Characters:
        """Return some of the characters as a table of its own, with what was counted among them.

        Parameters
        ----------
        first, end : int
            The first, and that behind the last; all that follow unless given.
        """
        is_last = end is None or end >= len(self)
        until = np.inf if end is None or end > len(self) else end
        counted = tuple((place - first, name, count) for place, name, count in self.counted if first <= place < until)
        false_s = self.false_starts_s
        if len(false_s):
            since_s = float(self.begin_s[first]) if 0 < first < len(self) else -np.inf if not first else np.inf
            until_s = np.inf if is_last else float(self.begin_s[end])
            false_s = false_s[(false_s >= since_s) & (false_s < until_s)]
        return replace(
            self[first:end],
            counted=counted,
            false_starts_s=false_s,
            starts_mid_character=self.starts_mid_character and first == 0,
            unfinished_s=self.unfinished_s if is_last else None,
            truncated=self.truncated if is_last else "",
            resumed=tuple(place - first for place in self.resumed if first <= place < until),
        )

    @property
    def has_times(self) -> bool:
        """Whether the source knows when the characters were on the wire."""
        return bool(len(self)) and not np.isnan(self.begin_s[0])

    def count(self, fault: Fault) -> int:
        """Return how many characters have `fault`.

        Parameters
        ----------
        fault : Fault
            One fault, or several combined.
        """
        return int(np.count_nonzero(self.has_fault(fault)))

    def has_fault(self, fault: Fault) -> npt.NDArray[np.bool_]:
        """Return which characters have `fault`, bool of shape (n_characters,).

        Parameters
        ----------
        fault : Fault
            One fault, or several combined, of which any will do.
        """
        mask: npt.NDArray[np.bool_] = self.faults & np.uint8(fault) != 0  # NumPy takes the flag itself for an int64
        return mask


def _concatenated(columns: Sequence[npt.NDArray[Any]]) -> npt.NDArray[Any]:
    """Put columns together; times that are all unknown take no room, as in `Characters.from_bytes`."""
    if all(column.strides == (0,) and column.dtype == np.float64 and np.isnan(column).all() for column in columns):
        return np.broadcast_to(np.float64("nan"), (sum(map(len, columns)),))
    return np.concatenate(columns)


def _counted_by_block(faults: npt.NDArray[np.uint8], group: npt.NDArray[np.int64]) -> tuple[tuple[int, str, int], ...]:
    """Return where each block begins whose faults are known of the whole block, and what they are, once each."""
    marked = faults & np.uint8(Fault.BY_BLOCK) != 0
    if not marked.any():
        return ()
    changes = np.ones(len(faults), np.bool_)
    changes[1:] = (faults[1:] != faults[:-1]) | (group[1:] != group[:-1])
    begins = np.flatnonzero(changes & marked).tolist()
    return tuple(
        (begin, name, 1)
        for begin in begins
        for fault, name in FAULT_NAMES.items()
        if fault is not Fault.BY_BLOCK and faults[begin] & fault
    )
