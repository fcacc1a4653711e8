"""Whether a sender pauses when it is told to: by XOFF on the other wire, or by its clear-to-send signal."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.sheet import Sheet

from .findings import Finding, make_finding, number_of

Seconds = npt.NDArray[np.float64]

XON, XOFF = 0x11, 0x13  # DC1 and DC3 of ECMA-48
GRACE_CHARACTERS = 2.0  # character times in which what the hardware has taken already goes out


def judge_pauses(
    sheet: Sheet, characters: Mapping[str, Characters], clear: Mapping[str, Trace] | None = None
) -> Iterator[Finding]:
    """Yield where a wire with flow control goes on while it should pause.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    characters : mapping of str to Characters
        By wire, with times.
    clear : mapping of str to Trace, optional
        The clear-to-send signal of each wire that has one.
    """
    for key, told in characters.items():
        flow = sheet.wire[key].line.flow_control
        if not told.has_times or flow == "none":
            continue
        pauses = None
        if flow == "rts-cts" and clear and key in clear:
            pauses = _not_clear(clear[key], sheet.wire[key].clear_level)
        elif flow == "xon-xoff":
            others = [other for other in characters if other != key and characters[other].has_times]
            pauses = _between_xoff_and_xon(characters[others[0]]) if len(others) == 1 else None
        if pauses is not None:
            yield from _judge(key, told, pauses, GRACE_CHARACTERS * sheet.wire[key].line.character_time_s, flow)


def _judge(wire: str, told: Characters, pauses: Seconds, grace_s: float, flow: str) -> Iterator[Finding]:
    starts = told.begin_s
    if flow == "xon-xoff":  # what the sender asks for itself is no data
        starts = starts[(told.value != XON) & (told.value != XOFF)]
    low, high = np.searchsorted(starts, pauses[:, 0] + grace_s), np.searchsorted(starts, pauses[:, 1])
    late = np.maximum(high - low, 0)
    wrong = np.flatnonzero(late)
    if not wrong.size:
        return
    first_s = float(starts[low[wrong[0]]])
    detail = f"{number_of(int(late.sum()), 'character')} began while the wire was to pause, at most {int(late.max())} "
    detail += f"in one of {number_of(len(pauses), 'pause')}."
    offset = int(np.searchsorted(told.begin_s, first_s))
    yield make_finding("sent-while-paused", wire, len(wrong), first_s=first_s, offset=offset, detail=detail)


def _between_xoff_and_xon(told: Characters) -> Seconds:
    """Return from when to when the other end was asked to pause: float64, shape (n, 2)."""
    asks = np.flatnonzero(((told.value == XON) | (told.value == XOFF)) & (told.faults == 0))
    stops = told.value[asks] == XOFF
    turns = asks[np.diff(stops, prepend=False)] if len(asks) else asks  # XOFF after XOFF changes nothing
    times = told.end_s[turns]
    return _pairs(times)


def _not_clear(signal: Trace, clear_level: str) -> Seconds:
    """Return from when to when a clear-to-send signal forbids sending: float64, shape (n, 2)."""
    clear = 1 if clear_level == "high" else 0
    times = signal.edges_s
    if signal.first_level != clear:
        times = np.concatenate([[signal.begin * signal.tick_s], times])
    return _pairs(times)


def _pairs(times: Seconds) -> Seconds:
    if len(times) % 2:
        times = np.append(times, np.inf)
    return times.reshape(-1, 2)
