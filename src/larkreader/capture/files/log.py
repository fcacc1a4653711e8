r"""Logs of bytes with times that a program wrote: a table in text, or JSON Lines.

The time is called ``time`` or ``timestamp``, with a unit if it is not seconds, as in ``time_ms``; it is a number, or a
date with the time of day in ISO 8601. What was received is called ``hex``, ``data`` or ``bytes`` (pairs of hexadecimal
digits, or a list of numbers), ``byte`` or ``value`` (a number, ``0x`` for hexadecimal) or ``text``, ``char`` (with
``\r \n \t \\ \xHH`` for single bytes). ``wire``, ``direction`` or ``channel`` says on which wire, if there are several.
Further columns are passed over.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, time
from typing import Any

from larkreader.capture.characters import Characters
from larkreader.errors import CaptureError

from . import character_pieces
from .character_pieces import ONE_WIRE, Pieces, blocks_of
from .content import Content
from .csv_form import COMMENTS, SEPARATORS, UNITS, cells_of
from .json_text import parse_json

LONG_AGO_S = 1e8  # from which on a time in seconds is a date, counted from 1970
WIRES = ("wire", "direction", "dir", "channel", "port")
_TIME = re.compile(rf"(?:time(?:stamp)?|t)(?:[ _]*[\[(]?({'|'.join(UNITS)})[\])]?)?", re.IGNORECASE)
_ESCAPE = re.compile(r"\\(?:x([0-9A-Fa-f]{2})|([rnt0\\]))")
_NEWLINE = re.compile(r"[^\n]*\n|[^\n]+")
_CONTROLS = {"r": b"\r", "n": b"\n", "t": b"\t", "0": b"\0", "\\": b"\\"}
_PAIRS = re.compile(r"[\s,;:.\-_]*(?:0[xX])?([0-9A-Fa-f]{2})")


def _of_hex(found: Any) -> bytes:
    if isinstance(found, list):
        return bytes(found)
    text, place, pairs = str(found).strip(), 0, []
    while place < len(text):
        match = _PAIRS.match(text, place)
        if match is None:
            raise ValueError
        pairs.append(match[1])
        place = match.end()
    return bytes.fromhex("".join(pairs))


def _of_number(found: Any) -> bytes:
    return bytes([int(found, 0) if isinstance(found, str) else found])


def _of_text(found: Any) -> bytes:
    text, place, data = str(found), 0, b""
    for match in _ESCAPE.finditer(text):
        data += text[place : match.start()].encode() + (bytes.fromhex(match[1]) if match[1] else _CONTROLS[match[2]])
        place = match.end()
    return data + text[place:].encode()


# What may hold the bytes, the surest name first; a value may be anything in other tables.
DATA: dict[str, Callable[[Any], bytes]] = {
    "hex": _of_hex, "data": _of_hex, "bytes": _of_hex, "byte": _of_number, "text": _of_text, "char": _of_text,
    "value": _of_number,
}  # fmt: skip
SURE = tuple(name for name in DATA if name != "value")


def is_log(head: bytes) -> bool:
    """Return whether a file that begins like this is a log of bytes."""
    lines = head.removeprefix(b"\xef\xbb\xbf").decode("utf-8", errors="replace").splitlines()
    first = next((line for line in lines if line.strip() and not line.startswith(COMMENTS)), "")
    if first.startswith("{"):
        try:
            entry = parse_json(first)
        except ValueError:
            return False
        return _places(list(entry), SURE) is not None
    return any(_places(cells_of(first, separator), SURE) is not None for separator in SEPARATORS)


def log_pieces(file: Content) -> Pieces:
    """Read a log, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning; UTF-8 text.

    Yields
    ------
    dict of str to Characters
        By wire, in the order in which they occur; `ONE_WIRE` if the log names none. All characters of an entry have its
        time, in seconds; dates count from the first entry.

    Returns
    -------
    str
        That the last entry is left out, which is incomplete.

    Raises
    ------
    CaptureError
        If an entry cannot be read, or some name their wire and others do not.
    """
    is_json = _bare_head(file).lstrip().startswith("{")
    lines = _Lines(file, by_newline=is_json)
    groups: dict[str, list[tuple[float, bytes, bytes]]] = {}
    first: float | None = None
    size = 0  # bytes of entries that are held, about
    for entry in _json_entries(lines) if is_json else _table_entries(lines, file.name):
        try:
            if entry is None:
                raise ValueError
            at, is_date, unit, data = _parts_of(entry)
            if first is None:
                first = at if is_date or abs(at) >= LONG_AGO_S else 0.0
            wire = next((str(entry[key]) for key in entry if key.lower() in WIRES), ONE_WIRE)
            groups.setdefault(wire, []).append(((at - first) * unit, data, b""))
        except (ValueError, TypeError, KeyError, AttributeError, OverflowError):
            if lines.is_torn:
                if groups:
                    yield _characters_of(groups)
                    return "its last entry is incomplete"
                break
            wanted = "must have a time and bytes: time or timestamp, and hex, data, bytes, byte, value, text or char"
            found = f'holds "{lines.last.rstrip()[:60]}"'
            raise CaptureError(f"{file.name}: line {lines.number}", found, wanted) from None
        if ONE_WIRE in groups and len(groups) > 1:
            found, wanted = ("names a wire", "must name none") if wire else ("names no wire", "must name it")
            raise CaptureError(f"{file.name}: line {lines.number}", found, f"{wanted}, as the entries before it")
        size += len(lines.last)
        if size >= character_pieces.PIECE:
            yield _characters_of(groups)
            groups, size = {wire: [] for wire in groups}, 0
    if not groups:
        raise CaptureError(file.name, "holds no entry")
    yield _characters_of(groups)
    return ""


def _characters_of(groups: Mapping[str, list[tuple[float, bytes, bytes]]]) -> dict[str, Characters]:
    return {wire: Characters.from_groups(held) for wire, held in groups.items()}


class _Lines:
    """The lines of a file, with their ends.

    Parameters
    ----------
    file : Content
        At its beginning.
    by_newline : bool
        Whether nothing but a newline ends a line.

    Attributes
    ----------
    last : str
        The line that was read last.
    number : int
        Its number.
    """

    last: str
    number: int

    def __init__(self, file: Content, *, by_newline: bool) -> None:
        self.last, self.number = "", 0
        self._lines = _lines_of(file, by_newline=by_newline)
        self._next = next(self._lines, None)

    @property
    def is_torn(self) -> bool:
        """Whether the line that was read last is the last of the file, and nothing ends it."""
        return self._next is None and not self.last.endswith(("\n", "\r"))

    def __iter__(self) -> Iterator[str]:
        return self

    def __next__(self) -> str:
        if self._next is None:
            raise StopIteration
        self.last, self.number = self._next, self.number + 1
        self._next = next(self._lines, None)
        return self.last


def _lines_of(file: Content, *, by_newline: bool) -> Iterator[str]:
    """Yield the lines of a file, with their ends."""
    encoding = "utf-8-sig"
    for block in blocks_of(file, cut_at=b"\n"):
        text = block.decode(encoding, errors="replace")
        encoding = "utf-8"
        yield from _NEWLINE.findall(text) if by_newline else text.splitlines(keepends=True)


def _bare_head(file: Content) -> str:
    """Return how a file begins, as text."""
    return file.head.removeprefix(b"\xef\xbb\xbf").decode("utf-8", errors="replace")


def _parts_of(entry: Mapping[str, Any]) -> tuple[float, bool, float, bytes]:
    """Return the time of an entry, whether it is a date, its unit in seconds, and its bytes."""
    places = _places(list(entry), tuple(DATA))
    if places is None:
        raise ValueError
    time_key, data_key = places
    match = _TIME.fullmatch(time_key.strip())
    unit = UNITS[match[1].lower()] if match and match[1] else 1.0
    at, is_date = _moment(entry[time_key])
    return at, is_date, 1.0 if is_date else unit, DATA[data_key.strip().lower()](entry[data_key])


def _places(keys: Sequence[str], known: Sequence[str]) -> tuple[str, str] | None:
    """Return which key is the time and which holds the bytes, None unless there are both."""
    times = [key for key in keys if _TIME.fullmatch(key.strip())]
    data = [key for item in known for key in keys if key.strip().lower() == item]
    return (times[0], data[0]) if times and data else None


def _moment(found: Any) -> tuple[float, bool]:
    """Return a time in its unit, or a date or a time of day in seconds, and whether it is one of those."""
    if isinstance(found, (int, float)) and not isinstance(found, bool):
        return float(found), False
    text = str(found).strip()
    try:
        return float(text), False
    except ValueError:
        pass
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        of_day = time.fromisoformat(text)
        return of_day.hour * 3600 + of_day.minute * 60 + of_day.second + of_day.microsecond * 1e-6, True
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp(), True


def _json_entries(lines: _Lines) -> Iterator[Mapping[str, Any] | None]:
    for line in lines:
        if line.strip():
            try:
                entry = parse_json(line)
            except ValueError:
                entry = None
            yield entry if isinstance(entry, dict) else None


def _table_entries(lines: _Lines, name: str) -> Iterator[Mapping[str, Any] | None]:
    header = next((line for line in lines if line.strip() and not line.startswith(COMMENTS)), "")
    separator = max(SEPARATORS, key=header.count)
    names = cells_of(header, separator)
    if _places(names, tuple(DATA)) is None:
        wanted = "must name a time, and hex, data, bytes, byte, value, text or char"
        raise CaptureError(f"{name}: line {max(lines.number, 1)}", f'is "{header.strip()[:60]}"', wanted)
    rows = csv.reader(lines, delimiter=separator, skipinitialspace=True)
    try:
        for row in rows:
            if row and not row[0].startswith(COMMENTS):
                yield dict(zip(names, row, strict=True)) if len(row) == len(names) else None
    except csv.Error as error:
        if lines.is_torn:
            yield None
            return
        raise CaptureError(f"{name}: line {lines.number}", f"cannot be read: {error}") from None
