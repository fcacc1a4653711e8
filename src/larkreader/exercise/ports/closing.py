"""What serial devices of every system have in common when they are closed."""

from __future__ import annotations

import time
from collections.abc import Callable

LOOK_S, MARGIN_S, LONGEST_S = 0.002, 0.1, 5.0


def drain(waiting: Callable[[], int], character_s: float, now_s: Callable[[], float]) -> int:
    """Let the hardware send what it has taken, so that it is sent at the settings it was meant for.

    Parameters
    ----------
    waiting : callable
        Returns how many characters the driver still holds.
    character_s : float
        How long one lasts, in seconds.
    now_s : callable
        Returns the time, in seconds.

    Returns
    -------
    int
        How many were not sent in good time.
    """
    left = waiting()
    deadline = now_s() + min(MARGIN_S + 2 * left * character_s, LONGEST_S)
    while left and now_s() < deadline:
        time.sleep(LOOK_S)
        left = waiting()
    return left


def unsent_note(left: int) -> str:
    """Return the note of a port that was closed before all was sent."""
    return f"{left:,} characters had not been sent when the port was closed"
