"""How likely chance alone is: tests of shares and of ratios, and what holds for many tests at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from scipy.special import gammaln, ndtr

SAME = 1e-7  # by what share a probability may be larger and still count as equally rare


def chance_of_shares(with_it: int, of: int, other_with_it: int, other_of: int) -> float:
    """Return how likely two shares differ at least as much by chance: Fisher's exact test, two-sided.

    Parameters
    ----------
    with_it, of : int
        In how many captures something occurs, and how many there are.
    other_with_it, other_of : int
        The same of the other captures.

    Returns
    -------
    float
        0 to 1.

    Notes
    -----
    R. A. Fisher, "Statistical Methods for Research Workers", 1934, section 21.02. The chances of all tables with the
    same margins that are no more likely than the table found are added up.

    Examples
    --------
    >>> from larkreader.judge.campaign.chance import chance_of_shares
    >>> round(chance_of_shares(3, 4, 1, 4), 6)  # the lady tasting tea, two-sided
    0.485714
    """
    total, successes = of + other_of, with_it + other_with_it
    least, most = max(0, successes - other_of), min(of, successes)
    tables = np.arange(least, most + 1)
    logs = (
        _log_choose(of, tables) + _log_choose(other_of, successes - tables) - _log_choose(total, np.array([successes]))
    )
    found = logs[with_it - least]
    return float(min(1.0, np.exp(logs[logs <= found + SAME]).sum()))


def _log_choose(count: int, chosen: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    result: npt.NDArray[np.float64] = gammaln(count + 1) - gammaln(chosen + 1) - gammaln(count - chosen + 1)
    return result


def chance_of_ratios(ratios: npt.ArrayLike, others: npt.ArrayLike) -> float:
    """Return how likely two groups of ratios differ at least as much by chance: Mann and Whitney's test, two-sided.

    Parameters
    ----------
    ratios, others : array_like of float
        A ratio for each capture.

    Returns
    -------
    float
        0 to 1; 1 where a group is empty.

    Notes
    -----
    H. B. Mann and D. R. Whitney, "On a test of whether one of two random variables is stochastically larger than the
    other", 1947; by the normal approximation, with equal ratios corrected for and with half a rank for continuity.
    """
    first, second = (np.asarray(some, np.float64) for some in (ratios, others))
    if not len(first) or not len(second):
        return 1.0
    every = np.concatenate([first, second])
    _, place, often = np.unique(every, return_inverse=True, return_counts=True)
    ranks = (np.cumsum(often) - (often - 1) / 2)[place]
    total = len(every)
    above = float(ranks[: len(first)].sum()) - len(first) * (len(first) + 1) / 2
    ties = float((often.astype(np.float64) ** 3 - often).sum())
    variance = len(first) * len(second) / 12 * (total + 1 - ties / (total * (total - 1)))
    if variance <= 0:
        return 1.0
    distance = max(abs(above - len(first) * len(second) / 2) - 0.5, 0.0)
    return float(min(1.0, 2 * ndtr(-distance / np.sqrt(variance))))


def corrected(chances: Sequence[float]) -> list[float]:
    """Return chances that hold for all of them at once.

    Parameters
    ----------
    chances : sequence of float
        Of tests that are looked at together.

    Returns
    -------
    list of float
        In the same order; below a limit with the chance of that limit that any of them is so by chance.

    Notes
    -----
    S. Holm, "A simple sequentially rejective multiple test procedure", Scandinavian Journal of Statistics 6, 1979.

    Examples
    --------
    >>> from larkreader.judge.campaign.chance import corrected
    >>> corrected([0.01, 0.04, 0.03])
    [0.03, 0.06, 0.06]
    """
    result, highest = [1.0] * len(chances), 0.0
    for place, number in enumerate(sorted(range(len(chances)), key=chances.__getitem__)):
        highest = max(highest, min(1.0, (len(chances) - place) * chances[number]))
        result[number] = highest
    return result
