"""Frames from bytes that come in pieces, however they are cut: sans I/O, in bounded memory.

What comes out is what `read_frames` gives for the whole, a little later than it came in: a frame with a right checksum
as soon as it is whole, any other as soon as nothing that may follow could change what it is. Held back are at most the
bytes of two frames and a marker.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.layout import FrameLayout
from larkreader.errors import RequestError

from .frame_columns import Frames
from .frames import Begun, cut_frames
from .search import check_shared, is_delimited
from .stream import Bytes, Stream


class LayoutsReader:
    """Reads the frames of several layouts from one wire, piece by piece.

    Parameters
    ----------
    layouts : sequence of FrameLayout
        What may travel on the wire, as in `read_layouts`.

    Raises
    ------
    RequestError
        If there is no layout, or the layouts cannot share a wire.
    """

    def __init__(self, layouts: Sequence[FrameLayout]) -> None:
        if not layouts:
            raise RequestError("layouts", "are none", "must be one at least")
        check_shared(layouts)
        self._layouts = layouts
        self._held = Stream(np.empty(0, np.uint8))
        self._done = 0
        self._begun = Begun()
        self._wanted = 1
        self._is_closed = False

    def feed(self, data: bytes | Bytes | Characters) -> Mapping[str, Frames]:
        """Take in what came, and return the frames that are certain now.

        Parameters
        ----------
        data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
            Of any length, nothing too.

        Returns
        -------
        mapping of str to Frames
            By the layouts' keys; offsets count from the first byte ever fed. All share ``skipped``.

        Raises
        ------
        RequestError
            As `read_frames`; or if the reader is closed.
        """
        if self._is_closed:
            raise RequestError("reader", "is closed", "takes nothing more", "Make a new one")
        return self._read(self._held.followed_by(Stream.of(data)), last=False)

    def close(self) -> Mapping[str, Frames]:
        """Return the rest, now that nothing more comes. Closing once more returns nothing more."""
        frames = self._read(self._held, last=True)
        self._is_closed = True
        return frames

    def _read(self, stream: Stream, *, last: bool) -> Mapping[str, Frames]:
        if not last and len(stream.value) < self._wanted:  # nothing could be certain that was not so before
            self._held = stream
            empty = Stream(np.empty(0, np.uint8))
            return cut_frames(empty, self._layouts, Begun(), last=False).frames
        cut = cut_frames(stream, self._layouts, self._begun, last=last, first_offset=self._done)
        self._held, self._begun = stream.behind(cut.done), cut.begun
        self._done += cut.done
        self._wanted = self._next_length(cut.needed)
        return cut.frames

    def _next_length(self, needed: int) -> int:
        """Return how many bytes must be held before anything can become certain; `needed` are those of a candidate."""
        held = len(self._held.value)
        if not needed or is_delimited(self._layouts):
            return held + 1
        if any(layout.needs_locating for layout in self._layouts):
            return max(needed, held + 1)
        lengths = sorted(layout.length for layout in self._layouts)
        markers = max(len(layout.marker) for layout in self._layouts)
        stages = [*lengths, *(length + markers for length in lengths), 2 * lengths[-1] + markers]
        return min((stage for stage in stages if stage > held), default=held + 1)


class FrameReader:
    r"""Reads the frames of one layout, piece by piece.

    Parameters
    ----------
    layout : FrameLayout
        What the frames are declared to be.
    on_frame : callable, optional
        Called with each frame as soon as it is certain, as a mapping that `Frames.rows` yields.

    Examples
    --------
    >>> layout = lr.FrameLayout(
    ...     boundary={"kind": "marker", "marker": "D7"},
    ...     fields=[{"name": "flow", "type": "uint12", "scale": 0.1}, {"reserved": 4}],
    ... )
    >>> reader = lr.FrameReader(layout)
    >>> [reader.feed(piece)["flow"].tolist() for piece in (b"\xd7\x7d", b"\0\xd7", b"\x7e\0\xd7", b"\0\0")]
    [[], [12.5], [12.6], []]
    >>> reader.close()["flow"]
    array([0.])
    """

    def __init__(self, layout: FrameLayout, on_frame: Callable[[dict[str, Any]], object] | None = None) -> None:
        self._layout, self._on_frame = layout, on_frame
        self._reader = LayoutsReader([layout])

    def feed(self, data: bytes | Bytes | Characters) -> Frames:
        """Take in what came, and return the frames that are certain now.

        Parameters
        ----------
        data : bytes, ndarray of uint8 of shape (n_bytes,), or Characters
            Of any length, nothing too.

        Returns
        -------
        Frames
            Offsets count from the first byte ever fed.

        Raises
        ------
        RequestError
            As `read_frames`; or if the reader is closed.
        """
        return self._told(self._reader.feed(data)[self._layout.key])

    def close(self) -> Frames:
        """Return the rest, now that nothing more comes. Closing once more returns nothing more."""
        return self._told(self._reader.close()[self._layout.key])

    def _told(self, frames: Frames) -> Frames:
        if self._on_frame is not None:
            for row in frames.rows():
                self._on_frame(row)
        return frames
