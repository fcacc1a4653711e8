"""A layout as a picture: its bits in the order in which fields fill them, four bytes a row.

Each field is a box over its bits, which goes on in the next row where it does not fit into one; neighbours differ in
their hatching. Under each row stand the bytes' numbers and the numbers of their bits, 0 for the least significant.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from larkreader.declare.frame.layout import FrameLayout
from larkreader.errors import RequestError
from larkreader.present.tables.layout_table import LayoutRow, layout_rows

from .style import INK, PALE, SOFT, finish, literal, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

ROW_BITS = 32
MOST_ROWS = 12  # that stay legible
HATCHES = ("", "....", "////", "----")


def draw_layout(layout: FrameLayout, *, ax: Axes | None = None) -> Axes:
    """Draw where the fields of a layout lie.

    Parameters
    ----------
    layout : FrameLayout
        The layout; where its frames differ, a frame of one of each is drawn.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If the frame is too long to be drawn legibly, or is a line of text, which has no bits.
    """
    if layout.pattern is not None:
        raise RequestError(layout.key, "is a line of text", "must be made of bits, to be drawn")
    rows = -(-8 * layout.length // ROW_BITS)
    if rows > MOST_ROWS:
        most = MOST_ROWS * ROW_BITS // 8
        raise RequestError(layout.key, f"has {layout.length} bytes", f"must have {most} at most, to be drawn legibly")
    axes = new_axes(ax)
    for number, box in enumerate(_boxes(layout)):
        _draw_field(axes, *box, HATCHES[number % len(HATCHES)])
    for row in range(rows):
        _draw_scale(axes, layout, row)
    axes.set_xlim(-0.5, ROW_BITS + 0.5)
    axes.set_ylim(-1.25 * rows + 0.2, 0.75)
    axes.axis("off")
    size = f"{layout.length} bytes" if layout.is_fixed else f"{layout.shortest} to {layout.longest} bytes"
    finish(axes, f"{layout.key}: {size}; byte and bit under each row", sides=())
    return axes


def _boxes(layout: FrameLayout) -> list[tuple[LayoutRow, int, int]]:
    """Return each row of the layout's table with the bits that it takes."""
    boxes, here = [], 0
    for row in layout_rows(layout):
        begin = here if row.slot is None else row.slot.first_bit
        end = row.slot.end_bit if row.slot is not None else begin + 8 * len(bytes.fromhex(row.meaning))
        boxes.append((row, begin, end))
        here = end
    return boxes


def _draw_field(axes: Axes, row: LayoutRow, begin: int, end: int, hatch: str) -> None:
    """Draw a field row by row of the picture, its name where it has most room."""
    from matplotlib.patches import Rectangle

    parts = []
    while begin < end:
        line, column = divmod(begin, ROW_BITS)
        width = min(end - begin, ROW_BITS - column)
        parts.append((line, column, width))
        begin += width
    widest = max(parts, key=lambda part: part[2], default=None)
    for part in parts:
        line, column, width = part
        low = -1.25 * line - 0.35
        area = (column, low), width, 0.8
        axes.add_patch(Rectangle(*area, facecolor="white", edgecolor=PALE, hatch=hatch, linewidth=0))
        axes.add_patch(Rectangle(*area, fill=False, edgecolor=INK, linewidth=1.2))
        _label(axes, row, column + width / 2, low + 0.4, width, is_rest=part != widest)


def _label(axes: Axes, row: LayoutRow, x: float, y: float, width: int, *, is_rest: bool) -> None:
    name = row.meaning if row.name == "marker" else row.name if row.name != "-" else "0"
    unit = row.slot.field.unit if row.slot is not None and row.slot.field is not None else ""
    repeat = row.type.partition(" x ")[2]
    result = f"{name}, {unit}" if unit else f"{name} x {repeat}" if repeat else name
    room = 2.4 * width  # letters that fit
    if is_rest and len(name) > room:
        return
    text = name if is_rest or len(result) > room else result
    upright = len(text) > room
    axes.text(
        x,
        y,
        literal(text),
        ha="center",
        va="center",
        rotation=90 if upright else 0,
        fontsize=7 if upright else 9,
        color=SOFT if is_rest else INK,
        bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.0} if not upright else None,
    )


def _draw_scale(axes: Axes, layout: FrameLayout, row: int) -> None:
    """Write the numbers of bytes and bits under a row."""
    low = -1.25 * row - 0.35
    for column in range(min(ROW_BITS, 8 * layout.length - row * ROW_BITS)):
        byte, within = divmod(row * ROW_BITS + column, 8)
        bit = within if layout.packing == "lsb" else 7 - within
        axes.text(column + 0.5, low - 0.12, str(bit), ha="center", va="center", fontsize=6.5, color=SOFT)
        if within == 0:
            axes.text(column + 4, low - 0.3, f"byte {byte}", ha="center", va="center", fontsize=7.5, color=SOFT)
            axes.plot([column, column], [low - 0.36, low], color=SOFT, linewidth=0.6)
