"""``larkreader layout``: the frames of a sheet as tables or as a picture."""

from __future__ import annotations

from pathlib import Path

import click

from .common import check_figure, note, print_document, sheet_argument
from .completed import completed
from .grouped import command
from .output_file import OutputFile


@command()
@sheet_argument
@click.argument("frame", required=False, shell_complete=completed("frames"))
@click.option("-o", "--output", type=OutputFile(".png"), metavar="FILE", help="Draw it into a .png, .svg or .pdf file.")
@click.option("--json", "as_json", is_flag=True, help="Print the tables as JSON.")
def layout(sheet: Path, frame: str | None, output: Path | None, as_json: bool) -> int:
    """Show where the bits of each field lie in the frames of SHEET, or in one FRAME of them."""
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError, nearest
    from larkreader.present.tables import reading_views
    from larkreader.present.tables.layout_table import layout_document
    from larkreader.present.text import terminal

    declared = open_sheet(sheet)
    if frame is not None and frame not in declared.frame:
        raise RequestError(f'frame "{frame}"', f"is not on {sheet}", "", nearest(frame, list(declared.frame)))
    chosen = list(declared.frame.values()) if frame is None else [declared.frame[frame]]
    if not chosen:
        raise RequestError(str(sheet), "declares no frame")
    if output is not None:
        check_figure(output)
        if len(chosen) > 1:
            raise RequestError("--output", "is for a single frame", f"name one of {', '.join(declared.frame)}")
        from larkreader.present.figures.layout import draw_layout
        from larkreader.present.figures.style import new_figure, write_figure

        picture = new_figure()
        draw_layout(chosen[0], ax=picture.add_subplot())
        write_figure(picture, output)
        note(f"{chosen[0].key} drawn into {output}")
        return 0
    if as_json:
        print_document("layout", {"frames": {item.key: layout_document(item) for item in chosen}})
        return 0
    console = terminal.make_console()
    for number, item in enumerate(chosen):
        console.print(*([""] if number else []), reading_views.layout_table(item), sep="\n")
    return 0
