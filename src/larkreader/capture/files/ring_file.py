"""A ring buffer's memory, as a debugger wrote it to a file."""

from __future__ import annotations

from typing import Literal

from larkreader.capture.ring import RingMemory
from larkreader.sources import Source, path_of

from .content import file_errors
from .hex_text import is_hex, read_hex

HEAD = 4096  # bytes of a file by which its kind is found


def open_ring(
    path: Source, write_index: int, count: int | None = None, *, kind: Literal["bytes", "hex"] | None = None
) -> RingMemory:
    """Read the memory of a ring buffer, as a debugger wrote it to a file.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of its bytes, from the lowest address on, or of their dump in hexadecimal.
    write_index : int
        Where the next character would be written.
    count : int, optional
        How many characters count; by default all of them.
    kind : {"bytes", "hex"}, optional
        Which of the two the file holds; found from its content by default.

    Returns
    -------
    RingMemory
        The memory and where it was written last.

    Raises
    ------
    CaptureError
        If the file cannot be read, or its dump holds something else than bytes.
    RequestError
        If the index or the count is not of it, or it is empty.
    """
    path = path_of(path)
    with file_errors(path):
        memory = path.read_bytes()
    if kind == "hex" or (kind is None and _is_dump(memory)):
        memory = read_hex(memory.decode("utf-8-sig", errors="replace"), str(path))
    return RingMemory(memory, write_index, count)


def _is_dump(memory: bytes) -> bool:
    """Return whether a file holds a dump rather than the bytes themselves."""
    try:
        return is_hex(memory[:HEAD].decode("ascii"))
    except UnicodeDecodeError:
        return False
