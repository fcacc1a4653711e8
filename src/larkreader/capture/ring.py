"""The memory of a ring buffer, as a debugger shows it, in the order in which it was written."""

from __future__ import annotations

from dataclasses import dataclass

from larkreader.errors import RequestError


@dataclass(frozen=True)
class RingMemory:
    r"""What the memory of a ring buffer held when it was looked at.

    Parameters
    ----------
    memory : bytes
        All of it, from its lowest address on.
    write_index : int
        Where the next character would be written, 0 to the size less 1.
    count : int, optional
        How many characters it holds that count; by default all. Those behind are older, and already read.

    Raises
    ------
    RequestError
        If the memory is empty, or an index or a count is not of it.

    Examples
    --------
    >>> lr.capture.RingMemory(b"w 12.5\nflo", write_index=7).unrolled()
    b'flow 12.5\n'
    """

    memory: bytes
    write_index: int
    count: int | None = None

    def __post_init__(self) -> None:
        size = len(self.memory)
        if not size:
            raise RequestError("ring buffer", "has no memory")
        if not 0 <= self.write_index < size:
            raise RequestError("write index", f"is {self.write_index}", f"must be 0 to {size - 1}, inside the memory")
        if self.count is not None and not 0 <= self.count <= size:
            raise RequestError("count", f"is {self.count}", f"must be 0 to {size}, the size of the memory")

    @property
    def held(self) -> int:
        """How many characters count."""
        return len(self.memory) if self.count is None else self.count

    @property
    def oldest(self) -> int:
        """Index of the oldest character that counts; the write index if there is none."""
        return (self.write_index - self.held) % len(self.memory)

    @property
    def is_wrapped(self) -> bool:
        """Whether what counts runs over the end of the memory and goes on at its beginning."""
        return self.oldest + self.held > len(self.memory)

    def unrolled(self) -> bytes:
        """Return what counts, the oldest character first."""
        twice = self.memory + self.memory
        return twice[self.oldest : self.oldest + self.held]
