"""``larkreader draw``: one figure from a sheet, a capture or a port."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import check_figure, check_span, json_option, note, print_written, standard_input, wire_option
from .completed import completed
from .figures import FIGURES, Wanted, draw_into
from .forms import form_options
from .grouped import command
from .line_option import line_options, refuse_signals, sheet_of_settings
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.declare.run.capture_form import CaptureKind

_LIST = "\n".join(f"{name:9} {item.summary}" for name, item in FIGURES.items())


@command(
    help=f"""Draw one figure of CAPTURE, read as SHEET declares it.

    \b
{_LIST}

    margin and layout need no capture; matrix and latency take the name of a port instead of one. A waveform begins just
    before the first line fault; --at or --first choose another place.
    """.replace("\n", "\n    ").replace("\n    \n", "\n\n")
)
@click.argument(
    "what", nargs=-1, required=True, metavar="[SHEET] [CAPTURE] FIGURE", shell_complete=completed("figures")
)
@line_options
@click.option(
    "-o", "--output", type=OutputFile(".png"), required=True, metavar="FILE", help="A .png, .svg or .pdf file."
)
@wire_option
@click.option(
    "--frame",
    metavar="NAME",
    shell_complete=completed("frames"),
    help="The layout. Default for fields: the layout with most frames.",
)
@click.option("--field", "fields", multiple=True, metavar="NAME", help="A field to draw; may be given several times.")
@click.option("--at", "at_s", type=float, metavar="SECONDS", help="Begin with the character at this time.")
@click.option("--first", type=int, metavar="NUMBER", help="Begin with this character, counted from 0.")
@click.option("--count", type=click.IntRange(1), help="How many characters to show; default 4.")
@click.option("--from", "from_s", type=float, metavar="SECONDS", help="Of timeline, fields and fill: from when on.")
@click.option("--to", "to_s", type=float, metavar="SECONDS", help="Until when.")
@form_options
@json_option
def draw(
    what: tuple[str, ...],
    settings: str | None,
    signals: tuple[str, ...],
    output: Path,
    kind: CaptureKind | None,
    given: dict[str, Any],
    as_json: bool,
    **asked: Any,
) -> int:
    """Draw one figure."""
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError, nearest

    *sources, figure = what
    if figure not in FIGURES:
        wanted = f"must be one of {', '.join(FIGURES)}"
        raise RequestError("figure", f'is "{figure}"', wanted, nearest(figure, list(FIGURES)))
    needs = FIGURES[figure].needs
    if settings is not None and needs != "capture":
        raise RequestError("--line", f"goes with a capture, and {figure} is made from the {needs}", "", "Name a sheet")
    names = ([] if settings is not None else ["SHEET"]) + ([] if needs == "sheet" else [needs.upper()])
    if len(sources) > len(names):
        found = "is an argument too many" + (f"; {figure} is made from the sheet alone" if needs == "sheet" else "")
        raise RequestError(f'"{sources[-1]}"', found)
    if len(sources) < len(names):
        found = f"needs a {'sheet' if not sources and settings is None else needs}"
        raise RequestError(figure, found, f"write larkreader draw {' '.join([*names, figure])} -o FILE")
    for name, value in asked.items():
        if value not in (None, ()) and name not in FIGURES[figure].takes:
            option = "--" + name.removesuffix("_s").replace("fields", "field")
            raise RequestError(option, f"does not apply to {figure}", advice="Leave it out")
    check_span(asked["from_s"], asked["to_s"])
    check_figure(output)
    paths = [standard_input() if source == "-" else Path(source) for source in sources]
    if settings is None:
        refuse_signals(signals)
        sheet, *rest = paths
        source = (sources[1] if needs == "port" else rest[0]) if rest else None
    else:
        source = paths[0]
        sheet = sheet_of_settings(source, settings, signals, kind, given)
    made_from = Wanted(open_sheet(sheet), source, folder=sheet.parent, kind=kind, given=given, **asked)
    result = draw_into(figure, made_from, output)
    if as_json:
        print_written({str(output): f"{figure} {result}"})
    note(f"{figure} {result} drawn into {output}")
    return 0
