"""Whether characters that count up are all there.

A device that sends 0, 1, 2, ... tells by itself what was lost on the way: where the next value is not one more, the
difference says how many are missing, up to a multiple of the pattern's length. A value that is wrong alone, between two
that go on as they should, was changed and not lost.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larkreader.capture.characters import Characters, Fault

from .findings import Finding, make_finding, number_of, time_of
from .sequence import ON_THE_LINE, behind_the_line, shows_line_faults

FEWEST = 64  # characters by which a counting pattern is known
SURE = 0.9  # of the steps that are one up


def judge_counting(wire: str, characters: Characters, data_bits: int) -> Iterator[Finding]:
    """Yield where characters of a counting pattern are missing.

    Parameters
    ----------
    wire : str
        Where they were seen.
    characters : Characters
        All of them; nothing is yielded unless nine tenths of them count up.
    data_bits : int
        Of the line; the pattern begins again after the highest value.

    Yields
    ------
    Finding
    """
    cycle = 1 << min(data_bits, 8)
    value = characters.value.astype(np.int64)
    if len(value) < FEWEST:
        return
    steps = (value[1:] - value[:-1]) % cycle
    if np.count_nonzero(steps == 1) < SURE * len(steps):
        return
    jumps = np.flatnonzero(steps != 1)
    is_changed = np.zeros(len(jumps), np.bool_)  # both steps beside one wrong value add up to two
    pairs = np.flatnonzero(np.diff(jumps) == 1)
    pairs = pairs[(steps[jumps[pairs]] + steps[jumps[pairs] + 1]) % cycle == 2 % cycle]
    is_changed[pairs] = is_changed[pairs + 1] = True
    is_changed |= (jumps == 0) | (jumps == len(steps) - 1)  # of the first and the last one nobody can tell
    places = jumps[~is_changed & (steps[jumps] != 0)] + 1
    missing = (steps[places - 1] - 1) % cycle
    near = np.minimum(places + 1, len(value) - 1)
    faults = characters.faults[places - 1] | characters.faults[places] | characters.faults[near]
    is_marked = (characters.faults[places] & Fault.OVERRUN) != 0  # which is told by itself
    line = ~is_marked & ((faults & ON_THE_LINE) != 0)
    behind = "overrun" if behind_the_line(characters) == "hardware" else "overflow"
    for chosen, kind in ((line, "counter-gap"), (~line & ~is_marked, behind)):
        if not chosen.any():
            continue
        first = int(places[chosen][0])
        count = int(missing[chosen].sum())
        detail = (
            f"The characters count up, and {number_of(count, 'character')} {'is' if count == 1 else 'are'} missing, "
            f"{int(missing[chosen][0])} at the first place (or {cycle} more, or twice as many more, and so on)."
        )
        yield make_finding(
            kind,
            wire,
            int(chosen.sum()),
            first_s=time_of(characters, first),
            offset=first,
            detail=detail,
            meaning=None if kind == "overrun" else _meaning(kind, shows=shows_line_faults(characters)),
            advice=ADVICE if kind == "overflow" else None,
        )
    doubled = jumps[~is_changed & (steps[jumps] == 0)] + 1
    if len(doubled):
        first = int(doubled[0])
        first_s = time_of(characters, first)
        yield make_finding(
            "counter-repeat",
            wire,
            len(doubled),
            first_s=first_s,
            offset=first,
            detail="The characters count up, and these stand there twice.",
            meaning="",
            advice="Look for an echo, a sender that repeats, or a buffer that is read twice.",
        )


ADVICE = (
    "Look at the receiver's buffers: plan and decode tell from [receive] how large they must be, and how soon they "
    "must be emptied."
)


def _meaning(kind: str, *, shows: bool) -> str:
    if kind == "counter-gap":
        return "The line shows faults there: they were lost on the line."
    if shows:
        return "The line shows no fault around the place: they were lost in a buffer."
    return (
        "The capture holds bytes alone, no line faults; most likely a software buffer lost them, but a loss on the "
        "line cannot be ruled out from here."
    )
