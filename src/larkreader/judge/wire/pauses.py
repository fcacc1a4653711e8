"""Whether a sender pauses when it is requested: by XOFF on the other wire, or by its clear-to-send signal."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.columns import Columns
from larkreader.capture.median import median_of
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.judge.findings.finding import Finding, Places, make_finding

Seconds = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]

KINDS_OF_PAUSES = ("pause-ignored", "sent-while-paused", "never-resumed", "pause-reversed", "clear-never-moves")
XON, XOFF = 0x11, 0x13  # DC1 and DC3 of ECMA-48
NEAR_CHARACTERS = 2.0  # character times around a request within which a sender was sending
LONG_CHARACTERS = 8.0  # character times from which on a pause shows whether the sender goes on through it
THROUGH = 0.8  # of the characters that a pause has time for, which a sender that ignores it sends
REVERSED = 0.9  # of the characters that are sent while that is forbidden, where the levels are reversed
FEWEST = 10  # characters that show reversed levels
FEWEST_CHANGES = 5  # of a signal, which show that it follows the sender
SOON_CHARACTERS = 3.0  # character times within which two events belong together
FOREVER = 4.0  # times as long as any other pause, from which on one counts as never ended
FOREVER_CHARACTERS = 20.0  # character times, at least


@dataclass(frozen=True, eq=False, repr=False)
class Pauses(Columns):
    """When the sender of a wire was to pause, and how late it stopped; all columns have shape (n_pauses,).

    Parameters
    ----------
    begin_s, end_s : ndarray of float64
        From the request to pause to the request to resume, in seconds; infinite where the capture ends before.
    after : ndarray of int64
        How many characters began within it.
    last_s : ndarray of float64
        How long after the request the last of them began, in seconds; NaN without any.
    wire : str
        The wire.
    character_s : float
        How long one of its characters takes, in seconds.
    allowance : float
        Character times within which characters may still begin, as declared.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("begin_s", "end_s", "after", "last_s")

    begin_s: Seconds
    end_s: Seconds
    after: Counts
    last_s: Seconds
    wire: str
    character_s: float
    allowance: float

    def __post_init__(self) -> None:
        self.check_lengths()

    @property
    def allowed_s(self) -> float:
        """The allowance in seconds."""
        return self.allowance * self.character_s

    def followed_by(self, other: Pauses) -> Pauses:
        """Return these pauses and those behind.

        Parameters
        ----------
        other : Pauses
            Of the same wire.
        """
        begin_s, end_s, after, last_s = (
            np.concatenate([self.column(name), other.column(name)]) for name in self.COLUMNS
        )
        return Pauses(begin_s, end_s, after, last_s, other.wire, other.character_s, other.allowance)

    def to_dict(self) -> dict[str, Any]:
        """Return as JSON has it how many pauses there were, and how late the sender stopped: worst and median."""
        late_s = self.last_s[np.isfinite(self.last_s)]
        return {
            "pauses": len(self),
            "stopped_late": len(late_s),
            "allowance_characters": self.allowance,
            "characters_after": {
                "median": median_of(self.after.astype(np.float64)) if len(self) else None,
                "most": int(self.after.max()) if len(self) else None,
            },
            "last_after_s": {
                "median": median_of(late_s) if len(late_s) else None,
                "most": float(late_s.max()) if len(late_s) else None,
            },
        }

    def about(self) -> str:
        """Name the wire."""
        return f'"{self.wire}"'


@dataclass(frozen=True)
class _Wire:
    """A wire whose sender is to pause: when its data characters begin, and how long one takes."""

    key: str
    characters: Characters
    begins: Seconds
    character_s: float
    until_s: float
    intervals: Seconds
    """From when to when it is to pause: shape (n, 2)."""
    allowance: float
    signal: Trace | None = None

    @property
    def grace_s(self) -> float:
        return self.allowance * self.character_s

    def place_of(self, begin_s: Any) -> npt.NDArray[np.intp]:
        places: npt.NDArray[np.intp] = np.searchsorted(self.characters.begin_s, begin_s)
        return places

    def measured(self) -> Pauses:
        begin_s, end_s = self.intervals[:, 0], self.intervals[:, 1]
        first, behind = np.searchsorted(self.begins, begin_s), np.searchsorted(self.begins, end_s)
        after = np.maximum(behind - first, 0)
        last_s = np.where(after > 0, np.append(self.begins, np.nan)[behind - 1] - begin_s, np.nan)
        return Pauses(begin_s, end_s, after, last_s, self.key, self.character_s, self.allowance)


def measure_pauses(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    clear: Mapping[str, Trace] | None = None,
    inside: Mapping[str, Mask] | None = None,
) -> dict[str, Pauses]:
    """Measure how late senders stop when a pause is requested.

    Parameters
    ----------
    sheet, characters, clear, inside
        As for `judge_pauses`.

    Returns
    -------
    dict of str to Pauses
        By wire, of those whose requests to pause were captured.
    """
    return {
        paused_wire.key: paused_wire.measured()
        for paused_wire in _paused_wires(sheet, characters, clear or {}, inside or {})
    }


def judge_pauses(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    clear: Mapping[str, Trace] | None = None,
    inside: Mapping[str, Mask] | None = None,
    longest_s: Mapping[str, float] | None = None,
    uncertain: Mapping[str, int] | None = None,
) -> Iterator[Finding]:
    """Yield what is wrong with the pauses of wires with flow control.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    characters : mapping of str to Characters
        By wire, with times.
    clear : mapping of str to Trace, optional
        The clear-to-send signal of each wire that has one.
    inside : mapping of str to ndarray of bool, optional
        By wire, which characters lie inside good frames: pause characters among them are payload.
    longest_s : mapping of str to float, optional
        By wire, how long the longest pause before these characters lasted, in seconds.
    uncertain : mapping of str to int, optional
        By wire, from which character on it is not certain yet what is payload; no finding is about those.

    Yields
    ------
    Finding
    """
    inside, clear = inside or {}, clear or {}
    for key, result in characters.items():
        if sheet.wire[key].line.flow_control == "xon-xoff":
            yield from _judge_payload(key, result, inside.get(key), (uncertain or {}).get(key))
    before = longest_s or {}
    for wire in _paused_wires(sheet, characters, clear, inside):
        others_s = before.get(wire.key, 0.0)
        if wire.signal is not None:
            yield from _judge_clear(wire, wire.signal, sheet.wire[wire.key].clear_level, others_s)
        else:
            yield from _judge(wire, others_s)


def _paused_wires(
    sheet: Sheet, characters: Mapping[str, Characters], clear: Mapping[str, Trace], inside: Mapping[str, Mask]
) -> Iterator[_Wire]:
    """Yield the wires whose requests to pause were captured."""
    ends = [float(result.end_s[-1]) for result in characters.values() if result.has_times and len(result)]
    ends += [signal.in_seconds(signal.end) for signal in clear.values() if signal.end is not None]
    until_s = max(ends, default=0.0)
    for key, result in characters.items():
        line, allowance = sheet.wire[key].line, sheet.wire[key].pause_allowance
        if (len(result) and not result.has_times) or line.flow_control == "none":
            continue
        if line.flow_control == "rts-cts" and key in clear:
            level = 1 if sheet.wire[key].clear_level == "high" else 0
            intervals = _not_clear(clear[key], level)
            yield _Wire(key, result, result.begin_s, line.character_time_s, until_s, intervals, allowance, clear[key])
        elif line.flow_control == "xon-xoff":
            others = [other for other, some in characters.items() if other != key and (some.has_times or not len(some))]
            if len(others) == 1:
                is_data = (result.value != XON) & (result.value != XOFF)  # its own requests are not data
                intervals = _between_xoff_and_xon(characters[others[0]], inside.get(others[0]))
                yield _Wire(key, result, result.begin_s[is_data], line.character_time_s, until_s, intervals, allowance)


def _judge_payload(wire: str, result: Characters, inside: Mask | None, end: int | None) -> Iterator[Finding]:
    if inside is None:
        return
    offsets = np.flatnonzero((inside & ((result.value == XON) | (result.value == XOFF)))[:end])
    if offsets.size:
        yield make_finding("control-in-payload", wire, Places.on(result, offsets))


def _judge_clear(wire: _Wire, signal: Trace, clear_level: str, others_s: float) -> Iterator[Finding]:
    clear = 1 if clear_level == "high" else 0
    if not len(signal):
        forbids = signal.first_level != clear
        if len(wire.begins) or forbids:
            evidence = {"level": int(signal.first_level), "forbids": forbids, "sent": len(wire.begins)}
            yield make_finding("clear-never-moves", wire.key, **evidence)
        return
    pauses = wire.intervals
    within = _count_in(wire.begins, pauses[:, 0], pauses[:, 1])
    rests_s = float((np.minimum(pauses[:, 1], wire.until_s) - pauses[:, 0]).sum())
    allowed_s = wire.until_s - signal.in_seconds(signal.begin) - rests_s
    share = int(within.sum()) / len(wire.begins) if len(wire.begins) else 0.0
    is_shown = len(wire.begins) >= FEWEST and np.count_nonzero(within) > 1 and len(signal) > 2
    own = _is_own_signal(wire, signal.edges_s)
    if is_shown and share >= REVERSED and allowed_s > LONG_CHARACTERS * wire.character_s:
        yield make_finding("pause-reversed", wire.key, share=share, own=own)
    elif own:
        yield make_finding("pause-reversed", wire.key, never=True, own=True)
    else:
        yield from _judge(wire, others_s)


def _is_own_signal(wire: _Wire, changes_s: Seconds) -> bool:
    """Return whether a signal follows the sender's own characters: that is its RTS, and not what it waits for."""
    if len(changes_s) < FEWEST_CHANGES or not len(wire.begins):
        return False
    soon_s = SOON_CHARACTERS * wire.character_s
    ends = wire.begins + wire.character_s
    before = np.searchsorted(wire.begins, changes_s) - 1
    since_last = changes_s - np.where(before >= 0, ends[np.maximum(before, 0)], -np.inf)
    until_next = np.append(wire.begins, np.inf)[before + 1] - changes_s
    is_outside = since_last >= 0
    begins_burst = (until_next < soon_s) & (since_last > soon_s)
    ends_burst = (since_last < soon_s) & (until_next > soon_s)
    surrounds = is_outside.all() and (begins_burst | ends_burst).all() and begins_burst.any() and ends_burst.any()
    return bool(surrounds)


def _judge(wire: _Wire, others_s: float) -> Iterator[Finding]:
    pauses = wire.intervals
    low = np.searchsorted(wire.begins, pauses[:, 0] + wire.grace_s)
    high = np.searchsorted(wire.begins, pauses[:, 1])
    late = np.maximum(high - low, 0)
    until = np.minimum(pauses[:, 1], wire.until_s)
    is_long = until - pauses[:, 0] >= LONG_CHARACTERS * wire.character_s
    is_ignored = is_long & (late >= THROUGH * (until - pauses[:, 0] - wire.grace_s) / wire.character_s)
    kept_after = np.flatnonzero(is_long & ~is_ignored & (late == 0) & _sends_around(wire, pauses))
    ignored = np.flatnonzero(is_ignored)
    if ignored.size:
        sent = int(late[ignored].sum())
        counts = {"sent": sent, "ignored": len(ignored), "long": int(is_long.sum())}
        is_kept = bool(kept_after.size and kept_after[0] > ignored[-1])
        kept_from_s = float(pauses[kept_after[0], 0]) if is_kept else None
        yield make_finding("pause-ignored", wire.key, _places(wire, low[ignored]), **counts, kept_from_s=kept_from_s)
    wrong = np.flatnonzero((late > 0) & ~is_ignored)
    if wrong.size:
        yield make_finding(
            "sent-while-paused",
            wire.key,
            _places(wire, low[wrong]),
            late=int(late[wrong].sum()),
            allowed_s=wire.grace_s,
            most_late=int(late[wrong].max()),
            pauses=len(pauses),
            latest_s=float((wire.begins[high[wrong] - 1] - pauses[wrong, 0]).max()),
            after=int(_count_in(wire.begins, pauses[wrong, 0], pauses[wrong, 1]).max()),
        )
    yield from _judge_end(wire, pauses, late, others_s)


def _places(wire: _Wire, low: npt.NDArray[np.intp]) -> Places:
    """Return the places of data characters by their numbers among these."""
    begins_s = wire.begins[low]
    return Places.at(wire.place_of(begins_s), begins_s)


def _sends_around(wire: _Wire, pauses: Seconds) -> Mask:
    """Return which pauses met the sender while it was sending, so that it shows whether it kept them."""
    near_s = NEAR_CHARACTERS * wire.character_s
    return _count_in(wire.begins, pauses[:, 0] - near_s, pauses[:, 0] + near_s) > 0


def _judge_end(wire: _Wire, pauses: Seconds, late: npt.NDArray[np.intp], others_s: float) -> Iterator[Finding]:
    """Yield that the last pause never ended, if it lasts far longer than any other and the sender keeps to it."""
    if not len(pauses) or np.isfinite(pauses[-1, 1]) or late[-1]:
        return
    lasted_s = wire.until_s - pauses[-1, 0]
    others_s = float((pauses[:-1, 1] - pauses[:-1, 0]).max(initial=others_s))
    if lasted_s < max(FOREVER * others_s, FOREVER_CHARACTERS * wire.character_s):
        return
    yield make_finding("never-resumed", wire.key, Places.at(None, pauses[-1:, 0]), lasted_s=lasted_s)


def _count_in(begins: Seconds, since: Seconds, until: Seconds) -> npt.NDArray[np.intp]:
    counts: npt.NDArray[np.intp] = np.maximum(np.searchsorted(begins, until) - np.searchsorted(begins, since), 0)
    return counts


def _between_xoff_and_xon(result: Characters, inside: Mask | None) -> Seconds:
    """Return from when to when the other end was asked to pause: float64, shape (n, 2)."""
    is_control = ((result.value == XON) | (result.value == XOFF)) & (result.faults == 0)
    asks = np.flatnonzero(is_control if inside is None else is_control & ~inside)
    stops = result.value[asks] == XOFF
    turns = asks[np.diff(stops, prepend=False)] if len(asks) else asks  # XOFF after XOFF changes nothing
    return _pairs(result.end_s[turns])


def _not_clear(signal: Trace, clear: int) -> Seconds:
    """Return from when to when a clear-to-send signal forbids sending: float64, shape (n, 2)."""
    times = signal.edges_s
    if signal.first_level != clear:
        times = np.concatenate([[signal.in_seconds(signal.begin)], times])
    return _pairs(times)


def _pairs(times: Seconds) -> Seconds:
    if len(times) % 2:
        times = np.append(times, np.inf)
    return times.reshape(-1, 2)
