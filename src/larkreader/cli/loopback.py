"""``larkreader loopback``: send patterns into a port, or between two, and compare what arrives."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from larkreader.declare.run.loopback import PATTERN_NAMES

from .common import InputFile, check_figure, check_output, json_option, note, print_document, progress_of
from .completed import completed
from .grouped import command
from .line_option import line_of
from .loopback_ports import content_of, opener
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.link.line import LineSettings
    from larkreader.declare.run.loopback import LoopbackMatrix, LoopbackPlan
    from larkreader.exercise.loopback.matrix import MatrixResult, OpenAt

LONG = 1 << 17  # characters from which progress is shown
INTERRUPTED = 130


@command()
@click.argument("places", nargs=-1, required=True, metavar="[SHEET] PORT [PORT]", shell_complete=completed("ports"))
@click.option("--line", "line_text", metavar="TEXT", help='Settings such as "57600 8E1", instead of the sheet\'s.')
@click.option("--characters", type=click.IntRange(1, 1 << 28), help="How many to send in each run. [default: 4096]")
@click.option(
    "--pattern", "patterns", multiple=True, type=click.Choice(PATTERN_NAMES), help="What to send; may be repeated."
)
@click.option("--baud", "bauds", multiple=True, type=float, metavar="N", help="Run at this baud; may be repeated.")
@click.option("--format", "formats", multiple=True, metavar="8N1", help="Run in this format; may be repeated.")
@click.option(
    "--block", "blocks", multiple=True, type=click.IntRange(1, 1 << 20), metavar="N",
    help="Characters written at once; may be repeated.",
)  # fmt: skip
@click.option(
    "--pause", "pauses_s", multiple=True, type=float, metavar="SECONDS", help="Between two blocks; may be repeated."
)
@click.option("--file", type=InputFile(exists=True), help="Send what this file holds.")
@click.option(
    "--frame",
    metavar="NAME",
    shell_complete=completed("frames"),
    help="Send frames of the sheet, with a rising counter.",
)
@click.option("--limit", "limit_s", type=float, metavar="SECONDS", help="Wait so long for a character. [default: 0.5]")
@click.option("--for", "for_s", type=float, metavar="SECONDS", help="End each run after this time.")
@click.option(
    "--expect",
    type=click.Choice(["same", "altered", "prefixed"]),
    help="What to expect: the same characters, each character altered, or lines with a prefix. [default: same]",
)
@click.option(
    "--xor", metavar="BITS", help="With --expect altered: the bits that are turned over; all of them without --add."
)
@click.option("--add", type=int, help="With --expect altered: what is added.")
@click.option("--prefix", metavar="TEXT", help='Prefix of the lines that return. [default: "got: "]')
@click.option("--only-receive", is_flag=True, help="Send nothing: check a pseudo-random sequence that arrives.")
@click.option("--one-way", is_flag=True, help="Between two ports: from the first to the second alone.")
@click.option("--seed", type=int, help="Of the random pattern, or the register of a sequence. [default: 1]")
@click.option("--tolerance", is_flag=True, help="Find out how far this end's clock may be off.")
@click.option(
    "--torture",
    is_flag=True,
    help="Send sound frames among every kind of damage, to a device that answers those that it takes.",
)
@click.option("--trials", type=click.IntRange(1, 10_000), help="With --torture: of each damage. [default: 20]")
@click.option("--junit", type=OutputFile(".xml"), metavar="FILE", help="Write the runs as JUnit XML.")
@click.option("--csv", "csv_", type=OutputFile(".csv"), metavar="FILE", help="Write the runs as CSV.")
@click.option("--figure", type=click.Choice(["matrix", "latency"]), help="Draw the runs, or how long blocks took.")
@click.option("-o", "--output", type=OutputFile(".png"), metavar="FILE", help="Where to draw it.")
@json_option
def loopback(places: tuple[str, ...], **options: Any) -> int:
    """Send patterns into PORT and compare what returns; or between two ports, both ways at once.

    PORT is a device such as /dev/ttyUSB0, HOST:PORT, accept:HOST:PORT, pty, a port of the sheet, or a stand-in that
    ships with us, such as stand-in:echo. What to run stands in [loopback] of SHEET, and options go before it; one run
    each for every pattern, baud, format, block and pause. The exit status is 1 if a run fails.

    With --torture the device must answer each frame that it takes, as a [pair.NAME] with match declares, or by sending
    it back; --frame, --trials, --limit, --seed and --junit go with it.
    """
    from larkreader.errors import RequestError
    from larkreader.exercise.loopback.matrix import run_matrix

    if options["torture"]:
        return _torture(places, options)
    if options["trials"] is not None:
        raise RequestError("--trials", "is of --torture", advice="Add that")
    declared, ports, line, matrix, content = _wanted(places, options)
    _check_files(options)
    named = None if options["line_text"] else declared  # whose ports have settings of their own
    open_at = opener(ports, declared, named, line, far=line if options["tolerance"] else None)
    if options["tolerance"]:
        return _tolerance(open_at, ports, matrix, line, content, as_json=options["as_json"])
    planned = [plan for settings in matrix.lines(line) for plan in matrix.plans(settings, content)]
    shown = sum(plan.characters for plan in planned) > LONG or len(planned) > 1
    with progress_of("loopback", shown=shown) as progress:
        result = run_matrix(open_at, matrix, line, content=content, one_way=options["one_way"], progress=progress)
    _write(result, options, " ".join(places))
    if options["as_json"]:
        print_document("loopback", {"ports": list(ports), **result.to_dict()})
    else:
        _show(result, " and ".join(ports))
    return INTERRUPTED if result.stopped else 0 if result.verdict == "pass" else 1


def _torture(places: tuple[str, ...], options: dict[str, Any]) -> int:
    from .torturing import torture

    declared, ports = _parted(places)
    return torture(declared, ports, line_of(options["line_text"]) if options["line_text"] else None, options)


def _parted(places: tuple[str, ...]) -> tuple[Sheet | None, tuple[str, ...]]:
    """Return the sheet, where there is one, and the ports."""
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError

    has_sheet = len(places) > 1 and (places[0].endswith(".toml") or len(places) == 3)
    ports = places[has_sheet:]
    if len(ports) > 2:
        raise RequestError("arguments", f"are {len(places)}: {' '.join(places)}", "must be [SHEET] PORT [PORT]")
    if len(places) == 2 and not has_sheet and Path(places[0]).is_file():
        has_sheet, ports = True, places[1:]
    return open_sheet(places[0]) if has_sheet else None, ports


def _wanted(
    places: tuple[str, ...], options: dict[str, Any]
) -> tuple[Sheet | None, tuple[str, ...], LineSettings, LoopbackMatrix, Mapping[str, bytes]]:
    """Return sheet, ports, settings, what to run, and what the patterns of content send."""
    from larkreader.declare.link.line import LineSettings
    from larkreader.errors import RequestError

    declared, ports = _parted(places)
    line = line_of(options["line_text"]) if options["line_text"] else None
    line = line or (declared.line_of(ports[0]) if declared else LineSettings())
    if options["one_way"] and len(ports) < 2:
        raise RequestError("--one-way", "is of two ports", "Name another port")
    if options["tolerance"]:
        passed_over = [item for item in ("junit", "csv", "figure") if options[item + "_" * (item == "csv")] is not None]
        if len(ports) > 1 or passed_over:
            found = f"makes no --{passed_over[0]}" if passed_over else "needs a single port"
            raise RequestError("--tolerance", found, advice="Leave that out")
    matrix = _matrix(declared, options)
    file = options["file"] or Path(places[0]).parent / str(matrix.file)
    return declared, ports, line, matrix, content_of(matrix, declared, file)


def _matrix(declared: Sheet | None, options: dict[str, Any]) -> LoopbackMatrix:
    """Return what to run: as the sheet says, but for what the options say."""
    from pydantic import ValidationError

    from larkreader.declare.common.mistakes import mistakes_of
    from larkreader.declare.run.loopback import LoopbackMatrix
    from larkreader.errors import RequestError, nearest

    stated: dict[str, Any] = declared.loopback.model_dump(exclude_unset=True) if declared else {}
    if options["line_text"]:  # given here, it precedes the bauds and formats of the sheet
        stated = {name: value for name, value in stated.items() if name not in ("bauds", "formats")}
    names = ("characters", "patterns", "bauds", "formats", "blocks", "pauses_s", "limit_s", "for_s", "expect", "prefix")
    stated |= {name: options[name] for name in (*names, "seed") if options[name] not in (None, ())}
    if options["only_receive"]:
        stated["sends"] = False
    if options["xor"] is not None or options["add"] is not None:
        if stated.get("expect") != "altered":
            raise RequestError("--xor and --add", "add how characters are altered", "must go with --expect altered")
        xor = {} if options["xor"] is None else {"xor": _number(options["xor"])}
        stated["alter"] = xor | ({} if options["add"] is None else {"add": options["add"]})
    for name, pattern in (("file", "file"), ("frame", "frames")):
        if options[name] is not None:
            stated[name] = str(options[name])
            stated["patterns"] = (*(options["patterns"] or ()), *(() if pattern in options["patterns"] else (pattern,)))
    if options["patterns"] and "frames" not in stated["patterns"]:
        stated.pop("frame", None)
    if options["patterns"] and "file" not in stated["patterns"]:
        stated.pop("file", None)
    frame = stated.get("frame")
    if frame is not None and (declared is None or frame not in declared.frame):
        known = list(declared.frame) if declared else []
        raise RequestError(f'frame "{frame}"', "is not on the sheet", advice=nearest(frame, known))
    try:
        return LoopbackMatrix.model_validate(stated)
    except ValidationError as error:
        first = mistakes_of(error, LoopbackMatrix, "")[0]
        key = first.where.partition("[")[0].removesuffix("_s").removesuffix("s")
        found = f"is {first.found}" if first.found and key else first.wanted
        raise RequestError(
            f"--{key}" if key else "loopback", found, first.wanted if first.found and key else ""
        ) from None


def _number(text: str) -> int:
    from larkreader.errors import RequestError

    try:
        return int(text, 0)
    except ValueError:
        raise RequestError("--xor", f'is "{text}"', "must be a whole number, as in 0x5A") from None


def _check_files(options: dict[str, Any]) -> None:
    from larkreader.errors import RequestError

    for name in ("junit", "csv_"):
        check_output(options[name])
    if options["output"] is not None:
        check_figure(options["output"])
    if (options["figure"] is None) != (options["output"] is None):
        missing, other = ("--figure", "-o") if options["figure"] is None else ("-o FILE", "--figure")
        raise RequestError(missing, f"is missing: {other} needs it")


def _tolerance(
    open_at: OpenAt,
    ports: Sequence[str],
    matrix: LoopbackMatrix,
    line: LineSettings,
    content: Mapping[str, bytes],
    *,
    as_json: bool,
) -> int:
    from larkreader.exercise.loopback.matrix import find_tolerance
    from larkreader.present.tables import loopback_views
    from larkreader.present.text import terminal

    plan: LoopbackPlan = next(matrix.plans(line, content))
    found = find_tolerance(open_at, plan, line)
    if as_json:
        print_document("tolerance", {"ports": list(ports), **found.to_dict()})
    else:
        console = terminal.make_console()
        console.print(f"Tolerance of {ports[0]} at {line}, pattern {plan.pattern}", soft_wrap=True)
        console.print()
        console.print(loopback_views.tolerance(found))
    return 0 if found.slow_ppm == found.slow_ppm else 1


def _show(result: MatrixResult, where: str) -> None:
    from larkreader.present.tables import loopback_views
    from larkreader.present.text import terminal

    console = terminal.make_console()
    if len(result.runs) == 1:
        (run,) = result.runs
        at = f" at {run.line}" if run.line else ""
        console.print(f"Loopback on {where}{at}, pattern {loopback_views.name_of(run, short=True)}", soft_wrap=True)
        console.print()
        console.print(loopback_views.loopback(run))
        return
    console.print(f"Loopback on {where}, {len(result.runs)} runs", soft_wrap=True)
    console.print()
    console.print(loopback_views.matrix(result))


def _write(result: MatrixResult, options: dict[str, Any], name: str) -> None:
    """Write what was asked for."""
    if options["junit"] is not None:
        from larkreader.present.documents.junit import write_junit

        write_junit(options["junit"], f"loopback {name}", result)
        note(f"{len(result.runs)} runs written to {options['junit']}")
    if options["csv_"] is not None:
        from larkreader.present.tables.loopback_table import write_runs

        write_runs(options["csv_"], result)
        note(f"{len(result.runs)} runs written to {options['csv_']}")
    if options["output"] is not None:
        from larkreader.present.figures import loopback as figures
        from larkreader.present.figures.style import new_figure, write_figure

        picture = new_figure()
        draw = figures.draw_matrix if options["figure"] == "matrix" else figures.draw_latency
        draw(result, ax=picture.add_subplot())
        write_figure(picture, options["output"])
        note(f"drawn to {options['output']}")
