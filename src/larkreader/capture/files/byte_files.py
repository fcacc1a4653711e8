"""Files that hold the bytes of one wire without times: bare, written in hexadecimal, with error marks, in words."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.marks import MarkReader
from larkreader.declare.run.capture_form import CaptureForm, StatusWord
from larkreader.errors import CaptureError
from larkreader.sources import Target, opened_to_write

from .character_pieces import ONE_WIRE, Pieces, blocks_of
from .content import Content
from .hex_text import has_line_without_offset, read_bare_hex, read_hex

Words = npt.NDArray[np.uint32]

_TEXT = re.compile(rb"[\t\n\r -~]*")
_DIGITS = re.compile(rb"[0-9A-Fa-f]+\Z")
_WORD = re.compile(r"(?:0[xX])?([0-9A-Fa-f]+)")


def byte_pieces(file: Content, _: CaptureForm) -> Pieces:
    """Read bytes as they were received.

    Parameters
    ----------
    file : Content
        At its beginning.

    Yields
    ------
    dict of str to Characters
        The characters of `ONE_WIRE`, without times.

    Raises
    ------
    CaptureError
        If the file is empty.
    """
    yield from _not_empty(file, (Characters.from_bytes(block) for block in blocks_of(file)))
    return ""


def hex_pieces(file: Content, _: CaptureForm) -> Pieces:
    """Read bytes that are written as text; see `read_hex`. A dump with offsets, or of C arrays, is one piece.

    Parameters, yields and raises as `byte_pieces`; the file may also hold something else.
    """
    truncated = ""

    def pieces() -> Iterator[Characters]:
        nonlocal truncated
        if not _is_bare(file):
            whole, truncated = whole_pairs(file.readall())
            yield Characters.from_bytes(read_hex(whole.decode("utf-8-sig", errors="replace"), file.name))
            return
        number, encoding = 1, "utf-8-sig"
        for block in blocks_of(file, cut_at=b"\n"):
            whole, truncated = whole_pairs(block)
            text = whole.decode(encoding, errors="replace")
            encoding = "utf-8"
            yield Characters.from_bytes(read_bare_hex(text, file.name, number))
            number += len(text.splitlines())

    yield from _not_empty(file, pieces())
    return truncated


def marked_pieces(file: Content, form: CaptureForm) -> Pieces:
    """Read bytes among which a terminal driver has put error marks.

    Parameters, yields and raises as `byte_pieces`.

    Returns
    -------
    str
        That the last mark is not whole.
    """
    reader = MarkReader(Fault.FRAMING if form.mark == "framing" else Fault.PARITY)

    def pieces() -> Iterator[Characters]:
        for block in blocks_of(file):
            values, faults = reader.feed(block)
            yield replace(Characters.from_bytes(values), faults=np.frombuffer(faults, np.uint8))

    yield from _not_empty(file, pieces())
    return f"it ends within a mark, {reader.held.hex(' ').upper()}" if reader.held else ""


def word_pieces(file: Content, form: CaptureForm) -> Pieces:
    """Read words, each of which holds a character and flags; they may be written in hexadecimal, too.

    Parameters, yields and raises as `byte_pieces`; a word may also be something else.

    Returns
    -------
    str
        That the last word is not whole.
    """
    word, truncated = form.word, ""
    size = word.bits // 8
    is_text = all(_TEXT.fullmatch(block) for block in blocks_of(file))
    file.seek(0)

    def pieces() -> Iterator[Characters]:
        nonlocal truncated
        if is_text:
            count = 0
            for block in blocks_of(file, cut_at=b"\n\r\t ,;"):
                words = _written_words(block, word, file.name, count)
                count += len(words)
                yield _characters_of(words, word)
            return
        rest = b""
        for block in blocks_of(file):
            data = rest + block
            whole = len(data) // size * size
            rest = data[whole:]
            kind = f"{'<' if word.order == 'little' else '>'}u{size}"
            yield _characters_of(np.frombuffer(data[:whole], dtype=kind).astype(np.uint32), word)
        truncated = f"it ends within a word of {size} bytes" if rest else ""

    yield from _not_empty(file, pieces())
    return truncated


def _not_empty(file: Content, pieces: Iterator[Characters]) -> Iterator[dict[str, Characters]]:
    """Yield pieces of the only wire; raise `CaptureError` if they hold no character."""
    is_empty = True
    for piece in pieces:
        is_empty = is_empty and not len(piece)
        yield {ONE_WIRE: piece}
    if is_empty:
        raise CaptureError(file.name, "is empty", advice="Was anything recorded?")


def _is_bare(file: Content) -> bool:
    """Return whether a text of bytes surely has no offsets and no C arrays; go back to its beginning."""
    looks_bare = False
    for block in blocks_of(file, cut_at=b"\n"):
        if b"{" in block:
            looks_bare = False
            break
        looks_bare = looks_bare or has_line_without_offset(block.removeprefix(b"\xef\xbb\xbf").decode("latin-1"))
    file.seek(0)
    return looks_bare


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
    write_byte_pieces(path, [characters])


def write_byte_pieces(path: Target, pieces: Iterable[Characters]) -> None:
    """Write the values of characters piece by piece; see `write_bytes`.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file.
    pieces : iterable of Characters
        What to write.
    """
    with opened_to_write(path) as file:
        for characters in pieces:
            if len(characters) and characters.value.max() > 0xFF:
                raise CaptureError(str(path), "would hold characters of nine bits", "must have 8 data bits at most")
            file.write(characters.value.astype(np.uint8).tobytes())


def _written_words(data: bytes, form: StatusWord, name: str, before: int) -> Words:
    """Return words that are written in hexadecimal, so many behind the first."""
    texts = [text for text in re.split(r"[\s,;]+", data.decode("ascii")) if text]
    matches = [_WORD.fullmatch(text) for text in texts]
    wrong = next((at for at, match in enumerate(matches) if match is None or len(match[1]) > form.bits // 4), None)
    if wrong is not None:
        found, wanted = f'is "{texts[wrong][:40]}"', f"must be a word of {form.bits} bits in hexadecimal"
        raise CaptureError(f"{name}: word {before + wrong}", found, wanted)
    return np.array([int(match[1], 16) for match in matches if match], dtype=np.uint32)


def _characters_of(words: Words, form: StatusWord) -> Characters:
    """Take words apart."""
    if form.valid is not None:
        words = words[words >> form.valid & 1 == 1]
    low, count = form.data
    faults = np.zeros(len(words), dtype=np.uint8)
    for fault, bit in form.flags.items():
        faults[words >> bit & 1 == 1] |= np.uint8(Fault[fault.upper()])
    value = (words >> low & ((1 << count) - 1)).astype(np.uint16)
    untimed = np.full(len(words), np.nan)
    return Characters(untimed, untimed.copy(), value, faults, np.empty(0), has_line=False)
