"""``larkreader schema``: the JSON Schema of a sheet, or of what a command prints with ``--json``."""

from __future__ import annotations

import click

from .common import print_json
from .grouped import command

# as `larkreader.present.documents.schemas` has them, which is loaded when one is printed; a test compares the two
DOCUMENTS = (
    "reading", "plan", "divisors", "generators", "diagnosis", "trials", "flow-probe", "statistics", "frame", "bytes",
    "changes", "layout", "ports", "port-change", "loopback", "tolerance", "torture", "dialogue", "timeline", "campaign",
    "layout-check", "written", "demo", "serving",
)  # fmt: skip


@command()
@click.option(
    "--of",
    "what",
    type=click.Choice(["sheet", *DOCUMENTS]),
    default="sheet",
    show_default=True,
    help="A sheet, or a document that a command prints with --json, by what it gives as its kind.",
)
@click.option("--json", is_flag=True, expose_value=False, help="As without it: a schema is JSON.")
def schema(what: str) -> None:
    """Print the JSON Schema of a sheet, by which editors complete and check it; or of what --json prints."""
    if what == "sheet":
        from larkreader.declare.document.schema import sheet_schema

        print_json(sheet_schema())
    else:
        from larkreader.present.documents.schemas import document_schema

        print_json(document_schema(what))
