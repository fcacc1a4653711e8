"""Fields drawn while a command listens: in a window, or as a picture that is written again and again."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import check_output, note
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.declare.document.sheet import Sheet

FRAME_S = 0.09  # of real time between two drawings of a window
LEISURE = 0.1  # of it, in which nothing is drawn
READ_S = 0.1  # for which what arrived waits to be read together
BACKENDS = ("QtAgg", "TkAgg", "GTK4Agg", "MacOSX")


@dataclass(frozen=True)
class PlotOptions:
    """The options for what is drawn."""

    plot: str | None
    snapshot: Path | None
    every: float
    window: float
    remove_mean: bool

    @property
    def is_wanted(self) -> bool:
        """Whether anything is to be drawn."""
        return self.plot is not None or self.snapshot is not None

    def check(self, *, has_sheet: bool) -> None:
        """Raise `RequestError` if what is wanted cannot be drawn."""
        from larkreader.errors import RequestError

        if self.is_wanted and not has_sheet:
            name = "--plot" if self.plot is not None else "--snapshot"
            raise RequestError(name, "has no sheet", "must go with --sheet", "Only declared fields can be drawn")
        check_output(self.snapshot)


def plot_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options to a command."""
    above = click.FloatRange(0, min_open=True)
    for option in (
        click.option("--remove-mean", is_flag=True, help="With --plot and --snapshot: take its mean off each burst."),
        click.option(
            "--window",
            type=above,
            default=30.0,
            show_default=True,
            metavar="SECONDS",
            help="With --plot and --snapshot: how far back they reach.",
        ),
        click.option(
            "--every",
            type=above,
            default=10.0,
            show_default=True,
            metavar="SECONDS",
            help="With --snapshot: how often it is written.",
        ),
        click.option(
            "--snapshot",
            type=OutputFile(".png"),
            metavar="FILE",
            help="Draw the latest values into FILE, again and again: .png, .svg or .pdf.",
        ),
        click.option(
            "--plot",
            metavar="FIELD,...",
            help="Draw these fields in a window; with --snapshot, in that. Space pauses, s draws once more and pauses.",
        ),
    ):
        command = option(command)
    return command


class LivePlot:
    """Draws fields of what arrives.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wires : sequence of str
        The wires.
    options : PlotOptions
        What is drawn, and where.
    """

    def __init__(self, sheet: Sheet, wires: Sequence[str], options: PlotOptions) -> None:
        from larkreader.decode.cut.streaming import LayoutsReader
        from larkreader.errors import RequestError, nearest
        from larkreader.present.figures.live import LatestFrames

        self._options = options
        self._names = [name.strip() for name in (options.plot or "").split(",") if name.strip()]
        layouts = {wire: sheet.layouts_of(wire) for wire in wires if sheet.layouts_of(wire)}
        known = {name for some in layouts.values() for layout in some for name in (*layout.slot, *_dotted(layout))}
        for name in self._names:
            if name not in known:
                advice = nearest(name, sorted(known))
                raise RequestError(f'--plot "{name}"', "is in no frame of these wires", advice=advice)
        self._readers = {wire: LayoutsReader(some) for wire, some in layouts.items()}
        self._latest = {layout.key: LatestFrames(options.window) for some in layouts.values() for layout in some}
        self._waiting: dict[str, list[tuple[float, bytes, bytes]]] = {wire: [] for wire in layouts}
        self._read_s = self._written_s = 0.0
        self._window = None if options.snapshot is not None else _Window(self._names, options)

    def feed(self, wire: str, data: bytes, at_s: float, faults: bytes) -> None:
        """Take in what arrived."""
        if wire in self._waiting:
            self._waiting[wire].append((at_s, data, faults))
        if at_s - self._read_s >= READ_S:
            self._read_s = at_s
            self._read()

    def look(self, now_s: float, *, is_over: bool = False) -> None:
        """Draw anew, if it is time."""
        if self._window is not None:
            self._window.look(self._frames)
        elif is_over or now_s - self._written_s >= self._options.every:
            self._written_s = now_s
            self._write(is_over=is_over)

    @property
    def drawn(self) -> int:
        """How often the window was drawn."""
        return 0 if self._window is None else self._window.drawn

    def _write(self, *, is_over: bool) -> None:
        from larkreader.present.figures.live import draw_latest
        from larkreader.present.figures.style import write_figure

        frames, path, options = self._frames(), self._options.snapshot, self._options
        if path is None or not frames:
            return
        names = [name for name in self._names if _is_in(frames, name)]
        figure = draw_latest(frames, names, window_s=options.window, without_mean=options.remove_mean)
        write_figure(figure, path)  # whoever looks at it never sees half a picture
        if is_over:
            note(f"drawn into {path}")

    def _read(self) -> None:
        from larkreader.capture.characters import Characters

        for wire, groups in self._waiting.items():
            if groups:
                for key, frames in self._readers[wire].feed(Characters.from_groups(groups)).items():
                    self._latest[key].take(frames)
                groups.clear()

    def _frames(self) -> Mapping[str, Any]:
        """Return the latest frames by layout; none while none has a field that is drawn."""
        self._read()
        frames = {key: some for key, latest in self._latest.items() if (some := latest.frames) is not None}
        return frames if not self._names or any(_is_in(frames, name) for name in self._names) else {}


class _Window:
    """A window of Matplotlib's, drawn ten times a second at most."""

    def __init__(self, names: Sequence[str], options: PlotOptions) -> None:
        from larkreader.present.figures.moving import MovingFigure

        self._plt = _interactive()
        self._figure = self._plt.figure(figsize=(11, 6))
        self._names = names
        self._moving = MovingFigure(self._figure, window_s=options.window, without_mean=options.remove_mean)
        self._due_s, self._is_paused, self._is_once = 0.0, False, False
        self.drawn = 0
        self._figure.canvas.mpl_connect("key_press_event", self._pressed)
        self._plt.show(block=False)

    def look(self, latest: Callable[[], Mapping[str, Any]]) -> None:
        """Draw the latest frames, if it is time and not paused."""
        now_s = time.monotonic()
        if now_s < self._due_s or not self._plt.fignum_exists(self._figure.number):
            return
        if (not self._is_paused or self._is_once) and (frames := latest()):
            self._moving.draw(frames, [name for name in self._names if _is_in(frames, name)])
            self._is_once = False
            self.drawn += 1
        self._figure.canvas.flush_events()
        self._due_s = max(self._due_s + FRAME_S, time.monotonic() + LEISURE * FRAME_S)

    def _pressed(self, event: Any) -> None:
        if event.key == " ":
            self._is_paused = not self._is_paused
        elif event.key == "s":
            self._is_paused = self._is_once = True


def _interactive() -> Any:
    """Return Matplotlib with a backend that opens windows; raise `RequestError` where there is no display for any."""
    import matplotlib.pyplot as plt

    from larkreader.errors import RequestError

    for name in BACKENDS:
        try:
            plt.switch_backend(name)
        except ImportError:
            continue
        return plt
    found = "has no display, or no package that opens windows"
    raise RequestError("--plot", found, "needs both", "Add --snapshot FILE.png to draw into a file")


def _is_in(frames: Mapping[str, Any], name: str) -> bool:
    """Return whether a layout of some frames has a field."""
    return any(name in (*some.layout.slot, *_dotted(some.layout)) for some in frames.values())


def _dotted(layout: Any) -> list[str]:
    """Return the fields of a layout with its name before them."""
    return [f"{layout.key}.{name}" for name in layout.slot]
