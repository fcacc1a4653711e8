"""What is held against the characters of one wire."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.line import PARITY_NAMES, LineSettings

from .findings import Finding, make_finding, number_of, time_of

COARSE = 6  # ticks a bit below which a capture can hide or feign errors
FEW = 5  # characters within which a reader that began in mid-character stumbles
LARGE_SHARE = 0.2  # of the characters; so many line faults are no accident
CHARACTER_KINDS: Mapping[str, Fault] = {
    "parity-error": Fault.PARITY,
    "framing-error": Fault.FRAMING,
    "break": Fault.BREAK,
    "noise": Fault.NOISE,
    "unknown-level": Fault.UNKNOWN_LEVEL,
    "overrun": Fault.OVERRUN,
    "short-stop": Fault.SHORT_STOP,
}
COUNTED_BY_DRIVER = "The driver of the receiving port counted them, by the time that this character was handed over."
EMPTY_SOONER = "Read from the port more often, or more at a time, or let flow control pause the sender."
SAME_SETTINGS = (
    "So many at once are no accident: the two ends, or the sheet and the wire, do not mean the same settings. "
    "Compare baud, data bits, parity and polarity before looking for noise."
)


@dataclass(frozen=True)
class Extent:
    """What is known of a trace without its changes: how many, from which level, from when until when, tick."""

    changes: int
    first_level: int
    begin_s: float
    tick_s: float
    end_s: float | None = None

    @classmethod
    def of(cls, trace: Trace) -> Extent:
        """Return the extent of a trace without its changes."""
        return cls(0, trace.first_level, trace.begin * trace.tick_s, trace.tick_s)

    def grown_by(self, trace: Trace) -> Extent:
        """Return the extent with the changes of a further piece."""
        end_s = self.end_s if trace.end is None else trace.end * trace.tick_s
        return replace(self, changes=self.changes + len(trace), end_s=end_s)


def judge_characters(
    wire: str,
    characters: Characters,
    line: LineSettings,
    extent: Extent | None,
    *,
    missing: int = 0,
) -> Iterator[Finding]:
    """Yield what is held against the characters of one wire.

    `extent` is of its trace, if it has one; `missing` bytes are known to be lost by overruns.
    """
    total = len(characters)
    for kind, fault in CHARACTER_KINDS.items():
        places = np.flatnonzero(characters.faults & fault)
        if not places.size:
            continue
        many = kind in ("parity-error", "framing-error", "break") and total >= 10 and len(places) > LARGE_SHARE * total
        yield make_finding(
            kind,
            wire,
            len(places),
            of=(total, "characters"),
            first_s=time_of(characters, int(places[0])),
            offset=int(places[0]),
            detail=_around(kind, characters, places, line, missing),
            advice=SAME_SETTINGS if many else None,
        )
    for kind in ("overrun", "overflow"):
        told = [(place, count) for place, name, count in characters.counted if name == kind]
        if told:
            yield make_finding(
                kind,
                wire,
                sum(count for _, count in told),
                first_s=time_of(characters, told[0][0]),
                offset=told[0][0],
                detail=COUNTED_BY_DRIVER,
                meaning=None if kind == "overrun" else "",
                advice=None if kind == "overrun" else EMPTY_SOONER,
            )
    if len(false := characters.false_starts_s):
        yield make_finding("false-start", wire, len(false), first_s=float(false[0]))
    if characters.cut_off:
        yield make_finding("cut-capture", wire, 1, detail=f"{characters.cut_off[0].upper()}{characters.cut_off[1:]}.")
    if extent is not None:
        if not extent.changes:
            yield make_finding("silence", wire, 1, detail=f"It stayed at level {extent.first_level}.")
        elif (out_of_step := _out_of_step(characters, line, extent)) or characters.begins_inside:
            yield make_finding("cut-character", wire, 1, first_s=extent.begin_s, detail=out_of_step)
        ticks = line.bit_time_s / extent.tick_s
        if extent.changes and ticks < COARSE:
            detail = f"A bit lasts {ticks:.3g} of its ticks, so that a level is judged up to {50 / ticks:.0f} % off."
            yield make_finding("coarse-capture", wire, 1, detail=detail)
        if characters.unfinished_s is not None:
            yield make_finding("cut-character", wire, 1, first_s=characters.unfinished_s, offset=total)


def _out_of_step(characters: Characters, line: LineSettings, extent: Extent) -> str:
    """Say how many characters may be read out of step, where the capture begins inside one; else nothing."""
    if not len(characters):
        return ""
    character_s = line.character_time_s
    if not characters.begins_inside and characters.begin_s[0] - extent.begin_s >= character_s:
        return ""
    rests = np.flatnonzero(characters.begin_s[1:] - characters.end_s[:-1] >= character_s)
    run = int(rests[0]) + 1 if rests.size else len(characters)
    faulty = np.flatnonzero(characters.faults[:run] & (Fault.FRAMING | Fault.BREAK))
    if not faulty.size or (not characters.begins_inside and faulty[0] >= FEW):
        return ""
    until = f"{number_of(run, 'character')} until the wire first rests, {characters.end_s[run - 1]:.6g} s"
    doubtful = int(faulty[-1]) + 1
    return f"Of the {until}, the first {doubtful} may be read out of step." if doubtful > 1 else ""


def _around(kind: str, characters: Characters, places: npt.NDArray[np.int64], line: LineSettings, missing: int) -> str:
    """Say something about these places that the kind alone does not."""
    first = int(places[0])
    if kind == "parity-error":
        declared = PARITY_NAMES[line.parity] if line.has_parity else "no"
        return f"The first is 0x{characters.value[first]:02X}; declared is {declared} parity."
    if kind == "break" and characters.has_times:
        longest = float((characters.end_s[places] - characters.begin_s[places]).max())
        times = longest / line.character_time_s
        return f"The longest lasts {longest * 1e3:.3g} ms, {times:.3g} character time{'s' if times > 1.005 else ''}."
    if kind == "overrun" and missing:
        return f"By the sequence counter, {number_of(missing, 'byte')} {'is' if missing == 1 else 'are'} missing there."
    return ""
