"""Following a chain: each candidate says how many candidates further its successor is.

Whether a falling edge begins a character depends on whether the edge before did, and so on: a chain that
cannot be followed for all candidates at once. But it can be followed for thousands of stretches side by side,
if one knows how many candidates each stretch has to let pass at its beginning. That number is guessed by
running the second half of the stretch before it, then compared with what that stretch really hands over; the
stretches that guessed wrongly are run again. Data that never settles (periodic, out of step) is run with every
possible number, once; what the stretches hand over then is joined by groups.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

STRETCH = 32  # candidates a stretch
ROUNDS = 4  # corrections before every possible beginning is tried
GROUP = 64  # stretches that are joined first
WIDEST_STEP = 64  # beyond it trying every possible beginning costs more than walking

Steps = npt.NDArray[np.integer]
Mask = npt.NDArray[np.bool_]


def follow_chain(steps: Steps) -> Mask:
    """Find the members of the chain that begins at candidate 0.

    Parameters
    ----------
    steps : ndarray of int, shape (n_candidates,)
        How many candidates further the successor of each would be, 1 or more.

    Returns
    -------
    ndarray of bool, shape (n_candidates,)
        Whether each candidate is on the chain.
    """
    count = len(steps)
    widest = int(steps.max()) if count else 1
    if widest <= 1:
        return np.ones(count, dtype=np.bool_)
    if widest > WIDEST_STEP or count < 8 * STRETCH:
        return _walk(steps)
    stretches = -(-count // STRETCH)
    padded = np.ones(stretches * STRETCH, dtype=np.uint8)
    padded[:count] = steps
    rows = np.ascontiguousarray(padded.reshape(stretches, STRETCH).T)
    begins = _begins(rows, widest)
    members = np.empty(rows.shape, dtype=np.bool_)
    _run(rows, begins, members)
    return np.ascontiguousarray(members.T).reshape(-1)[:count]


def _begins(rows: npt.NDArray[np.uint8], widest: int) -> npt.NDArray[np.uint8]:
    """Return how many candidates each stretch lets pass before its first member."""
    guess = _run(rows[STRETCH // 2 :], np.zeros(rows.shape[1], np.uint8))
    begins = np.zeros_like(guess)
    begins[1:] = guess[:-1]
    ends = _run(rows, begins)
    for _ in range(ROUNDS):
        wrong = np.flatnonzero(begins[1:] != ends[:-1]) + 1
        if not wrong.size:
            return begins
        begins[wrong] = ends[wrong - 1]
        ends[wrong] = _run(rows[:, wrong], begins[wrong])
    every = np.stack([_run(rows, np.full(rows.shape[1], n, np.uint8)) for n in range(widest)], axis=1)
    return _joined(every)


def _joined(every: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """Return with how many each stretch begins, from what each hands over for every number.

    Neighbours are joined to groups, whose members are gone through side by side; then the groups themselves.
    """
    count, widest = every.shape
    if count <= GROUP:
        numbers = [0]
        for hands_over in every.tolist():
            numbers.append(hands_over[numbers[-1]])
        return np.array(numbers[:-1], dtype=np.uint8)
    groups = -(-count // GROUP)
    padded = np.zeros((groups * GROUP, widest), dtype=np.uint8)
    padded[:count] = every
    members = np.ascontiguousarray(padded.reshape(groups, GROUP, widest).swapaxes(0, 1)).reshape(GROUP, -1)
    first_of = np.arange(groups) * widest
    whole = np.tile(np.arange(widest, dtype=np.uint8), groups)
    for member in members:
        whole = member.take(whole + np.repeat(first_of, widest))
    begins = np.empty((GROUP, groups), dtype=np.uint8)
    passed = _joined(whole.reshape(groups, widest))
    for place, member in enumerate(members):
        begins[place] = passed
        passed = member.take(passed + first_of)
    return np.ascontiguousarray(begins.T).reshape(-1)[:count]


def _run(
    rows: npt.NDArray[np.uint8], begins: npt.NDArray[np.uint8], members: Mask | None = None
) -> npt.NDArray[np.uint8]:
    """Run all stretches side by side; return how many candidates each hands over to be let pass."""
    waiting = begins.copy()
    for place, row in enumerate(rows):
        member = waiting == 0
        if members is not None:
            members[place] = member
        waiting += row * member
        waiting -= 1
    return waiting


def _walk(steps: Steps) -> Mask:
    """Follow the chain member by member."""
    members = np.zeros(len(steps), dtype=np.bool_)
    ahead = steps.tolist()
    chain, place, count = [], 0, len(ahead)
    while place < count:
        chain.append(place)
        place += ahead[place]
    members[chain] = True
    return members
