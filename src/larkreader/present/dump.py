"""Traffic as text: when, who, which character, what it says, what it is in hexadecimal, what was held against it.

Text stands before hexadecimal. What is invisible is shown by the Unicode control pictures (U+2400 to U+2421), what is
no ASCII by a middle dot. Where the terminal has only ASCII, both are a full stop.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from math import isnan

import numpy as np

from larkreader.capture.characters import Characters, fault_names

TIME_WIDTH, OFFSET_WIDTH = 11, 6
FEWEST, MOST = 4, 32  # characters a row


def heading_of(who_width: int, width: int = 80) -> str:
    """Return the row that stands above the others."""
    each = row_length(who_width, width)
    return f"{'seconds':>{TIME_WIDTH}} {'who':{who_width}} {'number':>{OFFSET_WIDTH}} {'text':{each}}  hexadecimal"


def rows_of(
    at_s: float,
    who: str,
    offset: int,
    data: bytes,
    faults: bytes = b"",
    *,
    who_width: int = 3,
    width: int = 80,
    ascii_only: bool = False,
) -> Iterator[str]:
    """Yield the rows that show one group of characters.

    Parameters
    ----------
    at_s : float
        When it arrived or went out, in seconds.
    who : str
        Which wire or port.
    offset : int
        Number of its first character on that wire.
    data, faults : bytes
        The characters, and their flags of `Fault` where there are any.
    who_width : int
        Columns for `who`.
    width : int
        Columns of the terminal.
    ascii_only : bool
        Whether the terminal has nothing else.

    Yields
    ------
    str
        One row, without an ending.
    """
    each = row_length(who_width, width)
    for low in range(0, len(data), each):
        part, some = data[low : low + each], faults[low : low + each]
        head = " " * (TIME_WIDTH + 1 + who_width)
        if low == 0:
            head = f"{'' if isnan(at_s) else f'{at_s:.6f}':>{TIME_WIDTH}} {who:{who_width}}"
        text = visible(part, ascii_only=ascii_only)
        yield f"{head} {offset + low:{OFFSET_WIDTH}} {text:{each}}  {part.hex(' ').upper()}"
        held = [f"{offset + low + place}: {fault_names(one)}" for place, one in enumerate(some) if one]
        if held:
            yield f"{' ' * (TIME_WIDTH + 1 + who_width)} faults at {', '.join(held)}"


def dump(
    wires: Mapping[str, Characters], pauses_s: Mapping[str, float], *, width: int = 80, ascii_only: bool = False
) -> Iterator[str]:
    """Yield the rows that show all characters of some wires on one timeline.

    Parameters
    ----------
    wires : mapping of str to Characters
        By wire.
    pauses_s : mapping of str to float
        By wire, how long a pause in seconds ends a group.
    width : int
        Columns of the terminal.
    ascii_only : bool
        Whether the terminal has nothing else.

    Yields
    ------
    str
        One row, without an ending; the first is the heading.
    """
    who_width = max(map(len, wires))
    yield heading_of(who_width, width)
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
        data, faults = (some.value & 0xFF).astype(np.uint8).tobytes(), some.faults.tobytes()
        where = {"who_width": who_width, "width": width}
        yield from rows_of(at_s, wire, low, data, faults, ascii_only=ascii_only, **where)


def row_length(who_width: int, width: int) -> int:
    """Return how many characters fit into a row, a multiple of four."""
    room = width - TIME_WIDTH - who_width - OFFSET_WIDTH - 4
    return max(FEWEST, min(MOST, room // 4 // 4 * 4))


def visible(data: bytes, *, ascii_only: bool = False) -> str:
    """Write bytes as text in which each is one column wide."""
    if ascii_only:
        return "".join(chr(one) if 0x20 <= one < 0x7F else "." for one in data)
    return "".join(_PICTURES[one] for one in data)


_PICTURES = [
    chr(0x2400 + one) if one < 0x20 else chr(one) if one < 0x7F else "\u2421" if one == 0x7F else "\u00b7"
    for one in range(256)
]
