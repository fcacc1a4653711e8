"""The median of a column as `numpy.median` gives it, without loading `numpy.ma`, which delays a short command."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


def median_of(values: npt.NDArray[np.float64]) -> float:
    """Return the median of some numbers.

    Parameters
    ----------
    values : ndarray of float64, shape (n_values,)
        At least one; NaN where one of them is NaN.

    Returns
    -------
    float
        The middle number, or the mean of the middle two.

    Examples
    --------
    >>> from larkreader.capture.median import median_of
    >>> median_of(np.array([3.0, 1.0, 2.0])), median_of(np.array([4.0, 1.0, 2.0, 3.0]))
    (2.0, 2.5)
    """
    count = len(values)
    middle = count // 2
    wanted = [middle] if count % 2 else [middle - 1, middle]
    in_part = np.partition(values, [*wanted, count - 1])  # NaN is put last
    if in_part[-1] != in_part[-1]:
        return float("nan")
    return float(np.mean(in_part[wanted[0] : wanted[-1] + 1]))
