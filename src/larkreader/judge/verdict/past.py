"""What is known of a capture before a stretch of it that is judged."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Set
from dataclasses import dataclass, field
from typing import Literal

from larkreader.judge.wire.carried import Habit, LastFrame


@dataclass(frozen=True)
class Past:
    """What lies before a stretch of a capture, and whether more follows.

    Parameters
    ----------
    begun : set of str
        The wires of which something lies before it.
    end : {"known", "open", "shown", "cut"}
        What follows the stretch: nothing, or more, so that nothing is concluded from its end. Findings of a stretch
        that is ``"shown"`` are shown before more is there: only those are proven that nothing which follows can
        change. A ``"cut"`` lies between two messages.
    first : mapping of str to int
        By wire, the number in the stretch of the first character that was not counted before.
    first_s : mapping of str to float
        By wire, when that character began, in seconds.
    last_begin_s : mapping of str to float
        By layout with a period, when its last frame before the stretch began, in seconds.
    longest_s : mapping of str to float
        By pairing, how long the longest good reply before the stretch took, in seconds.
    longest_pause_s : mapping of str to float
        By wire, how long the longest pause before the stretch lasted, in seconds.
    habits : mapping of str to Habit
        By layout, how its sender makes frames, as those before the stretch show.
    last_frames : mapping of str to LastFrame
        By layout with a counter, its last trusted frame before the stretch.
    passed_highest : collection of str
        The wires without layouts whose characters counted up beyond the highest value.
    substituting_s : mapping of tuple of str and str to float
        By layout and field that held a substitute in the last frame before the stretch: since when, in seconds.
    last_end_s : mapping of str to float
        By wire that has no character of the stretch judged yet, when its last character before the stretch ended, in
        seconds.
    now_s : float, optional
        When the open stretch ends so far, in seconds.
    replies_until_s : float, optional
        Until when no further reply arrived, in seconds, where that is later than the end of the stretch.
    """

    begun: Set[str] = frozenset()
    end: Literal["known", "open", "shown", "cut"] = "known"
    first: Mapping[str, int] = field(default_factory=dict)
    first_s: Mapping[str, float] = field(default_factory=dict)
    last_begin_s: Mapping[str, float] = field(default_factory=dict)
    longest_s: Mapping[str, float] = field(default_factory=dict)
    longest_pause_s: Mapping[str, float] = field(default_factory=dict)
    habits: Mapping[str, Habit] = field(default_factory=dict)
    last_frames: Mapping[str, LastFrame] = field(default_factory=dict)
    passed_highest: Collection[str] = ()
    substituting_s: Mapping[tuple[str, str], float] = field(default_factory=dict)
    last_end_s: Mapping[str, float] = field(default_factory=dict)
    now_s: float | None = None
    replies_until_s: float | None = None

    @property
    def is_open(self) -> bool:
        """Whether more follows."""
        return self.end != "known"

    @property
    def is_cut(self) -> bool:
        """Whether it ends between two messages, behind which more follows."""
        return self.end == "cut"

    @property
    def is_shown(self) -> bool:
        """Whether its findings are shown although more follows."""
        return self.end == "shown"


NO_PAST = Past()
