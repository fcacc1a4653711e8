"""What no sheet can hold: names and notes that would do something to a terminal, and numbers of too many digits."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import BaseModel

from larkreader.declare.common.mistakes import show
from larkreader.errors import Mistake, SheetError
from larkreader.harmless import harmless

LEAST, MOST = -(1 << 63), (1 << 64) - 1  # of whole numbers; TOML 1.0 asks for 64 bits, and fields have no more
SHOWN_AS_THEY_ARE = ("title", "unit", "note")


def controlling_texts(given: Any, where: str) -> Iterator[tuple[str, str]]:
    """Yield the names, units and notes that would do something to a terminal, each with its place."""
    if isinstance(given, BaseModel):
        given = dict(given)
    if isinstance(given, Mapping):
        for key, value in given.items():
            place = f"{where}.{key}" if where else str(key)
            for text in (key, value if key in SHOWN_AS_THEY_ARE else ""):
                if isinstance(text, str) and harmless(text) != text:
                    yield place, text
            yield from controlling_texts(value, place)
    elif isinstance(given, (list, tuple)):
        for number, item in enumerate(given):
            yield from controlling_texts(item, f"{where}[{number}]")


def controlling_mistakes(given: Any) -> list[Mistake]:
    """Return a mistake for each name, unit and note with control characters or marks of direction."""
    wanted = "must be without control characters, and marks of direction"
    return [Mistake(where, show(text), wanted) for where, text in controlling_texts(given, "")]


def refuse_large_numbers(given: Any, name: str) -> None:
    """Raise `SheetError` if 64 bits do not hold a whole number; it may be too long even to be written."""
    if large := list(_large_numbers(given, "")):
        raise SheetError(name, large)


def _large_numbers(given: Any, where: str) -> Iterator[Mistake]:
    if isinstance(given, Mapping):
        for key, value in given.items():
            yield from _large_numbers(value, f"{where}.{key}" if where else str(key))
    elif isinstance(given, (list, tuple)):
        for number, item in enumerate(given):
            yield from _large_numbers(item, f"{where}[{number}]")
    elif isinstance(given, int) and not LEAST <= given <= MOST:
        yield Mistake(where, f"a whole number of {given.bit_length():,} bits", "must fit into 64 bits")
