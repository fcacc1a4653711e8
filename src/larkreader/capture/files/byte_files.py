"""Files that hold the bytes of one wire without times: bare, written in hexadecimal, with error marks, in words."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.marks import MarkReader
from larkreader.declare.run.capture_form import CaptureForm, StatusWord
from larkreader.errors import CaptureError
from larkreader.sources import Target, opened_to_write

from .hex_text import read_hex

_TEXT = re.compile(rb"[\t\n\r -~]*")
_DIGITS = re.compile(rb"[0-9A-Fa-f]+\Z")
_WORD = re.compile(r"(?:0[xX])?([0-9A-Fa-f]+)")


def characters_of(data: bytes, kind: str, form: CaptureForm, name: str) -> Characters:
    """Make characters of the content of a file.

    Parameters
    ----------
    data : bytes
        The content.
    kind : {"bytes", "hex", "marked", "words"}
        What it is.
    form : CaptureForm
        What marks mean and where the bits of words lie.
    name : str
        What to call the file in messages.

    Returns
    -------
    Characters

    Raises
    ------
    CaptureError
        If it is empty, or not of this kind.
    """
    if kind == "marked":
        result = _read_marked(data, form)
    elif kind == "words":
        result = _read_words(data, form.word, name)
    elif kind == "hex":
        whole, truncated = whole_pairs(data)
        result = Characters.from_bytes(read_hex(whole.decode("utf-8-sig", errors="replace"), name))
        result = replace(result, truncated=truncated)
    else:
        result = Characters.from_bytes(data)
    if not len(result):
        raise CaptureError(name, "is empty", advice="Was anything recorded?")
    return result


def whole_pairs(data: bytes) -> tuple[bytes, str]:
    """Leave out half a byte at the end of hexadecimal text that no end of line closes; say so."""
    digits = _DIGITS.search(data)
    if digits is None or len(digits[0]) % 2 == 0:
        return data, ""
    return data[:-1], "it ends within a byte"


def write_bytes(path: Target, characters: Characters) -> None:
    """Write the values of characters, a byte each.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    characters : Characters
        What to write; of 8 data bits at the most.

    Raises
    ------
    CaptureError
        If a value does not fit into a byte.
    """
    if len(characters) and characters.value.max() > 0xFF:
        raise CaptureError(str(path), "would hold characters of nine bits", "must have 8 data bits at most")
    with opened_to_write(path) as file:
        file.write(characters.value.astype(np.uint8).tobytes())


def _read_marked(data: bytes, form: CaptureForm) -> Characters:
    reader = MarkReader(Fault.FRAMING if form.mark == "framing" else Fault.PARITY)
    values, faults = reader.feed(data)
    result = Characters.from_bytes(values)
    truncated = f"it ends within a mark, {reader.held.hex(' ').upper()}" if reader.held else ""
    return replace(result, faults=np.frombuffer(faults, np.uint8), truncated=truncated)


def _read_words(data: bytes, form: StatusWord, name: str) -> Characters:
    """Take words apart; they may be written in hexadecimal, too."""
    truncated = ""
    if _TEXT.fullmatch(data):
        texts = re.split(r"[\s,;]+", data.decode("ascii").strip())
        matches = [_WORD.fullmatch(text) for text in texts if text]
        wrong = next((at for at, match in enumerate(matches) if match is None or len(match[1]) > form.bits // 4), None)
        if wrong is not None:
            found, wanted = f'is "{texts[wrong][:40]}"', f"must be a word of {form.bits} bits in hexadecimal"
            raise CaptureError(f"{name}: word {wrong}", found, wanted)
        words = np.array([int(match[1], 16) for match in matches if match], dtype=np.uint32)
    else:
        size = form.bits // 8
        if len(data) % size:
            truncated = f"it ends within a word of {size} bytes"
        kind = f"{'<' if form.order == 'little' else '>'}u{size}"
        words = np.frombuffer(data[: len(data) // size * size], dtype=kind).astype(np.uint32)
    if form.valid is not None:
        words = words[words >> form.valid & 1 == 1]
    low, count = form.data
    faults = np.zeros(len(words), dtype=np.uint8)
    for fault, bit in form.flags.items():
        faults[words >> bit & 1 == 1] |= np.uint8(Fault[fault.upper()])
    value = (words >> low & ((1 << count) - 1)).astype(np.uint16)
    untimed = np.full(len(words), np.nan)
    return Characters(untimed, untimed.copy(), value, faults, np.empty(0), has_line=False, truncated=truncated)
