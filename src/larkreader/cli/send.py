"""``larkreader send``: send something by hand, and show what returns."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import InputFile, json_lines_option, naming, note
from .completed import completed
from .grouped import command
from .interrupts import end_if_interrupted
from .line_option import line_of
from .live import TOGETHER_S, Timeline, open_named, say_findings, shower
from .live_recording import recording
from .screen import Screen
from .showing import ENDING_NAMES, DisplayOptions, make_view, showing_options

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet
    from larkreader.exercise.ports.port import Port


@command()
@click.argument("port", metavar="PORT", shell_complete=completed("ports"))
@click.argument("what", nargs=-1, metavar="[WHAT]...")
@click.option("--hex", "as_hex", is_flag=True, help="WHAT is hexadecimal, as in D7 4B.")
@click.option("--file", type=InputFile(exists=True), help="Send the bytes of a file.")
@click.option("--replay", type=InputFile(), metavar="FILE", help="Send a recording at its own pace.")
@click.option("--wire", metavar="NAME", help="Which wire of the recording; default: the first with anything on it.")
@click.option(
    "--frame",
    metavar="NAME",
    shell_complete=completed("frames"),
    help="Send a frame of the sheet; WHAT is its fields as name=value.",
)
@click.option("--sheet", type=InputFile(), metavar="SHEET", help="Has the frame and the line.")
@click.option("--line", "line_text", metavar="TEXT", help='Settings such as "57600 8E1".')
@click.option(
    "--ending",
    type=click.Choice(["none", "cr", "lf", "crlf", "nul"]),
    help="What is put behind text. [default: none; lf for lines typed in]",
)
@click.option("--times", type=click.IntRange(1), default=1, show_default=True, help="How often to send it.")
@click.option("--every", type=click.IntRange(1), metavar="MS", help="Milliseconds between repetitions.")
@click.option(
    "--wait", type=float, default=0.3, show_default=True, metavar="SECONDS", help="How long to wait for an answer."
)
@showing_options
@click.option("--record", type=click.Path(path_type=Path), metavar="FILE", help="Append what passes to a recording.")
@json_lines_option
def send(
    port: str,
    what: tuple[str, ...],
    as_hex: bool,
    file: Path | None,
    replay: Path | None,
    wire: str | None,
    frame: str | None,
    sheet: Path | None,
    line_text: str | None,
    ending: str | None,
    times: int,
    every: int | None,
    wait: float,
    record: Path | None,
    as_json: bool,
    **showing: Any,
) -> int:
    r"""Send WHAT into PORT and show what returns, on one timeline.

    WHAT is text, in which \r \n \t \0 \e \\ and \xHH stand for single bytes and {n} for a rising number. Without WHAT,
    lines are read from standard input and sent one by one.
    """
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.exercise.loopback.one_way import block_for

    ways = {"--hex": as_hex, "--file": file is not None, "--replay": replay is not None, "--frame": frame is not None}
    _refuse_what_would_be_ignored(ways, bool(what), ending, wire, times, every)
    if frame is not None and sheet is None:
        raise RequestError("--frame", f"names {frame}, but there is no sheet", advice="Add --sheet SHEET")
    if not 0 <= wait <= 3600:
        raise RequestError("--wait", f"is {wait:g}", "must be 0 to 3600 seconds")
    declared = None if sheet is None else open_sheet(sheet)
    line = line_of(line_text) if line_text else None
    messages = _messages(what, as_hex, file, frame, declared, ending, times)
    dues: Iterator[tuple[float | None, bytes | None]]
    dues = _replayed(replay, wire) if replay else ((None, message) for message in messages)
    typed_in = not what and not any(ways.values())
    out, back = _wires(declared, frame)
    chosen = DisplayOptions(**{**showing, "show": showing["show"] or "characters"})
    view = make_view(chosen, [out, back], declared, None)
    with ExitStack() as stack:
        opened = stack.enter_context(open_named(port, declared, line))
        writers = stack.enter_context(recording(record, {out: opened, back: opened}, to_output=as_json))
        show = shower(Screen(), view, quiet=as_json or record == Path("-") or chosen.show == "nothing")
        timeline = Timeline({out: opened, back: opened}, writers, view, show)
        framed = [back] if declared and back in declared.wire and declared.layouts_of(back) else []
        stack.callback(_say_all, timeline, framed, ending)  # after an interrupt too
        start_s = due_s = timeline.now_s(out)
        for pause_s, message in dues:
            if message is None:
                _listen(opened, timeline, back, timeline.now_s(out) + TOGETHER_S)
                continue
            due_s = due_s if pause_s is None else start_s + pause_s
            _listen(opened, timeline, back, due_s)
            at_s = timeline.now_s(out)
            timeline.begin_exchange(message)
            _say(opened, timeline, out, back, message, block_for(opened.line))
            due_s = at_s if every is None else due_s + every / 1000
            if typed_in:
                _listen(opened, timeline, back, timeline.now_s(out) + wait)
        _listen(opened, timeline, back, timeline.now_s(out) + wait)
    return 0


def _refuse_what_would_be_ignored(
    ways: Mapping[str, bool], what: bool, ending: str | None, wire: str | None, times: int, every: int | None
) -> None:
    """Raise `RequestError` if options contradict each other, so that none is passed over in silence."""
    from larkreader.errors import RequestError

    chosen = [name for name, given in ways.items() if given]
    if len(chosen) > 1:
        raise RequestError(" and ".join(chosen), "exclude each other")
    way = chosen[0] if chosen else "text"
    if what and way in ("--file", "--replay"):
        raise RequestError(way, "leaves nothing else to send", "Leave out WHAT")
    if not what and way == "--hex":
        raise RequestError("--hex", "has nothing to send", 'must have WHAT, as in "D7 4B"')
    if ending is not None and chosen:
        raise RequestError("--ending", f"is put behind text, not used with {way}")
    if wire is not None and way != "--replay":
        raise RequestError("--wire", "names a wire of a recording", "must go with --replay FILE")
    if way == "--replay" and (times > 1 or every is not None):
        raise RequestError("--replay", "goes at its own pace, once", "Leave out --times and --every")


def _wires(sheet: Sheet | None, frame: str | None) -> tuple[str, str]:
    """Name what goes out and what returns: as the sheet does, if it has one or two wires."""
    wires = tuple(sheet.wire) if sheet else ()
    if len(wires) == 1:
        return ("out", wires[0]) if frame is None else (wires[0], "in")
    if sheet is None or len(wires) != 2:
        return "out", "in"
    first, second = wires
    swapped = frame is not None and frame in sheet.frame and sheet.frame[frame].wire == second
    return (second, first) if swapped else (first, second)


def _messages(
    what: tuple[str, ...],
    as_hex: bool,
    file: Path | None,
    frame: str | None,
    declared: Sheet | None,
    ending: str | None,
    times: int,
) -> Iterator[bytes | None]:
    """Yield what is to be sent, checked as a whole before the first is; None while nothing has been typed in."""
    from larkreader.errors import RequestError, nearest
    from larkreader.exercise.payload.typed_input import frame_of, hex_of, text_of

    if frame is not None:
        assert declared is not None
        if frame not in declared.frame:
            raise RequestError(f'frame "{frame}"', "is not on the sheet", advice=nearest(frame, list(declared.frame)))
        layout = declared.frame[frame]
        return iter([frame_of(layout, what, number) for number in range(times)])
    if file is not None:
        return iter([file.read_bytes()] * times)
    if as_hex:
        with naming("hex"):
            return iter([hex_of(" ".join(what))] * times)
    if what:
        typed = " ".join(what)
        return iter([text_of(typed, number, ending or "none") for number in range(1, times + 1)])
    return _typed(ending or "lf")


def _typed(ending: str) -> Iterator[bytes | None]:
    """Yield each line that is typed in, None while there is none."""
    from larkreader.errors import RequestError
    from larkreader.exercise.payload.typed_input import text_of
    from larkreader.exercise.ports.ready import is_ready

    if sys.stdin is None:
        raise RequestError("standard input", "is closed", advice="Add what to send")
    descriptor, held, number, is_open = sys.stdin.fileno(), b"", 0, True
    while is_open or held:
        if b"\n" not in held and is_open:
            if not is_ready(descriptor, 0):
                yield None
                continue
            piece = os.read(descriptor, 4096)
            is_open, held = bool(piece), held + piece
            continue
        line, _, held = held.partition(b"\n")
        number += 1
        try:
            typed = line.decode(sys.stdin.encoding or "utf-8").removesuffix("\r")
        except UnicodeDecodeError:
            found = f"is no {sys.stdin.encoding}: {line[:16].hex(' ').upper()}"
            raise RequestError(f"line {number}", found, advice="Send bytes with --hex or --file") from None
        yield text_of(typed, number, ending)


def _replayed(path: Path, wire: str | None) -> Iterator[tuple[float | None, bytes | None]]:
    """Yield what a recording holds of one wire, as it arrived together, with the seconds since the first."""
    from larkreader.capture.files.open import open_every_wire
    from larkreader.errors import RequestError, nearest
    from larkreader.exercise.payload.typed_input import groups_of

    wires = open_every_wire(path, kind="recording")
    chosen = wire or next((key for key, item in wires.items() if len(item)), None)
    if chosen is None:
        raise RequestError(str(path), "holds nothing that could be sent")
    if chosen not in wires:
        raise RequestError(f'wire "{chosen}"', f"is not in {path}", advice=nearest(chosen, list(wires)))
    return groups_of(wires[chosen])


def _say(opened: Port, timeline: Timeline, out: str, back: str, message: bytes, size: int) -> None:
    """Send a message in pieces of a size, and take in what arrives meanwhile."""
    from larkreader.exercise.loopback.one_way import WRITE_LIMIT_S

    for low in range(0, len(message), size):
        piece = message[low : low + size]
        at_s = timeline.now_s(out)
        opened.write(piece, WRITE_LIMIT_S)
        timeline.sent(out, piece, at_s)
        if low + size < len(message):
            timeline.look(back, opened.read_some(4096, 0.0))


def _listen(opened: Port, timeline: Timeline, wire: str, until_s: float) -> None:
    """Take in what arrives until a time."""
    while (remaining := until_s - timeline.now_s(wire)) > 0:
        end_if_interrupted()
        received = opened.read_some(4096, min(remaining, TOGETHER_S))
        timeline.look(wire, received)
        if not received.data:
            timeline.idle()


def _say_all(timeline: Timeline, framed: list[str], ending: str | None) -> None:
    """Show what is left, and say what there is to say at the end."""
    for item in timeline.close():
        note(item)
    say_findings(timeline.findings(framed, ENDING_NAMES[ending] if ending else None))
