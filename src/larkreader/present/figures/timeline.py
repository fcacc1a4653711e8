"""The messages of all wires on one time axis, a lane a wire, with requests joined to their replies.

A message is a box from its first start edge to its last stop bit, hatched where it is faulty. A line
leads from the end of a request to the beginning of its reply, dashed where that is late or damaged; letters outside the
lanes say what is wrong with which message.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from larkreader.answers.reading import Reading
from larkreader.errors import RequestError
from larkreader.judge.findings.wording import duration
from larkreader.present.tables.timeline_rows import Entry, TimelineRows

from .style import FAULT, INK, PALE, finish, literal, new_axes, time_scale, wire_color

if TYPE_CHECKING:
    from matplotlib.axes import Axes

LETTERS = {
    "F": "fault of its own",
    "?": "no reply",
    "L": "late reply",
    "D": "damaged reply",
    "R": "repeated",
    "U": "unasked",
    "X": "sent into another",
}
HEIGHT = 0.44  # of a box; lanes are 1 apart
NARROWEST = 0.0012  # of the width of the axes, that a box has
THIN = 0.006  # of the width of the axes, below which a box has no room for hatching
ROOM = 0.009  # of the width, that a letter takes
SHORTEST_S = 1e-6  # that is drawn; what arrived in a group lasts no time
MARGIN = 0.015  # of the width, before and behind
MOST_TIMES = 12  # latencies that are written


def draw_timeline(
    reading: Reading, *, begin_s: float | None = None, end_s: float | None = None, ax: Axes | None = None
) -> Axes:
    """Draw what was on which wire when.

    Parameters
    ----------
    reading : Reading
        What was read from a capture with times.
    begin_s, end_s : float, optional
        From which moment to which, in seconds; all of it unless given.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The axes that were drawn on.

    Raises
    ------
    RequestError
        If there is no message in that time.

    Examples
    --------
    >>> sheet = lr.Sheet(wire={"pump": {}})
    >>> reading = lr.read(sheet, {"pump": lr.transmit(b"flow", sheet.wire["pump"].line)})
    >>> axes = lr.draw_timeline(reading, ax=lr.new_figure().add_subplot())
    >>> [label.get_text() for label in axes.get_yticklabels()]
    ['pump']
    """
    rows = TimelineRows(reading, ascii_only=True)  # few fonts have control pictures
    timeline = rows.timeline
    begin = -np.inf if begin_s is None else begin_s
    end = np.inf if end_s is None else end_s
    shown = np.flatnonzero((timeline.end_s >= begin) & (timeline.begin_s <= end)).astype(np.int64)
    if not len(shown):
        raise RequestError("timeline", "has no message in that time", "there is nothing to draw")
    entries = {entry.row: entry for entry in rows.entries(shown)}
    begin = float(timeline.begin_s[shown].min()) if begin_s is None else begin_s
    end = float(timeline.end_s[shown].max()) if end_s is None else end_s
    end = max(end, begin + SHORTEST_S)
    axes = new_axes(ax)
    unit, factor = time_scale(end - begin)
    lanes = {wire: float(len(timeline.wires) - 1 - number) for number, wire in enumerate(timeline.wires)}
    for lane in lanes.values():
        axes.axhline(lane, color=PALE, linewidth=1.0, zorder=0)
    marked: set[str] = set()
    _draw_thin(axes, [item for item in entries.values() if _is_thin(item, begin, end)], lanes, begin, end, factor)
    for entry in entries.values():
        if not _is_thin(entry, begin, end):
            color = wire_color(list(lanes).index(entry.wire), len(lanes))
            _draw_box(axes, entry, lanes[entry.wire], color, begin, end, factor)
        if entry.is_wrong:
            marked |= _draw_letters(axes, entry, lanes, begin, end, factor)
    _join(axes, rows, entries, lanes, begin, end, factor)
    margin = MARGIN * (end - begin) * factor
    axes.set_xlim(-margin, (end - begin) * factor + margin)
    axes.set_ylim(-0.75, len(lanes) - 0.25)
    axes.set_yticks(list(lanes.values()), [literal(wire) for wire in lanes])
    axes.tick_params(axis="y", length=0, labelcolor=INK)
    axes.set_xlabel(f"time from {begin:.6f} s on, in {unit}")
    result = ", ".join(f"{letter} {text}" for letter, text in LETTERS.items() if letter in marked)
    finish(axes, _title(len(entries), in_groups=timeline.in_groups, is_paired=bool(reading.pairs)), result)
    return axes


def _title(count: int, *, in_groups: bool, is_paired: bool) -> str:
    joined = ", requests joined to replies" if is_paired else ""
    coarse = "; times of groups, not of characters" if in_groups else ""
    return f"{count:,} message{'' if count == 1 else 's'}{joined}{coarse}"


def _is_thin(entry: Entry, begin: float, end: float) -> bool:
    return entry.end_s - entry.begin_s < THIN * (end - begin)


def _draw_thin(axes: Axes, thin: list[Entry], lanes: dict[str, float], begin: float, end: float, factor: float) -> None:
    """Draw the boxes that have no room for hatching, which may be many: faulty boxes in the colour of faults."""
    for number, (wire, lane) in enumerate(lanes.items()):
        for is_faulty, color in ((False, wire_color(number, len(lanes))), (True, FAULT)):
            spans = [
                ((item.begin_s - begin) * factor, max(item.end_s - item.begin_s, NARROWEST * (end - begin)) * factor)
                for item in thin
                if item.wire == wire and item.is_faulty == is_faulty
            ]
            if spans:
                axes.broken_barh(spans, (lane - HEIGHT / 2, HEIGHT), facecolors=color, linewidth=0)


def _draw_box(axes: Axes, entry: Entry, lane: float, color: str, begin: float, end: float, factor: float) -> None:
    from matplotlib.patches import Rectangle

    width = entry.end_s - entry.begin_s
    is_faulty = entry.is_faulty
    area = ((entry.begin_s - begin) * factor, lane - HEIGHT / 2), width * factor, HEIGHT
    face = "white" if is_faulty else PALE
    axes.add_patch(Rectangle(*area, facecolor=face, edgecolor=FAULT, linewidth=0, hatch="////" if is_faulty else None))
    edge = FAULT if is_faulty else color
    axes.add_patch(Rectangle(*area, fill=False, edgecolor=edge, linewidth=1.6 if is_faulty else 1.1))
    left, right = max(entry.begin_s, begin), min(entry.end_s, end)  # what of it is seen
    if 0.0065 * len(entry.name) < (right - left) / (end - begin) and entry.name:
        axes.text(
            ((left + right) / 2 - begin) * factor,
            lane,
            literal(entry.name),
            ha="center",
            va="center",
            fontsize=9,
            color=INK,
            bbox={"facecolor": face, "edgecolor": "none", "pad": 1.5},
        )


def _draw_letters(
    axes: Axes, entry: Entry, lanes: dict[str, float], begin: float, end: float, factor: float
) -> set[str]:
    """Write what is wrong with a message beyond its lane; return the letters."""
    letters = ["F"] if entry.is_faulty else []
    for part in entry.parts:
        letters += ["R"] if part.again else []
        if part.state == "unanswered" and part.role == "request":
            letters.append("?")
        if part.role == "reply":
            letters += {"late": ["L"], "damaged-reply": ["D"], "unasked": ["U"]}.get(part.state, [])
    letters += ["X"] if entry.collides else []
    letters = list(dict.fromkeys(letters))
    if letters:
        is_upper = lanes[entry.wire] == max(lanes.values()) and len(lanes) > 1
        place = lanes[entry.wire] + (HEIGHT / 2 + 0.05 if is_upper else -HEIGHT / 2 - 0.05)
        middle = min(max((entry.begin_s + entry.end_s) / 2, begin + ROOM * (end - begin)), end - ROOM * (end - begin))
        axes.text(
            (middle - begin) * factor,
            place,
            "\n".join(letters),
            ha="center",
            va="bottom" if is_upper else "top",
            fontsize=10,
            fontweight="bold",
            color=FAULT if "F" in letters else INK,
            linespacing=0.95,
        )
    return set(letters)


def _join(
    axes: Axes,
    rows: TimelineRows,
    entries: dict[int, Entry],
    lanes: dict[str, float],
    begin: float,
    end: float,
    factor: float,
) -> None:
    """Draw a line from each request to what answers it."""
    from matplotlib.collections import LineCollection

    joined = []
    for pairs in rows.reading.pairs.values():
        for request, reply in zip(pairs.request.tolist(), pairs.reply.tolist(), strict=True):
            if request in entries and reply in entries:
                joined.append((entries[request], entries[reply]))
    lines: dict[bool, list[list[tuple[float, float]]]] = {False: [], True: []}
    for asked, answer in joined:
        is_bad = any(part.role == "reply" and part.is_wrong for part in answer.parts)
        up = 1 if lanes[asked.wire] < lanes[answer.wire] else -1 if lanes[asked.wire] > lanes[answer.wire] else 0
        xs = (asked.end_s - begin) * factor, (answer.begin_s - begin) * factor
        ys = lanes[asked.wire] + up * HEIGHT / 2, lanes[answer.wire] - up * HEIGHT / 2
        lines[is_bad].append(list(zip(xs, ys, strict=True)))
        if len(joined) <= MOST_TIMES and 0 <= sum(xs) / 2 <= (end - begin) * factor:
            axes.text(
                sum(xs) / 2,
                sum(ys) / 2,
                duration(answer.begin_s - asked.end_s),
                ha="center",
                va="center",
                fontsize=9,
                color=INK,
                bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5},
                zorder=4,
            )
    for is_bad, some in lines.items():
        style = (0, (4, 2)) if is_bad else "-"
        axes.add_collection(
            LineCollection(some, colors=INK, linewidths=1.2, linestyles=[style], zorder=3), autolim=False
        )
