"""What is held against the characters of one wire."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.line import PARITY_NAMES, LineSettings

from .findings import Finding, make_finding, number_of, time_of

LARGE_SHARE = 0.2  # of the characters; so many line faults are no accident
CHARACTER_KINDS: Mapping[str, Fault] = {
    "parity-error": Fault.PARITY,
    "framing-error": Fault.FRAMING,
    "break": Fault.BREAK,
    "noise": Fault.NOISE,
    "unknown-level": Fault.UNKNOWN_LEVEL,
    "overrun": Fault.OVERRUN,
}
SAME_SETTINGS = (
    "So many at once are no accident: the two ends, or the sheet and the wire, do not mean the same settings. "
    "Compare baud, data bits, parity and polarity before looking for noise."
)


def judge_characters(
    wire: str,
    characters: Characters,
    line: LineSettings,
    source: Trace | Characters | bytes,
    *,
    missing: int = 0,
) -> Iterator[Finding]:
    """Yield what is held against the characters of one wire; `missing` bytes are known to be lost by overruns."""
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
    if len(false := characters.false_starts_s):
        yield make_finding("false-start", wire, len(false), first_s=float(false[0]))
    if isinstance(source, Trace):
        if not len(source):
            yield make_finding("silence", wire, 1, detail=f"It stayed at level {source.first_level}.")
        elif characters.begins_inside:
            yield make_finding("cut-character", wire, 1, first_s=source.begin * source.tick_s)
        if characters.unfinished_s is not None:
            yield make_finding("cut-character", wire, 1, first_s=characters.unfinished_s, offset=total)


def _around(kind: str, characters: Characters, places: npt.NDArray[np.int64], line: LineSettings, missing: int) -> str:
    """Say something about these places that the kind alone does not."""
    first = int(places[0])
    if kind == "parity-error":
        return f"The first is 0x{characters.value[first]:02X}; declared is {PARITY_NAMES[line.parity]} parity."
    if kind == "break" and characters.has_times:
        longest = float((characters.end_s[places] - characters.begin_s[places]).max())
        times = longest / line.character_time_s
        return f"The longest lasts {longest * 1e3:.3g} ms, {times:.3g} character time{'s' if times > 1.005 else ''}."
    if kind == "overrun" and missing:
        return f"By the sequence counter, {number_of(missing, 'byte')} {'is' if missing == 1 else 'are'} missing there."
    return ""
