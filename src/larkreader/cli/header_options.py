"""How a C header is read: for which compiler, with which macros, and where what it includes is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import note

if TYPE_CHECKING:
    from larkreader.answers.c_header.contents import CHeader

# as `larkreader.answers.c_header.targets` has them, which is loaded when a header is read; a test compares the two
TARGETS = ("arm", "avr", "msp430", "riscv", "powerpc", "x86-64", "windows")


def header_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options of a C header to a command."""
    for option in (
        click.option(
            "--include",
            type=click.Path(path_type=Path, file_okay=False, exists=True),
            multiple=True,
            metavar="DIR",
            help="Look here too for headers that HEADER includes.",
        ),
        click.option(
            "--define",
            multiple=True,
            metavar="NAME[=TEXT]",
            help="Define a macro, or a type that HEADER does not declare.",
        ),
        click.option(
            "--target",
            type=click.Choice(TARGETS),
            default="arm",
            show_default=True,
            help="The chip whose compiler lays structs out.",
        ),
    ):
        function = option(function)
    return function


def read_named(header: Path, target: str, define: Sequence[str], include: Sequence[Path]) -> CHeader:
    """Read a header by these options, and note what it includes that was not read."""
    from larkreader.answers.c_header.header import read_header

    macros = {name: text if sign else "1" for name, sign, text in (item.partition("=") for item in define)}
    read = read_header(header, target, define=macros, folders=include)
    if read.missing:
        note(f"note: not read, as it is not there: {', '.join(read.missing)}")
    return read
