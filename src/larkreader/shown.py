"""What a notebook shows instead of a repr: asked for here, made by whoever can show things.

Models, columns and results know nothing of HTML. The package says once who makes it, and that is loaded when a notebook
asks.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_makers: list[Callable[[Any], str]] = []


class Shown:
    """Base of what a notebook shows as a table."""

    __slots__ = ()

    def _repr_html_(self) -> str | None:
        """Return what a notebook shows; None leaves it to the repr."""
        return _makers[-1](self) if _makers else None


def show_by(maker: Callable[[Any], str]) -> None:
    """Say who makes HTML of what a notebook is to show.

    Parameters
    ----------
    maker : callable
        Takes one of our objects, and returns HTML.
    """
    _makers[:] = [maker]
