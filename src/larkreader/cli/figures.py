"""The figures that ``draw`` and ``report`` make: each from what it needs, a sheet, a capture or a port."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from larkreader.declare.document.sheet import Sheet
from larkreader.errors import CaptureError, RequestError, nearest
from larkreader.sources import path_of

from .forms import form_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from larkreader.answers.reading import Reading
    from larkreader.capture.characters import Characters
    from larkreader.declare.run.capture_form import CaptureKind
    from larkreader.exercise.loopback.matrix import MatrixResult
    from larkreader.judge.setup.path_report import PathReport

MOST_IN_A_WAVEFORM = 64  # characters
USUAL_CHARACTERS = 4  # of a waveform, or a fill of which a part is asked for


@dataclass
class Wanted:
    """What is asked for, and what it is made from; read when it is needed.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    source : str, pathlib.Path or None
        The capture, or the port of a loopback.
    wire, frame : str or None
        Of which wire, of which layout.
    fields : sequence of str
        Which fields.
    at_s, first, count
        With which character a figure of characters begins, by its time or its number, and how many it shows.
    from_s, to_s : float or None
        From when to when other figures go.
    folder : pathlib.Path
        Where the files that the sheet names lie.
    kind, given
        What the file of the capture does not say of itself.
    """

    sheet: Sheet
    source: str | Path | None = None
    wire: str | None = None
    frame: str | None = None
    fields: tuple[str, ...] = ()
    at_s: float | None = None
    first: int | None = None
    count: int | None = None
    from_s: float | None = None
    to_s: float | None = None
    folder: Path = Path()
    kind: CaptureKind | None = None
    given: dict[str, Any] = field(default_factory=dict)

    @property
    def capture(self) -> Path:
        """The file of the capture."""
        assert self.source is not None
        return path_of(self.source)

    @cached_property
    def reading(self) -> Reading:
        """The capture, read."""
        return self._read(keep_levels=False)

    @cached_property
    def reading_of_levels(self) -> Reading:
        """The capture, read, with the levels of its wires.

        Raises
        ------
        CaptureError
            If it has none.
        """
        reading = self._read(keep_levels=True)
        if not reading.levels:
            raise CaptureError(str(self.capture), "holds no levels, so there is nothing to draw")
        return reading

    def _read(self, *, keep_levels: bool) -> Reading:
        from larkreader.answers.reading import read

        form = form_of(self.sheet.capture, self.given)
        return read(self.sheet, self.capture, kind=self.kind, form=form, wire=self.wire, keep_levels=keep_levels)


def _waveform(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.waveform import draw_waveform

    count = USUAL_CHARACTERS if wanted.count is None else wanted.count
    if count > MOST_IN_A_WAVEFORM:
        raise RequestError("--count", f"is {count}", f"must be at most {MOST_IN_A_WAVEFORM} in a waveform")
    reading = wanted.reading_of_levels
    chosen = min(reading.levels, key=lambda key: _first_fault(reading.characters[key]))
    characters = reading.characters[chosen]
    if not len(characters):
        raise CaptureError(f"{wanted.capture}: wire {chosen}", "holds no character, so there is nothing to draw")
    first = _place_of(characters, wanted.at_s, count) if wanted.first is None else wanted.first
    line = wanted.sheet.wire[chosen].line
    draw_waveform(reading.levels[chosen], characters, line, first=first, count=count, ax=axes)
    return f"of {chosen}, from character {first:,} on,"


def _folded(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.folded import draw_folded

    reading = wanted.reading_of_levels
    wire = max(reading.levels, key=lambda key: len(reading.characters[key]))
    draw_folded(reading.edge_phases[wire], name=wire, ax=axes)
    return f"of {wire}"


def _widths(wanted: Wanted, axes: Axes) -> str:
    from larkreader.judge.infer.level_widths import measure_widths
    from larkreader.present.figures.widths import draw_widths

    levels = wanted.reading_of_levels.levels
    wire = max(levels, key=lambda key: len(levels[key]))
    draw_widths(measure_widths(levels[wire], wanted.sheet.wire[wire].line), ax=axes)
    return f"of {wire}"


def _gaps(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.gaps import draw_gaps

    _needs_times(wanted)
    reading = wanted.reading
    wire = max(reading.timeline.wires, key=lambda key: len(reading.characters[key]))
    draw_gaps(reading.gaps[wire], wanted.sheet.wire[wire].line, ax=axes)
    return f"of {wire}"


def _timeline(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.timeline import draw_timeline

    _needs_times(wanted)
    draw_timeline(wanted.reading, begin_s=wanted.from_s, end_s=wanted.to_s, ax=axes)
    return f"of {', '.join(wanted.reading.timeline.wires)}"


def _needs_times(wanted: Wanted) -> None:
    if not len(wanted.reading.timeline):
        raise RequestError(str(wanted.capture), "has no times", "this figure needs a capture with times")


def _fields(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.fields import draw_fields

    layout = _layout_key(wanted)
    frames = wanted.reading.frames[layout]
    draw_fields(frames, wanted.fields, begin_s=wanted.from_s, end_s=wanted.to_s, ax=axes)
    return f"of {len(frames):,} {layout} frames"


def _layout_key(wanted: Wanted) -> str:
    """Return the layout that is asked for, or the layout with most frames."""
    known = list(wanted.reading.frames)
    if wanted.frame is not None and wanted.frame not in known:
        raise RequestError(f'frame "{wanted.frame}"', "is not in the capture", "", nearest(wanted.frame, known))
    if not known:
        raise RequestError("fields", "need frames", "a sheet that declares them, of a wire that was captured")
    return wanted.frame or max(known, key=lambda key: len(wanted.reading.frames[key]))


def _bursts(wanted: Wanted, axes: Axes) -> str:
    from larkreader.judge.measure.bursts import read_bursts
    from larkreader.present.figures.bursts import draw_bursts

    carrying = {
        name: key
        for key, layout in wanted.sheet.frame.items()
        for name, slot in layout.slot.items()
        if slot.field is not None and slot.field.samples is not None
    }
    field_ = wanted.fields[0] if wanted.fields else None
    if field_ is not None and field_ not in carrying:
        advice = nearest(field_, list(carrying))
        raise RequestError("--field", f'is "{field_}"', "must be a field with samples", advice)
    if not carrying:
        raise RequestError("sheet", "declares no field with samples, so there are no bursts to draw")
    if field_ is None and len(carrying) > 1:
        raise RequestError("--field", "is missing", f"must be one of {', '.join(carrying)}")
    name = field_ or next(iter(carrying))
    bursts = read_bursts(wanted.reading.frames[carrying[name]], name)
    draw_bursts(bursts, ax=axes)
    return f"of {name}, {len(bursts):,} of them,"


def _chosen_path(wanted: Wanted, figure: str) -> PathReport:
    if not wanted.reading.paths:
        result = "a wire needs [receive.*] on the sheet, and its levels in the capture"
        raise RequestError("sheet", f"leaves no {figure} to draw", result)
    return max(wanted.reading.paths.values(), key=lambda path: path.replay.lost)


def _fill(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.fill import draw_fill

    report = _chosen_path(wanted, "fill")
    characters = wanted.reading.characters[report.wire]
    first, begin_s, end_s = wanted.first, wanted.from_s, wanted.to_s
    if wanted.at_s is not None:
        first = int(characters.end_s.searchsorted(wanted.at_s, side="right"))
    if first is not None:
        if not 0 <= first < len(characters):
            option = "--first" if wanted.at_s is None else "--at"
            raise RequestError(option, f"is behind all {len(characters):,} characters")
        last = min(first + (wanted.count or USUAL_CHARACTERS), len(characters)) - 1
        begin_s, end_s = float(characters.begin_s[first]), float(characters.end_s[last])
    draw_fill(report, begin_s=begin_s, end_s=end_s, ax=axes)
    return f"of {report.wire}"


def _losses(wanted: Wanted, axes: Axes) -> str:
    report = _chosen_path(wanted, "losses")
    draw_losses_of(report, wanted.reading.characters[report.wire], wanted.sheet, axes)
    return f"of {report.wire}"


def draw_losses_of(report: PathReport, characters: Characters, sheet: Sheet, axes: Axes) -> None:
    """Draw what a receive path loses of characters with other rings and other times of service."""
    from larkreader.present.figures.losses import draw_losses
    from larkreader.simulate.loss_survey import calculate_losses

    others = [item.line for key, item in sheet.wire.items() if key != report.wire]
    back = others[0] if len(others) == 1 else None
    draw_losses(calculate_losses(characters, sheet.receive[report.wire], report.line, back=back), ax=axes)


def _margin(wanted: Wanted, axes: Axes) -> str:
    from larkreader.answers.planning import plan
    from larkreader.present.figures.margin import draw_margin

    every = plan(wanted.sheet).margins
    margins = [(item, wire) for wire, some in every.items() for item in some if wanted.wire in (None, wire)]
    if not margins:
        raise RequestError("margin", "has nothing to draw", "a wire needs an [end] that sends and one that receives")
    tightest, wire = min(margins, key=lambda margin: margin[0].tightest)
    draw_margin(tightest, ax=axes)
    return f"of {wire}"


def _layout(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.layout import draw_layout

    known = list(wanted.sheet.frame)
    if not known:
        raise RequestError("layout", "has nothing to draw", "the sheet declares no frame")
    if wanted.frame is None and len(known) > 1:
        raise RequestError("--frame", "is missing", f"must be one of {', '.join(known)}")
    if wanted.frame is not None and wanted.frame not in known:
        raise RequestError(f'frame "{wanted.frame}"', "is not on the sheet", "", nearest(wanted.frame, known))
    key = wanted.frame or known[0]
    draw_layout(wanted.sheet.frame[key], ax=axes)
    return f"of {key}"


def _matrix(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.loopback import draw_matrix

    result = _run_matrix(wanted)
    draw_matrix(result, ax=axes)
    return f"of {len(result.runs)} runs"


def _latency(wanted: Wanted, axes: Axes) -> str:
    from larkreader.present.figures.loopback import draw_latency

    result = _run_matrix(wanted)
    draw_latency(result, ax=axes)
    return f"of {len(result.runs)} runs"


def _run_matrix(wanted: Wanted) -> MatrixResult:
    from larkreader.exercise.loopback.matrix import run_matrix

    from .common import progress_of
    from .loopback_ports import content_of, opener

    assert wanted.source is not None
    matrix = wanted.sheet.loopback
    content = content_of(matrix, wanted.sheet, wanted.folder / str(matrix.file))
    line = wanted.sheet.line_of(str(wanted.source))
    open_at = opener([str(wanted.source)], wanted.sheet, wanted.sheet, line, far=None)
    with progress_of("loopback", shown=True) as progress:
        return run_matrix(open_at, matrix, line, content=content, progress=progress)


@dataclass(frozen=True)
class Maker:
    """How one figure is made.

    Parameters
    ----------
    draw : callable
        Draws what is wanted into axes, and returns of what it is.
    needs : {"capture", "sheet", "port"}
        What it is made from.
    summary : str
        What it shows.
    takes : tuple of str
        Which options apply to it, by the names of `Wanted`.
    height_px : int
        How high it is, where it is 1280 wide.
    """

    draw: Callable[[Wanted, Axes], str]
    needs: str
    summary: str
    takes: tuple[str, ...] = ("wire",)
    height_px: int = 480


PLACE, SPAN = ("at_s", "first", "count"), ("from_s", "to_s")
FIGURES: Mapping[str, Maker] = {
    "waveform": Maker(
        _waveform, "capture", "a few characters of one wire: bits, sampling instants, values, faults", ("wire", *PLACE)
    ),
    "folded": Maker(
        _folded, "capture", "its changes folded on the bit time, against the bits' boundaries", height_px=640
    ),
    "widths": Maker(_widths, "capture", "how long levels last, against the bit time of the declared baud"),
    "gaps": Maker(_gaps, "capture", "how long a wire rests between characters, and between messages"),
    "timeline": Maker(
        _timeline, "capture", "the messages of all wires, requests joined to their replies", ("wire", *SPAN)
    ),
    "fields": Maker(
        _fields, "capture", "fields over time, each in a strip of its own", ("wire", "frame", "fields", *SPAN), 720
    ),
    "bursts": Maker(
        _bursts, "capture", "the samples that a field carries, one burst a frame, over each other", ("wire", "fields")
    ),
    "fill": Maker(
        _fill, "capture", "how full each stage of a receive path gets, and what is lost there", ("wire", *PLACE, *SPAN)
    ),
    "losses": Maker(_losses, "capture", "what a receive path loses with other rings, served sooner or later"),
    "margin": Maker(_margin, "sheet", "one end's bits against the other end's samples"),
    "layout": Maker(_layout, "sheet", "where the fields of a layout lie", ("frame",)),
    "matrix": Maker(_matrix, "port", "the loopbacks of the sheet, baud by baud and format by format", ()),
    "latency": Maker(_latency, "port", "how long the blocks of these loopbacks took", ()),
}


def draw_into(figure: str, wanted: Wanted, output: Path) -> str:
    """Draw a figure into a file; return what it shows."""
    from larkreader.present.figures.style import new_figure, write_figure

    maker = FIGURES[figure]
    picture = new_figure(height_px=maker.height_px)
    result = maker.draw(wanted, picture.add_subplot())
    write_figure(picture, output)
    return result


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
