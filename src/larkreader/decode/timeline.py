"""The messages of all wires on one timeline: frames, what belongs to no frame, and what stands on wires without frames.

On a wire without frames a message ends with a line feed, with a carriage return that no line feed follows, and with a
pause of more than half a character; where software got characters in groups, with one of more than 20 ms, since a
message may come in several groups.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.columns import SHOWN_ROWS, Columns
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.decode.columns.frame_columns import SKIP_NAMES, FrameFault, Frames, Skip, Spans, frame_fault_names

if TYPE_CHECKING:
    import pandas as pd

Places = npt.NDArray[np.int64]
Seconds = npt.NDArray[np.float64]

PAUSE = 0.5  # character times of rest, from which on another message begins on a wire without frames
GROUP_PAUSE_S = 0.02  # the same between groups; adapters on USB hold characters back for up to 16 ms
LF, CR = 0x0A, 0x0D
TEXT_CONTROLS = (0x08, 0x09, LF, CR, 0x1B)
TEXT = 0.75  # share of such characters from which a wire carries text


class What(IntEnum):
    """What a row of a timeline is."""

    FRAME = 0
    """A frame of a layout."""
    SKIPPED = 1
    """Bytes of a wire with frames that belong to none."""
    MESSAGE = 2
    """Characters of a wire without frames, up to a pause or, in text, a line ending."""


@dataclass(frozen=True, eq=False, repr=False)
class Timeline(Columns):
    """The messages of several wires in order of time; all columns have shape (n_messages,).

    Parameters
    ----------
    begin_s : ndarray of float64
        When its first character began, in seconds on the clock of the capture.
    end_s : ndarray of float64
        When its last character ended, its stop bits included.
    wire : ndarray of uint8
        On which wire, as a place in `wires`.
    what : ndarray of uint8
        What it is, as `What`.
    layout : ndarray of int16
        Of a frame: which layout, as a place in `layouts`; -1 for anything else.
    row : ndarray of int64
        Of a frame: which of its layout. Of skipped bytes: which stretch of its wire. -1 for a message.
    offset : ndarray of int64
        Number of its first character on its wire, counted from 0.
    length : ndarray of int64
        Its characters.
    faults : ndarray of uint8
        Its faults, as flags of `FrameFault`; of what is not a frame, `FrameFault.CHARACTER_FAULT` alone.
    wires : tuple of str
        The wires.
    layouts : tuple of str
        The layouts.
    in_groups : bool
        Whether times are those at which software got groups of characters. They are later than the characters were,
        by as much as the group took and as its reader was late, so that what lies near each other on two wires may
        have come in the other order.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = (
        "begin_s",
        "end_s",
        "wire",
        "what",
        "layout",
        "row",
        "offset",
        "length",
        "faults",
    )

    begin_s: Seconds
    end_s: Seconds
    wire: npt.NDArray[np.uint8]
    what: npt.NDArray[np.uint8]
    layout: npt.NDArray[np.int16]
    row: Places
    offset: Places
    length: Places
    faults: npt.NDArray[np.uint8]
    wires: tuple[str, ...] = ()
    layouts: tuple[str, ...] = ()
    in_groups: bool = False

    def __post_init__(self) -> None:
        self.check_lengths()

    def is_of(self, names: Sequence[str]) -> npt.NDArray[np.bool_]:
        """Return which rows are frames of layouts, or messages of wires, by their names: bool, shape (n_messages,).

        Parameters
        ----------
        names : sequence of str
            Names of layouts and of wires.
        """
        result = np.zeros(len(self), dtype=np.bool_)
        for name in names:
            if name in self.layouts:
                result |= self.layout == self.layouts.index(name)
            elif name in self.wires:
                result |= (self.wire == self.wires.index(name)) & (self.what != What.SKIPPED)
        return result

    def is_on(self, wires: Sequence[str]) -> npt.NDArray[np.bool_]:
        """Return which rows are on some wires: bool, shape (n_messages,).

        Parameters
        ----------
        wires : sequence of str
            The wires.
        """
        return np.isin(self.wire, [self.wires.index(wire) for wire in wires if wire in self.wires])

    def name_of(self, row: int) -> str:
        """Return the layout of a frame, or what else a row is.

        Parameters
        ----------
        row : int
            The number of the row.
        """
        what = What(int(self.what[row]))
        return self.layouts[self.layout[row]] if what == What.FRAME else what.name.lower()

    def to_pandas(self) -> pd.DataFrame:
        """Return a data frame of the columns, with the names of wires, layouts and faults."""
        import pandas as pd

        texts = {faults: frame_fault_names(faults) for faults in np.unique(self.faults).tolist()}
        return pd.DataFrame(
            {
                "begin_s": np.round(self.begin_s, 12),
                "end_s": np.round(self.end_s, 12),
                "wire": np.array([*self.wires, ""], dtype=object)[self.wire],
                "what": np.array([item.name.lower() for item in What], dtype=object)[self.what],
                "layout": np.array([*self.layouts, ""], dtype=object)[self.layout],
                "row": self.row,
                "offset": self.offset,
                "length": self.length,
                "faults": [texts[faults] for faults in self.faults.tolist()],
            }
        )

    def shown(self) -> dict[str, npt.NDArray[Any]]:
        """Return what a repr shows of the first rows."""
        head = self[slice(SHOWN_ROWS)]
        return {
            "begin_s": head.begin_s,
            "wire": np.array([*self.wires, ""], dtype=object)[head.wire],
            "is": np.array([head.name_of(row) for row in range(len(head))], dtype=object),
            "length": head.length,
        }


def make_timeline(
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    skipped: Mapping[str, Spans],
    lines: Mapping[str, LineSettings],
) -> Timeline:
    """Put the messages of all wires on one timeline.

    Parameters
    ----------
    characters : mapping of str to Characters
        By wire. Wires whose source has no times are left out.
    frames : mapping of str to Frames
        By layout; each names its wire.
    skipped : mapping of str to Spans
        By wire, what belongs to no frame; a wire that is not there carries no frames.
    lines : mapping of str to LineSettings
        The settings of each wire.

    Returns
    -------
    Timeline
        In order of their beginnings. What begins at one moment stands in the order of the wires.
    """
    wires = tuple(wire for wire, item in characters.items() if item.has_times)
    layouts = tuple(frames)
    parts: list[list[npt.NDArray[Any]]] = []
    for number, wire in enumerate(wires):
        result = characters[wire]
        if wire not in skipped:
            offset, length = _messages(result, lines[wire])
            parts.append(_rows(result, number, What.MESSAGE, -1, np.full(len(offset), -1), offset, length))
            continue
        spans = skipped[wire]
        known = np.flatnonzero(spans.reason != Skip.FILL)
        parts.append(_rows(result, number, What.SKIPPED, -1, known, spans.offset[known], spans.length[known]))
        for place, found in enumerate(frames.values()):
            if _wire_of(found.layout, wires) == wire:
                rows = np.arange(len(found))
                parts.append(_rows(result, number, What.FRAME, place, rows, found.offset, found.length, found.faults))
    columns = [np.concatenate(column) for column in zip(*parts, strict=True)] if parts else _no_rows()
    order = np.lexsort((columns[6], columns[2], columns[0]))
    named = dict(zip(Timeline.COLUMNS, (column[order] for column in columns), strict=True))
    in_groups = any(not characters[wire].has_line for wire in wires)
    return Timeline(**named, wires=wires, layouts=layouts, in_groups=in_groups)


def describe_skip(spans: Spans, row: int) -> str:
    """Say why a stretch of bytes belongs to no frame, in a few words."""
    return SKIP_NAMES[Skip(int(spans.reason[row]))]


def _wire_of(layout: FrameLayout, wires: tuple[str, ...]) -> str:
    return layout.wire or wires[0]


def _rows(
    characters: Characters,
    wire: int,
    what: What,
    layout: int,
    row: Places,
    offset: Places,
    length: Places,
    faults: npt.NDArray[np.uint8] | None = None,
) -> list[npt.NDArray[Any]]:
    """Return the columns of some rows of one wire."""
    count, last = len(offset), offset + length - 1
    if faults is None:
        faulty = np.flatnonzero(characters.faults)
        has_faulty = np.searchsorted(faulty, last + 1) > np.searchsorted(faulty, offset)
        faults = np.where(has_faulty, FrameFault.CHARACTER_FAULT, 0)
    return [
        characters.begin_s[offset],
        characters.end_s[last],
        np.full(count, wire, np.uint8),
        np.full(count, what, np.uint8),
        np.full(count, layout, np.int16),
        row.astype(np.int64),
        offset,
        length,
        faults.astype(np.uint8),
    ]


def _no_rows() -> list[npt.NDArray[Any]]:
    dtypes = ("f8", "f8", "u1", "u1", "i2", "i8", "i8", "i8", "u1")
    return [np.empty(0, dtype) for dtype in dtypes]


def _messages(characters: Characters, line: LineSettings) -> tuple[Places, Places]:
    """Return first characters and lengths of the messages of a wire without frames."""
    value, count = characters.value, len(characters)
    begins = np.zeros(count + 1, dtype=np.bool_)
    begins[0] = True
    after_cr = value[:-1] == CR
    pause_s = PAUSE * line.character_time_s
    if _is_text(value):
        begins[1:count] = (value[:-1] == LF) | after_cr
    begins[1:count] |= characters.begin_s[1:] - characters.end_s[:-1] > (
        pause_s if characters.has_line else max(pause_s, GROUP_PAUSE_S)
    )
    begins[1:count] &= ~(after_cr & (value[1:] == LF))
    begins[count] = True
    places = np.flatnonzero(begins).astype(np.int64)
    return places[:-1], np.diff(places)


def _is_text(value: npt.NDArray[np.uint16]) -> bool:
    """Return whether characters are mostly text, ASCII or UTF-8: in binary data LF and CR end nothing."""
    if not len(value) or int(value.max()) > 0xFF:
        return False
    is_usual = ((value >= 0x20) & (value < 0x7F)) | np.isin(value, TEXT_CONTROLS)
    if int(value.max()) > 0x7F:
        try:
            value.astype(np.uint8).tobytes().decode("utf-8")
            is_usual |= value > 0x7F
        except UnicodeDecodeError:
            pass
    return float(is_usual.mean()) >= TEXT
