"""Frames from bytes that come in pieces, however they are cut: sans I/O, in bounded memory.

The result is what `read_frames` gives for the whole, a little later than it arrived: a frame with a right checksum
as soon as it is whole, any other as soon as nothing that may follow could change what it is. Held back are at most the
bytes of two frames and a marker.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import groupby
from typing import Any, cast

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import Frames
from larkreader.decode.stream import Bytes, Stream
from larkreader.errors import RequestError

from .frames import Begun, cut_frames
from .search import check_shared, is_delimited
from .single_frame import SingleFrames
from .waiting import Waiting

NOT_BEGUN = Begun()


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
            raise RequestError("layouts", "are none", "must be at least one")
        check_shared(layouts)
        self._layouts = layouts
        self._held = Stream(np.empty(0, np.uint8))
        self._aside: list[bytes | Characters] = []
        self._done = 0
        self._begun = Begun()
        self._waiting = Waiting(layouts)
        self._single = SingleFrames(layouts)
        self._is_closed = False

    def feed(self, data: bytes | Bytes | Characters) -> Mapping[str, Frames]:
        """Take in what was received, and return the frames that are certain now.

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
            raise RequestError("reader", "is closed", "takes nothing more", "Make a new reader")
        if self._waiting.may(data):
            assert isinstance(data, (bytes, Characters))
            self._aside.append(data)
            return self._nothing
        if (held := self._waiting.with_next(data)) is not None:
            if self._single.refutes(held) and self._waiting.put_aside(data):
                assert isinstance(data, (bytes, Characters))
                self._aside.append(data)
                return self._nothing
            if self._begun == NOT_BEGUN and (found := self._read_single(data, held)) is not None:
                return found
        read = self._read(self._all_held().followed_by(Stream.of(data)), last=False)
        if len(data) == 1:
            self._single.learn(read)
        return read

    def close(self) -> Mapping[str, Frames]:
        """Return the rest, now that nothing more follows. Closing once more returns nothing more."""
        frames = self._read(self._all_held(), last=True)
        self._is_closed = True
        return frames

    @property
    def held(self) -> int:
        """How many bytes are held, as what follows may still decide about them."""
        return len(self._held.value) + sum(map(len, self._aside))

    def rest(self) -> Mapping[str, Frames]:
        """Return what `close` would return now, and stay open."""
        stream = self._all_held()
        return cut_frames(stream, self._layouts, self._begun, last=True, first_offset=self._done).frames

    @cached_property
    def _nothing(self) -> Mapping[str, Frames]:
        """What is certain of a piece that decides nothing."""
        return cut_frames(Stream(np.empty(0, np.uint8)), self._layouts, Begun(), last=False).frames

    def _all_held(self) -> Stream:
        """Return what is held with what was put aside behind it."""
        held = self._held
        for is_bytes, pieces in groupby(self._aside, lambda piece: isinstance(piece, bytes)):
            if is_bytes:
                held = held.followed_by(Stream.of(b"".join(cast(Iterator[bytes], pieces))))
            else:
                held = held.followed_by(Stream.of(Characters.joined(cast(Iterator[Characters], pieces))))
        return held

    def _read_single(self, data: bytes | Bytes | Characters, held: bytes) -> Mapping[str, Frames] | None:
        """Return the frame that all bytes are which are there; None if they are none, or it is not sure."""
        begin_s = self._waiting.begin_s
        if not self._waiting.values and isinstance(data, Characters):
            begin_s = float(data.begin_s[0])
        found = self._single.read(held, self._done, begin_s)
        if found is None:
            return None
        frames, kept = found
        if kept > 1 and not isinstance(data, bytes):
            return None  # the times of those that are kept are in several pieces
        self._held = Stream.of(data if kept == 1 else held[len(held) - kept :])
        self._aside.clear()
        self._done += len(held) - kept
        is_marker = kept > 0 and not is_delimited(self._layouts)
        self._waiting.looked(self._held, self._layouts[0].length if is_marker else 0)
        return frames

    def _read(self, stream: Stream, *, last: bool) -> Mapping[str, Frames]:
        cut = cut_frames(stream, self._layouts, self._begun, last=last, first_offset=self._done)
        self._aside.clear()
        self._held, self._begun = stream.behind(cut.done), cut.begun
        self._done += cut.done
        self._waiting.looked(self._held, cut.needed)
        return cut.frames


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
        """Take in what was received, and return the frames that are certain now.

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
        return self._counted(self._reader.feed(data)[self._layout.key])

    def close(self) -> Frames:
        """Return the rest, now that nothing more follows. Closing once more returns nothing more."""
        return self._counted(self._reader.close()[self._layout.key])

    @property
    def held(self) -> int:
        """How many bytes are held, as what follows may still decide about them."""
        return self._reader.held

    def rest(self) -> Frames:
        """Return what `close` would return now, and stay open; `on_frame` is not called with it."""
        return self._reader.rest()[self._layout.key]

    def _counted(self, frames: Frames) -> Frames:
        if self._on_frame is not None:
            for row in frames.rows():
                self._on_frame(row)
        return frames
