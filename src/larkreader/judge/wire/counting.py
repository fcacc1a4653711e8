"""Whether characters that count up are all there.

A device that sends 0, 1, 2, ... shows by itself what was lost on the way: where the next value is not one more, the
difference says how many are missing, up to a multiple of the pattern's length. A value that is wrong alone, between two
that go on as they should, was changed and not lost.

Not every wire that counts up carries such a pattern. An alphabet or a ramp that repeats goes back to where it began; so
a jump back is a loss only where the pattern was seen to pass its highest value, and a jump that occurs again and again
between the same two values is none.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.judge.findings.finding import Finding, Places, make_finding

from .loss_causes import ON_THE_LINE
from .loss_findings import where_it_was

FEWEST = 64  # characters by which a counting pattern is known
SURE = 0.9  # of the steps that are one up
FEWEST_ALIKE = 2  # jumps between the same two values, from which on they belong to the pattern
OFTEN = 4  # the same where the pattern was seen to pass its highest value

Rows = npt.NDArray[np.int64]


def passes_highest(characters: Characters, data_bits: int) -> bool:
    """Return whether some characters count up beyond the highest value.

    Parameters
    ----------
    characters : Characters
        The characters.
    data_bits : int
        Of the line.
    """
    highest = (1 << min(data_bits, 8)) - 1
    return bool((((characters.value[:-1] & highest) == highest) & (characters.value[1:] == 0)).any())


def judge_counting(
    wire: str, characters: Characters, data_bits: int, *, passed_highest: bool = False
) -> Iterator[Finding]:
    """Yield where characters of a counting pattern are missing.

    Parameters
    ----------
    wire : str
        Where they were seen.
    characters : Characters
        All of them; nothing is yielded unless nine tenths of them count up, and no ramp or alphabet explains the jumps.
    data_bits : int
        Of the line; the pattern begins again after the highest value.
    passed_highest : bool
        Whether the wire was seen to pass its highest value before these characters.

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
    jumps = jumps[~_are_changed(jumps, steps, cycle)]
    is_lost = steps[jumps] != 0
    lost = jumps[is_lost] + 1
    passed_highest = passed_highest or passes_highest(characters, data_bits)
    lost = lost[~_belong_to_the_pattern(value, lost, passed_highest=passed_highest)]
    missing = (steps[lost - 1] - 1) % cycle
    near = np.minimum(lost + 1, len(value) - 1)
    faults = characters.faults[lost - 1] | characters.faults[lost] | characters.faults[near]
    is_marked = characters.faults[lost] & np.uint8(Fault.OVERRUN) != 0  # which is a finding by itself
    line = ~is_marked & (faults & np.uint8(ON_THE_LINE) != 0)
    for chosen, kind in ((line, "counter-gap"), (~line & ~is_marked, "overflow")):
        if not chosen.any():
            continue
        whereabouts = where_it_was(has_line=characters.has_line, has_faults=bool(characters.faults.any()))
        yield make_finding(
            kind,
            wire,
            Places.on(characters, lost[chosen]),
            certainty="proven" if characters.has_line else "likely",
            counting=True,
            missing=int(missing[chosen].sum()),
            first_missing=int(missing[chosen][0]),
            cycle=cycle,
            **(whereabouts if kind == "overflow" else {}),
        )
    doubled = jumps[~is_lost] + 1
    if len(doubled):
        yield make_finding("counter-repeat", wire, Places.on(characters, doubled), counting=True)


def _are_changed(jumps: Rows, steps: Rows, cycle: int) -> npt.NDArray[np.bool_]:
    """Return which jumps lead to or from one wrong value: both steps beside it add up to two."""
    changed = np.zeros(len(jumps), np.bool_)
    pairs = np.flatnonzero(np.diff(jumps) == 1)
    pairs = pairs[(steps[jumps[pairs]] + steps[jumps[pairs] + 1]) % cycle == 2 % cycle]
    changed[pairs] = changed[pairs + 1] = True
    # the first and the last value are undecided
    either: npt.NDArray[np.bool_] = changed | (jumps == 0) | (jumps == len(steps) - 1)
    return either


def _belong_to_the_pattern(value: Rows, lost: Rows, *, passed_highest: bool) -> npt.NDArray[np.bool_]:
    """Return which jumps are not losses but the pattern: of an alphabet, a ramp, or a cycle other than all values.

    A jump back proves nothing unless the pattern was seen to pass its highest value; nor does one that occurs again and
    again between the same two values.
    """
    sources, targets = value[lost - 1], value[lost]
    _, which, often = np.unique(sources * 0x10000 + targets, return_inverse=True, return_counts=True)
    again = often[which.reshape(-1)]
    alike: npt.NDArray[np.bool_] = again >= (OFTEN if passed_highest else FEWEST_ALIKE)
    return alike | ((targets <= sources) & (not passed_highest))
