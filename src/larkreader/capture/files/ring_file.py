"""A ring buffer's memory, as a debugger wrote it to a file."""

from __future__ import annotations

from larkreader.capture.ring import RingMemory
from larkreader.sources import Source, path_of

from .content import file_errors


def open_ring(path: Source, write_index: int, count: int | None = None) -> RingMemory:
    """Read the memory of a ring buffer, as a debugger wrote it to a file.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        A file of its bytes, from the lowest address on.
    write_index : int
        Where the next character would be written.
    count : int, optional
        How many characters count; by default all of them.

    Returns
    -------
    RingMemory
        The memory and where it was written last.

    Raises
    ------
    CaptureFileError
        If the file cannot be read.
    RequestError
        If the index or the count is not of it, or it is empty.
    """
    path = path_of(path)
    with file_errors(path):
        memory = path.read_bytes()
    return RingMemory(memory, write_index, count)
