"""Trace to characters, as an ordinary UART receives.

A start is a change from idle level to start level while no character is in progress. Half a bit later the line
must still be at start level, else it was a false start. Data, parity and the first stop bit are each judged at
their middle, timed from that change. From the middle of the first stop bit on, the next start is looked for.

Every change to start level is a candidate. How many candidates further its successor would be follows from
comparing times alone; `follow_chain` then shows which candidates are starts. Only those are sampled, by
`sample_words`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.link.line import LineSettings
from larkreader.decode.chain import follow_chain

from .instants import Instants
from .words import Words, sample_words

Ticks = npt.NDArray[np.int64]

BLOCK = 1 << 14  # characters worked on at once, so that temporaries stay in the processor's cache
MANY_CANDIDATES = 48  # within a character, beyond which they are searched instead of compared


def receive(
    trace: Trace, line: LineSettings, *, samples: int = 1, oversampling: int | None = None, check_stops: bool = False
) -> Characters:
    """Read the characters that the level changes of one wire spell.

    Parameters
    ----------
    trace : Trace
        Level changes of one wire: ``edges``, int64 of shape (n_edges,), in ticks of ``tick_s`` seconds.
    line : LineSettings
        Baud and character format that the wire is declared to carry.
    samples : {1, 3}
        How often a bit is sampled: once in its middle, or at 7, 8 and 9 sixteenths, of which the majority
        counts. Where the three disagree the character has the fault `Fault.NOISE`.
    oversampling : {8, 16}, optional
        Look at the wire as hardware does, so many times a bit by a clock of its own that runs from tick 0 of the
        capture: a start edge is seen with the next tick of that clock, and what lies between two ticks not at all.
        A majority is then of the middle tick and its neighbours. Unless given, the wire is looked at all the time.
    check_stops : bool
        Whether the second stop bit, where one is declared, is looked at too, in its middle; the fault
        `Fault.SHORT_STOP` says that the line was not at idle level there.

    Returns
    -------
    Characters
        One row for each start found, in order of time, every column of shape (n_characters,):

        - ``begin_s`` : float64. Leading edge of the start bit, in seconds on the clock of the capture.
        - ``end_s`` : float64. End of the last stop bit, in seconds.
        - ``value`` : uint16. The data bits alone; kept even when a check fails.
        - ``address_mark`` : bool. The ninth bit, on a line where that marks addresses; not there on another.
        - ``faults`` : uint8. Its faults, as flags of `Fault`.

    Raises
    ------
    CaptureError
        If a bit lasts fewer than three ticks of the trace, which is too coarse to find its middle.
    RequestError
        If `samples` is neither 1 nor 3, or `oversampling` neither 8 nor 16.

    See Also
    --------
    CharacterReader : The same in pieces.
    transmit : The way back. ``receive(transmit(x, line), line)`` gives ``x``.

    Notes
    -----
    A damaged character is a row, never an exception. A character that the end of the capture cuts off is not a row;
    ``unfinished_s`` says where it began. Where unknown when recording ended, a wire at idle level is taken
    to stay there. Time grows with the number of edges, whatever the data.

    Examples
    --------
    An ``A`` (0x41) at 9600 baud leaves idle at bit time 0 and changes again at 1, 2, 7, 8 and 9.

    >>> trace = lr.Trace.from_seconds(np.array([0, 1, 2, 7, 8, 9]) / 9600, first_level=1)
    >>> characters = lr.receive(trace, lr.LineSettings.parse("9600 8N1"))
    >>> characters.value, characters.faults
    (array([65], dtype=uint16), array([0], dtype=uint8))

    Declared as seven data bits with odd parity, the same wire disagrees:

    >>> lr.receive(trace, lr.LineSettings.parse("9600 7O1")).faults == lr.Fault.PARITY
    array([ True])
    """
    instants = Instants.of(trace, line, samples, oversampling)
    found = find_characters(instants.clocked(trace), line, instants, check_stops=check_stops)
    return found.characters(line, trace.truncated)


@dataclass(frozen=True, eq=False)
class Found:
    """What a stretch of a wire holds, times in ticks of its own trace.

    Parameters
    ----------
    begin : ndarray of int64
        Start edges, in ticks.
    begin_s, end_s, value, faults : ndarray
        As in `Characters`.
    false_starts : ndarray of int64
        Changes to start level that had gone half a bit later.
    unfinished : int or None
        Start edge of a character that is not all there.
    trace : Trace
        The stretch.
    starts_mid_character : bool
        Whether it begins at start level.
    """

    begin: Ticks
    begin_s: npt.NDArray[np.float64]
    end_s: npt.NDArray[np.float64]
    value: npt.NDArray[np.uint16]
    faults: npt.NDArray[np.uint8]
    false_starts: Ticks
    unfinished: int | None
    trace: Trace
    starts_mid_character: bool

    def characters(self, line: LineSettings, truncated: str = "") -> Characters:
        """Return the characters with times in seconds."""
        result = Characters(
            begin_s=self.begin_s,
            end_s=self.end_s,
            value=self.value,
            faults=self.faults,
            false_starts_s=self.trace.in_seconds(self.false_starts),
            starts_mid_character=self.starts_mid_character,
            unfinished_s=None if self.unfinished is None else self.trace.in_seconds(self.unfinished),
            truncated=truncated,
        )
        return result.with_ninth_bit_apart() if line.has_address_mark else result


def find_characters(trace: Trace, line: LineSettings, instants: Instants, *, check_stops: bool) -> Found:
    """Find the characters of a trace whose ticks are those of `instants`."""
    idle = 1 if line.idle == "high" else 0
    first = 0 if trace.first_level == idle else 1  # which edge is the first change to start level
    starts = trace.edges[first::2].copy()
    valid = _still_at_start_level(trace.edges, starts, first, instants)
    steps = _steps(starts, valid, instants)
    members = follow_chain(steps)
    false = _where_false(valid)
    false_starts = starts[false[members[false]]]
    members[false] = False
    chosen = np.flatnonzero(members)
    chosen, unfinished = _cut_off(chosen, starts, trace, idle, instants)

    value = np.empty(len(chosen), dtype=np.uint16)
    faults = np.empty(len(chosen), dtype=np.uint8)
    values_of, faults_of = _meaning(line)
    for low in range(0, len(chosen), BLOCK):
        words, noisy = _judge(trace.edges, 2 * chosen[low : low + BLOCK] + first, instants)
        index = words.astype(np.intp)
        value[low : low + BLOCK] = values_of.take(index)
        faults[low : low + BLOCK] = faults_of.take(index)
        if noisy is not None:
            faults[low : low + BLOCK][noisy] |= np.uint8(Fault.NOISE)

    begin = starts.take(chosen, mode="clip")
    if check_stops and line.stop_bits > 1:
        at_idle = _level_at(trace, begin + instants.second_stop) == idle
        faults[~at_idle & (faults & np.uint8(Fault.BREAK | Fault.FRAMING) == 0)] |= np.uint8(Fault.SHORT_STOP)
    if len(trace.unknown):
        faults[_unknown_within(begin, instants.last, trace.unknown)] |= np.uint8(Fault.UNKNOWN_LEVEL)
    begin_s = trace.in_seconds(begin)
    end_s = _ends(begin, begin_s, faults, trace, line, instants)
    return Found(begin, begin_s, end_s, value, faults, false_starts, unfinished, trace, trace.first_level != idle)


def _level_at(trace: Trace, at: Ticks) -> npt.NDArray[np.int64]:
    """Return the level at some ticks."""
    return trace.first_level ^ (np.searchsorted(trace.edges, at, side="right") & 1)


def _judge(edges: Ticks, at: Ticks, instants: Instants) -> tuple[Words, npt.NDArray[np.bool_] | None]:
    """Sample the characters that begin at edges number `at`; return their words, and which are noisy."""
    if len(instants.rows) == 1:
        return sample_words(edges, at, instants.rows[0]), None
    early, middle, late = (sample_words(edges, at, row) for row in instants.rows)
    return (early & middle) | (middle & late) | (early & late), (early != middle) | (middle != late)


def _still_at_start_level(edges: Ticks, starts: Ticks, first: int, instants: Instants) -> npt.NDArray[np.bool_]:
    """Return which changes to start level have lasted until the middle of the start bit."""
    ends = edges[first + 1 :: 2]
    valid = np.ones(len(starts), dtype=np.bool_)
    for low in range(0, len(ends), BLOCK):
        here = ends[low : low + BLOCK]
        np.greater(here - starts[low : low + len(here)], instants.start, out=valid[low : low + len(here)])
    doubtful = _where_false(valid)
    if doubtful.size:
        start_bit = Instants(instants.rows[:, :1])
        words, _ = _judge(edges, 2 * doubtful + first, start_bit)
        valid[doubtful] = words == 1
    return valid


def _where_false(mask: npt.NDArray[np.bool_]) -> npt.NDArray[np.intp]:
    """Return which elements are false: none, most often, which is found sooner."""
    return np.empty(0, np.intp) if mask.all() else np.flatnonzero(~mask)


def _steps(starts: Ticks, valid: npt.NDArray[np.bool_], instants: Instants) -> npt.NDArray[np.integer]:
    """Return how many candidates further the successor of each candidate would be."""
    reach = instants.last
    steps: npt.NDArray[np.integer] = np.ones(len(starts), dtype=np.uint8)
    for low in range(0, len(starts), BLOCK):
        here = starts[low : low + BLOCK]
        limit = here + reach
        for further in range(1, MANY_CANDIDATES):
            later = starts[low + further : low + further + len(here)]
            within = later <= limit[: len(later)]
            if not within.any():
                break
            steps[low : low + len(later)] += within.view(np.uint8)
        else:
            exact = np.searchsorted(starts, limit, side="right") - np.arange(low, low + len(here))
            steps = _with(steps, slice(low, low + BLOCK), exact)
    false = _where_false(valid)
    return _with(steps, false, np.searchsorted(starts, starts[false] + instants.start, side="right") - false)


def _with(steps: npt.NDArray[np.integer], at: slice | Ticks, others: Ticks) -> npt.NDArray[np.integer]:
    """Return steps with others at some places, in wider numbers if they need them."""
    if len(others) and int(others.max()) > np.iinfo(steps.dtype).max:
        steps = steps.astype(np.int64)
    steps[at] = others
    return steps


def _cut_off(chosen: Ticks, starts: Ticks, trace: Trace, idle: int, instants: Instants) -> tuple[Ticks, int | None]:
    """Take away the last character if the end of the capture cuts it off; return where it began."""
    if not len(chosen):
        return chosen, None
    end = trace.end
    if end is None and trace.last_level != idle:
        end = int(trace.edges[-1])
    if end is None or starts[chosen[-1]] + instants.last <= end:
        return chosen, None
    return chosen[:-1], int(starts[chosen[-1]])


def _meaning(line: LineSettings) -> tuple[npt.NDArray[np.uint16], npt.NDArray[np.uint8]]:
    """Tabulate value and faults of every word; a set bit is a sample at start level, a logical 0."""
    words = np.arange(1 << line.stop_position + 1, dtype=np.uint16)
    ones = ~words
    value = np.zeros(len(words), dtype=np.uint16)
    for bit in range(line.data_bits):
        weight = bit if line.first_bit == "lsb" else line.data_bits - 1 - bit
        value |= (ones >> bit + 1 & 1) << weight
    faults = np.zeros(len(words), dtype=np.uint8)
    if line.has_parity:
        parity_bit = ones >> 1 + line.data_bits & 1
        faults[parity_bit != expected_parity(value, line)] |= np.uint8(Fault.PARITY)
    faults[words >> line.stop_position & 1 == 1] |= np.uint8(Fault.FRAMING)
    faults[words == len(words) - 1] = np.uint8(Fault.BREAK)
    return value, faults


def expected_parity(value: npt.NDArray[np.uint16], line: LineSettings) -> npt.NDArray[np.uint16]:
    """Return the parity bit that belongs to each value: uint16 of 0 and 1, of the shape of `value`."""
    if line.parity in ("M", "S"):
        return np.full(value.shape, line.parity == "M", dtype=np.uint16)
    odd_ones = (np.bitwise_count(value) & 1).astype(np.uint16)
    return odd_ones if line.parity == "E" else odd_ones ^ np.uint16(1)


def _unknown_within(begin: Ticks, length: int, unknown: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Return which characters overlap a stretch whose level is not known."""
    span = np.searchsorted(unknown[:, 1], begin, side="right")
    opens = np.append(unknown[:, 0], np.iinfo(np.int64).max)
    overlaps: npt.NDArray[np.bool_] = opens[span] <= begin + length
    return overlaps


def _ends(
    begin: Ticks,
    begin_s: npt.NDArray[np.float64],
    faults: npt.NDArray[np.uint8],
    trace: Trace,
    line: LineSettings,
    instants: Instants,
) -> npt.NDArray[np.float64]:
    """Return when each character ends, in seconds."""
    end = begin_s + line.character_time_s
    np.minimum(end[:-1], begin_s[1:], out=end[:-1])
    breaks = np.flatnonzero(faults & np.uint8(Fault.BREAK))
    if breaks.size:
        idle_again = np.searchsorted(trace.edges, begin[breaks] + instants.last, side="right")
        times = np.append(trace.edges_s, trace.end_s)
        end[breaks] = times[idle_again]
    return end
