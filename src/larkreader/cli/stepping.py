"""The part of ``larkreader diagnose`` that works on a live port: bauds and formats stepped through."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import note, print_document, progress_of
from .live import open_named

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.declare.frame.layout import FrameLayout
    from larkreader.declare.link.line import LineSettings
    from larkreader.exercise.ports.port import Port
    from larkreader.exercise.talk.stepping import Trial

SHOWN = 12  # settings, the best of those that were tried
FLOW_TEXTS = {
    "passes": "XON and XOFF were echoed like the other characters: nothing on the way removes them.",
    "swallows": "XON and XOFF were not echoed, the other characters were: the port or the device behind it removes "
    "them. Software flow control is on there, and binary data loses the bytes 11 and 13.",
    "stops": "Nothing was echoed after XOFF, not even after XON: something on the way obeys XOFF.",
    "no-echo": "Nothing was echoed; the probe needs an echo, or a wire from the port's output to its input.",
}


def is_port(name: str, declared: Sheet | None) -> bool:
    """Return whether what was given is a port rather than a file."""
    from larkreader.exercise.ports.open import is_port_name

    return (declared is not None and name in declared.port) or is_port_name(name)


def diagnose_port(
    name: str,
    sheet: Path | None,
    *,
    declared: Sheet | None,
    wire: str | None,
    seconds: float,
    ask: bytes,
    write: Path | None,
    as_json: bool,
) -> int:
    """Step through settings, show what each gave, and propose the best; return the exit status."""
    from larkreader.exercise.ports.open import open_port
    from larkreader.exercise.talk.stepping import BAUDS, FORMATS, LENGTHS, PROMISING, Stepping

    place = declared.port[name].at if declared is not None and name in declared.port else name
    line = None if declared is None else declared.wire[wire].line if wire else declared.line_of(name)
    layouts = _layouts_of(declared, wire or (declared.port[name].wire if declared and name in declared.port else None))
    bauds = BAUDS if line is None else (line.baud, *(baud for baud in BAUDS if baud != line.baud))
    formats = FORMATS if line is None else (line.format, *(form for form in FORMATS if form != line.format))

    def open_at(tried: LineSettings) -> Port:
        return open_port(place, tried)

    stepping = Stepping(open_at, seconds, ask, bauds, formats, layouts)
    _check_line(open_at, bauds[0])
    expected = len(LENGTHS) * len(bauds) + PROMISING * (len(formats) - len(LENGTHS))
    with progress_of("stepping through settings", shown=True) as progress:
        for done, _ in enumerate(stepping.run(), 1):
            if progress is not None:
                progress(done, expected)
    best = stepping.best
    if as_json:
        proposal = None if best is None else str(best.line)
        document = {"sheet": None if sheet is None else str(sheet), "port": name, "proposal": proposal}
        print_document("trials", {**document, "trials": [item.to_dict() for item in stepping.ranked]})
    else:
        from larkreader.present.tables import survey_views
        from larkreader.present.text import terminal

        console = terminal.make_console()
        console.print(survey_views.trials(stepping.ranked[:SHOWN]))
        console.print(f"and {len(stepping.ranked) - SHOWN} more, which read worse; --json shows all.")
        console.print()
        console.print(_conclusion(best, stepping.ranked, has_asked=bool(ask)), soft_wrap=False)
    if best is not None and write is not None:
        _write_sheet(write, name, best)
    return 0 if best is not None and (line is None or _means_the_same(best.line, line)) else 1


def probe_port(name: str, declared: Sheet | None, line: LineSettings | None, *, as_json: bool) -> int:
    """Probe whether a port swallows XON and XOFF; return the exit status."""
    from larkreader.exercise.talk.stepping import probe_flow_control

    with open_named(name, declared, line) as port:
        outcome = probe_flow_control(port)
    if as_json:
        print_document("flow-probe", {"port": name, "flow_control": outcome})
    else:
        click.echo(f"{name}: {FLOW_TEXTS[outcome]}")
    return 0 if outcome == "passes" else 1


def _check_line(open_at: Callable[[LineSettings], Port], baud: float) -> None:
    """Refuse a port that has no settings to step through."""
    from larkreader.declare.link.line import LineSettings
    from larkreader.errors import RequestError

    with open_at(LineSettings(baud=baud, format="8N1")) as port:
        if port.line is None:
            raise RequestError(f"port {port.name}", "has no line settings", "must be a serial device to step through")


def _layouts_of(declared: Sheet | None, wire: str | None) -> tuple[FrameLayout, ...]:
    if declared is None:
        return ()
    if wire is not None:
        return declared.layouts_of(wire)
    carrying = [key for key in declared.wire if declared.layouts_of(key)]
    return declared.layouts_of(carrying[0]) if len(carrying) == 1 else ()


def _conclusion(best: Trial | None, ranked: list[Trial], *, has_asked: bool) -> str:
    from larkreader.exercise.talk.stepping import FEWEST, LEAD, TOLERABLE

    if best is not None:
        return f"It speaks {best.line}, almost certain."
    if not any(item.characters for item in ranked):
        hint = "" if has_asked else " A device that waits for requests needs --ask TEXT."
        return f"Nothing was received at any setting.{hint}"
    first = ranked[0]
    if first.characters >= FEWEST and first.fault_share <= TOLERABLE:
        alike = [str(item.line) for item in ranked if item.score > first.score - LEAD][:3]
        hint = "An echo without a line of its own does so, and a stand-in; a real device hardly."
        return f"Several settings read alike: {', '.join(alike)}. {hint}"
    return "The right settings are not certain. Fix: listen longer with --seconds, or check the wiring."


def _means_the_same(line: LineSettings, other: LineSettings) -> bool:
    return (line.baud, line.format[:2]) == (other.baud, other.format[:2])


def _write_sheet(path: Path, name: str, best: Trial) -> None:
    """Write the best settings as a sheet to begin with."""
    from larkreader.declare.document.starter import StarterWire, starter_sheet

    remark = f"found by stepping through settings on {name}: {best.characters:,} characters, {best.faulty} faulty"
    with path.open("x", encoding="utf-8", newline="\n") as file:
        file.write(starter_sheet([StarterWire("rx", best.line, remark)], title=f"Found on {name}"))
    note(f"written to {path}")
