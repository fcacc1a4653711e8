"""What a loopback expected, compared with what it received."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.declare.run.loopback import Alteration, LoopbackPlan
from larkreader.exercise.payload.patterns import as_written
from larkreader.exercise.payload.prbs import find_place, sequence_from

from .alignment import Alignment, align, align_step_by_step
from .result import Difference

AROUND = 8  # characters shown before and behind the first difference
FEWEST_ALIKE = 16  # characters from which it is not chance that all differ alike
SLACK = 2  # times as much of a sequence is made as was received, since some of it may be lost

Values = npt.NDArray[np.uint16]


@dataclass(frozen=True)
class Comparison:
    """How the characters received differ from those expected.

    Parameters
    ----------
    expected, received : ndarray of uint16, shapes (n_expected,) and (n_received,)
        What was compared.
    found : Alignment
        What is lost, changed and extra.
    bits : int
        Data bits of a character.
    constant : Alteration, optional
        The change with which every character returned.
    before : ndarray of uint16, shape (n_before,)
        Characters ahead of those compared.
    """

    expected: Values
    received: Values
    found: Alignment
    bits: int
    constant: Alteration | None
    before: Values

    @property
    def difference(self) -> Difference | None:
        """The surroundings of the first difference."""
        first = self.found.first
        return first and _difference(self.expected, self.received, *first, self.bits)

    @property
    def bit_errors(self) -> npt.NDArray[np.int64]:
        """How often each bit of a changed character is wrong, lowest bit first: shape (bits,)."""
        wrong = self.expected[self.found.changed_at[:, 0]] ^ self.received[self.found.changed_at[:, 1]]
        errors: npt.NDArray[np.int64] = (wrong[:, None] >> np.arange(self.bits) & 1).sum(axis=0, dtype=np.int64)
        return errors


def compare_sent(expected: Values, received: Values, bits: int, *, is_whole: bool) -> Comparison:
    """Compare what was received with what was expected of the characters sent.

    Parameters
    ----------
    expected, received : ndarray of uint16, shapes (n_expected,) and (n_received,)
        The characters.
    bits : int
        Data bits of a character.
    is_whole : bool
        Whether the run waited for everything; otherwise it is unknown whether the last characters would have returned,
        and those that are missing at the end do not count as lost.

    Returns
    -------
    Comparison
    """
    found = align(expected, received)
    if not is_whole:
        expected = expected[: len(expected) - _trailing(found.lost_at, len(expected))]
        found = align(expected, received)
    return _with_constant(expected, received, found, bits, received[:0])


def compare_sequence(received: Values, plan: LoopbackPlan) -> Comparison:
    """Compare received characters with the pseudo-random sequence that a plan names, from where they follow it.

    Parameters
    ----------
    received : ndarray of uint16, shape (n_received,)
        The characters.
    plan : LoopbackPlan
        Names the sequence.

    Returns
    -------
    Comparison
        Everything is `before` where the characters follow the sequence nowhere.
    """
    bits, stages = plan.data_bits, int(plan.pattern.removeprefix("prbs-"))
    begin = find_place(received, bits, stages)
    if begin is None:
        nothing = received[:0]
        return Comparison(nothing, nothing, align(nothing, nothing), bits, None, received)
    seen = received[begin:]
    expected = sequence_from(seen, SLACK * len(seen), bits, stages)
    # how much of it was sent is unknown: nothing behind the last character that fits was
    found = align_step_by_step(expected, seen)
    tail = expected[: len(expected) - _trailing(found.lost_at, len(expected))]
    return _with_constant(tail, seen, align(tail, seen), bits, received[:begin])


def _with_constant(expected: Values, received: Values, found: Alignment, bits: int, before: Values) -> Comparison:
    """Prefer one change of all characters to a loss and an addition that look alike."""
    constant = _constant_of(expected, received, found, bits)
    if constant is not None:
        places = np.flatnonzero(expected != received)
        nothing = np.empty(0, np.int64)
        found = Alignment(nothing, np.column_stack([places, places]), nothing, 0, (0, 0))
    return Comparison(expected, received, found, bits, constant, before)


def _constant_of(expected: Values, received: Values, found: Alignment, bits: int) -> Alteration | None:
    """Return the change with which every character returned: the same number added, or the same bits inverted.

    In a pattern that counts, a number added to all looks like a loss at the beginning and an addition at the end.
    """
    if found.first is None or len(expected) != len(received) or len(expected) < FEWEST_ALIKE:
        return None
    mask = (1 << bits) - 1
    added = (received.astype(np.int64) - expected) & mask
    if added[0] and (added == added[0]).all():
        add = int(added[0])
        return Alteration(add=add if add <= mask // 2 else add - mask - 1)
    turned = (received ^ expected) & mask
    return Alteration(xor=int(turned[0])) if turned[0] and (turned == turned[0]).all() else None


def _trailing(places: npt.NDArray[np.int64], count: int) -> int:
    """Return how many of some places lie at the very end."""
    behind = count - 1 - places[::-1]
    return int(np.count_nonzero(behind == np.arange(len(places))))


def _difference(sent: Values, received: Values, here: int, there: int, bits: int) -> Difference:
    before = min(AROUND, here, there)
    return Difference(
        offset=here,
        begin=here - before,
        sent=as_written(sent[here - before : here + AROUND], bits),
        received=as_written(received[there - before : there + AROUND], bits),
    )
