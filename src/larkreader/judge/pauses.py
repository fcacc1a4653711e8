"""Whether a sender pauses when it is told to: by XOFF on the other wire, or by its clear-to-send signal."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.sheet import Sheet

from .findings import Finding, make_finding, number_of

Seconds = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]

XON, XOFF = 0x11, 0x13  # DC1 and DC3 of ECMA-48
GRACE_CHARACTERS = 2.0  # character times in which what the hardware has taken already goes out
LONG_CHARACTERS = 8.0  # character times from which on a pause shows whether the sender goes on through it
THROUGH = 0.8  # of the characters that a pause has time for, which a sender that ignores it sends
REVERSED = 0.9  # of the characters that are sent while that is forbidden, where the levels are reversed
FEWEST = 10  # characters that tell of reversed levels
FEWEST_CHANGES = 5  # of a signal, by which it may be told that it follows the sender
SOON_CHARACTERS = 3.0  # character times within which one thing follows another
FOREVER = 4.0  # times as long as any other pause, from which on one counts as never ended
FOREVER_CHARACTERS = 20.0  # character times, at least


@dataclass(frozen=True)
class _Wire:
    """A wire whose sender is to pause: when its data characters begin, and how long one takes."""

    key: str
    told: Characters
    begins: Seconds
    character_s: float
    until_s: float

    @property
    def grace_s(self) -> float:
        return GRACE_CHARACTERS * self.character_s

    def place_of(self, begin_s: float) -> int:
        return int(np.searchsorted(self.told.begin_s, begin_s))


def judge_pauses(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    clear: Mapping[str, Trace] | None = None,
    inside: Mapping[str, Mask] | None = None,
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

    Yields
    ------
    Finding
    """
    inside, clear = inside or {}, clear or {}
    until_s = max((float(told.end_s[-1]) for told in characters.values() if told.has_times), default=0.0)
    for key, told in characters.items():
        flow = sheet.wire[key].line.flow_control
        if flow == "xon-xoff":
            yield from _judge_payload(key, told, inside.get(key))
        if not told.has_times or flow == "none":
            continue
        character_s = sheet.wire[key].line.character_time_s
        if flow == "rts-cts" and key in clear:
            signal = clear[key]
            until_s = max(until_s, (signal.end or 0) * signal.tick_s)
            wire = _Wire(key, told, told.begin_s, character_s, until_s)
            yield from _judge_clear(wire, signal, sheet.wire[key].clear_level)
        elif flow == "xon-xoff":
            others = [other for other in characters if other != key and characters[other].has_times]
            if len(others) == 1:
                is_data = (told.value != XON) & (told.value != XOFF)  # what it asks for itself is no data
                wire = _Wire(key, told, told.begin_s[is_data], character_s, until_s)
                yield from _judge(wire, _between_xoff_and_xon(characters[others[0]], inside.get(others[0])))


def _judge_payload(wire: str, told: Characters, inside: Mask | None) -> Iterator[Finding]:
    if inside is None:
        return
    places = np.flatnonzero(inside & ((told.value == XON) | (told.value == XOFF)))
    if places.size:
        first = int(places[0])
        first_s = float(told.begin_s[first]) if told.has_times else None
        yield make_finding("control-in-payload", wire, len(places), first_s=first_s, offset=first)


def _judge_clear(wire: _Wire, signal: Trace, clear_level: str) -> Iterator[Finding]:
    clear = 1 if clear_level == "high" else 0
    if not len(signal):
        forbids = signal.first_level != clear
        detail = f"It stayed at level {signal.first_level}, which {'forbids' if forbids else 'allows'} sending"
        count = number_of(len(wire.begins), "character")
        detail += f", and {count} {'was' if len(wire.begins) == 1 else 'were'} sent all the same." if forbids else "."
        if len(wire.begins) or forbids:
            yield make_finding("clear-never-moves", wire.key, 1, detail=detail)
        return
    pauses = _not_clear(signal, clear)
    within = _count_in(wire.begins, pauses[:, 0], pauses[:, 1])
    rests_s = float((np.minimum(pauses[:, 1], wire.until_s) - pauses[:, 0]).sum())
    allowed_s = wire.until_s - signal.begin * signal.tick_s - rests_s
    share = int(within.sum()) / len(wire.begins)
    is_told = len(wire.begins) >= FEWEST and np.count_nonzero(within) > 1 and len(signal) > 2
    if is_told and share >= REVERSED and allowed_s > LONG_CHARACTERS * wire.character_s:
        detail = f"{share:.0%} of its characters begin while the signal forbids it."
        detail += _own_signal(wire, signal.edges_s)
        yield make_finding("pause-reversed", wire.key, 1, detail=detail)
        return
    if own := _own_signal(wire, signal.edges_s):
        detail = f"No character is ever held back by it.{own}"
        yield make_finding("pause-reversed", wire.key, 1, detail=detail, meaning="")
        return
    yield from _judge(wire, pauses)


def _own_signal(wire: _Wire, changes_s: Seconds) -> str:
    """Say that a signal follows the sender's own characters, if it does: that is its RTS, and not what it waits for."""
    if len(changes_s) < FEWEST_CHANGES or not len(wire.begins):
        return ""
    soon_s = SOON_CHARACTERS * wire.character_s
    ends = wire.begins + wire.character_s
    before = np.searchsorted(wire.begins, changes_s) - 1
    since_last = changes_s - np.where(before >= 0, ends[np.maximum(before, 0)], -np.inf)
    until_next = np.append(wire.begins, np.inf)[before + 1] - changes_s
    is_outside = since_last >= 0
    begins_burst = (until_next < soon_s) & (since_last > soon_s)
    ends_burst = (since_last < soon_s) & (until_next > soon_s)
    if is_outside.all() and (begins_burst | ends_burst).all() and begins_burst.any() and ends_burst.any():
        return " Each change surrounds the sender's own characters: it is the sender's RTS, taken for its CTS."
    return ""


def _judge(wire: _Wire, pauses: Seconds) -> Iterator[Finding]:
    low = np.searchsorted(wire.begins, pauses[:, 0] + wire.grace_s)
    high = np.searchsorted(wire.begins, pauses[:, 1])
    late = np.maximum(high - low, 0)
    until = np.minimum(pauses[:, 1], wire.until_s)
    is_long = until - pauses[:, 0] >= LONG_CHARACTERS * wire.character_s
    is_ignored = is_long & (late >= THROUGH * (until - pauses[:, 0] - wire.grace_s) / wire.character_s)
    kept_after = np.flatnonzero(is_long & ~is_ignored & (late == 0) & _sends_around(wire, pauses))
    ignored = np.flatnonzero(is_ignored)
    if ignored.size:
        yield _ignored(wire, pauses, ignored, int(is_long.sum()), kept_after, late, low)
    wrong = np.flatnonzero((late > 0) & ~is_ignored)
    if wrong.size:
        yield _late(wire, pauses, wrong, late, low, high)
    yield from _judge_end(wire, pauses, late)


def _sends_around(wire: _Wire, pauses: Seconds) -> Mask:
    """Tell which pauses the sender came upon while it was sending, so that it shows whether it kept them."""
    near_s = GRACE_CHARACTERS * wire.character_s
    return _count_in(wire.begins, pauses[:, 0] - near_s, pauses[:, 0] + near_s) > 0


def _ignored(
    wire: _Wire,
    pauses: Seconds,
    ignored: npt.NDArray[np.intp],
    long: int,
    kept: npt.NDArray[np.intp],
    late: npt.NDArray[np.intp],
    low: npt.NDArray[np.intp],
) -> Finding:
    first_s = float(wire.begins[low[ignored[0]]])
    detail = f"{number_of(int(late[ignored].sum()), 'character')} went out in {len(ignored):,} of "
    detail += f"{number_of(long, 'pause')} long enough to show it."
    if kept.size and kept[0] > ignored[-1]:
        detail += f" From {pauses[kept[0], 0]:.6f} s on pauses are kept: it was switched on by then."
    return make_finding(
        "pause-ignored", wire.key, len(ignored), first_s=first_s, offset=wire.place_of(first_s), detail=detail
    )


def _late(
    wire: _Wire,
    pauses: Seconds,
    wrong: npt.NDArray[np.intp],
    late: npt.NDArray[np.intp],
    low: npt.NDArray[np.intp],
    high: npt.NDArray[np.intp],
) -> Finding:
    first_s = float(wire.begins[low[wrong[0]]])
    latest_s = float((wire.begins[high[wrong] - 1] - pauses[wrong, 0]).max())
    after = int(_count_in(wire.begins, pauses[wrong, 0], pauses[wrong, 1]).max())
    detail = (
        f"{number_of(int(late.sum()), 'character')} began while the wire was to pause, at most {int(late.max())} in "
        f"one of {number_of(len(pauses), 'pause')}, the last {latest_s * 1e3:.3g} ms after it was asked for; with "
        f"those that hardware may still send, up to {number_of(after, 'character')} came after the request."
    )
    return make_finding(
        "sent-while-paused", wire.key, len(wrong), first_s=first_s, offset=wire.place_of(first_s), detail=detail
    )


def _judge_end(wire: _Wire, pauses: Seconds, late: npt.NDArray[np.intp]) -> Iterator[Finding]:
    """Yield that the last pause never ended, if it lasts far longer than any other and the sender keeps to it."""
    if not len(pauses) or np.isfinite(pauses[-1, 1]) or late[-1]:
        return
    lasted_s = wire.until_s - pauses[-1, 0]
    others_s = float((pauses[:-1, 1] - pauses[:-1, 0]).max(initial=0.0))
    if lasted_s < max(FOREVER * others_s, FOREVER_CHARACTERS * wire.character_s):
        return
    first_s = float(pauses[-1, 0])
    detail = f"From then to the end of the capture, {lasted_s:.4g} s, the wire rests."
    yield make_finding("never-resumed", wire.key, 1, first_s=first_s, detail=detail)


def _count_in(begins: Seconds, since: Seconds, until: Seconds) -> npt.NDArray[np.intp]:
    counts: npt.NDArray[np.intp] = np.maximum(np.searchsorted(begins, until) - np.searchsorted(begins, since), 0)
    return counts


def _between_xoff_and_xon(told: Characters, inside: Mask | None) -> Seconds:
    """Return from when to when the other end was asked to pause: float64, shape (n, 2)."""
    is_control = ((told.value == XON) | (told.value == XOFF)) & (told.faults == 0)
    asks = np.flatnonzero(is_control if inside is None else is_control & ~inside)
    stops = told.value[asks] == XOFF
    turns = asks[np.diff(stops, prepend=False)] if len(asks) else asks  # XOFF after XOFF changes nothing
    return _pairs(told.end_s[turns])


def _not_clear(signal: Trace, clear: int) -> Seconds:
    """Return from when to when a clear-to-send signal forbids sending: float64, shape (n, 2)."""
    times = signal.edges_s
    if signal.first_level != clear:
        times = np.concatenate([[signal.begin * signal.tick_s], times])
    return _pairs(times)


def _pairs(times: Seconds) -> Seconds:
    if len(times) % 2:
        times = np.append(times, np.inf)
    return times.reshape(-1, 2)
