"""``larkreader loopback``: send a pattern into a port and compare what comes back."""

from __future__ import annotations

import click

from .common import json_option, print_json, progress_of
from .live import open_named


@click.command()
@click.argument("places", nargs=-1, required=True, metavar="[SHEET] PORT")
@click.option("--line", "line_text", metavar="TEXT", help='Settings such as "57600 8E1", instead of the sheet\'s.')
@click.option(
    "--characters", type=click.IntRange(1, 1 << 32), default=4096, show_default=True, help="How many to send."
)
@click.option(
    "--pattern",
    type=click.Choice(["counting", "all-values", "alternating", "random", "lines"]),
    default="counting",
    show_default=True,
    help="What to send.",
)
@click.option("--block", type=click.IntRange(1, 1 << 20), metavar="N", help="Characters written at once.")
@click.option(
    "--limit",
    type=float,
    default=0.5,
    show_default=True,
    metavar="SECONDS",
    help="How long to wait for a character.",
)
@click.option(
    "--expect",
    type=click.Choice(["same", "altered", "prefixed"]),
    default="same",
    show_default=True,
    help="What comes back if all is well: what was sent, its complement, or lines with a prefix.",
)
@click.option("--prefix", default="got: ", show_default=True, help="What stands before lines that come back.")
@click.option("--seed", type=int, default=1, show_default=True, help="Of the random pattern.")
@json_option
def loopback(
    places: tuple[str, ...],
    line_text: str | None,
    characters: int,
    pattern: str,
    block: int | None,
    limit: float,
    expect: str,
    prefix: str,
    seed: int,
    as_json: bool,
) -> int:
    """Send a pattern into PORT and compare what comes back.

    PORT is a device such as /dev/ttyUSB0, HOST:PORT, accept:HOST:PORT, pty, or a stand-in that ships with us, such as
    stand-in:echo. Its settings come from SHEET or from --line. The exit status is 1 if not all came back as it was.
    """
    from larkreader.declare.line import LineSettings
    from larkreader.declare.loopback import LoopbackPlan
    from larkreader.declare.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.exercise.loopback import run_loopback

    if len(places) > 2:
        raise RequestError("arguments", f"are {len(places)}: {' '.join(places)}", "must be [SHEET] PORT")
    declared = open_sheet(places[0]) if len(places) == 2 else None
    line = LineSettings.parse(line_text) if line_text else declared.line_of(places[1]) if declared else None
    if expect == "prefixed" and pattern != "lines":
        raise RequestError("--expect prefixed", f"goes with the pattern {pattern}", "must go with --pattern lines")
    if not 0 < limit <= 3600:
        raise RequestError("--limit", f"is {limit:g}", "must be more than 0 and at most 3600 seconds")
    plan = LoopbackPlan(
        characters=characters,
        pattern=pattern,
        data_bits=min(line.data_bits, 8) if line else 8,
        block=block,
        limit_s=limit,
        seed=seed,
        expect=expect,
        prefix=prefix,
    )
    shown = characters > 1 << 17
    with open_named(places[-1], declared, line) as port, progress_of("loopback", shown=shown) as progress:
        result = run_loopback(port, plan, line=line, progress=progress)
    if as_json:
        print_json({"port": places[-1], **result.to_dict()})
    else:
        from larkreader.present import terminal

        console = terminal.make_console()
        at = f" at {result.line}" if result.line else ""
        console.print(f"Loopback on {places[-1]}{at}, pattern {pattern}", soft_wrap=True)
        console.print()
        console.print(terminal.loopback(result))
    return 0 if result.verdict == "pass" else 1
