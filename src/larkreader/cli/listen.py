"""``larkreader listen``: show what arrives at one port or two, live."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import fields
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, console_form, json_lines_option, note
from .completed import completed
from .grouped import command
from .interrupts import end_if_interrupted, undisturbed
from .judge_options import JudgeOptions, judging_options
from .listen_source import Source
from .live import Timeline, say_findings, shower
from .live_findings import LiveFindings
from .live_plot import LivePlot, PlotOptions, plot_options
from .live_recording import ClockSteps, Roll, recording
from .screen import Screen
from .showing import ENDING_NAMES, DisplayOptions, make_view, showing_options

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.exercise.ports.drained import Arrival
    from larkreader.exercise.ports.port import Port, Received
    from larkreader.present.text.views import View

    Arrived = tuple[float, float, Received]  # from when to when, and what

LOOK_S = 0.02  # at a port, if there is one
LOOK_AT_TWO_S = 0.005  # at each of two in turn


@command()
@click.argument("ports", nargs=-1, metavar="PORT [PORT]", shell_complete=completed("ports"))
@click.option("--sheet", type=InputFile(), metavar="SHEET", help="Names the wires and their lines.")
@click.option("--wire", metavar="NAME", help="Which wire of the sheet the port is, if there is one port.")
@click.option("--line", "line_text", metavar="TEXT", help='Settings of the ports, such as "57600 8E1".')
@showing_options
@click.option(
    "--ending", type=click.Choice(["cr", "lf", "crlf", "nul"]), help="What ends a line; by default any ending."
)
@click.option("--side-by-side", is_flag=True, help="Give each of two ports half of the width.")
@click.option("--record", type=click.Path(path_type=Path), metavar="FILE", help="Append what arrives to a recording.")
@click.option(
    "--roll",
    metavar="WHEN",
    help='With --record: begin the next file after a time such as "1 h" or a size such as "100 MB".',
)
@click.option(
    "--replay",
    type=InputFile(),
    metavar="RECORDING",
    help="Take what arrives from a recording instead of ports; each PORT is a wire of it then, all by default.",
)
@click.option(
    "--speed",
    type=click.FloatRange(0, min_open=True),
    default=1.0,
    show_default=True,
    metavar="FACTOR",
    help="With --replay: how many times as fast as it was recorded.",
)
@click.option("--forward", is_flag=True, help="Forward what arrives at each of two ports to the other.")
@click.option("--seconds", type=float, metavar="SECONDS", help="Stop after this time; by default when interrupted.")
@click.option("--timing", is_flag=True, help="Print how long each stage took, and how far it was behind the wire.")
@plot_options
@judging_options
@json_lines_option
def listen(
    ports: tuple[str, ...],
    sheet: Path | None,
    wire: str | None,
    line_text: str | None,
    ending: str | None,
    side_by_side: bool,
    record: Path | None,
    forward: bool,
    seconds: float | None,
    as_json: bool,
    replay: Path | None,
    speed: float,
    roll: str | None,
    timing: bool,
    **more: Any,
) -> int:
    """Show what arrives at PORT, or at two ports on one timeline, until interrupted.

    With a sheet frames are shown, what changed in them marked, and what is wrong with them is shown between them as it
    turns up; at the end stands the verdict, and the exit status is 1 if anything is wrong that --fail-on names. Without
    a sheet, characters are shown. Characters arrive in groups; their time is when they were fetched. Where the order of
    groups from two ports is uncertain, the later group's time has a ~ in front.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import PortError, RequestError

    judging = JudgeOptions(**{item.name: more.pop(item.name) for item in fields(JudgeOptions)})
    rolled = None if roll is None else Roll.parse(roll)
    if rolled is not None and (record is None or record == Path("-")):
        raise RequestError("--roll", "has no file", "must go with --record FILE")
    _check_ports(ports, forward=forward, side_by_side=side_by_side, replay=replay)
    judging.check(has_sheet=sheet is not None)
    plotting = PlotOptions(**{item.name: more.pop(item.name) for item in fields(PlotOptions)})
    plotting.check(has_sheet=sheet is not None)
    on_sheet = None if sheet is None else open_sheet(sheet)
    with ExitStack() as stack:
        source = Source.of(ports, on_sheet, wire, line_text, replay, speed, stack)
        arrivals: list[Arrived] = []
        if wire is None and on_sheet and source.candidates:
            arrivals = source.find_wire(on_sheet, seconds)
        width = console_form()[0]
        half = (width - 3) // 2 if side_by_side else None
        view = make_view(DisplayOptions(**more), source.names, on_sheet, ending, width=half)
        for name, its_port in source.opened.items():
            note(f"{name} is {its_port.name}")
        writers = stack.enter_context(recording(record, source.opened, to_output=as_json, roll=rolled))
        screen = Screen(lambda: _footer(timeline, view))
        is_taken = as_json or record == Path("-")  # standard output
        halves = source.names if side_by_side else []
        has_rows = more["show"] not in ("nothing", "timeline")
        show = shower(screen, view, halves, width, quiet=is_taken or not has_rows)
        judge = None
        if on_sheet:
            judge = _judge_of(
                on_sheet,
                source.names,
                _noted if is_taken else screen.rows,
                judging,
                more["show"],
                source.opened,
                plotting,
            )
        timeline = Timeline(source.opened, writers, view if has_rows else None, show, judge)
        seconds = judging.end().seconds if seconds is None else seconds
        gone: PortError | None = None
        try:
            with screen:
                timeline.earlier(source.names[0], arrivals)
                _watch(timeline, source, screen, seconds, forward=forward)
        except KeyboardInterrupt:
            pass
        except PortError as error:
            gone = error  # what arrived before is judged all the same
        finally:
            for item in timeline.close():
                note(item)
            if timing:
                note(str(timeline.stages))
            if not as_json and (values := _values(view)):
                click.echo(values)
            if judge is None:
                say_findings(timeline.findings([], ENDING_NAMES[ending] if ending else None))
    status = 0
    if judge is not None:
        status = judge.close()
        _show_verdict(judge, to_errors=is_taken)
        heard = str(replay) if replay is not None else " ".join(ports)
        judge.write(f"listen {heard}", str(sheet), heard, timeline.stages.to_dict() if timing else None)
        if record is not None and rolled is None:
            note(f"now try: larkreader decode {sheet} {record}")
    if gone is not None:
        raise gone
    return 2 if timeline.failures else status


def _judge_of(
    declared: Sheet,
    wires: Sequence[str],
    show: Callable[[Sequence[str]], None],
    options: JudgeOptions,
    what: str | None,
    ports: dict[str, Port],
    plotting: PlotOptions,
) -> LiveFindings:
    """Return what judges some wires, and shows their messages and draws fields too if wanted."""
    from larkreader.answers.live_reading import LiveReading

    plot = LivePlot(declared, wires, plotting) if plotting.is_wanted else None
    around, is_patient = options.around(ports), all(port.is_simulated for port in ports.values())
    if what != "timeline":
        reading = LiveReading(declared, wires=wires)
        return LiveFindings(reading, show, options, None, around, plot, is_patient=is_patient)
    from .live_messages import LiveMessages

    reading = LiveReading(declared, wires=wires, together=True)
    messages = LiveMessages(reading, show)
    return LiveFindings(reading, show, options, messages, around, plot, is_patient=is_patient)


def _noted(rows: Sequence[str]) -> None:
    for row in rows:
        note(row)


def _show_verdict(judge: LiveFindings, *, to_errors: bool) -> None:
    """Show the verdict and the findings as `decode` does."""
    from larkreader.present.tables import finding_views
    from larkreader.present.text import terminal

    console = terminal.make_console(stderr=to_errors)
    reading = judge.reading
    console.print("", finding_views.findings(reading.findings, reading.verdict, reading.checked), sep="\n")


def _check_ports(ports: tuple[str, ...], *, forward: bool, side_by_side: bool, replay: Path | None) -> None:
    """Raise `RequestError` if the ports are too few or too many for what is wanted."""
    from larkreader.errors import RequestError

    if len(ports) > 2 or (not ports and replay is None):
        raise RequestError("arguments", f"are {len(ports)} ports", "must be one or two", "Or add --replay RECORDING")
    for name, given in {"--forward": forward, "--side-by-side": side_by_side}.items():
        if given and len(ports) != 2:
            raise RequestError(name, f"has {'one' if ports else 'no'} port", "must have two")
    if forward and replay is not None:
        raise RequestError("--forward", "goes with --replay", "must go with ports: a recording takes nothing")


def _watch(timeline: Timeline, source: Source, screen: Screen, seconds: float | None, *, forward: bool) -> None:
    """Look at the ports in turn, until the time is up or what was waited for has happened."""
    first, clock = next(iter(source.opened)), ClockSteps()
    with ExitStack() as stack:
        look = _looks(timeline, source, stack, forward=forward)
        while (seconds is None or timeline.now_s(first) < seconds) and not source.is_over:
            end_if_interrupted()
            if not look():
                timeline.idle()
            if source.replay is None and (step_s := clock.look()):
                at_s = timeline.now_s(first)
                note(f"note: at {at_s:.3f} s the system's clock was set by {step_s:+.1f} s; the times shown here go on")
            if timeline.judge():
                return
            screen.refresh()


def _looks(timeline: Timeline, source: Source, stack: ExitStack, *, forward: bool) -> Callable[[], bool]:
    """Return what looks once at all ports, and returns whether anything arrived.

    A port in real time is read in a thread, so that what is shown and judged meanwhile delays no character.
    """
    from larkreader.exercise.ports.drained import DrainedPort
    from larkreader.exercise.talk.forwarder import Forwarder

    opened = source.opened
    limit_s = LOOK_S if len(opened) == 1 else LOOK_AT_TWO_S
    if forward or any(port.is_simulated for port in opened.values()):
        forwarder = Forwarder(*opened.values()) if forward else None

        def look_in_turn() -> bool:
            has_any = False
            for number, (name, port) in enumerate(opened.items()):
                with undisturbed():  # what was read is recorded
                    received = forwarder.look_at(number, limit_s) if forwarder else port.read_some(4096, limit_s)
                    timeline.look(name, received)
                has_any |= bool(received.data)
            return has_any

        return look_in_turn
    drained = {name: DrainedPort(port) for name, port in opened.items()}

    waiting: deque[tuple[str, Arrival]] = deque()

    def take_in(take_of: Callable[[DrainedPort], list[Arrival]]) -> bool:
        with undisturbed():  # what the threads have read is in one of two places, or recorded
            for name, port in drained.items():
                waiting.extend((name, arrival) for arrival in take_of(port))
            if len(drained) > 1:
                in_order = sorted(waiting, key=lambda item: item[1].at_s)
                waiting.clear()
                waiting.extend(in_order)
        has_any = bool(waiting)
        while waiting:
            with undisturbed():
                name, arrival = waiting.popleft()
                timeline.arrived(name, *arrival)
        return has_any

    def take() -> bool:
        taken_s = timeline.now_s(next(iter(opened)))
        has_any = take_in(lambda port: port.take(limit_s))
        timeline.taken_until_s = taken_s
        return has_any

    stack.callback(take_in, DrainedPort.rest)  # after the threads have ended
    for port in drained.values():
        stack.enter_context(port)
    return take


def _footer(timeline: Timeline, view: View) -> Any:
    """Draw what stands under the rows: the table of values if it is wanted, and the status of each wire."""
    from rich.console import Group
    from rich.text import Text

    from larkreader.present.tables import reading_views
    from larkreader.present.tables.value_view import ValueView

    status = Text("\n".join(timeline.status()), style="reverse", overflow="ellipsis", no_wrap=True)
    return Group(reading_views.values(view), "", status) if isinstance(view, ValueView) else status


def _values(view: View) -> str:
    """Return the table of values as it is at the end, if it is what was wanted."""
    from larkreader.present.tables import reading_views
    from larkreader.present.tables.value_view import ValueView
    from larkreader.present.text import terminal

    if not isinstance(view, ValueView):
        return ""
    console = terminal.make_console()
    with console.capture() as captured:
        console.print(reading_views.values(view))
    return captured.get().rstrip("\n")
