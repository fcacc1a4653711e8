"""Files of characters, read some lines or bytes at a time, so that a file of any size is never whole in memory."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import replace

from larkreader.capture.characters import Characters
from larkreader.declare.run.capture_form import CaptureForm

from .content import Content

PIECE = 1 << 22  # bytes of a file that make a piece
ONE_WIRE = ""  # the wire of a file that names none

Pieces = Generator[dict[str, Characters], None, str]
"""The characters by wire, piece by piece; in the end how the file breaks off, or nothing."""


def blocks_of(file: Content, *, cut_at: bytes = b"") -> Iterator[bytes]:
    """Yield the rest of a file, some bytes at a time; but for the last, each block ends with one of the bytes.

    Parameters
    ----------
    file : Content
        The file.
    cut_at : bytes
        Behind which bytes a block may end; anywhere by default.
    """
    tail = bytearray()
    while data := file.read(PIECE):
        cut = max(data.rfind(byte) for byte in cut_at) + 1 if cut_at else len(data)
        if cut:
            yield bytes(tail) + data[:cut]
            tail = bytearray(data[cut:])
        else:
            tail += data
    if tail:
        yield bytes(tail)


def closed(
    read: Callable[[Content, CaptureForm], Pieces],
) -> Callable[[Content, CaptureForm], Iterator[dict[str, Characters]]]:
    """Make pieces of which the last has every wire, and how the file breaks off.

    Parameters
    ----------
    read : callable
        The pieces.
    """

    def pieces(file: Content, form: CaptureForm) -> Iterator[dict[str, Characters]]:
        found: Pieces = read(file, form)
        last: dict[str, Characters] = {}
        seen: dict[str, None] = {}
        while True:
            try:
                following = next(found)
            except StopIteration as end:
                truncated = end.value or file.truncated
                break
            if last:
                yield last
            last = following
            seen |= dict.fromkeys(following)
        nothing = Characters.from_bytes(b"")
        yield {wire: replace(last.get(wire, nothing), truncated=truncated) for wire in seen}

    return pieces
