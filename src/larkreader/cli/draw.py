"""``larkreader draw``: one figure from a capture."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import capture_argument, check_output, note, sheet_argument, wire_option
from .forms import form_of, form_options

if TYPE_CHECKING:
    from larkreader.capture.characters import Characters

FIGURES = ("waveform", "bursts")
ENDINGS = (".png", ".svg", ".pdf")


@click.command()
@sheet_argument
@capture_argument
@click.argument("figure", type=click.Choice(FIGURES))
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="A .png, .svg or .pdf file.",
)
@wire_option
@form_options
@click.option("--at", "at_s", type=float, metavar="SECONDS", help="Begin with the character at this time.")
@click.option("--first", type=int, metavar="NUMBER", help="Begin with this character, counted from 0.")
@click.option("--field", metavar="NAME", help="Of bursts: the field with the samples, where there are several.")
@click.option("--count", type=click.IntRange(1, 64), default=4, show_default=True, help="How many characters to show.")
def draw(
    sheet: Path,
    capture: Path,
    figure: str,
    output: Path,
    wire: str | None,
    kind: str | None,
    given: dict[str, Any],
    at_s: float | None,
    first: int | None,
    count: int,
    field: str | None,
) -> int:
    """Draw one figure of CAPTURE, read as SHEET declares it.

    waveform: a few characters of one wire, with their bits, sampling instants and values, faults marked. Unless
    --at or --first says where, it begins just before the first line fault.

    bursts: the samples that a field carries, one burst a frame, over each other.
    """
    if figure == "bursts":
        return _draw_bursts(sheet, capture, output, wire=wire, kind=kind, given=given, field=field)
    from larkreader.capture.files.open import open_capture
    from larkreader.capture.trace import Trace
    from larkreader.declare.sheet_file import open_sheet
    from larkreader.decode.receive import receive
    from larkreader.errors import CaptureError
    from larkreader.present.figures.waveform import draw_waveform, new_figure

    _check(output)
    declared = open_sheet(sheet)
    signals = {key: one.source for key, one in declared.wire.items()}
    measured = open_capture(capture, signals, kind=kind, wire=wire, form=form_of(declared.capture, given))  # type: ignore[arg-type]  # click let no other through
    traces = {key: trace for key, trace in measured.items() if isinstance(trace, Trace)}
    if not traces:
        raise CaptureError(str(capture), "holds no levels, so there is no waveform to draw")
    received = {key: receive(trace, declared.wire[key].line) for key, trace in traces.items()}
    chosen = min(received, key=lambda key: _first_fault(received[key]))
    characters = received[chosen]
    if not len(characters):
        raise CaptureError(f"{capture}: wire {chosen}", "holds no character, so there is nothing to draw")
    if first is None:
        first = _place_of(characters, at_s, count)
    picture = new_figure()
    draw_waveform(
        traces[chosen], characters, declared.wire[chosen].line, first=first, count=count, ax=picture.add_subplot()
    )
    picture.savefig(output)
    note(f"{figure} of {chosen}, from character {first:,} on, drawn into {output}")
    return 0


def _draw_bursts(
    sheet: Path,
    capture: Path,
    output: Path,
    *,
    wire: str | None,
    kind: str | None,
    given: dict[str, Any],
    field: str | None,
) -> int:
    from larkreader.declare.sheet_file import open_sheet
    from larkreader.errors import RequestError, nearest
    from larkreader.judge.bursts import sample_bursts
    from larkreader.judge.reading import read
    from larkreader.present.figures.bursts import draw_bursts
    from larkreader.present.figures.waveform import new_figure

    _check(output)
    declared = open_sheet(sheet)
    carrying = {
        name: key
        for key, layout in declared.frame.items()
        for name, slot in layout.slot.items()
        if slot.field is not None and slot.field.samples is not None
    }
    if field is not None and field not in carrying:
        raise RequestError("--field", f'is "{field}"', "must be a field with samples", nearest(field, list(carrying)))
    if not carrying:
        raise RequestError(str(sheet), "declares no field with samples, so there are no bursts to draw")
    if field is None and len(carrying) > 1:
        raise RequestError("--field", "is missing", f"must be one of {', '.join(carrying)}")
    name = field or next(iter(carrying))
    reading = read(declared, capture, kind=kind, form=form_of(declared.capture, given), wire=wire)  # type: ignore[arg-type]  # click let no other through
    bursts = sample_bursts(reading.frames[carrying[name]], name)
    picture = new_figure()
    draw_bursts(bursts, ax=picture.add_subplot())
    picture.savefig(output)
    note(f"{len(bursts):,} bursts of {name} drawn into {output}")
    return 0


def _check(output: Path) -> None:
    from larkreader.errors import RequestError

    if output.suffix.lower() not in ENDINGS:
        raise RequestError(str(output), f'ends in "{output.suffix}"', f"must end in {', '.join(ENDINGS)}")
    check_output(output)


def _first_fault(characters: Characters) -> float:
    """Return when the first character with a fault began; for ever if there is none."""
    faulty = characters.begin_s[characters.faults != 0]
    return float(faulty[0]) if len(faulty) else float("inf")


def _place_of(characters: Characters, at_s: float | None, count: int) -> int:
    """Return the character at a time, or so that the first with a fault is seen among others."""
    if at_s is not None:
        place = int(characters.end_s.searchsorted(at_s, side="right"))
        return min(place, len(characters) - 1)
    faulty = characters.faults.nonzero()[0]
    return max(int(faulty[0]) - (count - 1) // 2, 0) if len(faulty) else 0
