"""Whether a number moves with another, how fast, and where it would reach a limit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.special import stdtr, stdtrit

LEAST_POINTS = 4  # from which a trend is taken
CONFIDENCE = 0.95  # of intervals


@dataclass(frozen=True)
class Trend:
    """A straight line through points, and how well it is known.

    Parameters
    ----------
    slope : float
        How much the number changes for 1 of the other.
    low, high : float
        Between which slopes the true slope lies, with a confidence of 95 %.
    points : int
        Through how many points the line goes.
    begin, end : float
        From where to where they reach.
    at_begin, at_end : float
        Where the line begins and ends.
    chance : float
        How likely points without a trend show as much of a slope: Student's t, two-sided.
    middle, squares : float
        The mean of the other number, and the squares of the distances from it, added up.
    variance : float
        Of points about the line.
    """

    slope: float
    low: float
    high: float
    points: int
    begin: float
    end: float
    at_begin: float
    at_end: float
    chance: float
    middle: float
    variance: float
    squares: float

    def crossing(self, limit: float) -> Crossing | None:
        """Return where the line reaches a limit.

        Parameters
        ----------
        limit : float
            Of the number.

        Returns
        -------
        Crossing or None
            None where the slope is not known well enough, and behind the points in the other direction.

        Notes
        -----
        E. C. Fieller, "Some problems in interval estimation", Journal of the Royal Statistical Society B 16, 1954: all
        places at which the line, as uncertain as it is, may reach the limit.
        """
        if self.slope == 0:
            return None
        middle_value = (self.at_begin + self.at_end) / 2 + self.slope * (self.middle - (self.begin + self.end) / 2)
        distance = limit - middle_value
        t = float(stdtrit(self.points - 2, (1 + CONFIDENCE) / 2))
        noise = t * t * self.variance
        # slope² u² - 2 slope distance u + distance² <= noise (1 / points + u² / squares), with u from the middle
        square = self.slope**2 - noise / self.squares
        if square <= 0:
            return None
        half = self.slope * distance
        under = half * half - square * (distance**2 - noise / self.points)
        root = float(np.sqrt(max(under, 0.0)))
        low, high = sorted((self.middle + (half - root) / square, self.middle + (half + root) / square))
        if not np.isfinite([low, high]).all():
            return None
        return Crossing(self.middle + distance / self.slope, low, high)


@dataclass(frozen=True)
class Crossing:
    """Where a line reaches a limit.

    Parameters
    ----------
    at : float
        Where it does.
    low, high : float
        Between which places it does, with a confidence of 95 %.
    """

    at: float
    low: float
    high: float


def fit_trend(at: npt.ArrayLike, values: npt.ArrayLike) -> Trend | None:
    """Fit a straight line by least squares.

    Parameters
    ----------
    at, values : array_like of float, shape (n,)
        Points; those with a NaN are left out.

    Returns
    -------
    Trend or None
        None for fewer than four points, or without two different places.

    Examples
    --------
    >>> from larkreader.judge.campaign.trends import fit_trend
    >>> trend = fit_trend([0, 10, 20, 30], [1.0, 3.1, 4.9, 7.0])
    >>> round(trend.slope, 3), trend.low < 0.2 < trend.high
    (0.198, True)
    >>> round(trend.crossing(9.0).at, 1)
    40.3
    """
    x, y = np.asarray(at, np.float64), np.asarray(values, np.float64)
    known = np.isfinite(x) & np.isfinite(y)
    x, y = x[known], y[known]
    middle = float(x.mean()) if len(x) else 0.0
    squares = float(((x - middle) ** 2).sum())
    if len(x) < LEAST_POINTS or squares <= 0:
        return None
    slope = float(((x - middle) * y).sum()) / squares
    level = float(y.mean())
    left = y - level - slope * (x - middle)
    variance = float(left @ left) / (len(x) - 2)
    error = float(np.sqrt(variance / squares))
    t = float(stdtrit(len(x) - 2, (1 + CONFIDENCE) / 2))
    chance = 2 * float(stdtr(len(x) - 2, -abs(slope) / error)) if error > 0 else float(slope == 0)
    begin, end = float(x.min()), float(x.max())
    return Trend(
        slope,
        slope - t * error,
        slope + t * error,
        len(x),
        begin,
        end,
        level + slope * (begin - middle),
        level + slope * (end - middle),
        chance,
        middle,
        variance,
        squares,
    )
