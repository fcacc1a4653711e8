"""``larkreader plan``: what a sheet, or a clock and a line, say of a link before anything is sent."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .builds import build_options, check_build_options, report_to_build
from .common import (
    InputFile,
    check_figure,
    check_output,
    exit_status,
    json_option,
    note,
    print_document,
    standard_input,
    write_fates_of,
)
from .forms import Rate
from .grouped import command
from .line_option import line_of
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.answers.clock_plan import ClockPlan
    from larkreader.answers.generator_plan import GeneratorPlan
    from larkreader.answers.planning import Plan
    from larkreader.declare.document.sheet import Sheet

TOPICS = ("ends", "clocks", "registers", "margins", "steps", "wiring", "load", "receive", "send", "findings")


GENERATOR = ("oversampling", "prescaler", "divisor_bits", "fraction_bits", "extra", "holds", "written")
QUICK = ("line", "accuracy", *GENERATOR)
WITH_SHEET = ("only", "card", "dumps", "ports", "wire", "output", "figure", "burst", "fates", "junit", "annotations")
FIGURES = ("margin", "fill", "losses")


class _Numbers(click.ParamType[tuple[int, ...]]):
    """One whole number, or several with commas between them."""

    name = "numbers"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, ...]:
        """Return the numbers; fail where they are none."""
        try:
            return value if isinstance(value, tuple) else tuple(int(part, 0) for part in str(value).split(","))
        except ValueError:
            self.fail(f'"{value}" must be whole numbers with commas between them, as in 16,8.', param, ctx)


@command()
@click.argument("sheet", type=InputFile(), required=False)
@click.option("--only", type=click.Choice(TOPICS), help="Show this topic alone.")
@click.option("--card", is_flag=True, help="Print what to set at the other end, and nothing else.")
@click.option(
    "--registers",
    "dumps",
    multiple=True,
    metavar="END=FILE",
    help="What the registers of an end hold, as CSV or JSON; may be repeated.",
)
@click.option(
    "--read-back",
    "ports",
    multiple=True,
    metavar="END=PORT",
    help="A serial device of this host that is an end, to read its settings; may be repeated.",
)
@click.option("--wire", metavar="NAME", help="The wire to draw, or of which to print the card.")
@click.option("-o", "--output", type=OutputFile(".png"), metavar="FILE", help="Draw a figure of a wire.")
@click.option(
    "--figure",
    type=click.Choice(FIGURES),
    default="margin",
    show_default=True,
    help="What to draw: bits against samples, how full the receive path gets, or what it loses if it were otherwise.",
)
@click.option(
    "--burst",
    type=click.IntRange(1, 1_000_000),
    metavar="N",
    help="Run N characters without a gap through the receive paths, instead of the declared traffic.",
)
@click.option(
    "--fates",
    type=OutputFile(".csv"),
    metavar="FILE",
    help="Write as CSV what becomes of each character in the declared receive paths.",
)
@click.option("--clock", type=Rate(), metavar="HZ", help="Without a sheet: the clock, as in 10M or 32768.")
@click.option("--line", metavar="SETTINGS", help='Without a sheet: baud and format, as in "38400 8N1".')
@click.option("--accuracy", default="0 ppm", metavar="SHARE", help='Of the clock, as in "1 %" or "50 ppm".')
@click.option("--oversampling", type=_Numbers(), default="16", show_default=True, help="Choices, as in 16,8.")
@click.option("--prescaler", type=_Numbers(), default="1", show_default=True, help="Choices, as in 1,4,16.")
@click.option("--divisor-bits", type=int, default=16, show_default=True, help="Width of the whole divisor.")
@click.option("--fraction-bits", type=_Numbers(), default="0", show_default=True, help="Of the divisor.")
@click.option("--extra", type=int, default=0, show_default=True, help="Bits of a pattern of longer bits.")
@click.option("--holds", type=click.Choice(["N", "N-1"]), default="N", show_default=True, help="What is written.")
@click.option("--written", type=_Numbers(), help="What stands in the registers: the divisor, a fraction, a pattern.")
@json_option
@build_options
def plan(
    sheet: Path | None,
    only: str | None,
    card: bool,
    dumps: tuple[str, ...],
    ports: tuple[str, ...],
    wire: str | None,
    output: Path | None,
    figure: str,
    burst: int | None,
    fates: Path | None,
    clock: float | None,
    line: str | None,
    written: tuple[int, ...],
    as_json: bool,
    junit: Path | None,
    annotations: str | None,
    **generator: Any,
) -> int:
    """Work out what SHEET says of a link before anything is sent.

    Both ends side by side, the clock with its divisor, what is left of the receiver's tolerance, and what the wires are
    to carry. Without a SHEET, --clock and --line compare the usual kinds of baud generator; with options that describe
    a generator, they calculate what to write into it, and where each bit begins.
    """
    from larkreader.errors import RequestError

    if (sheet is None) == (clock is None):
        raise RequestError("SHEET", "and --clock are both given" if sheet else "is missing",
                           "give either a sheet, or --clock and --line")  # fmt: skip
    _refuse_unused(QUICK if sheet else WITH_SHEET, "a SHEET" if sheet else "--clock")
    check_output(output)
    check_output(fates)
    check_build_options(junit, annotations, as_json=as_json)
    if clock is not None:
        return _quick(clock, line, written, generator, as_json=as_json)
    assert sheet is not None
    from larkreader.answers.planning import plan as work_out
    from larkreader.declare.document.sheet_file import open_sheet

    if figure != "margin" and output is None:
        raise RequestError("--figure", f"is {figure}, with no file to draw it into", "goes with --output FILE")
    planned = work_out(_with_ports(_with_dumps(open_sheet(sheet), dumps), ports), burst=burst)
    if fates is not None:
        write_fates_of(planned.paths, fates, str(sheet))
    if report_to_build(junit, annotations, f"plan {sheet}", planned.findings, sheet=sheet):
        return exit_status(planned.verdict)
    if output is not None:
        return _draw(planned, wire, output, figure, burst)
    if card:
        return _cards(planned, wire)
    if as_json:
        print_document("plan", {"sheet": str(sheet), **planned.to_dict()})
    else:
        _show(planned, only)
    return exit_status(planned.verdict)


def _typed(names: tuple[str, ...]) -> list[str]:
    """Return which of some options were typed, as their long names."""
    from click.core import ParameterSource

    context = click.get_current_context()
    return [
        max(parameter.opts, key=len)
        for parameter in context.command.params
        if parameter.name in names and context.get_parameter_source(parameter.name) == ParameterSource.COMMANDLINE
    ]


def _refuse_unused(names: tuple[str, ...], given: str) -> None:
    """Raise `RequestError` if an option was given that would be passed over."""
    from larkreader.errors import RequestError

    for option in _typed(names):
        raise RequestError(option, f"does not go with {given}")


def _with_dumps(sheet: Sheet, dumps: tuple[str, ...]) -> Sheet:
    """Return a sheet whose ends have the registers of some files."""
    from larkreader.capture.files.register_dump import read_register_dump

    result = {}
    for end, path in _of_ends("--registers", dumps, sheet):
        file = standard_input() if path == "-" else Path(path)
        result[end] = {"registers": read_register_dump(file), "stated_in": file.name if path != "-" else str(file)}
    return _with_ends(sheet, result)


def _with_ports(sheet: Sheet, ports: tuple[str, ...]) -> Sheet:
    """Return a sheet whose ends have the settings of some serial devices."""
    from larkreader.exercise.ports.open import read_back

    result = {}
    for end, path in _of_ends("--read-back", ports, sheet):
        line = read_back(path)
        settings = {"baud": line.baud, "format": line.format, "flow_control": line.flow_control}
        result[end] = {"line": settings, "parity_counted": False, "stated_in": path}
    return _with_ends(sheet, result)


def _of_ends(option: str, given: tuple[str, ...], sheet: Sheet) -> Iterator[tuple[str, str]]:
    """Yield the end and its values, as an option has them."""
    from larkreader.errors import RequestError, nearest

    for declared in given:
        end, equals, what = declared.partition("=")
        if not equals:
            raise RequestError(
                f"{option} {declared}", "names no end", f"must name one, as in {option} pump_head={declared}"
            )
        if end not in sheet.end:
            raise RequestError(f"{option} {declared}", f'names the end "{end}"', advice=nearest(end, list(sheet.end)))
        yield end, what


def _with_ends(sheet: Sheet, result: dict[str, dict[str, Any]]) -> Sheet:
    ends = {key: end.model_copy(update=result.get(key, {})) for key, end in sheet.end.items()}
    return sheet.model_copy(update={"end": ends})


def _show(planned: Plan, only: str | None) -> None:
    from larkreader.present.tables import finding_views
    from larkreader.present.tables.plan_views import topics
    from larkreader.present.text import terminal

    console = terminal.make_console()
    shown = topics(planned)
    for name, group in shown.items():
        if only in (None, name):
            console.print(group)
    if only in (None, "findings"):
        console.print(
            *([""] if only is None else []), finding_views.findings(planned.findings, planned.verdict), sep="\n"
        )
    elif only not in shown:
        note(f"note: the sheet declares nothing about {only}")


def _cards(planned: Plan, wire: str | None) -> int:
    from larkreader.present.tables.plan_views import card
    from larkreader.present.text import terminal

    console = terminal.make_console()
    for number, key in enumerate([_known(planned, wire)] if wire is not None else planned.sheet.wire):
        console.print(*([""] if number else []), card(key, planned.sheet.wire[key].line), sep="\n")
    return 0


def _known(planned: Plan, wire: str) -> str:
    from larkreader.errors import RequestError, nearest

    known = list(planned.sheet.wire)
    if wire not in known:
        raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, known))
    return wire


def _draw(planned: Plan, wire: str | None, output: Path, figure: str, burst: int | None) -> int:
    from larkreader.errors import RequestError
    from larkreader.present.figures.margin import draw_margin
    from larkreader.present.figures.style import new_figure, write_figure

    check_figure(output)
    if wire is not None:
        _known(planned, wire)
    if figure != "margin":
        return _draw_path(planned, wire, output, figure, burst)
    margins = [item for key, every in planned.margins.items() if wire in (None, key) for item in every]
    if not margins:
        raise RequestError("--output", "has nothing to draw", "a wire needs an [end] that sends and one that receives")
    picture = new_figure()
    draw_margin(min(margins, key=lambda margin: margin.tightest), ax=picture.add_subplot())
    write_figure(picture, output)
    note(f"drawn into {output}")
    return 0


def _draw_path(planned: Plan, wire: str | None, output: Path, figure: str, burst: int | None) -> int:
    """Draw what the receive path of a wire makes of what arrives: the path that loses most, unless a wire is named."""
    from larkreader.errors import RequestError
    from larkreader.present.figures.fill import draw_fill
    from larkreader.present.figures.style import new_figure, write_figure
    from larkreader.simulate.buffers import make_burst
    from larkreader.simulate.traffic import traffic_characters

    from .figures import draw_losses_of

    paths = {key: path for key, path in planned.paths.items() if wire in (None, key)}
    if not paths:
        wanted = "a wire needs [receive.*], and traffic or --burst"
        raise RequestError("--figure", f"is {figure}, and there is nothing to draw", wanted)
    chosen = max(paths, key=lambda key: paths[key].replay.lost)
    line = planned.sheet.wire[chosen].line
    characters = traffic_characters(planned.sheet, chosen)[0] if burst is None else make_burst(burst, line)
    picture = new_figure()
    if figure == "fill":
        draw_fill(paths[chosen], ax=picture.add_subplot())
    else:
        draw_losses_of(paths[chosen], characters, planned.sheet, picture.add_subplot())
    write_figure(picture, output)
    note(f"{figure} of {chosen} drawn into {output}")
    return 0


def _quick(
    hertz: float, text: str | None, written: tuple[int, ...] | None, generator: dict[str, Any], *, as_json: bool
) -> int:
    """Show what to write into a baud generator that options describe, or compare the usual kinds."""
    from pydantic import ValidationError

    from larkreader.answers.clock_plan import plan_clock
    from larkreader.answers.generator_plan import plan_generators
    from larkreader.declare.common.mistakes import mistakes_of
    from larkreader.declare.link.baud_generator import BaudGenerator
    from larkreader.declare.link.clock import Clock
    from larkreader.errors import RequestError

    if text is None:
        raise RequestError("--line", "is missing", 'baud and format, as in --line "38400 8N1"')
    line = line_of(text)
    accuracy = generator.pop("accuracy")
    try:
        clock = Clock(hertz=hertz, accuracy=accuracy)
        divider = BaudGenerator(**generator)
    except ValidationError as error:
        first = mistakes_of(error, BaudGenerator, "")[0]
        field = first.where.partition("[")[0]
        where = "--clock" if field == "hertz" else "--" + field.replace("_", "-")
        raise RequestError(where, f"is {first.found}", first.wanted) from None
    if not _typed(GENERATOR):
        return _show_choices(plan_generators(line, clock), as_json=as_json)
    planned = plan_clock(line, clock, divider, written or ())
    if as_json:
        print_document("divisors", planned.to_dict())
        return 0 if planned.clock.alternatives else 1
    return _show_quick(planned)


def _show_choices(planned: GeneratorPlan, *, as_json: bool) -> int:
    from larkreader.present.tables.plan_views import generators
    from larkreader.present.text import terminal

    if as_json:
        print_document("generators", planned.to_dict())
    else:
        terminal.make_console().print(generators(planned))
        note("Where each bit begins: name the generator, as in --oversampling 16 --fraction-bits 4")
    return 1 if planned.best.fit == "fails" else 0


def _show_quick(planned: ClockPlan) -> int:
    from larkreader.declare.common.percent import change_text, percent_text
    from larkreader.present.tables.plan_views import clock_view, standard_bauds
    from larkreader.present.text import terminal

    console = terminal.make_console()
    console.print(*clock_view(planned.clock), sep="\n")
    if planned.margins:
        console.print()
    ideals = ("Transmit margin to an ideal receiver", "Receive margin from an ideal sender")
    for what, margin in zip(ideals, planned.margins, strict=False):
        slower, faster = margin.tolerance
        result = (
            percent_text(margin.tightest)
            if margin.tightest >= 0
            else f"none, {percent_text(-margin.tightest)} too far off"
        )
        console.print(f"{what}: {result}; tolerance {change_text(slower)} to {change_text(faster)}.")
    if planned.standard_bauds:
        console.print("\nStandard bauds within 1 %:\n", standard_bauds(planned.standard_bauds), sep="\n")
    return 0 if planned.is_within else 1
