"""How some times are distributed: a few figures, and a histogram."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.median import median_of

Seconds = npt.NDArray[np.float64]

MOST_BINS = 12  # of a histogram
NEARLY_ALL = 99  # percent


def histogram_of(times_s: Seconds) -> list[tuple[float, float, int]]:
    """Return how many times lie from one to another, in seconds: at most twelve stretches of one length.

    Parameters
    ----------
    times_s : ndarray of float64, shape (n,)
        The times, without NaN.
    """
    if not len(times_s):
        return []
    least, most = float(times_s.min()), float(times_s.max())
    bins = int(np.clip(np.sqrt(len(times_s)), 1, MOST_BINS)) if least < most else 1
    counts, bounds = np.histogram(times_s, bins=bins)
    return list(zip(bounds[:-1].tolist(), bounds[1:].tolist(), counts.tolist(), strict=True))


def figures_of(times_s: Seconds) -> dict[str, Any]:
    """Return count, least, median, that which 99 % do not exceed, and most; null without any time.

    Parameters
    ----------
    times_s : ndarray of float64, shape (n,)
        The times; NaN is left out.
    """
    known = times_s[np.isfinite(times_s)]
    if not len(known):
        return {"count": 0, "least_s": None, "median_s": None, "nearly_all_s": None, "most_s": None}
    return {
        "count": len(known),
        "least_s": float(known.min()),
        "median_s": median_of(known),
        "nearly_all_s": float(np.percentile(known, NEARLY_ALL, method="higher")),
        "most_s": float(known.max()),
    }
