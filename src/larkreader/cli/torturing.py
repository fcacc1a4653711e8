"""``larkreader loopback --torture``: sound frames among damage, for a device that answers those that it takes."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING, Any

from .common import check_output, note, print_document, progress_of
from .live import open_named

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.link.line import LineSettings

ALLOWED = ("line_text", "frame", "limit_s", "seed", "trials", "junit", "torture", "as_json")


def torture(sheet: Sheet | None, ports: Sequence[str], line: LineSettings | None, options: dict[str, Any]) -> int:
    """Torture the receiver at a port, and show what it made of it."""
    from larkreader.errors import RequestError
    from larkreader.exercise.loopback.torture import QUIET_S, TRIALS, run_torture

    if sheet is None or len(ports) != 1:
        raise RequestError("--torture", "needs a sheet and a single port", advice="Name both: SHEET PORT")
    for name, given in options.items():
        if name not in ALLOWED and given not in (None, False, ()):
            raise RequestError("--torture", f"does not go with --{name.strip('_').replace('_', '-')}", "Leave that out")
    check_output(options["junit"])
    with ExitStack() as stack, progress_of("torture", shown=True) as progress:
        port = stack.enter_context(open_named(ports[0], sheet, line))
        result = run_torture(
            port,
            sheet,
            options["frame"],
            trials=options["trials"] or TRIALS,
            quiet_s=options["limit_s"] or QUIET_S,
            seed=1 if options["seed"] is None else options["seed"],
            reopen=lambda: stack.enter_context(open_named(ports[0], sheet, line, quiet=True)),
            progress=progress,
        )
    if options["junit"] is not None:
        from larkreader.present.documents.junit import write_junit

        write_junit(options["junit"], f"torture {ports[0]}", result)
        note(f"{len(result.rows)} kinds of damage written to {options['junit']}")
    if options["as_json"]:
        print_document("torture", {"port": ports[0], **result.to_dict()})
    else:
        from rich.text import Text

        from larkreader.present.tables import torture_view
        from larkreader.present.text import terminal

        console = terminal.make_console()
        by = f"answered by [pair.{result.answered_by}]" if result.answered_by else "each sent back when it is taken"
        console.print(Text(f"Damage to {result.layout} at {ports[0]}, {by}"), soft_wrap=True)
        console.print()
        console.print(torture_view.torture(result))
    return 0 if result.verdict == "pass" else 1
