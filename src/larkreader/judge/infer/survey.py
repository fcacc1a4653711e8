"""What a wire really looks like, whatever was declared: polarity, baud, symmetry, jitter, glitches, pauses."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.median import median_of
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.link.line import Idle, LineSettings
from larkreader.decode.characters.receive import receive
from larkreader.judge.measure.levels import LevelSurvey, survey_levels

from .bit_time import BitTime, measure_bit
from .formats import OPPOSITE, FormatFit, fit_formats, in_declared_order

MESSAGE_GAP = 3.0  # character times of idle that end a message, at the least
PITCH_FIT = 0.2  # bits within which a distance between starts is one of whole characters
BACK_TO_BACK = (
    0.05  # of the characters that must follow their predecessor at the least distance, for that to be no pause
)
PLAIN_BITS = 8  # data bits up to which the highest may never change, as in text
FAULTLESS_BITS = 7.0  # what speaks at least for settings without a fault rather than for settings with some
FEWEST_VALUES = 8  # different characters from which a parity bit that agrees with all of them is not chance
FIRST = 64  # characters that are shown
BLOCK = 1 << 15  # characters whose changes are looked at together
FEWEST_CHARACTERS = 4  # from which the transmitter's clock is measured character by character


@dataclass(frozen=True)
class Spread:
    """The least, the median and the largest of some times, in seconds, and how many there are."""

    count: int
    least_s: float
    median_s: float
    most_s: float


@dataclass(frozen=True)
class Survey:
    """What a wire looks like.

    Parameters
    ----------
    edges : int
        How often the level changed.
    duration_s : float
        How long was recorded, in seconds.
    shortest_s : float or None
        The shortest stretch between two changes.
    idle : {"high", "low"} or None
        The level at which the wire rests; None where it is not certain.
    baud : float or None
        Bits a second of the transmitter's clock; None where no common bit time was found.
    baud_uncertainty_ppm : float
        Standard uncertainty of that, in millionths.
    deviation_ppm : float or None
        How much faster than declared the transmitter is, in millionths; None without a declared baud.
    asymmetry_s : float
        How much later changes to high come than changes to low.
    jitter_s : float
        Root mean square by which a change misses its time.
    glitches : int
        Stretches shorter than half a bit.
    idle_share : float
        Share of the time at idle level between messages and around them.
    characters : int
        How many were read under the format that fits best.
    character_gaps, message_gaps : Spread or None
        Idle time between characters of a message, and between messages: pauses of three character times or more.
    levels : LevelSurvey or None
        What the voltages look like; None where there are levels alone.
    first_values : tuple of int
        The first characters that were read under that format, 64 at most.
    best : FormatFit or None
        The settings under which the wire reads best, and how well.
    runner_up : FormatFit or None
        The next best that differ in more than the number of stop bits.
    alike : tuple of LineSettings
        Other settings under which the wire reads just as well: it never shows the bits in which they differ, or its
        values do not show which bit was sent first.
    """

    edges: int
    duration_s: float
    shortest_s: float | None = None
    idle: Idle | None = None
    baud: float | None = None
    baud_uncertainty_ppm: float = 0.0
    deviation_ppm: float | None = None
    asymmetry_s: float = 0.0
    jitter_s: float = 0.0
    glitches: int = 0
    idle_share: float = 1.0
    characters: int = 0
    character_gaps: Spread | None = None
    message_gaps: Spread | None = None
    levels: LevelSurvey | None = None
    first_values: tuple[int, ...] = ()
    best: FormatFit | None = None
    runner_up: FormatFit | None = None
    alike: tuple[LineSettings, ...] = ()

    @property
    def sureness(self) -> float:
        """How many bits speak for the best settings rather than for the next best; 0 without any."""
        if self.best is None:
            return 0.0
        if self.runner_up is None:
            return np.inf
        more = self.runner_up.cost - self.best.cost
        return max(more, FAULTLESS_BITS) if self.best.is_faultless and not self.runner_up.is_faultless else more

    def to_dict(self) -> dict[str, Any]:
        """Return the survey as JSON has it."""
        result = {key: value for key, value in asdict(self).items() if key not in ("best", "runner_up", "alike")}
        result["first_values"] = list(self.first_values)
        result["alike"] = [str(line) for line in self.alike]
        for key, fit in (("best", self.best), ("runner_up", self.runner_up)):
            result[key] = (
                None
                if fit is None
                else {
                    "line": str(fit.line),
                    "characters": fit.characters,
                    "faulty": fit.faulty,
                    "cost": round(fit.cost, 1),
                }
            )
        return result


def measure_wire(trace: Trace | Voltages, line: LineSettings | None = None) -> Survey:
    """Look at a wire without believing anything that was declared.

    Parameters
    ----------
    trace : Trace or Voltages
        Its level changes, or its voltages.
    line : LineSettings, optional
        What was declared, to measure how far the transmitter is from it.

    Returns
    -------
    Survey
        What the levels show: lengths, baud, formats that fit.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> seen = lr.measure_wire(lr.transmit(b"flow 12.5 mL/min" * 4, line, clock_error_ppm=8000), line)
    >>> seen.best.line.format, seen.idle, round(seen.deviation_ppm, -2)
    ('8E1', 'high', 8000.0)
    """
    if isinstance(trace, Voltages):
        levels = trace.to_trace()
        return replace(measure_wire(levels, line), levels=survey_levels(trace, levels))
    bit = measure_bit(trace)
    fits = [] if bit is None else fit_formats(trace, float(1 / (bit.ticks * trace.tick_s)))
    return survey_of(trace, bit, in_declared_order(fits, line), line)


def survey_of(trace: Trace, bit: BitTime | None, fits: list[FormatFit], line: LineSettings | None) -> Survey:
    """Return the survey of a wire whose bit time, if it has any, and formats are known."""
    tick_s = trace.tick_s
    duration_s = max(trace.end_s - trace.begin * tick_s, 0.0)
    shortest_s = float(np.diff(trace.edges).min()) * tick_s if len(trace) > 1 else None
    if bit is None:
        return Survey(len(trace), duration_s, shortest_s, _resting_level(trace))
    baud, uncertainty_ppm, jitter_s = 1 / (bit.ticks * tick_s), bit.uncertainty_ppm, bit.jitter_ticks * tick_s
    asymmetry_s = bit.asymmetry_ticks * tick_s
    best = fits[0] if fits else None
    runner_up, gaps, messages, characters, idle_share = None, None, None, 0, 1.0
    first_values: tuple[int, ...] = ()
    alike: tuple[LineSettings, ...] = ()
    if best is not None:
        different = [fit for fit in fits if _differs(fit.line, best.line)]
        faultless = [fit for fit in different if fit.is_faultless] if best.is_faultless else []
        runner_up = next(iter(faultless or different), None)
        read = receive(trace, best.line)
        characters, first_values = len(read), tuple(read.value[:FIRST].tolist())
        if clock := _clock_of(trace, read, best.line):
            baud, uncertainty_ppm, jitter_s, asymmetry_s = clock
            best = replace(best, line=best.line.model_copy(update={"baud": baud}))
        stops, others = _stop_bits(read, best.line)
        best = replace(best, line=_with_stops(best.line, stops))
        alike = (*(_with_stops(best.line, other) for other in others), *_alike(best, fits, read))
        if not best.shows_order:
            alike = (*alike, best.line.model_copy(update={"first_bit": OPPOSITE[best.line.first_bit]}))
        gaps, messages = _gaps_of(read, best.line)
        busy_s = float((read.end_s - read.begin_s).sum())
        idle_share = max(0.0, 1 - busy_s / duration_s) if duration_s else 0.0
    return Survey(
        edges=len(trace),
        duration_s=duration_s,
        shortest_s=shortest_s,
        idle=best.line.idle if best else _resting_level(trace),
        baud=baud,
        baud_uncertainty_ppm=uncertainty_ppm,
        deviation_ppm=None if line is None else 1e6 * (baud / line.baud - 1),
        asymmetry_s=asymmetry_s,
        jitter_s=jitter_s,
        glitches=bit.glitches,
        idle_share=idle_share,
        characters=characters,
        character_gaps=gaps,
        message_gaps=messages,
        first_values=first_values,
        best=best,
        runner_up=runner_up,
        alike=alike,
    )


def _stop_bits(characters: Characters, line: LineSettings) -> tuple[float, tuple[float, ...]]:
    """Return how many stop bits the distances between starts show, and which other numbers they do not exclude.

    Characters back to back begin a whole character apart. If the least distance occurs again and again it is that of
    characters back to back; if not, every number of stop bits that it leaves room for is possible.
    """
    pitches = np.diff(characters.begin_s) * line.baud - line.bits_per_character
    room = float(np.percentile(pitches, 1)) if len(pitches) >= FEWEST_CHARACTERS else 0.0
    room = min(room, float(np.sort(pitches)[: max(len(pitches) // 50, 1)].max())) if len(pitches) else 0.0
    fitting = [stops for stops in (1.0, 1.5, 2.0) if stops - 1.0 <= room + PITCH_FIT]
    if room < 0.5 - PITCH_FIT or len(pitches) < FEWEST_CHARACTERS:
        return 1.0, ()
    often = int(np.count_nonzero(np.abs(pitches - room) <= PITCH_FIT))
    most = fitting[-1]
    if often >= max(FEWEST_CHARACTERS, BACK_TO_BACK * len(pitches)) and abs(room - (most - 1.0)) <= PITCH_FIT:
        return most, ()
    return 1.0, tuple(item for item in fitting[1:] if item != 1.5)  # one and a half is rare


def _with_stops(line: LineSettings, stops: float) -> LineSettings:
    """Return settings with another number of stop bits."""
    return line.model_copy(update={"format": f"{line.data_bits}{line.parity}{stops:g}"})


def _alike(best: FormatFit, fits: list[FormatFit], read: Characters) -> tuple[LineSettings, ...]:
    """Return the usual formats with other data bits that read the same characters without a fault.

    They differ in bits that stay at idle level in every character, which a format of fewer bits takes for stop bits or
    for a pause.
    """
    if not best.is_faultless:
        return ()
    bits = np.diff(read.begin_s) * best.line.baud
    apart = float(bits.min()) if len(bits) else np.inf
    alike = []
    for fit in fits:
        line, other = best.line, fit.line
        same_order = other.first_bit == line.first_bit or not best.shows_order
        same_count = abs(fit.characters - best.characters) <= 1  # a longer character is cut off by the end
        same = same_order and same_count and other.idle == line.idle
        if not (same and fit.is_faultless and fit.is_usual) or _is_one_format(line, other):
            continue
        whole = [1 + item.data_bits + item.has_parity for item in (line, other)]
        if whole[0] != whole[1] or not best.is_usual or _has_few_values(read):
            stops = 2.0 if apart >= whole[1] + 2 - PITCH_FIT and whole[1] < whole[0] else 1.0
            alike.append(_with_stops(other, stops))
    return tuple(alike)


def adds_silent_bit(other: LineSettings, line: LineSettings) -> bool:
    """Whether settings differ from others in a ninth bit that always has idle level, as a pause has.

    Nothing in a capture speaks against such a bit, but few UARTs have it.
    """
    longer = other.data_bits + other.has_parity > line.data_bits + line.has_parity
    return longer and other.data_bits > PLAIN_BITS >= line.data_bits


def _is_one_format(line: LineSettings, other: LineSettings) -> bool:
    return (line.data_bits, line.parity) == (other.data_bits, other.parity)


def _has_few_values(read: Characters) -> bool:
    """Return whether so few different characters were read that a parity bit can agree with all of them by chance."""
    return len(np.unique(read.value)) < FEWEST_VALUES


def _differs(line: LineSettings, other: LineSettings) -> bool:
    """Return whether settings differ in more than the number of stop bits."""
    return (line.data_bits, line.parity, line.idle, line.first_bit) != (
        other.data_bits,
        other.parity,
        other.idle,
        other.first_bit,
    )


def _resting_level(trace: Trace) -> Idle | None:
    """Return the level at which a wire is longest without a change."""
    if not len(trace):
        return "high" if trace.first_level else "low"
    bounds = np.concatenate([[trace.begin], trace.edges, [trace.edges[-1] if trace.end is None else trace.end]])
    widths = np.diff(bounds)
    longest = int(np.argmax(widths))
    level = trace.first_level ^ (longest & 1)
    return "high" if level else "low"


def _clock_of(trace: Trace, characters: Characters, line: LineSettings) -> tuple[float, float, float, float] | None:
    """Measure the transmitter's clock inside characters, where no pause can disturb it.

    Least squares of every change's distance from its start edge against the number of bits; changes away from start
    level may all be late by the same amount. The uncertainty allows for what the changes of a character share: its
    start edge. Return baud, its uncertainty in ppm, jitter and asymmetry in seconds.
    """
    begin_s = characters.begin_s[~characters.has_fault(Fault.FRAMING | Fault.BREAK)]
    if len(begin_s) < FEWEST_CHARACTERS:
        return None
    bit = 1 / (line.baud * trace.tick_s)
    first = np.searchsorted(trace.edges, np.rint(begin_s / trace.tick_s).astype(np.int64))
    blocks = [first[low : low + BLOCK] for low in range(0, len(first), BLOCK)]
    found = partial(_distances, trace.edges, bit=bit, line=line)
    once = found(blocks[0]) if len(blocks) == 1 else None  # what fits into memory is not found twice
    count, normal, against = 0, np.zeros((2, 2)), np.zeros(2)
    for block in blocks:
        distance, number, back, _ = once or found(block)
        count += len(distance)
        shared = number @ back
        normal += [[number @ number, shared], [shared, back @ back]]
        against += [number @ distance, back @ distance]
    if count < 2 * FEWEST_CHARACTERS or np.linalg.det(normal) <= 1e-9 * normal[0, 0] * max(normal[1, 1], 1.0):
        return None
    inverse = np.linalg.inv(normal)
    ticks, late = inverse @ against
    squares, covariance = 0.0, np.zeros((2, 2))
    for block in blocks:
        distance, number, back, which = once or found(block)
        left = distance - number * ticks - back * late
        squares += float(np.sum(left**2))
        of_character = np.zeros((int(which.max(initial=0)) + 1, 2))
        np.add.at(of_character, which, np.column_stack([number * left, back * left]))
        covariance += of_character.T @ of_character
    covariance = inverse @ covariance @ inverse
    rounding = len(trace.edges) and 1 / np.sqrt(12 * normal[0, 0])  # to whole ticks, if there is no other jitter
    uncertainty = float(np.sqrt(max(covariance[0, 0], 0.0) + rounding**2))
    jitter_s = float(np.sqrt(squares / count / 2) * trace.tick_s)
    sign = 1.0 if line.idle == "high" else -1.0
    baud = float(1 / (ticks * trace.tick_s))
    return baud, 1e6 * uncertainty / float(ticks), jitter_s, float(sign * late * trace.tick_s)


def _distances(
    edges: npt.NDArray[np.int64], first: npt.NDArray[np.int64], *, bit: float, line: LineSettings
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64], npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """Return of the changes inside characters: ticks and bits from the start edge, direction, and which character.

    Parameters
    ----------
    edges : ndarray of int64
        All changes, in ticks.
    first : ndarray of int64, shape (n_characters,)
        Which of them begins each character.
    bit : float
        Ticks of a bit.
    line : LineSettings
        The settings.
    """
    distance, number, back, which = [], [], [], []
    long = (line.bits_per_character - line.stop_bits + 0.5) * bit
    for step in range(1, int(line.bits_per_character) + 1):
        place = first + step
        there = np.flatnonzero(place < len(edges))
        far = edges[place[there]] - edges[first[there]]
        inside = far < long
        distance.append(far[inside].astype(np.float64))
        number.append(np.rint(far[inside] / bit))
        back.append(np.full(int(inside.sum()), step % 2, dtype=np.float64))
        which.append(there[inside])
    d, n, b, c = (np.concatenate(part) for part in (distance, number, back, which))
    near = (np.abs(d - n * bit) < 0.35 * bit) & (n > 0)
    return d[near], n[near], b[near], c[near]


def _gaps_of(characters: Characters, line: LineSettings) -> tuple[Spread | None, Spread | None]:
    """Return the pauses between characters of a message, and between messages."""
    pauses = np.maximum(characters.begin_s[1:] - characters.end_s[:-1], 0.0)
    between = pauses >= MESSAGE_GAP * line.character_time_s
    return _spread(pauses[~between]), _spread(pauses[between])


def _spread(times: npt.NDArray[np.float64]) -> Spread | None:
    if not len(times):
        return None
    return Spread(len(times), float(times.min()), median_of(times), float(times.max()))
