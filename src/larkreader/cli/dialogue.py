"""``larkreader dialogue``: send what the sheet says, and compare the replies with what is expected."""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import check_output, json_option, note, print_document, sheet_argument
from .completed import completed
from .grouped import command
from .line_option import line_of
from .live import open_named
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet

INTERRUPTED = 130


@command()
@sheet_argument
@click.argument("ports", nargs=-1, metavar="[PORT]...", shell_complete=completed("ports"))
@click.option("--line", "line_text", metavar="TEXT", help='Settings such as "57600 8E1", instead of the sheet\'s.')
@click.option("--go-on", "continue_on_failure", is_flag=True, help="Continue after a step that failed.")
@click.option("--junit", type=OutputFile(".xml"), metavar="FILE", help="Write the steps as JUnit XML.")
@json_option
def dialogue(
    sheet: Path,
    ports: tuple[str, ...],
    line_text: str | None,
    continue_on_failure: bool,
    junit: Path | None,
    as_json: bool,
) -> int:
    """Do the steps that stand as [[exchange]] on SHEET, one after the other.

    Steps that name a port of the sheet are done there; the others at PORT, or at the first port of the sheet. NAME=PORT
    opens another port under the name of one of the sheet. The exit status is 1 if a step fails.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.exercise.talk.dialogue import run_dialogue

    check_output(junit)
    declared = open_sheet(sheet)
    if not declared.exchange:
        raise RequestError(str(sheet), "has no [[exchange]]", advice="Declare on the sheet what to send and to expect")
    line = line_of(line_text) if line_text else None
    with ExitStack() as stack:
        opened = {
            name: stack.enter_context(open_named(place, declared, line))
            for name, place in _places(declared, ports).items()
        }
        result = run_dialogue(opened, declared.exchange, declared.frame, continue_on_failure=continue_on_failure)
    if junit is not None:
        from larkreader.present.documents.junit import write_junit

        write_junit(junit, f"dialogue {sheet.name}", result)
        note(f"{len(result.steps)} steps written to {junit}")
    if as_json:
        print_document("dialogue", {"sheet": str(sheet), "ports": list(opened), **result.to_dict()})
    else:
        from larkreader.present.tables import dialogue_views
        from larkreader.present.text import terminal

        terminal.make_console().print(dialogue_views.dialogue(result))
    return INTERRUPTED if result.interrupted else 0 if result.verdict == "pass" else 1


def _places(declared: Sheet, ports: tuple[str, ...]) -> dict[str, str]:
    """Return which ports to open, by the names that the steps use."""
    from larkreader.errors import RequestError

    places: dict[str, str] = {}
    for port in ports:
        name, equals, place = port.partition("=")
        key = name if equals and name in declared.port else port
        places[key] = place if key == name and equals else port
    used = {name for item in declared.exchange for name in (item.at, item.expect_at) if name is not None}
    unnamed = any(item.at is None for item in declared.exchange)
    idle = [key for key in places if key not in used]
    if idle and (not unnamed or len(idle) > 1):
        first = min(used, default="NAME")
        found = "is not used: " + ("each step names its port" if not unnamed else "a port was given already")
        raise RequestError(idle[-1], found, "must be NAME=PORT", f"Write {first}={places[idle[-1]]}")
    if unnamed and not places and declared.port:
        first = next(iter(declared.port))
        places[first] = first
    places |= {name: name for name in sorted(used - set(places))}
    if not places:
        raise RequestError("port", "is missing", "must be named, or stand as [port.*] on the sheet")
    return places
