"""``larkreader draw``: one figure from a capture."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import capture_argument, check_figure, note, sheet_argument, wire_option
from .forms import form_of, form_options

if TYPE_CHECKING:
    from larkreader.capture.characters import Characters
    from larkreader.declare.sheet import Sheet
    from larkreader.judge.path_report import PathReport

FIGURES = ("waveform", "bursts", "fill", "losses")
MOST_IN_A_WAVEFORM = 64  # characters


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
@click.option("--count", type=click.IntRange(1), default=4, show_default=True, help="How many characters to show.")
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

    fill: how full each stage of a wire's receive path gets, and what is lost there. --at and --count say from when on,
    and how many characters.

    losses: what the receive path loses with a larger or a smaller ring, and served sooner or later.
    """
    if figure in ("fill", "losses"):
        return _draw_path(
            sheet, capture, figure, output, wire=wire, kind=kind, given=given, at_s=at_s, first=first, count=count
        )
    if figure == "bursts":
        return _draw_bursts(sheet, capture, output, wire=wire, kind=kind, given=given, field=field)
    from larkreader.capture.files.open import open_capture
    from larkreader.capture.trace import Trace
    from larkreader.declare.sheet_file import open_sheet
    from larkreader.decode.receive import receive
    from larkreader.errors import CaptureError, RequestError
    from larkreader.present.figures.waveform import draw_waveform, new_figure

    if count > MOST_IN_A_WAVEFORM:
        raise RequestError("--count", f"is {count}", f"must be at most {MOST_IN_A_WAVEFORM} in a waveform")
    check_figure(output)
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


def _draw_path(
    sheet: Path,
    capture: Path,
    figure: str,
    output: Path,
    *,
    wire: str | None,
    kind: str | None,
    given: dict[str, Any],
    at_s: float | None,
    first: int | None,
    count: int,
) -> int:
    from larkreader.declare.sheet_file import open_sheet
    from larkreader.errors import RequestError
    from larkreader.judge.reading import read

    check_figure(output)
    declared = open_sheet(sheet)
    reading = read(declared, capture, kind=kind, form=form_of(declared.capture, given), wire=wire)  # type: ignore[arg-type]  # click let no other through
    if not reading.paths:
        wanted = "a wire needs [receive.*] on the sheet, and its levels in the capture"
        raise RequestError(str(sheet), f"leaves no {figure} to draw", wanted)
    chosen = max(reading.paths, key=lambda key: reading.paths[key].replay.lost)
    characters = reading.characters[chosen]
    if at_s is not None:
        first = int(characters.end_s.searchsorted(at_s, side="right"))
    window = None
    if first is not None:
        if not 0 <= first < len(characters):
            raise RequestError("--first" if at_s is None else "--at", f"is behind all {len(characters):,} characters")
        last = min(first + count, len(characters)) - 1
        window = float(characters.begin_s[first]), float(characters.end_s[last])
    draw_path(reading.paths[chosen], characters, declared, figure, output, window)
    note(f"{figure} of {chosen} drawn into {output}")
    return 0


def draw_path(
    report: PathReport,
    characters: Characters,
    sheet: Sheet,
    figure: str,
    output: Path,
    window: tuple[float, float] | None = None,
) -> None:
    """Draw what a receive path makes of characters, as ``fill`` or ``losses``."""
    from larkreader.judge.loss_survey import survey_losses
    from larkreader.present.figures.fill import draw_fill
    from larkreader.present.figures.losses import draw_losses
    from larkreader.present.figures.waveform import new_figure

    picture = new_figure()
    axes = picture.add_subplot()
    if figure == "fill":
        begin_s, end_s = window if window is not None else (None, None)
        draw_fill(report, begin_s=begin_s, end_s=end_s, ax=axes)
    else:
        others = [one.line for key, one in sheet.wire.items() if key != report.wire]
        back = others[0] if len(others) == 1 else None
        draw_losses(survey_losses(characters, sheet.receive[report.wire], report.line, back=back), ax=axes)
    picture.savefig(output)


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

    check_figure(output)
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
