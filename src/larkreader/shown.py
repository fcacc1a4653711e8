"""What notebooks and `print` show of models, columns and results: asked for here, made by whoever can show things.

Models, columns and results know nothing of HTML and tables. The package sets once who makes them, and that is loaded
when something is shown.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Maker = Callable[[Any], str]
_makers: dict[str, Maker] = {}


class Shown:
    """Base of what a notebook shows as a table."""

    __slots__ = ()

    def _repr_html_(self) -> str | None:
        """Return what a notebook shows; None leaves it to the repr."""
        return _makers["html"](self) if _makers else None


def text_of(thing: Any) -> str:
    """Return what `print` shows of something that is shown as a table; its repr where there is none."""
    return _makers["text"](thing) if _makers else repr(thing)


def show_by(html: Maker, text: Maker) -> None:
    """Set who shows things.

    Parameters
    ----------
    html : callable
        Takes one of our objects, and returns what a notebook shows of it.
    text : callable
        Takes one of our objects, and returns what `print` shows of it.
    """
    _makers.update(html=html, text=text)
