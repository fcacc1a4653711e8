"""What all figures look like: ink on white; dashes, hatching and letters distinguish, and colour never does alone.

Faults are rust-red and hatched, the first wire is blue, the second ochre: of different lightness, so that they stay
apart in grey and for eyes that see no red or no green.

Nothing here, and no figure, changes Matplotlib's settings or opens a window.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from larkreader.sources import written_whole

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, SOFT, PALE = "#1c2b33", "#6b7c85", "#e9eef0"
FAULT = "#b23a17"
WIRES = ("#1d5f8a", "#a9741a")
DASHES = ("-", "--", ":", "-.")
TIME_UNITS = (("s", 1.0), ("ms", 1e3), ("\u00b5s", 1e6), ("ns", 1e9))
LEAST, HEADROOM = 0.7, 1.6  # where an axis of counts begins, so that 1 is seen, and ends, times the highest
SALT = "larkreader"  # of the names within an SVG picture, which are random otherwise
TITLE_SIZE, NOTE_SIZE = 11, 9


def new_figure(width_px: int = 1280, height_px: int = 480) -> Figure:
    """Make a figure that belongs to no window.

    Parameters
    ----------
    width_px, height_px : int
        Its size in pixels, at 100 a inch.

    Returns
    -------
    matplotlib.figure.Figure
        An empty figure.

    Examples
    --------
    >>> figure = lr.new_figure(1280, 480)
    >>> (figure.get_size_inches() * figure.dpi).round().tolist()
    [1280.0, 480.0]
    """
    from matplotlib.figure import Figure

    return Figure(figsize=(width_px / 100, height_px / 100), dpi=100, layout="constrained", facecolor="white")


def write_figure(figure: Figure, path: str | Path) -> None:
    """Write a figure as a .png, .svg or .pdf file; the same figure gives the same bytes.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
        The figure.
    path : str or pathlib.Path
        The file; it has its name only once it is whole.

    Raises
    ------
    OSError
        If it cannot be written.
    ValueError
        If its ending is that of none of these.
    """
    from matplotlib import rc_context

    kind = Path(path).suffix.lower().removeprefix(".")
    undated = {"svg": {"Date": None, "Creator": None}, "pdf": {"CreationDate": None, "Producer": None, "Creator": None}}
    with written_whole(path) as file, rc_context({"svg.hashsalt": SALT}):
        figure.savefig(file, format=kind, metadata=undated.get(kind))


def new_axes(ax: Axes | None, height_px: int = 480) -> Axes:
    """Return axes to draw into: those that are given, or those of a new figure."""
    return ax if ax is not None else new_figure(height_px=height_px).add_subplot()


def finish(axes: Axes, title: str, remark: str = "", *, sides: tuple[str, ...] = ("bottom",)) -> None:
    """Write what a figure shows over its left end, what its marks mean over the right end, and take away the frame.

    Parameters
    ----------
    axes : matplotlib.axes.Axes
        Where a figure was drawn.
    title : str
        What it shows.
    remark : str
        What its marks mean.
    sides : tuple of str
        The sides of the frame that stay.
    """
    axes.set_title(literal(title), loc="left", color=INK, fontsize=TITLE_SIZE)
    if remark:
        axes.set_title(literal(remark), loc="right", color=INK, fontsize=NOTE_SIZE)
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(side in sides)


def wire_color(number: int, count: int) -> str:
    """Return the colour of a wire by its place among others: one of two, and soft ink where there are more or fewer."""
    return WIRES[number] if count == len(WIRES) else SOFT


def literal(text: str) -> str:
    """Write a text so that Matplotlib takes none of it for mathematics."""
    return text.replace("$", r"\$")


def time_scale(span_s: float) -> tuple[str, float]:
    """Return the unit of a time axis, and how many of it are a second, so that numbers on it are readable.

    Parameters
    ----------
    span_s : float
        The longest time on the axis, in seconds.
    """
    for unit, factor in TIME_UNITS:
        if span_s * factor >= 2:
            return unit, factor
    return TIME_UNITS[-1]
