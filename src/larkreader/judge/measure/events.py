"""How long after the changes of a signal something follows on a wire."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.median import median_of
from larkreader.capture.trace import Trace
from larkreader.declare.link.event import EventSignal

from .distribution import histogram_of

Seconds = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class EventDelays:
    """The changes of one signal, and when something followed.

    Parameters
    ----------
    event : EventSignal
        What was declared.
    at_s : ndarray of float64, shape (n_changes,)
        When the signal changed, in seconds on the clock of the capture.
    delay_s : ndarray of float64, shape (n_changes,)
        How long after that a character or a frame began; NaN where none did before the next change, or too late.
    """

    event: EventSignal
    at_s: Seconds
    delay_s: Seconds

    @property
    def followed(self) -> Seconds:
        """The delays of those changes that something followed, ascending."""
        return np.sort(self.delay_s[np.isfinite(self.delay_s)])

    def histogram(self) -> list[tuple[float, float, int]]:
        """Return how many delays lie from one time to another, in seconds: at most twelve stretches of one length."""
        return histogram_of(self.followed)

    def to_dict(self) -> dict[str, Any]:
        """Return the delays as JSON has them; times are null where nothing followed."""
        followed = self.followed
        known = len(followed) > 0
        return {
            "wire": self.event.wire,
            "changes": len(self.at_s),
            "followed": len(followed),
            "min_s": float(followed[0]) if known else None,
            "median_s": median_of(followed) if known else None,
            "max_s": float(followed[-1]) if known else None,
            "histogram": [{"from_s": low, "to_s": high, "count": count} for low, high, count in self.histogram()],
        }

    def __repr__(self) -> str:
        result = self.to_dict()
        times = f", {result['min_s']:.3g} to {result['max_s']:.3g} s" if result["followed"] else ""
        return f"<EventDelays {self.event.key}: {result['followed']} of {result['changes']} changes followed{times}>"


class EventFollower:
    """Finds what follows the changes of a signal, a stretch at a time.

    Of what begins between two changes, only the first is kept.

    Parameters
    ----------
    event : EventSignal
        What was declared.
    """

    def __init__(self, event: EventSignal) -> None:
        self._event = event
        self._changes = [np.empty(0)]
        self._begins = [np.empty(0)]
        self._last = -1  # between which changes the last that was kept begins

    def add_changes(self, at_s: Seconds) -> None:
        """Take in when the signal changed, in seconds, ascending."""
        self._changes.append(at_s)

    def add_begins(self, begins_s: Seconds) -> None:
        """Take in when characters or frames began, in seconds, ascending; all changes before are known."""
        between = np.searchsorted(self._at_s(), begins_s, side="right")
        is_first = np.diff(between, prepend=self._last) > 0
        self._begins.append(begins_s[is_first])
        if len(between):
            self._last = int(between[-1])

    def delays(self) -> EventDelays:
        """Return the delays, as `measure_delays` finds them."""
        return measure_delays(self._event, self._at_s(), np.concatenate(self._begins))

    def _at_s(self) -> Seconds:
        if len(self._changes) > 1:
            self._changes = [np.concatenate(self._changes)]
        return self._changes[0]


def changes_of(trace: Trace, event: EventSignal) -> Seconds:
    """Return when the level changed in the way that counts, in seconds."""
    if event.edge == "both":
        return trace.edges_s
    first = trace.first_level if event.edge == "rise" else 1 - trace.first_level
    return trace.edges_s[first::2]


def measure_delays(event: EventSignal, at_s: Seconds, begins_s: Seconds) -> EventDelays:
    """Find for each change what followed.

    Parameters
    ----------
    event : EventSignal
        What was declared.
    at_s : ndarray of float64, shape (n_changes,)
        When the signal changed, ascending.
    begins_s : ndarray of float64, shape (n,)
        When characters or frames began, ascending.

    Returns
    -------
    EventDelays
        What begins at the moment of a change follows it at once. What begins after the next change belongs to that.
    """
    place = np.searchsorted(begins_s, at_s)
    delay = np.append(begins_s, np.inf)[place] - at_s
    until = np.diff(at_s, append=np.inf)
    late = (delay >= until) | ~np.isfinite(delay)
    if event.within_s is not None:
        late |= delay > event.within_s
    delay[late] = np.nan
    return EventDelays(event, at_s, delay)
