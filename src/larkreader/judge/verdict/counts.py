"""How much a capture holds, as numbers that add up over its stretches."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.decode.columns.frame_columns import CONTRADICTED, FRAME_FAULT_NAMES, Frames, Spans
from larkreader.judge.measure.pair_columns import Pairs, PairState, PairTimes

KEPT_TIMES = 1 << 17  # requests whose times are kept
WRONG_CHARACTER = Fault.PARITY | Fault.FRAMING | Fault.BREAK  # what wrong settings of a line cause


@dataclass(frozen=True)
class WireCounts:
    """How many characters a wire carries, and where they lie.

    Parameters
    ----------
    characters, sound : int
        How many there are, and how many without any fault.
    faulty : int
        How many have a fault that wrong settings cause, without those before the first idle time and without breaks
        that begin frames.
    faulty_by_line : int
        The same with those.
    by_fault : mapping of Fault to int
        How many have each fault.
    skipped : int
        How many belong to no frame, on a wire that carries frames.
    counted : frozenset of str
        What the receiver's driver has counted.
    has_line : bool
        Whether they come from the levels of a wire.
    begin_s, end_s : float
        When the first began and the last ended, in seconds; NaN where that is not known.
    """

    characters: int = 0
    sound: int = 0
    faulty: int = 0
    faulty_by_line: int = 0
    by_fault: Mapping[Fault, int] = field(default_factory=dict)
    skipped: int = 0
    counted: frozenset[str] = frozenset()
    has_line: bool = False
    begin_s: float = np.nan
    end_s: float = np.nan

    @classmethod
    def of(cls, characters: Characters, held: Characters, skipped: Spans | None, first: int = 0) -> WireCounts:
        """Count the characters of a wire.

        Parameters
        ----------
        characters, held : Characters
            All of them; and the same without the faults that are explained.
        skipped : Spans, optional
            What belongs to no frame; None on a wire without frames.
        first : int
            The first that is counted.
        """
        some = characters[first:] if first else characters
        has_times = some.has_times
        return cls(
            len(some),
            int(np.count_nonzero(some.faults == 0)),
            held[first:].count(WRONG_CHARACTER),
            some.count(WRONG_CHARACTER),
            {fault: count for fault in Fault if (count := some.count(fault))} if some.faults.any() else {},
            0 if skipped is None else int(skipped.length[skipped.offset >= first].sum()),
            frozenset(name for place, name, _ in characters.counted if place >= first),
            characters.has_line,
            float(some.begin_s[0]) if has_times else np.nan,
            float(np.nanmax(some.end_s)) if has_times else np.nan,
        )

    @property
    def has_times(self) -> bool:
        """Whether it is known when the characters were on the wire."""
        return not np.isnan(self.begin_s)

    @property
    def has_faults(self) -> bool:
        """Whether any character has a fault."""
        return self.sound < self.characters

    def __add__(self, other: WireCounts) -> WireCounts:
        """Return the counts of one stretch and the next."""
        faults = self.by_fault.keys() | other.by_fault.keys()
        return WireCounts(
            self.characters + other.characters,
            self.sound + other.sound,
            self.faulty + other.faulty,
            self.faulty_by_line + other.faulty_by_line,
            {fault: self.by_fault.get(fault, 0) + other.by_fault.get(fault, 0) for fault in faults},
            self.skipped + other.skipped,
            self.counted | other.counted,
            other.has_line if other.characters else self.has_line,
            self.begin_s if self.has_times else other.begin_s,
            float(np.fmax(self.end_s, other.end_s)),
        )


@dataclass(frozen=True)
class FrameCounts:
    """How many frames of a layout there are, and how many bytes the good and the faulty frames took.

    Parameters
    ----------
    frames, good, trusted : int
        All of them; those without any fault; those whose content nothing contradicts.
    good_bytes, faulty_bytes, trusted_bytes : int
        How many bytes those without and with a fault took on the wire, and those whose content nothing contradicts.
    by_fault : mapping of int to int
        How many have each set of faults, as flags of `FrameFault`.
    """

    frames: int = 0
    good: int = 0
    trusted: int = 0
    good_bytes: int = 0
    faulty_bytes: int = 0
    trusted_bytes: int = 0
    by_fault: Mapping[int, int] = field(default_factory=dict)

    @classmethod
    def of(cls, frames: Frames, first: int = 0) -> FrameCounts:
        """Count frames.

        Parameters
        ----------
        frames : Frames
            Those of one layout.
        first : int
            The character at which the first frame that is counted begins, or later.
        """
        row = int(np.searchsorted(frames.offset, first)) if first else 0
        faults, length = frames.faults[row:], frames.length[row:]
        is_good, is_trusted = faults == 0, faults & np.uint8(CONTRADICTED) == 0
        good_bytes = int(length[is_good].sum())
        sets, often = np.unique(faults, return_counts=True)
        return cls(
            len(faults),
            int(np.count_nonzero(is_good)),
            int(np.count_nonzero(is_trusted)),
            good_bytes,
            int(length.sum()) - good_bytes,
            int(length[is_trusted].sum()),
            dict(zip(sets.tolist(), often.tolist(), strict=True)),
        )

    def to_dict(self) -> dict[str, Any]:
        """Return the counts as JSON has them."""
        faults = {
            name: sum(count for flags, count in self.by_fault.items() if flags & fault)
            for fault, name in FRAME_FAULT_NAMES.items()
        }
        return {
            "count": self.frames,
            "good": self.good,
            "faults": {name: count for name, count in faults.items() if count},
        }

    def __add__(self, other: FrameCounts) -> FrameCounts:
        """Return the counts of one stretch and the next."""
        sets = self.by_fault.keys() | other.by_fault.keys()
        return FrameCounts(
            self.frames + other.frames,
            self.good + other.good,
            self.trusted + other.trusted,
            self.good_bytes + other.good_bytes,
            self.faulty_bytes + other.faulty_bytes,
            self.trusted_bytes + other.trusted_bytes,
            {faults: self.by_fault.get(faults, 0) + other.by_fault.get(faults, 0) for faults in sorted(sets)},
        )


@dataclass(frozen=True)
class PairCounts:
    """What became of the requests of a pairing.

    Parameters
    ----------
    by_state : mapping of PairState to int
        Of how many requests each became.
    repeated, unasked : int
        How many requests repeat the request before, and how many replies answer nothing.
    has_no_limit : bool
        Whether nothing shows how long to wait for a reply.
    times : PairTimes, optional
        When the latest requests and their replies were on the wire, `KEPT_TIMES` at most.
    """

    by_state: Mapping[PairState, int] = field(default_factory=dict)
    repeated: int = 0
    unasked: int = 0
    has_no_limit: bool = False
    times: PairTimes | None = None

    @classmethod
    def of(cls, pairs: Pairs) -> PairCounts:
        """Count what became of some requests.

        Parameters
        ----------
        pairs : Pairs
            The requests.
        """
        times = PairTimes.of(pairs)
        by_state = {state: pairs.count(state) for state in PairState}
        repeated = int(np.count_nonzero(pairs.again >= 0))
        return cls(by_state, repeated, len(pairs.unasked), pairs.has_no_limit, times)

    @property
    def requests(self) -> int:
        """How many there are."""
        return sum(self.by_state.values())

    @property
    def answered(self) -> int:
        """How many got a good reply, late or not."""
        return self.by_state.get(PairState.ANSWERED, 0) + self.by_state.get(PairState.LATE, 0)

    @property
    def open(self) -> int:
        """Of how many the reply was not due yet at the end."""
        return self.by_state.get(PairState.OPEN, 0)

    def to_dict(self) -> dict[str, Any]:
        """Return the counts as JSON has them; with ``of``, where not the times of all requests are kept."""
        times = self.times or PairTimes.nothing()
        return {
            "requests": self.requests,
            **{state.name.lower().replace("_", "-"): self.by_state.get(state, 0) for state in PairState},
            "repeated": self.repeated,
            "unasked": self.unasked,
            **times.to_dict(),
            **({"of": len(times)} if len(times) < self.requests else {}),
        }

    def __add__(self, other: PairCounts) -> PairCounts:
        """Return the counts of one stretch and the next."""
        times = other.times if self.times is None else self.times
        if self.times is not None and other.times is not None:
            times = self.times.followed_by(other.times)[-KEPT_TIMES:]
        return PairCounts(
            {state: self.by_state.get(state, 0) + other.by_state.get(state, 0) for state in PairState},
            self.repeated + other.repeated,
            self.unasked + other.unasked,
            other.has_no_limit,
            times,
        )
