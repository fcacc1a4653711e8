"""A few characters of one wire: level, sampling instants, bits and values, faults marked.

The level is drawn above an axis of its own. Under that axis hang ticks, one for each instant at which the receiver
judges the line. Below, one strip holds the bits with their meaning and another the characters' values. A character
with a fault is hatched, and a letter says which: P parity, F framing, B break, N noise, O overrun, U unknown level.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.capture.characters import FAULT_NAMES, Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.decode.characters.receive import expected_parity
from larkreader.errors import RequestError

from .style import FAULT, INK, PALE, SOFT, finish, new_axes, time_scale

if TYPE_CHECKING:
    from matplotlib.axes import Axes

LETTERS = {
    Fault.PARITY: "P",
    Fault.FRAMING: "F",
    Fault.BREAK: "B",
    Fault.NOISE: "N",
    Fault.OVERRUN: "O",
    Fault.UNKNOWN_LEVEL: "U",
}
LONGEST_PAUSE = 2  # character times; behind a longer rest the drawing ends
MOST_LETTERED_BITS = 72  # in one drawing; more would overlap
AXIS_Y = -0.22  # of the axis under which the sampling instants hang
BITS = (-0.78, -0.48)  # lower and upper edge of the strip of bits
VALUES = (-1.22, -0.88)  # lower and upper edge of the strip of values


def draw_waveform(
    trace: Trace,
    characters: Characters,
    line: LineSettings,
    *,
    first: int = 0,
    count: int = 4,
    ax: Axes | None = None,
) -> Axes:
    """Draw a few characters of one wire.

    Parameters
    ----------
    trace : Trace
        The wire's level changes.
    characters : Characters
        What was received from it.
    line : LineSettings
        The settings with which it was received.
    first, count : int
        Which characters; fewer are drawn if a pause of several character times follows one of them.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If there is no such character.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> trace = lr.transmit(b"flow", line)
    >>> axes = lr.present.draw_waveform(trace, lr.receive(trace, line), line, ax=lr.new_figure().add_subplot())
    >>> axes.get_xlabel().startswith("time")
    True
    """
    if not 0 <= first < len(characters):
        raise RequestError("first", f"is character {first}", f"there are {len(characters)}, counted from 0")
    if count < 1:
        raise RequestError("count", f"is {count}", "must be 1 or more")
    shown = characters[first : first + _without_pause(characters, line, first, count)]
    axes = new_axes(ax)
    origin_s = float(shown.begin_s[0])
    unit, per_unit = time_scale(line.character_time_s * len(shown))
    margin_s = 1.2 * line.bit_time_s
    begin_s, end_s = origin_s - margin_s, float(shown.end_s[-1]) + margin_s

    times, levels = _steps(trace, begin_s, end_s)
    axes.plot((times - origin_s) * per_unit, levels, color=INK, linewidth=1.6, solid_joinstyle="miter")
    axes.axhline(AXIS_Y, color=SOFT, linewidth=0.8)
    lettered = len(shown) * (line.stop_position + 1) <= MOST_LETTERED_BITS
    for row in range(len(shown)):
        _draw_character(axes, shown[row], line, origin_s, per_unit, lettered=lettered)
    axes.set_xlim((begin_s - origin_s) * per_unit, (end_s - origin_s) * per_unit)
    axes.set_ylim(VALUES[0] - 0.08, 1.35)
    axes.set_yticks([0, 1, AXIS_Y - 0.06, sum(BITS) / 2, sum(VALUES) / 2])
    axes.set_yticklabels(["low", "high", "sampled", "bit", "value"])
    axes.tick_params(axis="y", length=0, labelcolor=INK)
    axes.set_xlabel(f"time from {origin_s:.6f} s on, in {unit}")
    name = f"{trace.name}: " if trace.name else ""
    last = first + len(shown) - 1
    which = f"character {first:,}" if last == first else f"characters {first:,} to {last:,}"
    marks = [f"{letter} {FAULT_NAMES[fault]}" for fault, letter in LETTERS.items() if shown.count(fault)]
    finish(axes, f"{name}{which} at {line}", "hatched: " + ", ".join(marks) if marks else "")
    return axes


def _without_pause(characters: Characters, line: LineSettings, first: int, count: int) -> int:
    """Return how many characters to draw, so that no long pause presses the others together."""
    begins, ends = characters.begin_s[first : first + count], characters.end_s[first : first + count]
    pauses = np.flatnonzero(begins[1:] - ends[:-1] > LONGEST_PAUSE * line.character_time_s)
    return int(pauses[0]) + 1 if pauses.size else count


def _steps(trace: Trace, begin_s: float, end_s: float) -> tuple[np.ndarray, np.ndarray]:
    """Return the corners of the level between two times."""
    edges_s = trace.edges_s
    low, high = np.searchsorted(edges_s, [begin_s, end_s])
    inside = edges_s[low:high]
    before = trace.first_level ^ (int(low) & 1)
    after = (before + np.arange(len(inside) + 1)) % 2
    times = np.concatenate([[begin_s], np.repeat(inside, 2), [end_s]])
    return times, np.repeat(after, 2)


def _draw_character(
    axes: Axes, characters: Characters, line: LineSettings, origin_s: float, per_unit: float, *, lettered: bool
) -> None:
    """Draw the strips of one character, its sampling instants and its faults."""
    from matplotlib.patches import Rectangle

    bit = line.bit_time_s * per_unit
    begin = (float(characters.begin_s[0]) - origin_s) * per_unit
    value, faults = int(characters.value[0]), int(characters.faults[0])
    for place, (label, shade) in enumerate(_bits(value, faults, line)):
        left = begin + place * bit
        axes.add_patch(
            Rectangle(
                (left, BITS[0]),
                bit,
                BITS[1] - BITS[0],
                facecolor=PALE if shade else "white",
                edgecolor=SOFT,
                lw=0.6,
            )
        )
        word = len(label) > 3  # start and stop are wider than a bit, so they stand upright
        if lettered:
            axes.text(
                left + bit / 2,
                sum(BITS) / 2,
                label,
                ha="center",
                va="center",
                fontsize=8 if word else 9,
                rotation=90 if word else 0,
                color=INK,
                clip_on=True,
            )
        axes.plot([left + bit / 2] * 2, [AXIS_Y, AXIS_Y - 0.12], color=INK, linewidth=1.1)
    width = (line.stop_position + 1) * bit
    letters = "".join(letter for fault, letter in LETTERS.items() if faults & fault)
    axes.add_patch(
        Rectangle(
            (begin, VALUES[0]),
            width,
            VALUES[1] - VALUES[0],
            facecolor="white",
            edgecolor=FAULT if letters else SOFT,
            lw=1.2 if letters else 0.6,
            hatch="////" if letters else None,
            hatch_linewidth=0.5,
        )
    )
    parts = [f"0x{value:02X}", _visible(value), letters] if lettered else [f"{value:02X}", letters]
    text = "  ".join(part for part in parts if part)
    axes.text(
        begin + width / 2,
        sum(VALUES) / 2,
        text,
        ha="center",
        va="center",
        fontsize=11 if lettered else 8,
        fontweight="bold" if letters else "normal",
        color=FAULT if letters else INK,
        bbox={"facecolor": "white", "edgecolor": "none", "pad": 2.5},
    )


def _bits(value: int, faults: int, line: LineSettings) -> list[tuple[str, bool]]:
    """Return label and shade of each bit from the start bit to the first stop bit."""
    order = range(line.data_bits) if line.first_bit == "lsb" else reversed(range(line.data_bits))
    bits = [("start", True), *((f"{value >> weight & 1}", False) for weight in order)]
    if line.has_parity:
        wrong = bool(faults & Fault.PARITY)
        expected = int(expected_parity(np.array([value], dtype=np.uint16), line)[0])
        received = 0 if faults & Fault.BREAK else expected ^ wrong
        bits.append((f"{line.parity}{received}{'!' if wrong else ''}", True))
    return [*bits, ("stop!" if faults & (Fault.FRAMING | Fault.BREAK) else "stop", True)]


def _visible(value: int) -> str:
    """Return a character for a value; what is invisible is named as ISO 646 does."""
    names = "NUL SOH STX ETX EOT ENQ ACK BEL BS HT LF VT FF CR SO SI DLE DC1 DC2 DC3 DC4 NAK SYN ETB CAN EM SUB ESC"
    controls = [*names.split(), "FS", "GS", "RS", "US", "SP"]
    if value < len(controls):
        return controls[value]
    return f'"{chr(value)}"' if value < 0x7F else "DEL" if value == 0x7F else ""
