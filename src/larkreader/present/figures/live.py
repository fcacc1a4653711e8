"""The fields of the latest frames, each in a strip, for a figure that is drawn again and again while frames arrive."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.answers.live_reading import LiveReading
from larkreader.decode.columns.frame_columns import Frames
from larkreader.errors import RequestError, nearest
from larkreader.judge.measure.bursts import Bursts, read_bursts

from .bursts import draw_envelope
from .fields import count_strips, draw_fields, strips_height
from .style import new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

BURSTS_PX = 360
WINDOW_S = 30.0  # how far back a figure reaches
WIDTH_PX = 1100
MOST_POINTS = 2000  # frames of a layout that are drawn; of more, every second, third, ... and all that are faulty


class LatestFrames:
    """Keeps the frames of a layout that a figure shows, in bounded memory.

    Parameters
    ----------
    window_s : float
        How far back they reach, in seconds.
    most : int
        How many are kept; where more arrive, every second good frame is kept, or every fourth, and so on. Up to twice
        as many wait to be left out, and as many that are faulty are kept beside them.
    """

    def __init__(self, window_s: float = WINDOW_S, most: int = MOST_POINTS) -> None:
        self._window_s, self._most = window_s, most
        self._parts: list[Frames] = []
        self._numbers: list[npt.NDArray[np.int64]] = []  # of the frames of each part, from the first that arrived
        self._count, self._stride = 0, 1

    def take(self, frames: Frames) -> None:
        """Take in frames, which follow those before.

        Parameters
        ----------
        frames : Frames
            With times.
        """
        numbers = np.arange(self._count, self._count + len(frames), dtype=np.int64)
        self._count += len(frames)
        self._add(frames, numbers, (numbers % self._stride == 0) | (frames.faults != 0))
        if sum(map(len, self._parts)) > 2 * self._most:
            self._thin()

    @property
    def frames(self) -> Frames | None:
        """The frames that are kept; None before the first."""
        self._join()
        return self._parts[0] if self._parts else None

    def _add(self, frames: Frames, numbers: npt.NDArray[np.int64], kept: npt.NDArray[np.bool_]) -> None:
        if kept.any():
            self._parts.append(frames[kept])
            self._numbers.append(numbers[kept])

    def _join(self) -> None:
        """Make a single part of those that there are, of the window alone."""
        if not self._parts:
            return
        frames, numbers = Frames.joined(self._parts), np.concatenate(self._numbers)
        self._parts, self._numbers = [], []
        self._add(frames, numbers, frames.begin_s >= frames.begin_s[-1] - self._window_s)
        if len(self._parts[0]) < self._most // 4:
            self._stride = max(self._stride // 2, 1)  # frames became rare: the next are kept closer to each other

    def _thin(self) -> None:
        self._join()
        (frames,), (numbers,) = self._parts, self._numbers
        is_faulty = frames.faults != 0
        is_faulty[np.flatnonzero(is_faulty)[: -self._most]] = False
        kept = np.ones(len(frames), np.bool_)
        while np.count_nonzero(kept) > 2 * self._most:
            self._stride *= 2
            kept = (numbers % self._stride == 0) | is_faulty
        self._parts, self._numbers = [], []
        self._add(frames, numbers, kept)


def draw_live(
    reading: LiveReading,
    names: Sequence[str] = (),
    *,
    window_s: float = WINDOW_S,
    without_mean: bool = False,
    figure: Figure | None = None,
) -> Figure:
    """Draw fields of the latest frames of a live reading; call it again with the same figure to draw it anew.

    Parameters
    ----------
    reading : LiveReading
        What judges the frames; its latest characters are what is drawn.
    names : sequence of str
        Which fields, ``flow`` or ``status.flow``; the usual fields of the layout with the most frames by default.
    window_s : float
        How far back from the latest frame, in seconds.
    without_mean : bool
        Whether the mean of each burst of samples is taken off.
    figure : matplotlib.figure.Figure, optional
        Where to draw; a new figure unless given.

    Returns
    -------
    matplotlib.figure.Figure
        A strip a field, marked as in `draw_fields`; of a field of samples the last burst over what all of them span,
        as in `draw_envelope`.

    Raises
    ------
    RequestError
        If no layout has such a field, or no frame has arrived yet.

    Examples
    --------
    >>> layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 1}, fields=[{"name": "flow", "type": "uint8"}])
    >>> live = lr.LiveReading(lr.Sheet(wire={"pump": {}}, frame={"status": layout}))
    >>> for number in range(5):
    ...     live.feed("pump", bytes([number]), time_s=0.1 * number)
    >>> figure = lr.present.draw_live(live, ["flow"])
    >>> figure.axes[0].get_xlabel()
    'time, ms'
    """
    frames = reading.recent().frames
    return draw_latest(frames, names, window_s=window_s, without_mean=without_mean, figure=figure)


def draw_latest(
    frames: Mapping[str, Frames],
    names: Sequence[str] = (),
    *,
    window_s: float = WINDOW_S,
    without_mean: bool = False,
    figure: Figure | None = None,
) -> Figure:
    """Draw fields of the latest frames, by layout; see `draw_live`.

    Parameters
    ----------
    frames : mapping of str to Frames
        By layout.
    names : sequence of str
        Which fields.
    window_s : float
        How far back, in seconds.
    without_mean : bool
        Whether the mean of each burst of samples is taken off.
    figure : matplotlib.figure.Figure, optional
        Where to draw.

    Returns
    -------
    matplotlib.figure.Figure
        As of `draw_live`.

    Raises
    ------
    RequestError
        As of `draw_live`.
    """
    chosen = chosen_fields(frames, names)
    if not chosen:
        raise RequestError("live figure", "has no frame yet", "needs a frame to draw")
    end_s = max(float(some.begin_s[-1]) for some, _ in chosen)
    panels = [panel for some, own in chosen for panel in _panels(some, own, end_s - window_s, without_mean)]
    heights = [panel.height for panel in panels]
    figure = new_figure(WIDTH_PX, sum(heights)) if figure is None else figure
    figure.clear()
    axes = figure.subplots(len(panels), 1, squeeze=False, gridspec_kw={"height_ratios": heights})[:, 0]
    for panel, each in zip(panels, axes, strict=True):
        panel.draw(each)
    return figure


class _Panel(NamedTuple):
    """A part of a figure: how high it is, in pixels, and what draws it."""

    height: int
    draw: Callable[[Axes], object]


def _panels(frames: Frames, names: Sequence[str], begin_s: float, without_mean: bool) -> Iterator[_Panel]:
    """Yield the strips of a layout's fields, and the bursts of each field of samples."""
    latest = frames[frames.begin_s >= begin_s]
    sampled = sampled_fields(frames, names)
    others = [name for name in names if name not in sampled]
    if (others or not names) and (strips := count_strips(latest, others)):
        yield _Panel(strips_height(strips), _strips(latest, others))
    for name in sampled:
        bursts = read_bursts(latest, name)
        if len(bursts) and bursts.count.any():
            yield _Panel(BURSTS_PX, _bursts(bursts, without_mean))


def _strips(frames: Frames, names: Sequence[str]) -> Callable[[Axes], object]:
    return lambda axes: draw_fields(frames, names, ax=axes)


def _bursts(bursts: Bursts, without_mean: bool) -> Callable[[Axes], object]:
    return lambda axes: draw_envelope(bursts, without_mean=without_mean, ax=axes)


def sampled_fields(frames: Frames, names: Sequence[str]) -> list[str]:
    """Return which of some fields, of all by default, hold samples."""
    slots = frames.layout.slot
    return [name for name in names or slots if (field := slots[name].field) is not None and field.samples is not None]


def chosen_fields(frames: Mapping[str, Frames], names: Sequence[str]) -> list[tuple[Frames, list[str]]]:
    """Return the frames of the layouts that are drawn, with the fields of each."""
    there = {key: some for key, some in frames.items() if len(some)}
    if not names:
        most = max(there, key=lambda key: len(there[key]), default=None)
        return [(there[most], [])] if most is not None else []
    fields: dict[str, list[str]] = {}
    for name in names:
        key, dot, field = name.partition(".")
        owners = [key] if dot and key in frames else [key for key, some in frames.items() if name in some.layout.slot]
        wanted = field if dot and key in frames else name
        if not owners or wanted not in frames[owners[0]].layout.slot:
            known = [name for some in frames.values() for name in some.layout.slot]
            raise RequestError(f'field "{name}"', "is in no frame of these wires", advice=nearest(name, known))
        for owner in owners:
            fields.setdefault(owner, []).append(wanted)
    return [(there[key], own) for key, own in fields.items() if key in there]
