"""``larkreader send``: send something by hand, and show what comes back."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import note
from .live import TOGETHER_S, Timeline, open_named, recording

if TYPE_CHECKING:
    from larkreader.declare.sheet import Sheet
    from larkreader.exercise.ports.port import Port


@click.command()
@click.argument("port", metavar="PORT")
@click.argument("what", nargs=-1, metavar="[WHAT]...")
@click.option("--hex", "as_hex", is_flag=True, help="WHAT is hexadecimal, as in D7 4B.")
@click.option("--file", type=click.Path(path_type=Path, exists=True, dir_okay=False), help="Send the bytes of a file.")
@click.option("--replay", type=click.Path(path_type=Path), metavar="FILE", help="Send a recording at its own pace.")
@click.option("--wire", metavar="NAME", help="Which wire of the recording; the first with anything on it unless said.")
@click.option("--frame", metavar="NAME", help="Send a frame of the sheet; WHAT is its fields as name=value.")
@click.option("--sheet", type=click.Path(path_type=Path), metavar="SHEET", help="Has the frame and the line.")
@click.option("--line", "line_text", metavar="TEXT", help='Settings such as "57600 8E1".')
@click.option(
    "--ending",
    type=click.Choice(["none", "cr", "lf", "crlf", "nul"]),
    help="What is put behind text. [default: none; lf for lines typed in]",
)
@click.option("--times", type=click.IntRange(1), default=1, show_default=True, help="How often to send it.")
@click.option("--every", type=click.IntRange(1), metavar="MS", help="Milliseconds from one sending to the next.")
@click.option(
    "--wait", type=float, default=0.3, show_default=True, metavar="SECONDS", help="How long to wait for an answer."
)
@click.option("--record", type=click.Path(path_type=Path), metavar="FILE", help="Append what passes to a recording.")
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
) -> int:
    r"""Send WHAT into PORT and show what comes back, on one timeline.

    WHAT is text, in which \r \n \t \0 \e \\ and \xHH stand for single bytes and {n} for a rising number. Without WHAT,
    lines are read from standard input and sent one by one.
    """
    from larkreader.declare.line import LineSettings
    from larkreader.declare.sheet import open_sheet
    from larkreader.errors import RequestError

    if sum([as_hex, file is not None, frame is not None, replay is not None]) > 1:
        raise RequestError("options", "--hex, --file, --replay and --frame exclude each other")
    if frame is not None and sheet is None:
        raise RequestError("--frame", f"names {frame}, but there is no sheet", advice="Add --sheet SHEET")
    if not 0 <= wait <= 3600:
        raise RequestError("--wait", f"is {wait:g}", "must be 0 to 3600 seconds")
    declared = None if sheet is None else open_sheet(sheet)
    line = LineSettings.parse(line_text) if line_text else None
    messages = _messages(what, as_hex, file, frame, declared, ending, times)
    out, back = _wires(declared, frame)
    with open_named(port, declared, line) as opened:
        with recording(record, {out: opened, back: opened}) as writer:
            timeline = Timeline({out: opened, back: opened}, writer)
            due_s = timeline.now_s(out)
            typed_in = not (what or as_hex or file or frame or replay)
            start_s = due_s
            for pause_s, message in _replayed(replay, wire) if replay else ((None, one) for one in messages):
                due_s = due_s if pause_s is None else start_s + pause_s
                _listen(opened, timeline, back, due_s)
                at_s = timeline.now_s(out)
                opened.write(message, 30.0)
                timeline.add(out, message, at_s)
                due_s = at_s if every is None else due_s + every / 1000
                if typed_in:
                    _listen(opened, timeline, back, timeline.now_s(out) + wait)
            _listen(opened, timeline, back, timeline.now_s(out) + wait)
        note(timeline.summary())
    return 0


def _wires(declared: Sheet | None, frame: str | None) -> tuple[str, str]:
    """Name what goes out and what comes back: as the sheet does, if it has two wires."""
    if declared is None or len(declared.wire) != 2:
        return "out", "in"
    first, second = declared.wire
    swapped = frame is not None and frame in declared.frame and declared.frame[frame].wire == second
    return (second, first) if swapped else (first, second)


def _messages(
    what: tuple[str, ...],
    as_hex: bool,
    file: Path | None,
    frame: str | None,
    declared: Sheet | None,
    ending: str | None,
    times: int,
) -> Iterator[bytes]:
    """Yield what is to be sent, checked as a whole before the first is."""
    from larkreader.errors import RequestError, nearest
    from larkreader.exercise.by_hand import frame_of, hex_of, text_of

    if frame is not None:
        assert declared is not None
        if frame not in declared.frame:
            raise RequestError(f'frame "{frame}"', "is not on the sheet", advice=nearest(frame, list(declared.frame)))
        layout = declared.frame[frame]
        return iter([frame_of(layout, what, number) for number in range(times)])
    if file is not None:
        return iter([file.read_bytes()] * times)
    if as_hex:
        return iter([hex_of(" ".join(what))] * times)
    if what:
        typed = " ".join(what)
        return iter([text_of(typed, number, ending or "none") for number in range(1, times + 1)])
    return (text_of(line.rstrip("\r\n"), number, ending or "lf") for number, line in enumerate(sys.stdin, 1))


def _replayed(path: Path, wire: str | None) -> Iterator[tuple[float, bytes]]:
    """Yield what a recording holds of one wire, as it came together, with the seconds since the first."""
    import numpy as np

    from larkreader.capture.files.recording import read_recording
    from larkreader.errors import RequestError, nearest

    wires = read_recording(path, name=str(path))
    chosen = wire if wire is not None else next((key for key, one in wires.items() if len(one)), None)
    if chosen not in wires:
        raise RequestError(f'wire "{wire}"', f"is not in {path}", advice=nearest(wire or "", list(wires)))
    characters = wires[chosen]
    values, times = characters.value.astype(np.uint8), characters.begin_s
    begins = np.flatnonzero(np.diff(times, prepend=-1.0))
    for low, high in zip(begins, [*begins[1:], len(values)], strict=True):
        yield float(times[low] - times[0]), values[low:high].tobytes()


def _listen(opened: Port, timeline: Timeline, wire: str, until_s: float) -> None:
    """Take in what comes until a time."""
    while (remaining := until_s - timeline.now_s(wire)) > 0:
        received = opened.read_some(4096, min(remaining, TOGETHER_S))
        if received.data:
            timeline.add(wire, received)
        else:
            timeline.show()
