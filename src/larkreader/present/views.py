"""What passes on live wires as rows of text: characters, lines, frames, or the last value of each field."""

from __future__ import annotations

import re
import textwrap
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from math import isnan
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters, fault_names
from larkreader.declare.fields import Slot
from larkreader.declare.layout import FrameLayout
from larkreader.decode.escapes import find_escapes, strip_escapes
from larkreader.decode.frame_columns import SKIP_NAMES, FrameFault, Frames, Skip, frame_fault_names
from larkreader.decode.streaming import LayoutsReader
from larkreader.decode.verify import within_range

from .dump import OFFSET_WIDTH, TIME_WIDTH, DumpForm
from .notations import cells_of

CHANGED = "'"  # behind what is not as it was in the frame before
UNCERTAIN = "~"  # before the time of what may have come before the row above, on the other wire
LONGEST_LINE = 4096  # characters after which a line without an ending is shown
PATIENCE_S = 0.3  # after which a line without an ending is shown
RECENT = 20  # frames from which a rate is taken
_ANY_ENDING = re.compile(rb"\r\n\0?|\n\0?|\r(?!\Z)\0?|\0")


@dataclass(frozen=True)
class Arrival:
    """Characters that came together on one wire.

    Parameters
    ----------
    wire : str
        On which.
    at_s : float
        When they were fetched, in seconds.
    offset : int
        Number of the first on its wire.
    data : bytes
        The characters.
    faults : bytes
        Their flags of `Fault`; empty where nobody knows of any.
    is_uncertain : bool
        Whether they may have come before the row above, which is of another wire.
    """

    wire: str
    at_s: float
    offset: int
    data: bytes
    faults: bytes = b""
    is_uncertain: bool = False

    def as_characters(self) -> Characters:
        """Return them as rows, all of one time."""
        return Characters.from_groups([(self.at_s, self.data, self.faults)])


class View(ABC):
    """One way to show what passes. Each row comes with its wire."""

    def __init__(self, form: DumpForm) -> None:
        self.form = form

    @abstractmethod
    def heading(self) -> str:
        """Return the row that stands above the others."""

    @abstractmethod
    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows that can be shown now that this has come."""

    def idle(self, now_s: float) -> Iterator[tuple[str, str]]:
        """Yield wire and row of what should wait no longer."""
        yield from ()

    def rest(self) -> Iterator[tuple[str, str]]:
        """Yield wire and row of what is left when nothing more comes."""
        yield from ()

    def told(self, wire: str) -> str:
        """Return in a few words what was counted on a wire beside its characters."""
        return ""

    def _row(self, at_s: float, wire: str, offset: int, text: str, *, is_uncertain: bool = False) -> Iterator[str]:
        """Yield a row, and what does not fit into it below."""
        form = self.form
        time = "" if isnan(at_s) else UNCERTAIN * is_uncertain + f"{at_s:.6f}"
        head = f"{time:>{TIME_WIDTH}} {form.who(wire)}{offset:{OFFSET_WIDTH}} "
        room = max(form.width - len(head), 16)
        for part in textwrap.wrap(text, room, break_on_hyphens=False) or [""]:
            yield head + part
            head = " " * len(head)

    def _remark(self, text: str) -> str:
        return f"{' ' * (TIME_WIDTH + 1)}{self.form.who('')}{text}"


class CharacterView(View):
    """Shows characters as text and as numbers."""

    def heading(self) -> str:
        """Return the row that stands above the others."""
        return self.form.heading()

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows that show the characters."""
        where = (arrival.at_s, arrival.wire, arrival.offset)
        mark = UNCERTAIN if arrival.is_uncertain else " "
        yield from self.form.rows(*where, arrival.data, arrival.faults, mark=mark)


@dataclass
class _Line:
    """A line that has no ending yet."""

    at_s: float = 0.0
    offset: int = 0
    data: bytes = b""
    faults: bytes = b""
    is_uncertain: bool = False
    last_s: float = 0.0


class LineView(View):
    """Shows text line by line, with its endings visible.

    Parameters
    ----------
    form : DumpForm
        How a row looks.
    ending : bytes, optional
        What ends a line; CR, LF, CR LF or NUL unless said.
    is_stripped : bool
        Whether escape sequences are left out and counted.
    """

    def __init__(self, form: DumpForm, ending: bytes | None = None, *, is_stripped: bool = False) -> None:
        super().__init__(form)
        self._ending = _ANY_ENDING if ending is None else re.compile(re.escape(ending))
        self._is_stripped = is_stripped
        self._open: dict[str, _Line] = {}
        self._count: dict[str, int] = {}

    def heading(self) -> str:
        """Return the row that stands above the others."""
        return f"{'seconds':>{TIME_WIDTH}} {self.form.who('who')}{'number':>{OFFSET_WIDTH}} line"

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows of the lines that have ended."""
        line = self._open.setdefault(arrival.wire, _Line())
        if not line.data:
            line.at_s, line.offset, line.is_uncertain = arrival.at_s, arrival.offset, arrival.is_uncertain
        line.data += arrival.data
        line.faults += arrival.faults or bytes(len(arrival.data))
        line.last_s = arrival.at_s
        begin = 0
        for match in self._ending.finditer(line.data):
            yield from self._shown(arrival.wire, line, begin, match.end())
            begin = match.end()
        while len(line.data) - begin > LONGEST_LINE:
            yield from self._shown(arrival.wire, line, begin, begin + LONGEST_LINE, "no ending for so long")
            begin += LONGEST_LINE
        if begin:
            line.data, line.faults, line.offset = line.data[begin:], line.faults[begin:], line.offset + begin
            line.at_s, line.is_uncertain = arrival.at_s, False

    def idle(self, now_s: float) -> Iterator[tuple[str, str]]:
        """Yield the lines that have waited too long for an ending."""
        for wire, line in self._open.items():
            if line.data and now_s - line.last_s > PATIENCE_S:
                yield from self._flushed(wire, line)

    def rest(self) -> Iterator[tuple[str, str]]:
        """Yield the lines that never got an ending."""
        for wire, line in self._open.items():
            if line.data:
                yield from self._flushed(wire, line)

    def told(self, wire: str) -> str:
        """Return how many lines there were."""
        count = self._count.get(wire, 0)
        return f"{count:,} line{'' if count == 1 else 's'}"

    def _flushed(self, wire: str, line: _Line) -> Iterator[tuple[str, str]]:
        size = len(line.data)
        remark = "" if self._ending.search(line.data + b"x") else "no ending yet"
        yield from ((wire, row) for row in self._shown(wire, line, 0, size, remark))
        self._open[wire] = _Line(offset=line.offset + size)

    def _shown(self, wire: str, line: _Line, begin: int, end: int, remark: str = "") -> Iterator[str]:
        self._count[wire] = self._count.get(wire, 0) + 1
        data = line.data[begin:end]
        escapes = sum(1 for one in find_escapes(data) if one.kind != "unfinished") if self._is_stripped else 0
        cells = cells_of(strip_escapes(data) if escapes else data, self.form.encoding, ascii_only=self.form.ascii_only)
        form = self.form
        time = UNCERTAIN * line.is_uncertain + f"{line.at_s:.6f}"
        head = f"{time:>{TIME_WIDTH}} {form.who(wire)}{line.offset + begin:{OFFSET_WIDTH}} "
        room = max(form.width - len(head), 16)
        for low in range(0, max(len(cells), 1), room):
            yield head + "".join(cells[low : low + room])
            head = " " * len(head)
        if escapes:
            yield self._remark(f"{escapes} escape sequence{'' if escapes == 1 else 's'} left out")
        faults = line.faults[begin:end]
        held = [f"{line.offset + begin + place}: {fault_names(one)}" for place, one in enumerate(faults) if one]
        if held:
            yield self._remark(f"faults at {', '.join(held)}")
        if remark:
            yield self._remark(remark)


@dataclass
class _Seen:
    """What has been seen of a layout."""

    last: Frames | None = None
    count: int = 0
    faults: int = 0
    times: deque[float] = field(default_factory=lambda: deque(maxlen=RECENT))
    least: dict[str, float] = field(default_factory=dict)
    most: dict[str, float] = field(default_factory=dict)

    @property
    def rate(self) -> float | None:
        """Frames a second, from the last of them."""
        spent = self.times[-1] - self.times[0] if len(self.times) > 1 else 0.0
        return (len(self.times) - 1) / spent if spent > 0 else None


class FrameView(View):
    """Shows frames as they come, what changed since the last good one marked.

    Parameters
    ----------
    form : DumpForm
        How a row looks.
    layouts : mapping of str to sequence of FrameLayout
        By wire. Wires without any are shown as characters.
    fields : sequence of str
        Which fields; those that can change unless said.
    as_bytes : bool
        Whether to show the frames' bytes instead.
    """

    def __init__(
        self,
        form: DumpForm,
        layouts: Mapping[str, Sequence[FrameLayout]],
        fields: Sequence[str] = (),
        *,
        as_bytes: bool = False,
    ) -> None:
        super().__init__(form)
        self._readers = {wire: LayoutsReader(some) for wire, some in layouts.items() if some}
        self._plain = CharacterView(form)
        self._as_bytes = as_bytes
        self.seen = {layout.key: _Seen() for some in layouts.values() for layout in some}
        self.layouts = {layout.key: layout for some in layouts.values() for layout in some}
        self.shown = {key: _chosen(layout, fields) for key, layout in self.layouts.items()}
        self.skipped = dict.fromkeys(self._readers, 0)

    def heading(self) -> str:
        """Return the row that stands above the others."""
        what = f"frame ({CHANGED} is what changed since the last good one)"
        return f"{'seconds':>{TIME_WIDTH}} {self.form.who('who')}{'number':>{OFFSET_WIDTH}} {what}"

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows of the frames that are certain now."""
        if arrival.wire not in self._readers:
            yield from self._plain.take(arrival)
            return
        found = self._readers[arrival.wire].feed(arrival.as_characters())
        yield from self._shown(arrival.wire, found, is_uncertain=arrival.is_uncertain)

    def rest(self) -> Iterator[tuple[str, str]]:
        """Yield what was held back."""
        for wire, reader in self._readers.items():
            yield from ((wire, row) for row in self._shown(wire, reader.close()))

    def told(self, wire: str) -> str:
        """Return how many frames of each layout there were, how many faulty, and how many bytes of none."""
        parts = []
        for key, layout in self.layouts.items():
            if layout.wire in (wire, None):
                seen = self.seen[key]
                if not seen.count and len(self.layouts) > 1:
                    continue
                faulty = f" ({seen.faults:,} faulty)" if seen.faults else ""
                parts.append(f"{seen.count:,} {key}{faulty}")
        if self.skipped.get(wire):
            parts.append(f"{self.skipped[wire]:,} bytes of no frame")
        return ", ".join(parts)

    def _shown(self, wire: str, found: Mapping[str, Frames], *, is_uncertain: bool = False) -> Iterator[str]:
        """Yield the rows of frames and of what lies between them, in order."""
        spans = next(iter(found.values())).skipped
        places = [(int(one), key, row) for key, frames in found.items() for row, one in enumerate(frames.offset)]
        places += [(int(one), "", row) for row, one in enumerate(spans.offset)]
        for offset, key, row in sorted(places):
            if not key:
                length, reason = int(spans.length[row]), SKIP_NAMES[Skip(spans.reason[row])]
                self.skipped[wire] += length
                yield from self._row(
                    float("nan"), wire, offset, f"{length:,} byte{'' if length == 1 else 's'} of no frame: {reason}"
                )
                continue
            one = found[key][row]
            text = self._bytes_of(one) if self._as_bytes else self._fields_of(one)
            yield from self._row(float(one.begin_s[0]), wire, offset, f"{key} {text}", is_uncertain=is_uncertain)
            if one.faults[0]:
                yield self._remark(f"held against it: {frame_fault_names(int(one.faults[0]))}")
            self._remember(one)

    def _fields_of(self, one: Frames) -> str:
        last = self.seen[one.layout.key].last
        parts = []
        for name in self.shown[one.layout.key]:
            value = value_text(one, name)
            parts.append(f"{name}={value}{CHANGED if last is not None and value != value_text(last, name) else ''}")
        return " ".join(parts)

    def _bytes_of(self, one: Frames) -> str:
        last = self.seen[one.layout.key].last
        before = None if last is None else last.data[0].tolist()
        return " ".join(
            f"{value:02X}{CHANGED if before is not None and value != before[place] else ''}"
            for place, value in enumerate(one.data[0].tolist())
        )

    def _remember(self, one: Frames) -> None:
        seen = self.seen[one.layout.key]
        seen.count += 1
        seen.faults += bool(one.faults[0])
        if one.faults[0] & FrameFault.CHECKSUM_MISMATCH:
            return
        seen.last = one
        seen.times.append(float(one.begin_s[0]))
        for name, slot in one.layout.slot.items():
            if slot.count == 1 and slot.kind != "flag" and not (slot.field and slot.field.names):
                value = float(one[name][0])
                seen.least[name] = min(value, seen.least.get(name, value))
                seen.most[name] = max(value, seen.most.get(name, value))


class ValueView(FrameView):
    """Keeps the last value, the range and the rate of fields, for a table that is drawn again and again."""

    def heading(self) -> str:
        """Return nothing: rows are not what it shows."""
        return ""

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Take in what came; there is nothing to show row by row."""
        for _ in super().take(arrival):
            pass
        yield from ()

    def rest(self) -> Iterator[tuple[str, str]]:
        """Take in what was held back."""
        for _ in super().rest():
            pass
        yield from ()

    def values(self) -> Iterator[tuple[str, str, str, str, str, str, str, bool]]:
        """Yield frame, field, last value, unit, least, most, frames a second, and whether the value makes no sense."""
        for key, layout in self.layouts.items():
            seen = self.seen[key]
            rate = "" if seen.rate is None else f"{seen.rate:.3g}"
            for name in self.shown[key]:
                slot = layout.slot[name]
                unit = slot.field.unit if slot.field else ""
                last = "-" if seen.last is None else value_text(seen.last, name)
                limits = [number_text(side[name], slot) if name in side else "" for side in (seen.least, seen.most)]
                is_odd = seen.last is not None and not within_range(seen.last.raw(name), slot).all()
                yield key, name, last, unit, *limits, rate, is_odd  # type: ignore[misc]  # limits are two


def value_text(frames: Frames, name: str) -> str:
    """Write what a field holds in the first of some frames: names where it has some, flags as digits."""
    slot = frames.layout.slot[name]
    if slot.field is not None and slot.field.names:
        return ",".join(str(one) for one in np.ravel(frames.labels(name)[0]))
    values = np.ravel(frames[name][0])
    if slot.kind == "flag":
        return "".join(str(int(one)) for one in values)
    return ",".join(number_text(one, slot) for one in values)


def number_text(value: Any, slot: Slot) -> str:
    """Write a number with as many digits as it has."""
    if slot.kind == "float" and not (slot.field and slot.field.is_scaled):
        return f"{float(value):.6g}"
    return f"{float(value):.10g}" if slot.field is not None and slot.field.is_scaled else f"{int(value)}"


def beside(first: str, row: str, wire: str, width: int) -> str:
    """Put a row into the left or the right half of the terminal, as its wire has it."""
    half = (width - 3) // 2
    return f"{row:{half}} |" if wire == first else f"{'':{half}} | {row}"


def halves(first: str, second: str, heading: str, width: int) -> tuple[str, str]:
    """Return the rows that stand above two halves: whose they are, and what is in them."""
    half = (width - 3) // 2
    return f"{first:{half}} | {second}", f"{heading:{half}} | {heading}"


def _chosen(layout: FrameLayout, fields: Sequence[str]) -> list[str]:
    """Name the fields of a layout that are asked for; unless any are, those that can change and are no checksum."""
    if fields:
        return [name for name in layout.slot if name in fields]
    fixed = {name for name, slot in layout.slot.items() if slot.kind == "checksum" or _is_fixed(slot)}
    return [name for name in layout.slot if name not in fixed]


def _is_fixed(slot: Slot) -> bool:
    return slot.field is not None and slot.field.equals is not None
