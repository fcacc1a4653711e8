"""Bytes on their way into frames, with what is known of each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.errors import RequestError

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Times = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Stream:
    """Bytes on their way into frames.

    `begin_s` and `end_s` are when each began and ended, where known. `bad`, `breaks` and `addresses` are the
    numbers of those with a fault of their own, of breaks, and of those marked as addresses; None where unknown.
    """

    value: Bytes
    begin_s: Times | None = None
    end_s: Times | None = None
    bad: Places | None = None
    breaks: Places | None = None
    addresses: Places | None = None

    @classmethod
    def of(cls, data: bytes | Bytes | Characters) -> Stream:
        """Return the bytes of whatever holds some."""
        if not isinstance(data, Characters):
            return cls(bytes_of(data))
        return cls(
            bytes_of(data),
            data.begin_s,
            data.end_s,
            np.flatnonzero(data.faults),
            np.flatnonzero(data.faults & np.uint8(Fault.BREAK)),
            None if data.address_mark is None else np.flatnonzero(data.address_mark),
        )

    def followed_by(self, new: Stream) -> Stream:
        """Return one stretch of bytes behind the other."""
        size = len(self.value)
        if not size:
            return new
        if not len(new.value):
            return self
        return Stream(
            np.concatenate([self.value, new.value]),
            _joined_times(self, new, "begin_s"),
            _joined_times(self, new, "end_s"),
            _joined_places(self, new, "bad"),
            _joined_places(self, new, "breaks"),
            _joined_places(self, new, "addresses"),
        )

    def between(self, first: int, end: int) -> Stream:
        """Return a stretch of it."""
        return Stream(
            self.value[first:end],
            None if self.begin_s is None else self.begin_s[first:end],
            None if self.end_s is None else self.end_s[first:end],
            _places_between(self.bad, first, end),
            _places_between(self.breaks, first, end),
            _places_between(self.addresses, first, end),
        )

    def behind(self, done: int) -> Stream:
        """Return what lies behind the first `done` bytes, without keeping the others alive."""
        rest = self.between(done, len(self.value))
        return Stream(
            rest.value.copy(),
            None if rest.begin_s is None else rest.begin_s.copy(),
            None if rest.end_s is None else rest.end_s.copy(),
            rest.bad,
            rest.breaks,
            rest.addresses,
        )


def bytes_of(data: bytes | Bytes | Characters) -> Bytes:
    """Return bytes as an array.

    Raises
    ------
    RequestError
        If characters hold more than eight bits, or the data are not bytes.
    """
    if isinstance(data, Characters):
        if len(data) and data.value.max() > 0xFF:
            place = int(np.argmax(data.value > 0xFF))
            raise RequestError(
                f"character {place}",
                f"is 0x{data.value[place]:X}",
                "frames are cut from bytes, of 8 data bits at most",
            )
        return data.value.astype(np.uint8)
    if isinstance(data, (bytes, bytearray, memoryview)):
        return np.frombuffer(data, dtype=np.uint8)
    array = np.asarray(data)
    if array.dtype != np.uint8 or array.ndim != 1:
        found = f"is {array.dtype} of shape {array.shape}"
        raise RequestError("data", found, "must be bytes, a uint8 array of one dimension, or Characters")
    return np.ascontiguousarray(array)


def _joined_times(held: Stream, new: Stream, name: str) -> Times | None:
    parts: list[Times | None] = [getattr(held, name), getattr(new, name)]
    if all(part is None for part in parts):
        return None
    sizes = len(held.value), len(new.value)
    filled = [np.full(size, np.nan) if part is None else part for part, size in zip(parts, sizes, strict=True)]
    return np.concatenate(filled)


def _joined_places(held: Stream, new: Stream, name: str) -> Places | None:
    before: Places | None = getattr(held, name)
    behind: Places | None = getattr(new, name)
    if before is None and behind is None:
        return None
    nothing = np.empty(0, dtype=np.int64)
    first = nothing if before is None else before
    return np.concatenate([first, (nothing if behind is None else behind) + len(held.value)])


def _places_between(places: Places | None, first: int, end: int) -> Places | None:
    return None if places is None else places[slice(*np.searchsorted(places, [first, end]))] - first
