"""A VCD file in blocks of whole words, of a size that stays in the processor's cache."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from larkreader.errors import CaptureError

BLOCK = 1 << 19  # bytes read at once, so that what is made of them stays in the processor's cache
LONGEST_WORD = 4096  # bytes that a vector's value may have
LARGEST_WORD = 1 << 24  # bytes without white space after which a file is refused


class Words(Protocol):
    """What words are read from."""

    name: str

    def read(self, size: int, /) -> bytes:
        """Return the next bytes; none at the end."""
        ...

    def tell(self) -> int:
        """Return the place."""
        ...


class VcdBlocks:
    """The rest of a file in pieces that end at white space and never between a vector and its code.

    A file whose end is filled with zero bytes, as a crash leaves it, ends before them, and `truncated` says so.

    Parameters
    ----------
    file : Words
        Behind its header.
    """

    truncated: str

    def __init__(self, file: Words) -> None:
        self._file, self._tail = file, b""
        self.truncated = ""

    @property
    def place(self) -> int:
        """Where in the file the next piece begins."""
        return self._file.tell() - len(self._tail)

    def __iter__(self) -> Iterator[bytes]:
        tail = self._tail
        while piece := self._file.read(BLOCK):
            zero = piece.find(b"\0")
            if zero >= 0:
                if text := tail + piece[:zero]:
                    yield text
                self.truncated = f"it ends with {self._zeros(piece[zero:]):,} zero bytes"
                return
            text = tail + piece
            if len(tail) > LARGEST_WORD:
                found = (
                    f'has a word of more than {LARGEST_WORD:,} bytes, which begins with "{tail[:16].decode("latin-1")}"'
                )
                raise CaptureError(self._file.name, found)
            cut = text.rfind(b"\n") + 1 or max(text.rfind(b" "), text.rfind(b"\t")) + 1
            last = text[max(0, cut - LONGEST_WORD) : cut].rsplit(None, 1)
            if last and last[-1][:1] in b"bBrRsS":  # its code may come next
                cut = text.rfind(last[-1], 0, cut)
            tail = self._tail = text[cut:]
            if cut:
                yield text[:cut]
        self._tail = b""
        if tail:
            yield tail

    def _zeros(self, piece: bytes) -> int:
        """Read the zero bytes up to the end of the file, and return how many they are."""
        count = 0
        while piece:
            if piece.count(b"\0") != len(piece):
                found = "has zero bytes, and text behind them"
                raise CaptureError(self._file.name, found, "must be text", "Copy the file again")
            count += len(piece)
            piece = self._file.read(BLOCK)
        return count
