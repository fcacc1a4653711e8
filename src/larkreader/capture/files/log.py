r"""Logs of bytes with times that a program wrote: a table in text, or JSON Lines.

The time is called ``time`` or ``timestamp``, with a unit if it is not seconds, as in ``time_ms``; it is a number, or a
date with the time of day in ISO 8601. What was received is called ``hex``, ``data`` or ``bytes`` (pairs of hexadecimal
digits, or a list of numbers), ``byte`` or ``value`` (a number, ``0x`` for hexadecimal) or ``text``, ``char`` (with
``\r \n \t \\ \xHH`` for single bytes). ``wire``, ``direction`` or ``channel`` says on which wire, if there are several.
Further columns are passed over.
"""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, time
from typing import Any

from larkreader.capture.characters import Characters
from larkreader.errors import CaptureError

from .csv_form import COMMENTS, SEPARATORS, UNITS, cells_of

ONE_WIRE = ""  # the wire of a log that names none
LONG_AGO_S = 1e8  # from which on a time in seconds is a date, counted from 1970
WIRES = ("wire", "direction", "dir", "channel", "port")
_TIME = re.compile(rf"(?:time(?:stamp)?|t)(?:[ _]*[\[(]?({'|'.join(UNITS)})[\])]?)?", re.IGNORECASE)
_ESCAPE = re.compile(r"\\(?:x([0-9A-Fa-f]{2})|([rnt0\\]))")
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
            entry = json.loads(first)
        except ValueError:
            return False
        return _places(list(entry), SURE) is not None
    return any(_places(cells_of(first, separator), SURE) is not None for separator in SEPARATORS)


def read_log(data: bytes, name: str) -> dict[str, Characters]:
    """Read a log.

    Parameters
    ----------
    data : bytes
        The content of a file, UTF-8 text.
    name : str
        What to call it in messages.

    Returns
    -------
    dict of str to Characters
        By wire, in the order in which they occur; `ONE_WIRE` if the log names none. All characters of an entry have its
        time, in seconds; dates count from the first entry.

    Raises
    ------
    CaptureError
        If an entry cannot be read. One that is cut off at the end of the file is left out.
    """
    text = data.decode("utf-8-sig", errors="replace")
    groups: dict[str, list[tuple[float, bytes, bytes]]] = {}
    first: float | None = None
    truncated = ""
    is_torn = not text.endswith(("\n", "\r"))
    entries = _json_entries(text) if text.lstrip().startswith("{") else _table_entries(text, name)
    last_line = text.rstrip("\r\n").count("\n") + 1
    for number, entry in entries:
        try:
            if entry is None:
                raise ValueError
            at, is_date, unit, data = _parts_of(entry)
            if first is None:
                first = at if is_date or abs(at) >= LONG_AGO_S else 0.0
            wire = next((str(entry[key]) for key in entry if key.lower() in WIRES), ONE_WIRE)
            groups.setdefault(wire, []).append(((at - first) * unit, data, b""))
        except (ValueError, TypeError, KeyError, AttributeError, OverflowError):
            if is_torn and number == last_line:
                truncated = "its last entry is incomplete"
                continue
            shown = text.splitlines()[number - 1][:60]
            wanted = "must have a time and bytes: time or timestamp, and hex, data, bytes, byte, value, text or char"
            raise CaptureError(f"{name}: line {number}", f'holds "{shown}"', wanted) from None
    if not groups:
        raise CaptureError(name, "holds no entry")
    return {wire: replace(Characters.from_groups(result), truncated=truncated) for wire, result in groups.items()}


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
    return moment.timestamp(), True


def _json_entries(text: str) -> Iterator[tuple[int, Mapping[str, Any] | None]]:
    for number, line in enumerate(text.split("\n"), 1):
        if line.strip():
            try:
                entry = json.loads(line)
            except ValueError:
                entry = None
            yield number, entry if isinstance(entry, dict) else None


def _table_entries(text: str, name: str) -> Iterator[tuple[int, Mapping[str, Any] | None]]:
    lines = text.splitlines(keepends=True)
    begin = next((place for place, line in enumerate(lines) if line.strip() and not line.startswith(COMMENTS)), 0)
    header = lines[begin] if lines else ""
    separator = max(SEPARATORS, key=header.count)
    names = cells_of(header, separator)
    if _places(names, tuple(DATA)) is None:
        wanted = "must name a time, and hex, data, bytes, byte, value, text or char"
        raise CaptureError(f"{name}: line {begin + 1}", f'is "{header.strip()[:60]}"', wanted)
    rows = csv.reader(lines[begin + 1 :], delimiter=separator, skipinitialspace=True)
    try:
        for row in rows:
            if row and not row[0].startswith(COMMENTS):
                yield begin + 1 + rows.line_num, dict(zip(names, row, strict=True)) if len(row) == len(names) else None
    except csv.Error as error:
        raise CaptureError(f"{name}: line {begin + 1 + rows.line_num}", f"cannot be read: {error}") from None
