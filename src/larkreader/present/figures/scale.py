"""Units of axes, in engineering notation."""

from __future__ import annotations

TIME_UNITS = (("s", 1.0), ("ms", 1e3), ("\u00b5s", 1e6), ("ns", 1e9))


def time_scale(span_s: float) -> tuple[str, float]:
    """Return the unit of a time axis, and how many of it are a second, so that numbers on it are readable.

    Parameters
    ----------
    span_s : float
        The longest time on the axis, in seconds.
    """
    for unit, factor in TIME_UNITS:
        if span_s * factor >= 2:
            return unit, factor
    return TIME_UNITS[-1]
