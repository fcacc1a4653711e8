"""``larkreader schema``: the JSON Schema of a sheet, or of what ``decode --json`` prints."""

from __future__ import annotations

import click

from .common import print_json


@click.command()
@click.option(
    "--of",
    "what",
    type=click.Choice(["sheet", "reading"]),
    default="sheet",
    show_default=True,
    help="A sheet, or the document that decode --json prints.",
)
def schema(what: str) -> None:
    """Print the JSON Schema of a sheet, by which editors complete and check it; or of a reading."""
    if what == "sheet":
        from larkreader.declare.schema import sheet_schema

        print_json(sheet_schema())
    else:
        from larkreader.judge.document import reading_schema

        print_json(reading_schema())
