"""The messages of a capture that a timeline shows, chosen part by part, so that a large capture need not be held."""

from __future__ import annotations

import json
import textwrap
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import IO, Any

import numpy as np

from larkreader.answers.reading import Reading
from larkreader.answers.timeline_part import TimelinePart
from larkreader.present.tables.timeline_rows import MESSAGE_HEADING, Entry, Places, TimelineRows, message_lines

MOST_DRAWN = 400  # messages that a figure can distinguish


@dataclass(frozen=True)
class Drawn:
    """What a figure of the messages shows.

    Parameters
    ----------
    reading : Reading
        Where they lie.
    begin_s, end_s : float
        From when to when, in seconds.
    count : int
        How many of the chosen messages lie there.
    """

    reading: Reading
    begin_s: float
    end_s: float
    count: int


@dataclass
class ChosenMessages:
    """Takes in the parts of a capture, and chooses what is shown of their messages.

    Parameters
    ----------
    begin_s, end_s : float
        Only messages that begin from one time on, and before the other, in seconds.
    only_wrong : bool
        Only messages with which something is wrong, and their requests or replies.
    most : int
        How many `entries` there are at most.
    ascii_only : bool
        As of `TimelineRows`.
    table : binary file, optional
        Where all messages are written, as by `write_messages`.
    documents : binary file, optional
        Where the chosen messages are written as JSON, with commas between them.

    Attributes
    ----------
    entries : list of Entry
        The first of the chosen messages.
    count, total : int
        How many messages are chosen, and how many there are.
    wires : dict of str to None
        The wires that have messages with times.
    in_groups : bool
        As of `Timeline`.
    drawn : Drawn, optional
        What a figure shows: the first `MOST_DRAWN` that lie in one part.
    """

    begin_s: float = -np.inf
    end_s: float = np.inf
    only_wrong: bool = False
    most: int = 0
    ascii_only: bool = False
    table: IO[bytes] | None = None
    documents: IO[bytes] | None = None
    entries: list[Entry] = field(default_factory=list, init=False)
    count: int = field(default=0, init=False)
    total: int = field(default=0, init=False)
    wires: dict[str, None] = field(default_factory=dict, init=False)
    in_groups: bool = field(default=False, init=False)
    drawn: Drawn | None = field(default=None, init=False)
    _ended_s: float = field(default=np.nan, init=False)

    def __post_init__(self) -> None:
        if self.table is not None:
            self.table.write(MESSAGE_HEADING)

    def begin_again(self) -> None:
        """Forget the parts that were taken in, if there are any; what was written of them is overwritten."""
        if not self.total:
            return
        for file in (self.table, self.documents):
            if file is not None:
                file.seek(0)
                file.truncate()
        self.entries, self.wires, self.drawn = [], {}, None
        self.count, self.total, self.in_groups, self._ended_s = 0, 0, False, np.nan
        self.__post_init__()

    def add(self, part: TimelinePart) -> None:
        """Take in the next part.

        Parameters
        ----------
        part : TimelinePart
            It follows the parts before.
        """
        rows = TimelineRows(part.reading, self.ascii_only, part.passed, self._ended_s)
        timeline = rows.timeline
        if not len(timeline):
            return
        self.total += len(timeline)
        self.wires |= dict.fromkeys(timeline.wires)
        self.in_groups |= timeline.in_groups
        self._ended_s = float(np.fmax(self._ended_s, timeline.end_s.max()))
        if self.table is not None:
            self.table.writelines(message_lines(rows))
        chosen = self._chosen(rows)
        if not len(chosen):
            return
        wanted = len(chosen) if self.documents is not None else max(self.most - len(self.entries), 0)
        for entry in rows.entries(chosen[:wanted]):
            if len(self.entries) < self.most:
                self.entries.append(entry)
            if self.documents is not None:
                text = json.dumps(message_document(rows, entry), indent=2, ensure_ascii=False, allow_nan=False)
                before = ",\n" if self.documents.tell() else "\n"
                self.documents.write((before + textwrap.indent(text, "    ")).encode())
        if self.drawn is None:
            shown = chosen[:MOST_DRAWN]
            self.drawn = Drawn(
                part.reading, float(timeline.begin_s[shown[0]]), float(timeline.end_s[shown].max()), len(shown)
            )
        self.count += len(chosen)

    def _chosen(self, rows: TimelineRows) -> Places:
        chosen = rows.between(self.begin_s, self.end_s)
        return np.intersect1d(chosen, rows.wrong(), assume_unique=True) if self.only_wrong else chosen


def message_document(rows: TimelineRows, entry: Entry) -> Mapping[str, Any]:
    """Return a message as the JSON document of a timeline has it.

    Parameters
    ----------
    rows : TimelineRows
        Where it lies.
    entry : Entry
        The message.
    """
    timeline = rows.timeline
    result: dict[str, Any] = {
        "begin_s": round(entry.begin_s, 12),
        "end_s": round(entry.end_s, 12),
        "wire": entry.wire,
        "is": timeline.name_of(entry.row),
        "offset": int(rows.offsets(np.array([entry.row]))[0]),
        "length": int(timeline.length[entry.row]),
        "faults": entry.faults.split("+") if entry.faults else [],
        "text": entry.text,
    }
    if entry.collides:
        result["collides"] = True
    if entry.parts:
        result["pairs"] = [
            {
                "pair": part.pair,
                "number": part.number if part.number >= 0 else None,
                "role": part.role,
                "state": part.state,
                "latency_s": None if part.latency_s != part.latency_s else round(part.latency_s, 12),
                "again": part.again,
            }
            for part in entry.parts
        ]
    return result
