"""Which of many values stand far from the others."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.special import stdtrit

LEAST_VALUES = 8  # from which values can be odd
TO_DEVIATION = 1.4826  # times the median distance from the median is the standard deviation, of normal values
MEAN_TO_DEVIATION = 1.2533  # the same for the mean distance
FALSE_ALARM = 0.01  # chance that any of all values that are looked at together is called odd


def robust_scores(values: npt.ArrayLike, least: float = 0.0) -> npt.NDArray[np.float64]:
    """Return how many standard deviations each value lies from the median of all.

    Parameters
    ----------
    values : array_like of float, shape (n,)
        A value for each capture; NaN for none.
    least : float
        The least that is taken for the standard deviation.

    Returns
    -------
    ndarray of float64, shape (n,)
        NaN for none; 0 where most values are the same.

    Notes
    -----
    The standard deviation is taken from the median distance from the median, which odd values do not move; where most
    values are equal, from the mean distance. B. Iglewicz and D. C. Hoaglin, "How to detect and handle outliers", 1993.
    """
    x = np.asarray(values, np.float64)
    known = x[np.isfinite(x)]
    if len(known) < LEAST_VALUES:
        return np.where(np.isfinite(x), 0.0, np.nan)
    away = x - np.median(known)
    distances = np.abs(away[np.isfinite(away)])
    deviation = TO_DEVIATION * float(np.median(distances)) or MEAN_TO_DEVIATION * float(distances.mean())
    deviation = max(deviation, least)
    return away / deviation if deviation else np.where(np.isfinite(x), 0.0, np.nan)


def odd_from(count: int, tests: int) -> float:
    """Return from which score on a value is odd.

    Parameters
    ----------
    count : int
        Of how many values the deviation was taken.
    tests : int
        How many values are looked at together.

    Returns
    -------
    float
        So that with a chance of 99 % none of `tests` normal values is called odd.
    """
    return float(stdtrit(max(count - 1, 2), 1 - FALSE_ALARM / 2 / max(tests, 1)))
