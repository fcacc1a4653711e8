"""What registers hold, as a debugger or a log of writes gives it: ``register,value`` in a table, or JSON."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

from larkreader.errors import CaptureError, CaptureFileError
from larkreader.harmless import harmless
from larkreader.sources import Source, path_of

from .json_text import parse_json


def read_register_dump(path: Source) -> dict[str, int]:
    """Read what registers hold.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A table with the columns ``register`` and ``value``, or JSON: one object with a value for each name, or a list
        of objects with ``register`` and ``value``. Values are numbers, or text as in ``"0x1A"``.

    Returns
    -------
    dict of str to int
        By name; of a register that stands there several times, what it held last.

    Raises
    ------
    CaptureError
        If it is neither, or a value is not a number.
    CaptureFileError
        If it cannot be read.
    """
    path = path_of(path)
    name = str(path)
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except OSError as error:
        raise CaptureFileError(name, f"cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise CaptureError(name, f"is not UTF-8 text at byte {error.start}") from None
    rows = _of_json(text, name) if text.lstrip()[:1] in ("{", "[") else _of_table(text, name)
    return {harmless(register, is_name=True): _number(value, f"{name}: {register}") for register, value in rows}


def _of_json(text: str, name: str) -> list[tuple[str, Any]]:
    try:
        document = parse_json(text)
    except json.JSONDecodeError as error:
        raise CaptureError(f"{name}: line {error.lineno}", f"is not JSON: {error.msg}") from None
    except ValueError as error:
        raise CaptureError(name, f"cannot be read as JSON: {error}") from None
    if isinstance(document, dict):
        return list(document.items())
    if not all(isinstance(item, dict) and {"register", "value"} <= item.keys() for item in document):
        raise CaptureError(name, "is a list of something else", 'must be objects with "register" and "value"')
    return [(str(item["register"]), item["value"]) for item in document]


def _of_table(text: str, name: str) -> list[tuple[str, Any]]:
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    try:
        rows = list(csv.reader(io.StringIO("\n".join(lines)), skipinitialspace=True))
    except csv.Error as error:
        raise CaptureError(name, f"cannot be read as a table: {error}") from None
    heading = [cell.strip().lower() for cell in rows[0]] if rows else []
    if not {"register", "value"} <= set(heading):
        found = f"has the columns {', '.join(heading)}" if heading else "is empty"
        raise CaptureError(name, found, "must have register,value")
    places = heading.index("register"), heading.index("value")
    for number, row in enumerate(rows[1:], 2):
        if len(row) <= max(places):
            raise CaptureError(f"{name}: row {number}", f"has {len(row)} cells", f"must have {len(heading)}")
    return [(row[places[0]].strip(), row[places[1]].strip()) for row in rows[1:]]


def _number(value: Any, where: str) -> int:
    try:
        number = int(value, 0) if isinstance(value, str) else value
    except ValueError:
        number = None
    if isinstance(number, bool) or not isinstance(number, int) or number < 0:
        raise CaptureError(where, f"has {json.dumps(value)}", "must be a whole number, as in 26 or 0x1A")
    return number
