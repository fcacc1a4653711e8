"""The settings of a link as constants of C: its lines, and what an end writes into its baud generator."""

from __future__ import annotations

from collections.abc import Iterator

from larkreader.declare.document.sheet import Sheet


def settings_lines(sheet: Sheet, end: str | None, upper: str) -> Iterator[str]:
    """Yield the lines of C that hold the settings.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    end : str, optional
        The end whose registers are written too.
    upper : str
        What the names of constants begin with.
    """
    return iter(())
