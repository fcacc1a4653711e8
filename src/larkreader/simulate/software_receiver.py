"""A receiver in software, which watches the line itself, and hears nothing while it is kept from doing so.

It is played bit by bit. A change to start level while it is deaf is missed; a sample that is due then is
taken when it hears again, of whatever bit is on the line by that time. So it misses characters, locks onto data bits of
others, and reports framing errors, although the line is sound.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.declare.paths.receive_path import ServiceBlackout
from larkreader.decode.characters.bit_levels import levels_of
from larkreader.decode.characters.receive import expected_parity

from .blackouts import Blackouts

SAME = 0.25  # of a bit, within which two starts are the same


@dataclass(frozen=True)
class SoftwareReception:
    """What a receiver in software made of a wire.

    Parameters
    ----------
    characters : Characters
        What it received.
    missed : ndarray of int64, shape (n_missed,)
        Numbers of the characters on the wire at whose starts it received nothing.
    misread : ndarray of int64, shape (n_misread,)
        Numbers of those that it received otherwise than they were.
    spurious : ndarray of int64, shape (n_spurious,)
        Numbers of characters in `characters` that begin where none does.
    """

    characters: Characters
    missed: npt.NDArray[np.int64]
    misread: npt.NDArray[np.int64]
    spurious: npt.NDArray[np.int64]


def trace_of(characters: Characters, line: LineSettings, tick_s: float = 1e-9) -> Trace:
    """Return the trace of characters with times, as a perfect sender puts them on a wire.

    Parameters
    ----------
    characters : Characters
        With times; faults are put on the wire too.
    line : LineSettings
        The line's settings.
    tick_s : float
        Length of a tick of the trace, in seconds.

    Returns
    -------
    Trace
        The level changes.
    """
    levels = levels_of(characters.value, line, characters.faults)
    turns = np.flatnonzero(np.diff(levels, axis=1, prepend=1).reshape(-1))
    row, bit = np.divmod(turns, levels.shape[1])
    edges = np.rint((characters.begin_s[row] + bit * line.bit_time_s) / tick_s).astype(np.int64)
    begin = int(edges[0]) - round(line.character_time_s / tick_s) if len(edges) else 0
    end = round(float(characters.end_s[-1] + line.character_time_s) / tick_s) if len(characters) else 0
    return Trace(edges, tick_s, 1 if line.idle == "high" else 0, begin=begin, end=end)


def receive_in_software(
    trace: Trace,
    line: LineSettings,
    deaf: tuple[ServiceBlackout, ...],
    *,
    start: Literal["change", "level", "latched"] = "change",
) -> Characters:
    """Receive the characters of a wire in software.

    Parameters
    ----------
    trace : Trace
        The wire's level changes.
    line : LineSettings
        The receiver's settings.
    deaf : tuple of ServiceBlackout
        When it hears nothing.
    start : {"change", "level", "latched"}
        As in `SoftwareReceiver`.

    Returns
    -------
    Characters
        Without stretches in which it is deaf, those of `receive`.
    """
    edges = np.rint(trace.edges * (trace.tick_s * 1e9)).astype(np.int64).tolist()
    last = trace.end if trace.end is not None else trace.edges[-1] if len(trace) else trace.begin
    end = round(last * trace.tick_s * 1e9)
    inverted = line.idle == "low"
    idle_first = (trace.first_level == 1) != inverted
    blackouts = Blackouts(deaf)
    bit = 1e9 * line.bit_time_s
    at = round(trace.begin * trace.tick_s * 1e9)
    starts, values, faults, false_starts = [], [], [], []

    def is_idle(moment: int) -> bool:
        return (bisect_right(edges, moment) % 2 == 0) == idle_first

    while (begin := _next_start(edges, at, blackouts, idle_first, start)) is not None:
        half = blackouts.after(round(begin + bit / 2))
        if half > end:
            break
        if is_idle(half):
            false_starts.append(begin)
            at = half
            continue
        samples = [blackouts.after(round(begin + (place + 0.5) * bit)) for place in range(1, line.stop_position + 1)]
        if samples[-1] > end:
            break
        levels = [is_idle(moment) for moment in samples]
        value, fault = _judge(levels, line)
        starts.append(begin)
        values.append(value)
        faults.append(fault)
        at = samples[-1]
    begin_s = np.array(starts, dtype=np.float64) * 1e-9
    return Characters(
        begin_s,
        begin_s + line.character_time_s,
        np.array(values, dtype=np.uint16),
        np.array(faults, dtype=np.uint8),
        np.array(false_starts, dtype=np.float64) * 1e-9,
    )


def compare_reception(sent: Characters, reception: Characters, line: LineSettings) -> SoftwareReception:
    """Return which characters of a wire a receiver missed, misread or invented.

    Parameters
    ----------
    sent : Characters
        What was on the wire.
    reception : Characters
        What the receiver made of it.
    line : LineSettings
        The line's settings.

    Returns
    -------
    SoftwareReception
        Which characters were received right, wrong, or not at all.
    """
    place = np.searchsorted(sent.begin_s, reception.begin_s - SAME * line.bit_time_s)
    near = np.append(sent.begin_s, np.inf)[place]
    is_same = np.abs(near - reception.begin_s) <= SAME * line.bit_time_s
    owner = place[is_same]
    differs = (reception.value[is_same] != sent.value[owner]) | (reception.faults[is_same] != sent.faults[owner])
    known = np.zeros(len(sent), np.bool_)
    known[owner] = True
    return SoftwareReception(reception, np.flatnonzero(~known), owner[differs], np.flatnonzero(~is_same))


def _next_start(edges: list[int], at: int, blackouts: Blackouts, idle_first: bool, start: str) -> int | None:
    """Return the next moment that the receiver takes for the beginning of a start bit; None if there is none."""
    while True:
        hears_at = blackouts.after(at)
        if start == "level" and (bisect_right(edges, hears_at) % 2 == 0) != idle_first:
            return hears_at
        place = bisect_left(edges, at)
        if (place % 2 == 0) != idle_first:
            place += 1  # this change leads to idle level
        if place >= len(edges):
            return None
        stretch = blackouts.around(edges[place])
        if stretch is None:
            return edges[place]
        if start == "latched":
            return stretch[1]
        at = stretch[1]


def _judge(levels: list[bool], line: LineSettings) -> tuple[int, int]:
    """Return the value and the faults of a character: the levels of its data, parity and stop bits."""
    data = levels[: line.data_bits]
    bits = data if line.first_bit == "lsb" else data[::-1]
    value = sum(1 << place for place, is_set in enumerate(bits) if is_set)
    if not any(levels):
        return value, Fault.BREAK
    fault = 0 if levels[-1] else Fault.FRAMING
    if line.has_parity:
        wanted = int(expected_parity(np.array([value], dtype=np.uint16), line)[0])
        fault |= 0 if int(levels[line.data_bits]) == wanted else Fault.PARITY
    return value, int(fault)
