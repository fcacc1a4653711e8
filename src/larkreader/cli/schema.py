"""``larkreader schema``: the sheet's JSON Schema."""

from __future__ import annotations

import click

from .common import print_json


@click.command()
def schema() -> int:
    """Print the sheet's JSON Schema, by which editors complete and check a sheet while it is written."""
    from larkreader.declare.schema import sheet_schema

    print_json(sheet_schema())
    return 0
