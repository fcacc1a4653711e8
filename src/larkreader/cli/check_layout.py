"""``larkreader check-layout``: the frames of a sheet beside the structs of a C header."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from .common import InputFile, check_output, json_option, note, print_document, sheet_argument
from .completed import completed
from .grouped import command
from .header_options import header_options, read_named
from .output_file import OutputFile


@command(name="check-layout")
@sheet_argument
@click.argument("header", type=InputFile())
@click.option(
    "--frame",
    shell_complete=completed("frames"),
    metavar="NAME",
    help="The frame; that named as the struct by default.",
)
@click.option(
    "--struct", metavar="NAME", help="The struct, or a table of bit fields; STRUCT.MEMBER for a struct within it."
)
@click.option("--from-field", "first", metavar="FIELD", help="The field with which the struct begins.")
@click.option("--to-field", "last", metavar="FIELD", help="The field with which it ends.")
@click.option("--same", multiple=True, metavar="MEMBER=FIELD", help="A member and a field that are the same.")
@header_options
@click.option("--junit", type=OutputFile(".xml"), metavar="FILE", help="Write the fields as JUnit XML.")
@json_option
def check_layout(
    sheet: Path,
    header: Path,
    frame: str | None,
    struct: str | None,
    first: str | None,
    last: str | None,
    same: Sequence[str],
    target: str,
    define: Sequence[str],
    include: Sequence[Path],
    junit: Path | None,
    as_json: bool,
) -> int:
    """Compare the frames of SHEET with the structs of the C HEADER: order, places, widths, signs, byte order, length.

    Without options each frame is compared with the struct of its name. Nothing of the header is compiled. The exit
    status is 1 if anything differs.
    """
    from larkreader.answers.layout_check.compared import worst_verdict
    from larkreader.answers.layout_check.comparison import check_layouts
    from larkreader.declare.document.sheet_file import open_sheet

    check_output(junit)
    declared = open_sheet(sheet)
    read = read_named(header, target, define, include)
    results, alone = check_layouts(declared, read, frame, struct, first=first, last=last, same=_pairs(same))
    verdict = worst_verdict(results)
    if junit is not None:
        from larkreader.present.documents.cases import cases_of
        from larkreader.present.documents.junit import write_junit

        cases = [case for result in results for case in cases_of(result)]
        write_junit(junit, f"layouts {header.name}", cases)
        note(f"{len(cases)} fields written to {junit}")
    if as_json:
        document = {"sheet": str(sheet), "header": str(header), "verdict": verdict, "without_struct": alone}
        print_document("layout-check", {**document, "comparisons": [result.to_dict() for result in results]})
    else:
        from larkreader.present.tables import layout_check_view
        from larkreader.present.text import terminal

        console = terminal.make_console()
        for number, result in enumerate(results):
            console.print(*([""] if number else []), terminal.Paragraph(layout_check_view.heading_of(result)), sep="\n")
            console.print("", layout_check_view.layout_check(result), sep="\n")
    if alone:
        note(f"note: {header} has no struct for {', '.join(alone)}: not compared")
    return 1 if verdict == "differs" else 0


def _pairs(same: Sequence[str]) -> dict[str, str]:
    """Return fields by member, as ``--same`` gives them."""
    from larkreader.errors import RequestError

    pairs = {}
    for text in same:
        member, sign, field = text.partition("=")
        if not (member and sign and field):
            raise RequestError("--same", f'is "{text}"', "must be MEMBER=FIELD")
        pairs[member] = field
    return pairs
