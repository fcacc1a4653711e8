"""Results as text for a terminal: what is shown, never what it is."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, TextIO

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

if TYPE_CHECKING:
    pass

LONGEST_WHOLE = 24  # of a name that is not folded
WIDE = 100  # columns of a terminal from which everything is shown
SAMPLE = 40  # characters of what arrived that are shown


class _Console(Console):
    """A console that leaves it to the command to end when the reader of its output went away."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def make_console(*, stderr: bool = False, into: TextIO | None = None) -> Console:
    """Return a console that writes plain text when it is not a terminal; `into` is what else it writes into."""
    if into is not None:
        return _Console(file=into, highlight=False, emoji=False, legacy_windows=False)
    stream = sys.stderr if stderr else sys.stdout
    legacy = None if stream.isatty() else False  # what is not a console of Windows has none of its limits
    return _Console(stderr=stderr, highlight=False, emoji=False, soft_wrap=False, legacy_windows=legacy)


def heading(text: str) -> Text:
    """Show the title of a part."""
    return Text(f"\n{text}\n", style="bold underline")


def files(written: Mapping[str, Any]) -> Table:
    """Show which files were written."""
    table = new_table("file", "what it holds")
    for path, what in written.items():
        table.add_row(path, str(what))
    return table


def new_table(*columns: str) -> Table:
    """Make a table of our own kind; a column that begins with ``>`` is aligned to the right."""
    table = Table(box=box.SIMPLE_HEAD, padding=(0, 1, 0, 0), pad_edge=False, show_edge=False, header_style="bold")
    for column in columns:
        table.add_column(
            column.removeprefix(">"), justify="right" if column.startswith(">") else "left", overflow="fold"
        )
    return table


def kept_whole(table: Table, columns: int) -> Table:
    """Return a table whose first columns are not folded where their words are short, for the others to be."""
    for column in table.columns[:columns]:
        longest = max(map(len, (str(cell) for cell in (column.header, *column.cells))), default=0)
        column.min_width = min(longest, LONGEST_WHOLE)
    return table


def duration(seconds: float) -> str:
    """Write a duration with three digits and a fitting unit."""
    size = abs(seconds)
    if size < 5e-10:
        return "0 s"
    unit, factor = (
        ("s", 1.0) if size >= 1 else ("ms", 1e3) if size >= 1e-3 else ("us", 1e6) if size >= 1e-6 else ("ns", 1e9)
    )
    return f"{seconds * factor:.3g} {unit}"
