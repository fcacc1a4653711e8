"""Typed input as bytes to send: text with an ending, hexadecimal, a frame by its field values."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.slot import Slot
from larkreader.declare.run.exchange import bytes_of
from larkreader.errors import RequestError, nearest

ENDINGS: Mapping[str, bytes] = {"none": b"", "cr": b"\r", "lf": b"\n", "crlf": b"\r\n", "nul": b"\0"}


def text_of(typed: str, number: int, ending: str = "none") -> bytes:
    r"""Return the bytes of a text.

    Parameters
    ----------
    typed : str
        The text. ``\r \n \t \0 \e \\`` and ``\xHH`` stand for single bytes, ``{n}`` for `number`.
    number : int
        How often this has been sent, counted as the sender likes.
    ending : {"none", "cr", "lf", "crlf", "nul"}
        What is put behind it.

    Returns
    -------
    bytes
        UTF-8, but for the bytes that were written as ``\xHH``.

    Raises
    ------
    RequestError
        If a backslash is followed by something else.
    """
    try:
        return bytes_of(typed.replace("{n}", str(number))) + ENDINGS[ending]
    except ValueError as error:
        found, _, wanted = str(error).partition(", which ")
        raise RequestError("text", found, wanted) from None


def hex_of(typed: str) -> bytes:
    """Return the bytes that are written in hexadecimal, with or without white space, commas and ``0x`` between."""
    digits = re.sub(r"0[xX]|[\s,;:_-]", "", typed)
    try:
        return bytes.fromhex(digits)
    except ValueError:
        raise RequestError("hex", f'is "{typed}"', 'must be pairs of hexadecimal digits, as in "D7 4B"') from None


def frame_of(layout: FrameLayout, typed: Sequence[str], number: int) -> bytes:
    """Return a frame from its fields, each written as ``name=value``; a counter that is left out is `number`.

    Parameters
    ----------
    layout : FrameLayout
        Its layout.
    typed : sequence of str
        Numbers as Python writes them (``12.5``, ``0x21``), names of values, and lists joined by commas.
    number : int
        How often this has been sent.

    Returns
    -------
    bytes
        As they travel, stuffed and delimited.

    Raises
    ------
    RequestError
        If a field is not known, or a value does not fit; or if bytes alone cannot delimit such a frame.
    """
    if (opened_by := layout.boundary.opened_by) in ("break", "address-mark"):
        found = f"begins with {'a break' if opened_by == 'break' else 'an address mark'}"
        raise RequestError(f"frame {layout.key}", found, "must be delimited by bytes, to be sent by hand")
    values: dict[str, Any] = {}
    for item in typed:
        name, equals, value = item.partition("=")
        if not equals or name not in layout.slot:
            advice = nearest(name, list(layout.slot))
            raise RequestError(f'field "{item}"', f"is not a value for a field of {layout.key}", "", advice)
        values[name] = _values(layout.slot[name], value)
    counter = layout.counter
    if counter is not None and counter.name not in values:
        values[counter.name] = number % counter.cycle
    return layout.as_sent(layout.encode(values))


def _values(slot: Slot, typed: str) -> Any:
    """Return the value that is written for a field; of an array all of them."""
    assert slot.field is not None
    if slot.kind in ("text", "word"):
        return typed
    items = [_value(item) for item in typed.split(",")] if typed else []
    return items if slot.field.repeat != 1 or slot.stride else items[0] if items else 0


def groups_of(characters: Characters) -> Iterator[tuple[float, bytes]]:
    """Yield what arrived together, with the seconds since the first: the way to send a recording at its own pace.

    Parameters
    ----------
    characters : Characters
        With times; characters of one time arrived together.

    Yields
    ------
    tuple of float and bytes
    """
    values, times = characters.value.astype(np.uint8), characters.begin_s
    begins = np.flatnonzero(np.diff(times, prepend=-np.inf)).tolist()
    for low, high in zip(begins, [*begins[1:], len(values)], strict=True):
        yield float(times[low] - times[0]), values[low:high].tobytes()


def _value(text: str) -> int | float | str:
    for kind in (lambda item: int(item, 0), float):
        try:
            number: int | float = kind(text)
            return number
        except ValueError:
            continue
    return text
