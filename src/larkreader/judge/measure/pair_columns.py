"""What became of each request: columns, a row for each."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.columns import SHOWN_ROWS, Columns
from larkreader.declare.run.pairing import Pairing
from larkreader.decode.timeline import Timeline

from .distribution import figures_of, histogram_of

Places = npt.NDArray[np.int64]
Seconds = npt.NDArray[np.float64]

PARTS = ("request", "answer", "reply", "pause", "cycle")


class PairState(IntEnum):
    """What became of a request."""

    ANSWERED = 0
    """It has a good reply, in time if a time is declared."""
    LATE = 1
    """It has a good reply, later than declared."""
    DAMAGED_REPLY = 2
    """In the place of its reply is something damaged."""
    UNANSWERED = 3
    """It has no reply."""
    OPEN = 4
    """The capture ends before a reply is due."""


@dataclass(frozen=True, eq=False, repr=False)
class Pairs(Columns):
    """The requests of one pairing, in order of time; all columns have shape (n_requests,).

    Parameters
    ----------
    request : ndarray of int64
        Its row of the timeline.
    reply : ndarray of int64
        The row of its reply, or of what is damaged in its place; -1 without any.
    latency_s : ndarray of float64
        From the end of its last stop bit to the beginning of the reply, in seconds; NaN without any. A reply may begin
        while the last of the request's stop bits still lasts, which is less than 0.
    state : ndarray of uint8
        What became of it, as `PairState`.
    again : ndarray of int64
        Row of the request that it repeats, which has the same content and had no good reply yet; -1 for a new request.
    pairing : Pairing
        What was declared.
    timeline : Timeline
        The rows that are meant.
    unasked : ndarray of int64, shape (n_unasked,)
        Rows of good replies that answer nothing.
    end_s : float
        When the capture ends, in seconds.
    is_learned : bool
        Whether no time limit is declared, so that the longest reply decides how long to wait.
    undecided : ndarray of int64, shape (n_undecided,)
        Rows of requests and replies of which it is not certain yet what becomes of them, as the capture goes on.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("request", "reply", "latency_s", "state", "again")

    request: Places
    reply: Places
    latency_s: Seconds
    state: npt.NDArray[np.uint8]
    again: Places
    pairing: Pairing
    timeline: Timeline
    unasked: Places = field(default_factory=lambda: np.empty(0, np.int64))
    end_s: float = np.nan
    is_learned: bool = False
    undecided: Places = field(default_factory=lambda: np.empty(0, np.int64))

    def __post_init__(self) -> None:
        self.check_lengths()

    def count(self, state: PairState) -> int:
        """Return to how many requests that happened.

        Parameters
        ----------
        state : PairState
            What happened.
        """
        return int(np.count_nonzero(self.state == state))

    @property
    def answered(self) -> npt.NDArray[np.bool_]:
        """Whether each request got a good reply, late or not; bool, shape (n_requests,)."""
        return self.state <= PairState.LATE

    @property
    def count_open(self) -> int:
        """How many requests the end of the capture leaves open."""
        return self.count(PairState.OPEN)

    @property
    def has_no_limit(self) -> bool:
        """Whether nothing shows how long to wait, as there is no declared limit and no reply to learn it from."""
        return self.pairing.within_s is None and self.pairing.gone_after_s is None and not self.is_learned

    @property
    def longest_s(self) -> float | None:
        """How long the longest good reply took, in seconds; None without any."""
        return float(self.latencies_s.max()) if self.answered.any() else None

    @property
    def latencies_s(self) -> Seconds:
        """How long good replies took, in seconds, in order of their requests."""
        return self.latency_s[self.answered]

    def histogram(self) -> list[tuple[float, float, int]]:
        """Return how many replies took from one time to another, in seconds: at most twelve stretches of one length."""
        return histogram_of(self.latencies_s)

    def parts(self, *, begin_s: float = -np.inf, end_s: float = np.inf) -> dict[str, Seconds]:
        """Return what the time from one request to the next went into, in seconds; NaN where a part is not known.

        Parameters
        ----------
        begin_s, end_s : float
            Only requests that begin from one time on, and before the other.

        Returns
        -------
        dict of str to ndarray of float64, shape (n_requests,)
            ``request`` and ``reply``: how long each was on the wire; ``answer``: from the end of the request to the
            beginning of the reply; ``pause``: from the end of the reply to the next request; ``cycle``: all of it.
        """
        return PairTimes.of(self).parts(begin_s=begin_s, end_s=end_s)

    def to_dict(self) -> dict[str, Any]:
        """Return counts and times as JSON has them."""
        return {
            "requests": len(self),
            **{state.name.lower().replace("_", "-"): self.count(state) for state in PairState},
            "repeated": int(np.count_nonzero(self.again >= 0)),
            "unasked": len(self.unasked),
            **PairTimes.of(self).to_dict(),
        }

    def about(self) -> str:
        """Name the pairing."""
        return f'"{self.pairing.key}"'

    def shown(self) -> dict[str, npt.NDArray[Any]]:
        """Return what a repr shows of the first rows."""
        head = self[slice(SHOWN_ROWS)]
        states = np.array([state.name.lower() for state in PairState])
        return {"begin_s": self.timeline.begin_s[head.request], "latency_s": head.latency_s,
                "state": states[head.state]}  # fmt: skip


@dataclass(frozen=True, eq=False, repr=False)
class PairTimes(Columns):
    """When requests and their replies were on the wire; all columns have shape (n_requests,).

    Parameters
    ----------
    begin_s, end_s : ndarray of float64
        From when to when each request was on the wire, in seconds; the end is NaN where it is not known.
    latency_s : ndarray of float64
        From its end to the beginning of its good reply, in seconds; NaN without any.
    reply_begin_s, reply_end_s : ndarray of float64
        From when to when its good reply was on the wire, in seconds; NaN without any.
    duration_s : ndarray of float64
        How long that reply was on the wire, in seconds; NaN where that is not known.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = (
        "begin_s",
        "end_s",
        "latency_s",
        "reply_begin_s",
        "reply_end_s",
        "duration_s",
    )

    begin_s: Seconds
    end_s: Seconds
    latency_s: Seconds
    reply_begin_s: Seconds
    reply_end_s: Seconds
    duration_s: Seconds

    def __post_init__(self) -> None:
        self.check_lengths()

    @classmethod
    def of(cls, pairs: Pairs) -> PairTimes:
        """Return the times of the requests of a pairing, and of their good replies.

        Parameters
        ----------
        pairs : Pairs
            What became of them.
        """
        timeline, nothing = pairs.timeline, np.full(len(pairs), np.nan)
        if not len(timeline):
            return cls.nothing()
        answered = pairs.answered
        reply = np.where(answered, pairs.reply, 0)
        replied, ended = (np.where(answered, column[reply], np.nan) for column in (timeline.begin_s, timeline.end_s))
        # when a message ended is not known where its characters arrived in groups
        ends = nothing if timeline.in_groups else timeline.end_s[pairs.request]
        lasted = nothing if timeline.in_groups else ended - replied
        latency_s = np.where(answered, pairs.latency_s, np.nan)
        return cls(timeline.begin_s[pairs.request], ends, latency_s, replied, ended, lasted)

    @classmethod
    def nothing(cls) -> PairTimes:
        """Return the times of no request."""
        return cls(*([np.empty(0)] * len(cls.COLUMNS)))

    def followed_by(self, other: PairTimes) -> PairTimes:
        """Return these times and those of the requests behind.

        Parameters
        ----------
        other : PairTimes
            Of the requests behind.
        """
        return PairTimes(*(np.concatenate([self.column(name), other.column(name)]) for name in self.COLUMNS))

    @property
    def latencies_s(self) -> Seconds:
        """How long good replies took, in seconds, in order of their requests."""
        return self.latency_s[~np.isnan(self.latency_s)]

    def histogram(self) -> list[tuple[float, float, int]]:
        """Return how many replies took from one time to another, as `Pairs.histogram`."""
        return histogram_of(self.latencies_s)

    def parts(self, *, begin_s: float = -np.inf, end_s: float = np.inf) -> dict[str, Seconds]:
        """Return what the time from one request to the next went into, as `Pairs.parts`.

        Parameters
        ----------
        begin_s, end_s : float
            Only requests that begin from one time on, and before the other.
        """
        following = np.append(self.begin_s[1:], np.nan) if len(self) else self.begin_s
        result = {
            "request": self.end_s - self.begin_s,
            "answer": self.latency_s,
            "reply": self.duration_s,
            "pause": following - self.reply_end_s,
            "cycle": following - self.begin_s,
        }
        wanted = (self.begin_s >= begin_s) & (self.begin_s < end_s)
        return {name: column[wanted] for name, column in result.items()}

    def to_dict(self) -> dict[str, Any]:
        """Return latencies and parts as JSON has them."""
        latencies_s = self.latencies_s
        return {
            "latency": {
                **figures_of(latencies_s),
                "histogram": [
                    {"from_s": low, "to_s": high, "count": count} for low, high, count in histogram_of(latencies_s)
                ],
            },
            "parts": {name: figures_of(column) for name, column in self.parts().items()},
        }
