"""What passes on live wires as rows of text: characters or lines; frames have a module of their own."""

from __future__ import annotations

import re
import textwrap
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from math import isnan
from typing import ClassVar

from larkreader.capture.characters import Characters, fault_names
from larkreader.decode.characters.escapes import find_escapes, strip_escapes

from .dump import OFFSET_WIDTH, TIME_WIDTH, DumpForm
from .notation import cells_of

NO_BREAK = "\u00a0"  # between words that stay in one row
UNCERTAIN = "~"  # before the time of what may have come before the row above, on the other wire
LONGEST_LINE = 4096  # characters after which a line without an ending is shown
PATIENCE_S = 0.3  # after which a line without an ending is shown
_ANY_ENDING = re.compile(rb"\r\n\0?|\n\0?|\r(?!\Z)\0?|\0")


@dataclass(frozen=True)
class Arrival:
    """Characters that arrived together on one wire.

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
        Their flags of `Fault`; empty where unknown of any.
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
    """One way to show what passes. Each row has its wire.

    Attributes
    ----------
    is_thinned : bool
        Whether it leaves out what there is no time for.
    """

    is_thinned: ClassVar[bool] = True

    def __init__(self, form: DumpForm) -> None:
        self.form = form

    @abstractmethod
    def heading(self) -> str:
        """Return the row that stands above the others."""

    @abstractmethod
    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows that can be shown now that this has come."""

    def leave_out(self, arrival: Arrival) -> Iterator[str]:
        """Yield what is shown in the place of characters for which there is no time.

        Parameters
        ----------
        arrival : Arrival
            What is not shown.
        """
        yield from ()

    def idle(self, now_s: float) -> Iterator[tuple[str, str]]:
        """Yield wire and row of what should wait no longer."""
        yield from ()

    def rest(self) -> Iterator[tuple[str, str]]:
        """Yield wire and row of what is left when nothing more follows."""
        yield from ()

    def summary(self, wire: str) -> str:
        """Return in a few words what was counted on a wire beside its characters."""
        return ""

    def _row(self, at_s: float, wire: str, offset: int, text: str, *, is_uncertain: bool = False) -> Iterator[str]:
        """Yield a row, and what does not fit into it below."""
        form = self.form
        time = "" if isnan(at_s) else UNCERTAIN * is_uncertain + f"{at_s:.6f}"
        head = f"{time:>{TIME_WIDTH}} {form.who(wire)}{offset:{OFFSET_WIDTH}} "
        room = max(form.width - len(head), 16)
        for part in textwrap.wrap(text, room, break_on_hyphens=False) or [""]:
            yield head + part.replace(NO_BREAK, " ")
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
        What ends a line; CR, LF, CR LF or NUL by default.
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

    def leave_out(self, arrival: Arrival) -> Iterator[str]:
        """Forget the line that has no ending yet: what follows does not belong to it."""
        self._open.pop(arrival.wire, None)
        yield from ()

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

    def summary(self, wire: str) -> str:
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
        form = self.form
        escapes = 0
        if self._is_stripped:
            escapes = sum(1 for escape in find_escapes(data, form.encoding) if escape.kind != "unfinished")
        cells = cells_of(
            strip_escapes(data, form.encoding) if escapes else data, form.encoding, ascii_only=form.ascii_only
        )
        time = UNCERTAIN * line.is_uncertain + f"{line.at_s:.6f}"
        head = f"{time:>{TIME_WIDTH}} {form.who(wire)}{line.offset + begin:{OFFSET_WIDTH}} "
        room = max(form.width - len(head), 16)
        for low in range(0, max(len(cells), 1), room):
            yield head + "".join(cells[low : low + room])
            head = " " * len(head)
        if escapes:
            yield self._remark(f"{escapes} escape sequence{'' if escapes == 1 else 's'} left out")
        faults = line.faults[begin:end]
        held = [f"{line.offset + begin + place}: {fault_names(fault)}" for place, fault in enumerate(faults) if fault]
        if held:
            yield self._remark(f"faults at {', '.join(held)}")
        if remark:
            yield self._remark(remark)


def beside(first: str, row: str, wire: str, width: int) -> str:
    """Put a row into the left or the right half of the terminal, as its wire has it."""
    half = (width - 3) // 2
    return f"{row:{half}} |" if wire == first else f"{'':{half}} | {row}"


def halves(first: str, second: str, heading: str, width: int) -> tuple[str, str]:
    """Return the rows that stand above two halves: whose they are, and what is in them."""
    half = (width - 3) // 2
    return f"{first:{half}} | {second}", f"{heading:{half}} | {heading}"
