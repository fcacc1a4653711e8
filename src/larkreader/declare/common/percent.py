"""Shares written in percent, with a space before the sign as ISO 80000-1 has it."""

from __future__ import annotations


def percent_text(share: float, form: str = ".2f") -> str:
    """Write a share in percent.

    Parameters
    ----------
    share : float
        1 is all.
    form : str
        How the number of percent is written, as Python's format strings have it.

    Examples
    --------
    >>> from larkreader.declare.common.percent import percent_text
    >>> percent_text(0.0355), percent_text(0.0086, "+.3f")
    ('3.55 %', '+0.860 %')
    """
    return f"{100 * share:{form}} %"


def change_text(share: float) -> str:
    """Write a share in percent, with its sign."""
    return percent_text(share, "+.2f")
