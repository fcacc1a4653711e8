"""Which wire of a sheet a port is, found from what arrives there: the wire whose layouts fit."""

from __future__ import annotations

from collections.abc import Sequence

from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import UNTRUSTED
from larkreader.decode.cut.streaming import LayoutsReader

LONGEST = 4096  # characters that are looked at
PATIENCE_S = 3.0  # after the first character


class WireFinder:
    """Finds out which wire of a sheet a port is. Without I/O.

    Parameters
    ----------
    sheet : Sheet
        Has the wires.
    wires : sequence of str
        Those that it may be.

    Attributes
    ----------
    found : str or None
        The wire of which the first good frame arrived.
    """

    def __init__(self, sheet: Sheet, wires: Sequence[str]) -> None:
        self.found: str | None = None
        self._readers = {wire: LayoutsReader(layouts) for wire in wires if (layouts := sheet.layouts_of(wire))}
        self._count = 0
        self._first_s: float | None = None

    def feed(self, data: bytes, now_s: float) -> bool:
        """Take in what arrived, and return whether to go on looking.

        Parameters
        ----------
        data : bytes
            What arrived; may be nothing.
        now_s : float
            When, in seconds.
        """
        if data and self._first_s is None:
            self._first_s = now_s
        self._count += len(data)
        for wire, reader in self._readers.items():
            frames = reader.feed(data)
            if any(len(item) and bool((~item.has_fault(UNTRUSTED)).any()) for item in frames.values()):
                self.found = wire
                return False
        is_late = self._first_s is not None and now_s - self._first_s > PATIENCE_S
        return bool(self._readers) and self._count < LONGEST and not is_late
