"""``larkreader emit``: C from the sheet, for the firmware at the other end."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

from .common import json_option, note, print_written, sheet_argument
from .completed import completed
from .grouped import command


@command()
@sheet_argument
@click.option(
    "-o",
    "--output",
    "into",
    type=click.Path(path_type=Path),
    required=True,
    metavar="DIR",
    help="Write into this folder.",
)
@click.option(
    "--end",
    shell_complete=completed("ends"),
    metavar="NAME",
    help="The end whose firmware it is: with its registers, and parsers only for what it receives.",
)
@click.option("--name", metavar="NAME", help="What files and names begin with; that of the sheet's file by default.")
@click.option(
    "--checksums",
    type=click.Choice(["table", "bits"]),
    default="table",
    show_default=True,
    help="How CRCs are calculated: by a table of 256 entries, or bit by bit, slower and smaller.",
)
@click.option(
    "--values",
    type=click.Choice(["float", "double"]),
    help="Add a struct in units for each frame, with this type for values that have a scale.",
)
@json_option
def emit(
    sheet: Path,
    into: Path,
    end: str | None,
    name: str | None,
    checksums: Literal["table", "bits"],
    values: Literal["float", "double"] | None,
    as_json: bool,
) -> int:
    """Write the frames, checksums, parsers and settings of SHEET as C99: a header and a source.

    A file that was not emitted is never overwritten.
    """
    from larkreader.answers.firmware.c_names import c_word
    from larkreader.answers.firmware.written import write_c
    from larkreader.declare.document.sheet_file import open_sheet

    declared = open_sheet(sheet)
    called = name or c_word(sheet.stem).lower()
    written = write_c(into, declared, end, name=called, checksums=checksums, values=values)
    if as_json:
        print_written({str(path): "C" for path in written})
    for path in written:
        note(f"{path} written, {path.stat().st_size:,} bytes")
    if not as_json:
        note(f"now try: cc -std=c99 -Wall -c {written[-1]}")
    return 0
