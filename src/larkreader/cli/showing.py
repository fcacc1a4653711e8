"""Options that say how what passes on live wires is shown."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from .common import Decorator, console_form

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.present.text.views import View

ENDING_NAMES: dict[str, str | None] = {"none": None, "cr": "CR", "lf": "LF", "crlf": "CR LF", "nul": "NUL"}

numbers_option: Decorator = click.option(
    "--numbers",
    type=click.Choice(["hex", "decimal", "octal", "binary", "all"]),
    default="hex",
    show_default=True,
    metavar="FORM",
    help="How characters are written as numbers: hex, decimal, octal, binary, or all, each in a row of its own.",
)
encoding_option: Decorator = click.option(
    "--encoding", default="ascii", show_default=True, metavar="NAME", help="Of text, such as utf-8 or latin-1."
)


@dataclass(frozen=True)
class DisplayOptions:
    """The options for what is shown."""

    show: str | None
    numbers: str
    encoding: str
    fields: str | None
    strip_escapes: bool


def showing_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options to a command."""
    for option in (
        click.option("--strip-escapes", is_flag=True, help="Leave escape sequences out of lines, and count them."),
        click.option("--fields", metavar="NAME,...", help="Show these fields of frames alone."),
        encoding_option,
        numbers_option,
        click.option(
            "--show",
            type=click.Choice(["characters", "lines", "frames", "bytes", "values", "timeline", "nothing"]),
            help="What to show: characters; lines of text; frames by their fields; by their bytes; a table of "
            "their last values; with listen, the messages of all wires with what answers what; or nothing.",
        ),
    ):
        command = option(command)
    return command


def make_view(
    showing: DisplayOptions,
    wires: Sequence[str],
    declared: Sheet | None,
    ending: str | None,
    *,
    width: int | None = None,
) -> View:
    """Make what shows some wires.

    Parameters
    ----------
    showing : DisplayOptions
        The options; the default of those not given depends on the sheet.
    wires : sequence of str
        Their names; an empty one where the name is shown elsewhere.
    declared : Sheet, optional
        Has the layouts of frames.
    ending : str, optional
        What ends lines, as in `ENDING_NAMES`.
    width : int, optional
        Columns there are; those of the terminal by default.

    Raises
    ------
    RequestError
        If options contradict each other or the sheet.
    """
    from larkreader.errors import RequestError, nearest
    from larkreader.exercise.payload.typed_input import ENDINGS
    from larkreader.present.tables.frame_views import FrameView
    from larkreader.present.tables.value_view import ValueView
    from larkreader.present.text.dump import DumpForm
    from larkreader.present.text.notation import check_encoding
    from larkreader.present.text.views import CharacterView, LineView

    layouts = {wire: declared.layouts_of(wire) if declared else () for wire in wires}
    show = showing.show or ("frames" if any(layouts.values()) else "characters")
    if show in ("frames", "bytes", "values") and not any(layouts.values()):
        advice = "Add --sheet SHEET" if declared is None else "It declares none for these wires"
        raise RequestError(f"--show {show}", "has no layouts", "must go with a sheet that declares frames", advice)
    if show == "timeline" and not declared:
        raise RequestError("--show timeline", "has no sheet", "must go with --sheet", "Only a declared link has pairs")
    if showing.strip_escapes and show != "lines":
        raise RequestError("--strip-escapes", f"goes with --show {show}", "must go with --show lines")
    fields = [item.strip() for item in (showing.fields or "").split(",") if item.strip()]
    if fields and show not in ("frames", "values"):
        raise RequestError("--fields", f"goes with --show {show}", "must go with --show frames or values")
    known = list(dict.fromkeys(name for some in layouts.values() for layout in some for name in layout.slot))
    for name in fields:
        if name not in known:
            raise RequestError(f'field "{name}"', "is in no frame of these wires", advice=nearest(name, known))
    columns, ascii_only = console_form()
    form = DumpForm(
        who_width=0 if width is not None else max(map(len, wires)),
        width=columns if width is None else width,
        ascii_only=ascii_only,
        notation=None if showing.numbers == "all" else showing.numbers,  # type: ignore[arg-type]  # as the choices are
        encoding=check_encoding(showing.encoding),
    )
    if show == "lines":
        return LineView(form, ENDINGS[ending] if ending else None, is_stripped=showing.strip_escapes)
    if show in ("characters", "timeline", "nothing"):
        return CharacterView(form)
    if show == "values":
        return ValueView(form, layouts, fields)
    return FrameView(form, layouts, fields, as_bytes=show == "bytes")
