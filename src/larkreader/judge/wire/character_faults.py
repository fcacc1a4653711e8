"""Findings about the characters of one wire."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import PARITY_NAMES, LineSettings
from larkreader.judge.findings.character_kinds import FAULT_OF
from larkreader.judge.findings.finding import Finding, Places, make_finding

COARSE = 6  # ticks a bit below which a capture can hide or feign errors
FEW = 5  # characters within which a reader that began in mid-character stumbles
LARGE_SHARE = 0.2  # of the characters; so many line faults are not an accident
COUNTED_KINDS = {
    "parity": "parity-error",
    "framing": "framing-error",
    "break": "break",
    "overrun": "overrun",
    "overflow": "overflow",
}


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
        return cls(0, trace.first_level, trace.in_seconds(trace.begin), trace.tick_s)

    def grown_by(self, trace: Trace) -> Extent:
        """Return the extent with the changes of a further piece."""
        end_s = self.end_s if trace.end is None else trace.in_seconds(trace.end)
        return replace(self, changes=self.changes + len(trace), end_s=end_s)


def judge_characters(
    wire: str,
    characters: Characters,
    line: LineSettings,
    extent: Extent | None,
    *,
    missing: int = 0,
    begins: bool = True,
) -> Iterator[Finding]:
    """Yield what is wrong with the characters of one wire.

    `extent` is of its trace, if it has one; `missing` bytes are known to be lost by overruns; `begins` is whether these
    are its first characters, or it has none.
    """
    total = len(characters)
    for kind, fault in FAULT_OF.items():
        places = np.flatnonzero(characters.has_fault(fault))
        if places.size:
            evidence = _around(kind, characters, places, line, missing)
            yield make_finding(kind, wire, Places.on(characters, places), total=total, **evidence)
    for counted_as, kind in COUNTED_KINDS.items():
        counted = [(place, count) for place, name, count in characters.counted if name == counted_as]
        if counted:
            offsets = np.repeat([place for place, _ in counted], [count for _, count in counted])
            yield make_finding(kind, wire, Places.on(characters, offsets), counted=True)
    if len(false := characters.false_starts_s):
        yield make_finding("false-start", wire, Places.at(None, false))
    if characters.truncated:
        reason = f"{characters.truncated[0].upper()}{characters.truncated[1:]}"
        yield make_finding("cut-capture", wire, reason=reason)
    if extent is not None and begins:
        if not extent.changes:
            yield make_finding("silence", wire, level=extent.first_level)
        elif (out_of_step := _out_of_step(characters, line, extent)) or characters.starts_mid_character:
            yield make_finding("cut-character", wire, Places.at(None, extent.begin_s), **out_of_step)
        ticks = line.bit_time_s / extent.tick_s
        if extent.changes and ticks < COARSE:
            yield make_finding("coarse-capture", wire, ticks=ticks, off=0.5 / ticks)
    if extent is not None and characters.unfinished_s is not None:
        yield make_finding("cut-character", wire, Places.at(total, characters.unfinished_s))


def _out_of_step(characters: Characters, line: LineSettings, extent: Extent) -> dict[str, Any]:
    """Return how many characters may be read out of step, where the capture begins inside one; else nothing."""
    if not len(characters):
        return {}
    character_s = line.character_time_s
    if not characters.starts_mid_character and characters.begin_s[0] - extent.begin_s >= character_s:
        return {}
    rests = np.flatnonzero(characters.begin_s[1:] - characters.end_s[:-1] >= character_s)
    run = int(rests[0]) + 1 if rests.size else len(characters)
    faulty = np.flatnonzero(characters[:run].has_fault(Fault.FRAMING | Fault.BREAK))
    if not faulty.size or (not characters.starts_mid_character and faulty[0] >= FEW):
        return {}
    doubtful = int(faulty[-1]) + 1
    return {"run": run, "until_s": float(characters.end_s[run - 1]), "doubtful": doubtful} if doubtful > 1 else {}


def has_many(faulty: int, total: int) -> bool:
    """Return whether so many of all characters are faulty that it cannot be an accident."""
    return total >= 10 and faulty > LARGE_SHARE * total


def _around(
    kind: str, characters: Characters, places: npt.NDArray[np.int64], line: LineSettings, missing: int
) -> dict[str, Any]:
    """Return what these places show that the kind alone does not."""
    many = has_many(len(places), len(characters))
    if kind == "parity-error":
        declared = PARITY_NAMES[line.parity] if line.has_parity else "no"
        return {"value": int(characters.value[places[0]]), "parity": declared, "many": many}
    if kind == "framing-error":
        return {"many": many}
    if kind == "break" and characters.has_times:
        longest_s = float((characters.end_s[places] - characters.begin_s[places]).max())
        return {"longest_s": longest_s, "longest_characters": longest_s / line.character_time_s, "many": many}
    if kind == "break":
        return {"many": many}
    return {"missing": missing} if kind == "overrun" and missing else {}
