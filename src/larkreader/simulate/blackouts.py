"""When nothing serves a receive path: interrupts are off, or everything stands still.

All times are whole nanoseconds.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from larkreader.declare.paths.receive_path import ServiceBlackout

from .senders import NEVER, nanoseconds


class Blackouts:
    """When there is no service: stretches, some of them periodic."""

    def __init__(self, stretches: Sequence[ServiceBlackout]) -> None:
        self._stretches = [
            (nanoseconds(stretch.first_s), nanoseconds(stretch.for_s), nanoseconds(stretch.every_s or 0))
            for stretch in stretches
        ]
        self.is_ever: bool = bool(self._stretches)

    def around(self, at: int) -> tuple[int, int] | None:
        """Return from when to when there is no service around a moment; None if there is service."""
        if (blackout := self._blackout_around(at)) is None:
            return None
        begin, end = blackout
        while (earlier := self._blackout_around(begin - 1)) is not None:
            begin = earlier[0]
        while (later := self._blackout_around(end)) is not None:
            end = later[1]
        return begin, end

    def after(self, at: int) -> int:
        """Return the first moment with service, from another on."""
        stretch = self.around(at) if self.is_ever else None
        return at if stretch is None else stretch[1]

    def all_after(self, at: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Return the first moment with service from each of some moments on."""
        moved = at
        while True:
            before = moved
            for first, length, every in self._stretches:
                since = (moved - first) % every if every else moved - first
                moved = np.where((moved >= first) & (since < length), moved - since + length, moved)
            if (moved == before).all():
                return moved

    def next_from(self, at: int) -> int:
        """Return when the next stretch begins, from a moment on; `NEVER` if none does."""
        begins = [
            first if at <= first else first + -(-(at - first) // every) * every if every else NEVER
            for first, _, every in self._stretches
        ]
        return min(begins, default=NEVER)

    def _blackout_around(self, at: int) -> tuple[int, int] | None:
        for first, length, every in self._stretches:
            if at >= first:
                begin = at - (at - first) % every if every else first
                if at < begin + length:
                    return begin, begin + length
        return None
