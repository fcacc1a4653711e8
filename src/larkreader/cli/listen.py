"""``larkreader listen``: show what comes in at one port, or at two, as it comes."""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import note
from .live import Timeline, open_named, recording

if TYPE_CHECKING:
    from larkreader.declare.sheet import Sheet
    from larkreader.exercise.ports.port import Port

LOOK_S = 0.02  # at each port in turn


@click.command()
@click.argument("ports", nargs=-1, required=True, metavar="PORT [PORT]")
@click.option("--sheet", type=click.Path(path_type=Path), metavar="SHEET", help="Names the wires and their lines.")
@click.option("--wire", metavar="NAME", help="Which wire of the sheet the port is, if there is one port.")
@click.option("--line", "line_text", metavar="TEXT", help='Settings of the ports, such as "57600 8E1".')
@click.option("--record", type=click.Path(path_type=Path), metavar="FILE", help="Append what comes to a recording.")
@click.option("--forward", is_flag=True, help="Send what comes in at one of two ports out at the other.")
@click.option("--seconds", type=float, metavar="SECONDS", help="Stop after this time; when interrupted unless said.")
@click.option("--quiet", is_flag=True, help="Record, but do not show.")
def listen(
    ports: tuple[str, ...],
    sheet: Path | None,
    wire: str | None,
    line_text: str | None,
    record: Path | None,
    forward: bool,
    seconds: float | None,
    quiet: bool,
) -> int:
    """Show what comes in at PORT, or at two ports on one timeline, until interrupted.

    Characters arrive in groups; the time of a group is when it was fetched. Between two ports the order of groups that
    were fetched within the same few hundredths of a second is uncertain.
    """
    from larkreader.declare.line import LineSettings
    from larkreader.declare.sheet import open_sheet
    from larkreader.errors import RequestError

    if len(ports) > 2:
        raise RequestError("arguments", f"are {len(ports)} ports", "must be one or two")
    if forward and len(ports) != 2:
        raise RequestError("--forward", "has one port", "must have two")
    declared = None if sheet is None else open_sheet(sheet)
    names = _wires_of(ports, declared, wire)
    lines = [declared.wire[name].line if declared else None for name in names]
    if line_text is not None:
        lines = [LineSettings.parse(line_text)] * len(ports)
    with ExitStack() as stack:
        opened: dict[str, Port] = {}
        for name, port, line in zip(names, ports, lines, strict=True):
            opened[name] = stack.enter_context(open_named(port, declared, line))
            note(f"{name} is {opened[name].name}")
        writer = stack.enter_context(recording(record, opened))
        timeline = Timeline(opened, writer, shown=not quiet)
        first = names[0]
        try:
            while seconds is None or timeline.now_s(first) < seconds:
                silent = True
                for name, one in opened.items():
                    received = one.read_some(4096, LOOK_S)
                    timeline.add(name, received)
                    silent = silent and not received.data
                    if forward and received.data:
                        other = next(far for key, far in opened.items() if key != name)
                        other.write(received.data, 5.0)
                if silent:
                    timeline.show()
        except KeyboardInterrupt:
            pass
        finally:
            note(timeline.summary())
    if record is not None and sheet is not None:
        note(f"now try: larkreader decode {sheet} {record}")
    return 0


def _wires_of(ports: tuple[str, ...], declared: Sheet | None, wire: str | None) -> list[str]:
    """Name the wire that each port is: as said, as the sheet says of the port, or in the sheet's order."""
    from larkreader.errors import RequestError, nearest

    if declared is None:
        return ["first", "second"][: len(ports)]
    if wire is not None and (len(ports) != 1 or wire not in declared.wire):
        advice = nearest(wire, list(declared.wire)) if len(ports) == 1 else "It goes with one port"
        raise RequestError(f'--wire "{wire}"', "does not say which wire the port is", "", advice)
    said = [wire or (declared.port[port].wire if port in declared.port else None) for port in ports]
    free = [one for one in declared.wire if one not in said]
    if said.count(None) > len(free):
        raise RequestError(
            "sheet", f"declares {len(declared.wire)} wire", f"must declare {len(ports)}, one for each port"
        )
    return [one if one is not None else free.pop(0) for one in said]
