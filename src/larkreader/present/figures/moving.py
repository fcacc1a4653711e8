"""A figure of the latest frames in a window: while its scales stay, its lines alone are drawn anew.

What stands still (scales, texts, edges) is drawn once and kept as a picture. Each drawing lays that picture down and
draws the lines over it. Scales end at round numbers and give way only when values leave them or fill little of them,
and time counts back from the latest frame, so that they stay for long.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.measure.bursts import Bursts, read_bursts

from .bursts import draw_envelope
from .fields import MARKS, bases, draw_edges, line_style, marks_of, remark, set_ticks, strips_height
from .live import BURSTS_PX, WINDOW_S, chosen_fields, sampled_fields
from .strips import Limits, Strip, strips_of
from .style import finish, time_scale

if TYPE_CHECKING:
    from matplotlib.artist import Artist
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

COLUMN_PX = 2  # of which the line shows its least and its highest value
LEAST_BREAK = 0.01  # of the window, that frames are missing where a line is broken
LEFT_PX, RIGHT_PX, TOP_PX, BOTTOM_PX = 14, 14, 32, 50  # around a panel
LETTER_PX = 8  # of a text beside an axis, at most on average
HIGHEST_PX = 900
LEAST_FILLED = 0.4  # of a scale, that values fill before it gives way
STEPS = 4  # of a scale's span, to whose round numbers it ends


class MovingFigure:
    """Draws fields of the latest frames again and again.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
        Where to draw, without a layout engine; of a window, or of any canvas that keeps pixels.
    window_s : float
        How far back from the latest frame, in seconds.
    without_mean : bool
        Whether the mean of each burst of samples is taken off.
    """

    def __init__(self, figure: Figure, *, window_s: float = WINDOW_S, without_mean: bool = False) -> None:
        self._figure = figure
        self._window_s, self._without_mean = window_s, without_mean
        self._panels: dict[str, _Strips | _Bursts] = {}
        self._is_sized = False
        self._still: Any = None
        figure.canvas.mpl_connect("draw_event", lambda _: self._keep())
        figure.canvas.mpl_connect("resize_event", lambda _: self._stale())

    def draw(self, frames: Mapping[str, Frames], names: Sequence[str] = ()) -> None:
        """Draw anew.

        Parameters
        ----------
        frames : mapping of str to Frames
            By layout; with times.
        names : sequence of str
            Which fields, as in `draw_live`.

        Raises
        ------
        RequestError
            If no layout has such a field.
        """
        chosen = chosen_fields(frames, names)
        if not chosen:
            return
        end_s = max(float(some.begin_s[-1]) for some, _ in chosen)
        contents = self._contents(chosen, end_s)
        if not contents:
            return
        if list(contents) != list(self._panels):
            self._lay_out(contents)
        is_stale = [self._panels[key].update(content) for key, content in contents.items()]
        canvas: Any = self._figure.canvas
        if any(is_stale) or self._still is None:
            self._place()
            canvas.draw()
        else:
            canvas.restore_region(self._still)
            self._draw_lines()
            canvas.blit(self._figure.bbox)

    def _contents(self, chosen: list[tuple[Frames, list[str]]], end_s: float) -> dict[str, Any]:
        """Return what each panel shows."""
        contents: dict[str, Any] = {}
        for frames, names in chosen:
            first = int(np.searchsorted(frames.begin_s, end_s - self._window_s))
            latest, key = frames[first:], frames.layout.key
            sampled = sampled_fields(frames, names)
            others = [name for name in names if name not in sampled]
            if others or not names:
                at = latest.begin_s - end_s
                known = self._panels.get(key)
                limits = known.limits if isinstance(known, _Strips) else _Scales()
                if strips := strips_of(latest, others, at, limits, LEAST_BREAK * self._window_s):
                    contents[key] = (strips, limits, self._window_s)
            for name in sampled:
                bursts = read_bursts(latest, name)
                if len(bursts) and bursts.count.any():
                    contents[f"{key}.{name}"] = (bursts, self._without_mean)
        return contents

    def _lay_out(self, contents: dict[str, Any]) -> None:
        self._figure.clear()
        heights = [strips_height(len(item[0])) if len(item) > 2 else BURSTS_PX for item in contents.values()]
        if not self._is_sized:  # as its content needs at first; from then on as the user has it
            self._figure.set_size_inches(self._figure.get_figwidth(), min(sum(heights), HIGHEST_PX) / self._figure.dpi)
            self._is_sized = True
        every = self._figure.subplots(len(heights), 1, squeeze=False, gridspec_kw={"height_ratios": heights})[:, 0]
        self._panels = {
            key: _Strips(axes, key) if len(item) > 2 else _Bursts(axes, key)
            for (key, item), axes in zip(contents.items(), every, strict=True)
        }

    def _place(self) -> None:
        """Place the panels: Matplotlib's own layout takes several times as long as a drawing."""
        width, height = self._figure.get_size_inches() * self._figure.dpi
        longest = max(len(text) for panel in self._panels.values() for text in panel.texts())
        self._figure.subplots_adjust(
            left=(LEFT_PX + LETTER_PX * longest) / width,
            right=1 - RIGHT_PX / width,
            top=1 - TOP_PX / height,
            bottom=BOTTOM_PX / height,
            hspace=(TOP_PX + BOTTOM_PX) * len(self._panels) / height,
        )

    def _keep(self) -> None:
        """Keep what stands still, which was just drawn, and draw the lines over it."""
        canvas: Any = self._figure.canvas
        if canvas.supports_blit:
            self._still = canvas.copy_from_bbox(self._figure.bbox)
        self._draw_lines()

    def _stale(self) -> None:
        self._still = None

    def _draw_lines(self) -> None:
        for panel in self._panels.values():
            for artist in panel.artists:
                panel.axes.draw_artist(artist)


class _Scales:
    """The values that the edges of strips mean, by the label of the strip."""

    def __init__(self) -> None:
        self._kept: dict[str, Limits] = {}

    def __call__(self, label: str, needed: Limits) -> Limits:
        self._kept[label] = kept = scale_for(needed, self._kept.get(label))
        return kept


def scale_for(needed: Limits, kept: Limits | None = None) -> Limits:
    """Return the ends of a scale: round numbers, and the ends that it had as long as values fill enough of it.

    Parameters
    ----------
    needed : tuple of float
        The least and the highest value.
    kept : tuple of float, optional
        The ends that the scale had.
    """
    low, high = needed
    if kept is not None and kept[0] <= low and high <= kept[1] and high - low >= LEAST_FILLED * (kept[1] - kept[0]):
        return kept
    step = 10.0 ** math.floor(math.log10((high - low) / STEPS))
    step *= next(factor for factor in (1, 2, 5, 10) if factor * step * STEPS >= high - low)
    return math.floor(low / step) * step, math.ceil(high / step) * step


class _Strips:
    """The strips of a layout's fields."""

    def __init__(self, axes: Axes, layout: str) -> None:
        self.axes, self._layout = axes, layout
        self.artists: list[Artist] = []
        self.limits: Callable[[str, Limits], Limits] = _Scales()
        self._form: Any = None

    def update(self, content: tuple[list[Strip], _Scales, float]) -> bool:
        """Take in what is shown; return whether what stands still has changed."""
        strips, self.limits, window_s = content
        form = ([(strip.label, strip.ticks, strip.is_stepped) for strip in strips], remark(strips))
        is_stale = bool(form != self._form)
        self._form = form
        if is_stale:
            self._redraw(strips, window_s)
        *lines, damaged, odd, substituted = self._lines
        _, factor = time_scale(window_s)
        columns = max(int(self.axes.bbox.width) // COLUMN_PX, 100)
        places: dict[str, list[tuple[Any, Any]]] = {mark: [] for mark in MARKS}
        for strip, base, line in zip(strips, bases(len(strips)), lines, strict=True):
            x, y = thinned(*strip.line, columns)
            line.set(**line_style(strip), data=(x * factor, base + y))
            for mark, (at, height) in marks_of(strip).items():
                places[mark].append((at * factor, base + height))
        for mark, line in zip(MARKS, (damaged, odd, substituted), strict=True):
            parts = places[mark] or [(np.zeros(0), np.zeros(0))]
            line.set_data(np.concatenate([part[0] for part in parts]), np.concatenate([part[1] for part in parts]))
        return is_stale

    def texts(self) -> list[str]:
        """Return what stands beside the strips."""
        return [text for _, ticks, _ in self._form[0] for _, text in ticks]

    def _redraw(self, strips: list[Strip], window_s: float) -> None:
        axes = self.axes
        axes.clear()
        ticks: list[tuple[float, str]] = []
        for strip, base in zip(strips, bases(len(strips)), strict=True):
            draw_edges(axes, strip, base)
            ticks += [(base + place, text) for place, text in strip.ticks]
        set_ticks(axes, ticks, len(strips))
        unit, factor = time_scale(window_s)
        axes.set_xlim(-1.01 * window_s * factor, 0.01 * window_s * factor)
        axes.set_xlabel(f"time before the latest frame, {unit}")
        finish(axes, f"{self._layout}: the last {window_s * factor:g} {unit}", remark(strips))
        self._lines = [axes.plot([], [], animated=True)[0] for _ in strips]
        self._lines += [axes.plot([], [], animated=True, **style)[0] for style in MARKS.values()]
        self.artists = list(self._lines)


class _Bursts:
    """Bursts of samples: the last over what all of them span."""

    def __init__(self, axes: Axes, name: str) -> None:
        self.axes, self._title = axes, f"{name}: the last burst"
        self.artists: list[Artist] = []
        self._scale: Limits | None = None
        self._form: Any = None

    def update(self, content: tuple[Bursts, bool]) -> bool:
        """Take in what is shown; return whether what stands still has changed."""
        bursts, without_mean = content
        least, most = bursts.envelope(bursts.without_mean() if without_mean else bursts.volts)
        low, high = float(np.nanmin(least)), float(np.nanmax(most))
        self._scale = scale_for((low, high) if high > low else (low - 0.5, high + 0.5), self._scale)
        form = (self._scale, int(bursts.count.max()))
        is_stale = bool(form != self._form)
        self._form = form
        axes = self.axes
        axes.clear()
        draw_envelope(bursts, without_mean=without_mean, ax=axes)
        finish(axes, self._title, "hatched: what all of them span", sides=("bottom", "left"))  # no count: it would age
        axes.set_ylim(*self._scale)
        self.artists = [*axes.get_lines(), *axes.collections]
        for artist in self.artists:
            artist.set_animated(True)
        return is_stale

    def texts(self) -> list[str]:
        """Return what stands beside the axis: numbers, and the quantity turned round."""
        return [f"{value:.4g}00" for value in self._scale or ()]


def thinned(
    x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], columns: int
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Return the points of a line that are seen in so many columns of pixels: in each the least and the highest.

    Parameters
    ----------
    x, y : ndarray
        Where the line goes, `x` in order; NaN in both where it is broken.
    columns : int
        How many columns of pixels there are.
    """
    if len(x) <= 2 * columns:
        return x, y
    begin, end = float(np.nanmin(x)), float(np.nanmax(x))
    is_broken = np.isnan(x)
    column = np.floor((np.where(is_broken, begin, x) - begin) / (end - begin or 1.0) * columns)
    column = np.where(is_broken, -1.0, column)  # a break is a column of its own
    first = np.flatnonzero(np.r_[True, np.diff(column) != 0])
    ends = np.stack([np.minimum.reduceat(y, first), np.maximum.reduceat(y, first)], axis=1)
    falls = y[first] > y[np.append(first[1:], len(y)) - 1]
    ends[falls] = ends[falls, ::-1]
    return np.repeat(x[first], 2), ends.reshape(-1)
