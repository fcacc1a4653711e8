"""How long each stage of listening takes, and how far it is behind the wire."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

STAGES = ("record", "judge", "show", "draw")
BEHIND_S = 0.25  # from which on the display thins out
CAUGHT_UP_S = 0.05  # from which on it does no more


class Stages:
    """Adds up how long each stage takes; decides when the display has to thin out.

    Attributes
    ----------
    most_behind_s : float
        How long a character waited at most before it was taken in, in seconds.
    not_shown : int
        How many characters the display left out.
    """

    most_behind_s: float
    not_shown: int

    def __init__(self) -> None:
        self._began_s = time.perf_counter()
        self._spent_s = dict.fromkeys(STAGES, 0.0)
        self._is_thin = False
        self.most_behind_s, self.not_shown = 0.0, 0
        self._drawn, self._drawn_s = 0, (0.0, 0.0)  # how often, and when first and last

    @contextmanager
    def stage(self, name: str) -> Iterator[None]:
        """Count the time that passes for a stage.

        Parameters
        ----------
        name : {"record", "judge", "show", "draw"}
            The stage.
        """
        began_s = time.perf_counter()
        try:
            yield
        finally:
            self._spent_s[name] += time.perf_counter() - began_s

    def is_shown(self, behind_s: float, count: int) -> bool:
        """Return whether characters are shown that were taken in so long after they arrived; count those that are not.

        Parameters
        ----------
        behind_s : float
            How long they waited, in seconds.
        count : int
            How many they are.
        """
        self.most_behind_s = max(self.most_behind_s, behind_s)
        self._is_thin = behind_s > (CAUGHT_UP_S if self._is_thin else BEHIND_S)
        self.not_shown += count if self._is_thin else 0
        return not self._is_thin

    def count_drawn(self, count: int) -> None:
        """Take in how often a window was drawn so far."""
        if count > self._drawn:
            now_s = time.perf_counter()
            self._drawn_s = (self._drawn_s[0] if self._drawn else now_s, now_s)
            self._drawn = count

    @property
    def _drawn_per_s(self) -> float:
        first_s, last_s = self._drawn_s
        return (self._drawn - 1) / (last_s - first_s) if last_s > first_s else 0.0

    def to_dict(self) -> dict[str, Any]:
        """Return the times as JSON has them, in seconds."""
        spent = {f"{name}_s": round(spent_s, 6) for name, spent_s in self._spent_s.items()}
        lasted_s = round(time.perf_counter() - self._began_s, 6)
        behind_s = round(self.most_behind_s, 6)
        drawn = {"drawn": self._drawn, "drawn_per_s": round(self._drawn_per_s, 2)} if self._drawn else {}
        return {"lasted_s": lasted_s, **spent, "most_behind_s": behind_s, "not_shown": self.not_shown, **drawn}

    def __str__(self) -> str:
        lasted_s = time.perf_counter() - self._began_s
        shares = ", ".join(f"{name} {100 * spent_s / lasted_s:.1f} %" for name, spent_s in self._spent_s.items())
        behind = f"at most {1000 * self.most_behind_s:.0f} ms behind the wire"
        drawn = f"; drawn {self._drawn_per_s:.1f} times a second" if self._drawn else ""
        return f"of the time: {shares}; {behind}{drawn}"
