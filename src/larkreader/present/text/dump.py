"""Traffic as text: when, who, which character, what it says, what number it is, its faults.

Text stands before numbers. What is invisible is shown by the Unicode control pictures (U+2400 to U+2421), what is
no text in the encoding by a middle dot. Where the terminal has only ASCII, both are a full stop.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import isnan

import numpy as np
from rich.cells import set_cell_size

from larkreader.capture.characters import Characters, fault_names
from larkreader.capture.ring import RingMemory

from .notation import Notation, cells_of, digits, digits_width, notations

TIME_WIDTH, OFFSET_WIDTH = 11, 6
FEWEST, MOST = 4, 32  # characters a row
TITLES: Mapping[Notation, str] = {"hex": "hexadecimal", "decimal": "decimal", "octal": "octal", "binary": "binary"}


@dataclass(frozen=True)
class DumpForm:
    """How a dump looks.

    Parameters
    ----------
    who_width : int
        Columns for the name of a wire or port.
    width : int
        Columns of the terminal.
    ascii_only : bool
        Whether the terminal has nothing else.
    notation : {"hex", "decimal", "octal", "binary"}, optional
        How numbers are written; None for one character a row, in every notation.
    encoding : str
        Of the text.
    bits : int
        Data bits of a character.
    """

    who_width: int = 3
    width: int = 80
    ascii_only: bool = False
    notation: Notation | None = "hex"
    encoding: str = "ascii"
    bits: int = 8

    @property
    def each(self) -> int:
        """How many characters fit into a row, a multiple of four."""
        if self.notation is None:
            return 1
        room = self.width - TIME_WIDTH - len(self.who("")) - OFFSET_WIDTH - 3
        return max(FEWEST, min(MOST, room // (digits_width(self.notation, self.bits) + 2) // 4 * 4))

    def who(self, name: str) -> str:
        """Return the column that names a wire or port, with the space behind it; nothing if it has no width."""
        return f"{name:{self.who_width}} " if self.who_width > 0 else ""

    def heading(self) -> str:
        """Return the row that stands above the others."""
        left = f"{'seconds':>{TIME_WIDTH}} {self.who('who')}{'number':>{OFFSET_WIDTH}}"
        if self.notation is None:
            return f"{left} {_all_notations('text', 'dec', 'hex', 'octal', 'binary', 'name', self.bits)}".rstrip()
        return f"{left} {'text':{self.each}}  {TITLES[self.notation]}"

    def rows(
        self, at_s: float, who: str, offset: int, data: Sequence[int], faults: bytes = b"", *, mark: str = " "
    ) -> Iterator[str]:
        """Yield the rows that show one group of characters.

        Parameters
        ----------
        at_s : float
            When it arrived or went out, in seconds; NaN where unknown.
        who : str
            Which wire or port.
        offset : int
            Number of its first character on that wire.
        data : bytes or sequence of int
            The characters.
        faults : bytes
            Their flags of `Fault`, where there are any.
        mark : str
            One column before the time.

        Yields
        ------
        str
            One row, without an ending.
        """
        each, none = self.each, f"{'':{TIME_WIDTH}} {self.who('')}"
        cells = cells_of(data, self.encoding, ascii_only=self.ascii_only)
        for low in range(0, len(data), each):
            part, some = data[low : low + each], faults[low : low + each]
            head = none
            if low == 0:
                time = "" if isnan(at_s) else f"{at_s:.6f}"
                head = f"{mark + time:>{TIME_WIDTH}} {self.who(who)}"
            yield f"{head}{offset + low:{OFFSET_WIDTH}} {self._shown(part, cells[low : low + each])}".rstrip()
            held = [f"{offset + low + place}: {fault_names(item)}" for place, item in enumerate(some) if item]
            if held:
                yield f"{none}faults at {', '.join(held)}"

    def _shown(self, part: Sequence[int], cells: list[str]) -> str:
        text, notation = "".join(cells), self.notation
        if notation is None:
            result = notations(part[0], self.bits)
            return _all_notations(text, result.decimal, result.hex, result.octal, result.binary, result.name, self.bits)
        return f"{set_cell_size(text, self.each)}  {' '.join(digits(item, notation, self.bits) for item in part)}"


def dump(wires: Mapping[str, Characters], pauses_s: Mapping[str, float], form: DumpForm) -> Iterator[str]:
    """Yield the rows that show all characters of some wires on one timeline.

    Parameters
    ----------
    wires : mapping of str to Characters
        By wire.
    pauses_s : mapping of str to float
        By wire, how long a pause in seconds ends a group.
    form : DumpForm
        How it looks.

    Yields
    ------
    str
        One row, without an ending; the first is the heading.
    """
    yield form.heading()
    groups: list[tuple[float, str, int, int]] = []
    for wire, characters in wires.items():
        if not len(characters):
            continue
        pauses = characters.begin_s[1:] - characters.end_s[:-1] > pauses_s[wire]
        begins = np.concatenate([[0], np.flatnonzero(pauses) + 1, [len(characters)]]).tolist()
        times = characters.begin_s[begins[:-1]].tolist()
        groups += [(at_s, wire, low, high) for at_s, low, high in zip(times, begins[:-1], begins[1:], strict=True)]
    for at_s, wire, low, high in sorted(groups, key=lambda group: group[0]):
        some = wires[wire][low:high]
        yield from form.rows(at_s, wire, low, some.value.tolist(), some.faults.tobytes())


def ring_rows(ring: RingMemory, form: DumpForm) -> Iterator[str]:
    """Yield the rows that show the memory of a ring buffer as it lies there, and where it wraps.

    Parameters
    ----------
    ring : RingMemory
        The memory, and where the next character would be written.
    form : DumpForm
        How it looks.

    Yields
    ------
    str
        One row, without an ending. ``[`` stands before the oldest character that counts, ``]`` behind the newest, ``|``
        where one follows the other at once.
    """
    size, notation = len(ring.memory), form.notation or "hex"
    result = (
        f"Ring buffer of {size:,} characters, {ring.held:,} of them count; the next is written at {ring.write_index:,}."
    )
    if ring.held:
        newest = (ring.write_index - 1) % size
        result += f" The oldest is at {ring.oldest:,}, the newest at {newest:,}"
        result += "; they wrap." if ring.is_wrapped else "; they do not wrap."
    yield result
    each = replace(form, notation=notation, width=form.width + TIME_WIDTH, who_width=0).each
    yield f"{'index':>{OFFSET_WIDTH}} {'text':{each}}   {TITLES[notation]}"
    before = {ring.oldest: "[", ring.write_index or size: "]"} if ring.held else {}
    if ring.held == size:
        before = {ring.write_index: "|"}
    cells = cells_of(ring.memory, form.encoding, ascii_only=form.ascii_only)
    for low in range(0, size, each):
        high = min(low + each, size)
        text = set_cell_size("".join(cells[low:high]), each)
        numbers = [before.get(place, " ") + digits(ring.memory[place], notation) for place in range(low, high)]
        last = before.get(size, "") if high == size else ""
        yield f"{low:{OFFSET_WIDTH}} {text}  {''.join(numbers)}{last}"


def _all_notations(text: str, decimal: str, hexadecimal: str, octal: str, binary: str, name: str, bits: int) -> str:
    """Put one value in every notation into columns."""
    written: tuple[tuple[str, Notation, int], ...] = (
        (decimal, "decimal", 3),
        (hexadecimal, "hex", 3),
        (octal, "octal", 5),
        (binary, "binary", 6),
    )
    columns = [f"{item:>{max(digits_width(notation, bits), least)}}" for item, notation, least in written]
    return f"{set_cell_size(text, 4)} {'  '.join(columns)}  {name}".rstrip()
