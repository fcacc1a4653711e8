"""The figures of a report, as SVG that stands in its page."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from larkreader.answers.reading import Reading
from larkreader.capture.characters import Fault
from larkreader.errors import RequestError
from larkreader.judge.findings.character_kinds import FAULT_OF
from larkreader.judge.findings.finding import Finding
from larkreader.present.figures.fields import count_strips, draw_fields, strips_height
from larkreader.present.figures.fill import draw_fill
from larkreader.present.figures.folded import draw_folded
from larkreader.present.figures.gaps import draw_gaps
from larkreader.present.figures.style import new_figure
from larkreader.present.figures.timeline import draw_timeline
from larkreader.present.figures.waveform import draw_waveform
from larkreader.present.figures.widths import draw_widths
from larkreader.present.tables.timeline_rows import TimelineRows

if TYPE_CHECKING:
    from matplotlib.axes import Axes

DRAWN = 30  # messages of the timeline, around the first with which something is wrong
FEWEST_FRAMES = 4  # whose fields are worth a figure
AROUND = 1  # characters before a fault that its waveform shows
SHOWN = 4  # characters of a waveform
LINE_KINDS = tuple(kind for kind, fault in FAULT_OF.items() if fault != Fault.OVERRUN)  # that a waveform shows
SALT = "lark-reader"  # of the names inside of an SVG, which are then the same each time


@dataclass(frozen=True)
class Picture:
    """A figure of a report.

    Parameters
    ----------
    name : str
        What its file is called where it has one.
    caption : str
        What it shows.
    svg : str
        The drawing.
    """

    name: str
    caption: str
    svg: str


def picture_of(name: str, caption: str, draw: Callable[[Axes], object], height_px: int = 420) -> Picture | None:
    """Draw a figure; None where there is nothing to draw."""
    from matplotlib import rc_context

    figure = new_figure(height_px=height_px)
    try:
        draw(figure.add_subplot())
    except RequestError:
        return None
    engine = figure.get_layout_engine()
    if engine is not None:  # laid out once; saving would do so twice more, and draw twice
        engine.execute(figure)
        figure.set_layout_engine(None)
    held = io.StringIO()
    with rc_context({"svg.hashsalt": f"{SALT} {name}"}):
        figure.savefig(held, format="svg", metadata={"Date": None, "Creator": None})
    svg = held.getvalue()
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    svg = re.sub(r'(<svg[^>]*?) width="[^"]*"', r"\1", svg, count=1)
    svg = re.sub(r'(<svg[^>]*?) height="[^"]*"', r"\1", svg, count=1)
    return Picture(name, caption, svg.strip())


def waveform_of(finding: Finding, reading: Reading) -> Picture | None:
    """Draw the first place of a fault on the line; None for other findings, and without levels."""
    if finding.kind not in LINE_KINDS or finding.offset is None or finding.wire not in reading.levels:
        return None
    first = max(finding.offset - AROUND, 0)
    characters, line = reading.characters[finding.wire], reading.sheet.wire[finding.wire].line
    if not len(characters):
        return None
    begin = (
        first if first == finding.offset or _is_near(characters.begin_s, first, line.character_time_s) else first + 1
    )
    return picture_of(
        f"{finding.kind}-{finding.wire}",
        f"The first {finding.kind} on {finding.wire}: level, sampling instants, bits and values",
        lambda axes: draw_waveform(reading.levels[finding.wire], characters, line, first=begin, count=SHOWN, ax=axes),
    )


def pictures_of(reading: Reading) -> Iterator[Picture]:
    """Yield the figures of a reading, as far as what was captured allows them.

    Parameters
    ----------
    reading : Reading
        What was read; those of levels need them kept.
    """
    every = [_timeline(reading), *_fields(reading), *_rests(reading), *_levels(reading), *_paths(reading)]
    yield from (item for item in every if item is not None)


def _is_near(begin_s: np.ndarray, first: int, character_s: float) -> bool:
    return bool(begin_s[first + 1] - begin_s[first] < 3 * character_s)


def _timeline(reading: Reading) -> Picture | None:
    if len(reading.timeline.wires) < 2:
        return None
    rows = TimelineRows(reading)
    wrong = rows.wrong()
    count = len(rows.timeline)
    first = 0 if count <= DRAWN or not len(wrong) else min(max(int(wrong[0]) - DRAWN // 3, 0), count - DRAWN)
    last = min(first + DRAWN, count) - 1
    begin_s, end_s = float(rows.timeline.begin_s[first]), float(rows.timeline.end_s[last])
    part = "" if count <= DRAWN else f"; {DRAWN} of {count:,} messages, around the first with which something is wrong"
    return picture_of(
        "timeline",
        f"Both directions on one time axis{part}",
        lambda axes: draw_timeline(reading, begin_s=begin_s, end_s=end_s, ax=axes),
    )


def _fields(reading: Reading) -> Iterator[Picture | None]:
    for key, frames in reading.frames.items():
        if len(frames) >= FEWEST_FRAMES:
            yield picture_of(
                f"fields-{key}",
                f"The fields of {key} over time",
                lambda axes, frames=frames: draw_fields(frames, ax=axes),  # type: ignore[misc]  # of this round
                height_px=strips_height(count_strips(frames)),
            )


def _rests(reading: Reading) -> Iterator[Picture | None]:
    for wire, gaps in reading.gaps.items():
        line = reading.sheet.wire[wire].line
        yield picture_of(
            f"gaps-{wire}",
            f"How long {wire} rests between characters, and between messages",
            lambda axes, gaps=gaps, line=line: draw_gaps(gaps, line, ax=axes),  # type: ignore[misc]  # as above
        )


def _levels(reading: Reading) -> Iterator[Picture | None]:
    widths = reading.widths
    for wire, phases in reading.edge_phases.items():
        yield picture_of(
            f"folded-{wire}",
            f"Where the changes of {wire} lie against the bit boundaries",
            lambda axes, phases=phases, wire=wire: draw_folded(phases, name=wire, ax=axes),  # type: ignore[misc]  # as above
            height_px=600,
        )
        if wire in widths:
            yield picture_of(
                f"widths-{wire}",
                f"How long levels of {wire} last, against the declared bit time",
                lambda axes, wire=wire: draw_widths(widths[wire], ax=axes),  # type: ignore[misc]  # as above
            )


def _paths(reading: Reading) -> Iterator[Picture | None]:
    for wire, report in reading.paths.items():
        yield picture_of(
            f"fill-{wire}",
            f"How full each stage of the receive path of {wire} gets",
            lambda axes, report=report: draw_fill(report, ax=axes),  # type: ignore[misc]  # as above
        )
