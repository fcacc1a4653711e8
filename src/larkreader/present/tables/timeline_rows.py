"""What a timeline says of its messages row by row: in a few words what each is, and what has to do with it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.answers.reading import Reading
from larkreader.answers.timeline_part import Passed
from larkreader.capture.files.csv_text import Choice, csv_lines
from larkreader.decode.columns.frame_columns import frame_fault_names
from larkreader.decode.timeline import Timeline, What, describe_skip
from larkreader.judge.findings.wording import duration
from larkreader.judge.measure.pair_columns import Pairs, PairState
from larkreader.present.text.notation import visible
from larkreader.sources import opened_to_write

from .frame_views import chosen_fields, value_texts

Places = npt.NDArray[np.int64]

MOST_VISIBLE = 24  # characters of a message that are shown
MOST_IN_HEX = 12
SPACE, DELETE = 0x20, 0x7F
TEXTUAL = 0.7  # of the characters must be printable, to be shown as text
STATES = {state: state.name.lower().replace("_", "-") for state in PairState}
MESSAGE_COLUMNS = ("begin_s", "end_s", "wire", "what", "layout", "offset", "length", "faults",
                   "pair", "number", "role", "state", "latency_s")  # fmt: skip
MESSAGE_HEADING = ",".join(MESSAGE_COLUMNS).encode() + b"\n"


@dataclass(frozen=True)
class Part:
    """What a message is in a pair.

    Parameters
    ----------
    pair : str
        The pairing.
    number : int
        Which request of it, counted from 0; -1 for a reply that answers none.
    role : {"request", "reply"}
        Which of the two.
    state : str
        What became of the request; ``"unasked"`` for a reply that answers none, ``"waiting"`` for a request whose reply
        may still arrive.
    latency_s : float
        How long the reply took; NaN without one.
    again : bool
        Whether the request repeats the request before it.
    """

    pair: str
    number: int
    role: str
    state: str
    latency_s: float
    again: bool = False

    @property
    def is_wrong(self) -> bool:
        """Whether something is wrong, or worth knowing, with it."""
        return self.again or self.state not in ("answered", "open", "waiting")

    def text(self, *, named: bool) -> str:
        """Write it in a few words, with the name of the pairing if there are several."""
        head = f"{self.pair} " if named else ""
        if self.number < 0:
            return f"{head}unasked"
        head += f"#{self.number}"
        if self.role == "request":
            again = " again" if self.again else ""
            result = {"unanswered": ": no reply", "open": ": capture ends"}.get(self.state, "")
            return f"{head}{again}{result}" if again or result else f"{head} asks"
        late = {"late": " late,", "damaged-reply": " damaged,"}.get(self.state, "")
        return f"{head}{late} after {duration(self.latency_s)}"


@dataclass(frozen=True)
class Entry:
    """One message of a timeline, ready to be shown.

    Parameters
    ----------
    row : int
        Its row of the timeline.
    begin_s, end_s : float
        When it began and ended, in seconds.
    rest_s : float
        How long no wire had carried anything; below 0 where another message still lasts; NaN for the first.
    wire : str
        On which wire.
    text : str
        What it is.
    faults : str
        Its faults, names joined by ``+``.
    parts : tuple of Part
        What it is in pairs.
    collides : bool
        Whether it was sent into another message on a shared medium.
    name : str
        The layout of a frame; nothing for anything else.
    is_skipped : bool
        Whether it is bytes that belong to no frame, on a wire with frames.
    """

    row: int
    begin_s: float
    end_s: float
    rest_s: float
    wire: str
    text: str
    faults: str
    parts: tuple[Part, ...] = ()
    collides: bool = False
    name: str = ""
    is_skipped: bool = False

    @property
    def is_faulty(self) -> bool:
        """Whether the message itself is faulty."""
        return bool(self.faults) or self.is_skipped

    @property
    def is_wrong(self) -> bool:
        """Whether something is wrong, or worth knowing, with it."""
        return self.is_faulty or self.collides or any(part.is_wrong for part in self.parts)


@dataclass
class TimelineRows:
    """The rows of a reading's timeline with what is shown of them.

    Parameters
    ----------
    reading : Reading
        What was read.
    ascii_only : bool
        Whether texts must have nothing but ASCII.
    passed : Passed, optional
        How much lies before the reading, of a part of a capture.
    ended_s : float
        When the last message before the reading ended, in seconds; NaN without any.
    goes_on : bool
        Whether the capture goes on behind the reading, so that requests at its end wait for replies.
    """

    reading: Reading
    ascii_only: bool = False
    passed: Passed | None = None
    ended_s: float = float("nan")
    goes_on: bool = False
    timeline: Timeline = field(init=False)
    collisions: Places = field(init=False)

    def __post_init__(self) -> None:
        self.timeline = self.reading.timeline
        self.collisions = self.reading.collisions

    def between(self, begin_s: float, end_s: float) -> Places:
        """Return the rows of messages that begin from one time on, and before another."""
        begins = self.timeline.begin_s
        return np.flatnonzero((begins >= begin_s) & (begins < end_s)).astype(np.int64)

    def wrong(self) -> Places:
        """Return the rows with which something is wrong, or worth knowing, and what they are paired with."""
        result = self.timeline.faults != 0
        result |= self.timeline.what == What.SKIPPED
        result[self.collisions] = True
        for pairs in self.reading.pairs.values():
            odd = (pairs.again >= 0) | ~np.isin(pairs.state, [PairState.ANSWERED, PairState.OPEN])
            result[pairs.request[odd]] = True
            result[pairs.reply[odd & (pairs.reply >= 0)]] = True
            if pairs.pairing.only_when_asked:
                result[pairs.unasked] = True
        return np.flatnonzero(result).astype(np.int64)

    def entries(self, rows: Places) -> Iterator[Entry]:
        """Yield some rows, ascending, ready to be shown."""
        timeline = self.timeline
        texts, parts = self._texts(rows), self.parts_of(rows)
        before = np.fmax.accumulate(np.append(self.ended_s, timeline.end_s))[rows]
        collide = np.isin(rows, self.collisions)
        for place, row in enumerate(rows.tolist()):
            yield Entry(
                row=row,
                begin_s=float(timeline.begin_s[row]),
                end_s=float(timeline.end_s[row]),
                rest_s=float(timeline.begin_s[row] - before[place]),
                wire=timeline.wires[timeline.wire[row]],
                text=texts[place],
                faults=frame_fault_names(int(timeline.faults[row])),
                parts=tuple(parts.get(row, ())),
                collides=bool(collide[place]),
                name=timeline.layouts[timeline.layout[row]] if timeline.layout[row] >= 0 else "",
                is_skipped=bool(timeline.what[row] == What.SKIPPED),
            )

    def parts_of(self, rows: Places) -> dict[int, list[Part]]:
        """Return what some rows are in pairs."""
        result: dict[int, list[Part]] = {}
        for key, pairs in self.reading.pairs.items():
            for side in ("request", "reply"):
                for number in np.flatnonzero(np.isin(pairs.column(side), rows)).tolist():
                    result.setdefault(int(pairs.column(side)[number]), []).append(self._part(key, pairs, number, side))
            if pairs.pairing.only_when_asked:
                for row in pairs.unasked[np.isin(pairs.unasked, rows)].tolist():
                    result.setdefault(row, []).append(Part(key, -1, "reply", "unasked", float("nan")))
        return result

    def _part(self, key: str, pairs: Pairs, number: int, side: str) -> Part:
        state = PairState(int(pairs.state[number]))
        return Part(
            pair=key,
            number=number + self.requests_before(key),
            role=side,
            state="waiting" if state == PairState.OPEN and self.goes_on else STATES[state],
            latency_s=float(pairs.latency_s[number]),
            again=side == "request" and bool(pairs.again[number] >= 0),
        )

    def requests_before(self, pair: str) -> int:
        """Return how many requests of a pairing lie before the reading."""
        return 0 if self.passed is None else self.passed.requests.get(pair, 0)

    def offsets(self, rows: Places) -> Places:
        """Return the numbers of the first characters of some rows, counted on their wires in the whole capture."""
        timeline = self.timeline
        before = [0 if self.passed is None else self.passed.characters.get(wire, 0) for wire in timeline.wires]
        return timeline.offset[rows] + np.array(before, np.int64)[timeline.wire[rows]]

    def _texts(self, rows: Places) -> list[str]:
        """Write what each of some rows is."""
        timeline, texts = self.timeline, [""] * len(rows)
        for number, layout in enumerate(timeline.layouts):
            places = np.flatnonzero(timeline.layout[rows] == number)
            if not len(places):
                continue
            frames = self.reading.frames[layout][timeline.row[rows[places]]]
            if frames.layout.pattern is not None:
                result = [self._visible(frames.data[row].tolist()) for row in range(len(frames))]
            else:
                columns = {name: value_texts(frames, name) for name in chosen_fields(frames.layout, ())}
                result = [
                    " ".join(f"{name}={texts[row]}" for name, texts in columns.items()) for row in range(len(frames))
                ]
            for place, text in zip(places.tolist(), result, strict=True):
                texts[place] = f"{layout} {text}".rstrip()
        for place in np.flatnonzero(timeline.layout[rows] < 0).tolist():
            texts[place] = self._text_of_characters(int(rows[place]))
        return texts

    def _text_of_characters(self, row: int) -> str:
        timeline = self.timeline
        wire = timeline.wires[timeline.wire[row]]
        begin, length = int(timeline.offset[row]), int(timeline.length[row])
        values = self.reading.characters[wire].value[begin : begin + length].tolist()
        if timeline.what[row] == What.MESSAGE:
            return self._visible(values)
        why = describe_skip(self.reading.skipped[wire], int(timeline.row[row]))
        is_text = sum(SPACE <= value < DELETE for value in values) > TEXTUAL * length
        shown = self._visible(values) if is_text else _in_hex(values)
        return f"{length:,} byte{'' if length == 1 else 's'} of no frame, {why}: {shown}"

    def _visible(self, values: Sequence[int]) -> str:
        text = visible(values[:MOST_VISIBLE], ascii_only=self.ascii_only)
        return f'"{text}"' + (" ..." if len(values) > MOST_VISIBLE else "")


def _in_hex(values: Sequence[int]) -> str:
    return " ".join(f"{value:02X}" for value in values[:MOST_IN_HEX]) + (" ..." if len(values) > MOST_IN_HEX else "")


def write_messages(path: Path, reading: Reading) -> None:
    """Write as CSV the messages of all wires in order of time, with what each is in a pair.

    Parameters
    ----------
    path : pathlib.Path
        The file. A message that is a part of several pairs has a row for each.
    reading : Reading
        What was read.
    """
    with opened_to_write(path) as file:
        file.write(MESSAGE_HEADING)
        file.writelines(message_lines(TimelineRows(reading)))


def message_lines(rows: TimelineRows) -> Iterator[bytes]:
    """Yield the lines of `write_messages`, many at a time, without the heading.

    Parameters
    ----------
    rows : TimelineRows
        The messages.
    """
    alone = np.ones(len(rows.timeline), np.bool_)
    every: list[Places] = []
    columns: list[list[Any]] = []
    for key, pairs in rows.reading.pairs.items():
        states = Choice(pairs.state, list(STATES.values()))
        for side in ("request", "reply"):
            numbers = np.flatnonzero(pairs.column(side) >= 0).astype(np.int64)
            some = pairs.column(side)[numbers]
            alone[some] = False
            every.append(some)
            result = Choice(np.zeros(len(some), np.int64), [side])
            name = Choice(np.zeros(len(some), np.int64), [key])
            latency_s = np.round(pairs.latency_s[numbers], 12)
            number = numbers + rows.requests_before(key)
            columns.append([*_message_columns(rows, some), name, number, result, states[numbers], latency_s])
    rest = np.flatnonzero(alone).astype(np.int64)
    columns.append([*_message_columns(rows, rest), None, None, None, None, None])
    order = np.argsort(np.concatenate([*every, rest]), kind="stable")
    yield from csv_lines(columns, order)


def _message_columns(rows: TimelineRows, chosen: Places) -> list[Any]:
    timeline = rows.timeline
    some = timeline[chosen]
    return [
        np.round(some.begin_s, 12),
        np.round(some.end_s, 12),
        Choice(some.wire, timeline.wires),
        Choice(some.what, [item.name.lower() for item in What]),
        Choice(some.layout, [*timeline.layouts, ""]),
        rows.offsets(chosen),
        some.length,
        Choice.of(some.faults, frame_fault_names),
    ]
