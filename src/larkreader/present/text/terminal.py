"""Results as text for a terminal: what is shown, never what it is."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable, Mapping
from itertools import zip_longest
from typing import Any, Literal, TextIO

from rich import box
from rich.console import Console, ConsoleOptions, RenderableType
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

ColorUse = Literal["auto", "always", "never"]
LONGEST_WHOLE = 24  # of a name that is not folded
WIDE = 100  # columns of a terminal from which everything is shown
SAMPLE = 40  # characters of what arrived that are shown


BOND = "\ue000"  # of the private use area: one column wide, and no space where a line is broken
_NUMBER_AND_WORD = re.compile(r"(?<![^\s(])([+\-\u00b1]?\d[\d,.]*) (?=[A-Za-z%\u00b5])")
ERROR, WARNING, NOTE = "bold reverse #b23a17", "bold reverse #a9741a", "dim"
WIRES = ("#4f86c6", "#c98a2b")  # of two wires: blue and ochre, distinct for every colour vision
_color: ColorUse = "auto"


def use_color(when: ColorUse) -> None:
    """Set when consoles that are made from now on use colours; auto: on a terminal, unless NO_COLOR is set."""
    global _color
    _color = when


def wire_text(text: str, wire: str, wires: Iterable[str]) -> Text:
    """Return a text in the colour of a wire among others: each of two has one, and more have none."""
    styles = dict(zip_longest(wires, WIRES, fillvalue=""))
    return Text(text, style=styles.get(wire, "") if len(styles) == len(WIRES) else "")


def bound(text: str) -> str:
    """Return a text in which a number and the word behind it are not parted when it is wrapped; see `unbound`."""
    return _NUMBER_AND_WORD.sub(rf"\1{BOND}", text)


def whole(text: str) -> str:
    """Return a text that is not parted at all when it is wrapped; see `unbound`."""
    return text.replace(" ", BOND)


def unbound(text: str) -> str:
    """Return a text with spaces where `bound` put bonds."""
    return text.replace(BOND, " ")


class _Table(Table):
    """A table whose cells part no number from the word behind it."""

    def add_row(self, *cells: Any, **options: Any) -> None:
        super().add_row(*(_bound_cell(cell) for cell in cells), **options)


class Paragraph(Padding):
    """A paragraph of text that parts no number from the word behind it.

    Parameters
    ----------
    text : str or Text
        What it is.
    indent : int
        Columns before each line.
    """

    def __init__(self, text: str | Text, indent: int = 0) -> None:
        super().__init__(_bound_cell(Text(text) if isinstance(text, str) else text), (0, 0, 0, indent))


def _bound_cell(cell: Any) -> Any:
    if isinstance(cell, Text):
        cell = cell.copy()
        cell.plain = bound(cell.plain)
        return cell
    return bound(cell) if isinstance(cell, str) else cell


class _Console(Console):
    """A console that parts no number from the word behind it.

    It leaves it to the command to end when the reader of its output went away.
    """

    def render_str(self, text: str, **options: Any) -> Text:
        return super().render_str(bound(text), **options)

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for part in super().render(renderable, options):
            yield Segment(unbound(part.text), part.style, part.control) if BOND in part.text else part

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def make_console(*, stderr: bool = False, into: TextIO | None = None) -> Console:
    """Return a console that writes plain text when it is not a terminal; `into` is what else it writes into."""
    if into is not None:
        return _Console(file=into, highlight=False, emoji=False, legacy_windows=False)
    stream = sys.stderr if stderr else sys.stdout
    legacy = None if stream.isatty() else False  # what is not a console of Windows has none of its limits
    forced = {"always": True, "never": False}.get(_color)
    return _Console(
        stderr=stderr,
        highlight=False,
        emoji=False,
        soft_wrap=False,
        legacy_windows=legacy,
        force_terminal=forced,
        no_color=None if forced is None else not forced,
        color_system="standard" if forced and not stream.isatty() else "auto",
    )


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
    table = _Table(box=box.SIMPLE_HEAD, padding=(0, 1, 0, 0), pad_edge=False, show_edge=False, header_style="bold")
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
