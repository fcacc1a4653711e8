"""Which character format a wire reads best under, from its level changes and its bit time.

A start bit and a number of bits behind it are read first, without parity. Too few bits, and the stop bit is looked for
among the data; too many, and it is looked for in the next character: both show as framing errors. A bit more that is
always at idle level is a second stop bit or a pause. Whether the last bit is a parity bit is a matter of how often it
agrees: among different values a bit that means something else agrees by chance every second time.

All that is weighed in bits of information (Rissanen 1978: the shortest description): what a free data bit carries costs
a bit for each different value, a parity bit costs nothing but its errors, a framing error costs some, and unusual
formats cost more.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.trace import Trace
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import MOST_BAUD, BitOrder, Idle, LineSettings
from larkreader.decode.characters.receive import receive
from larkreader.decode.cut.frames import read_layouts
from larkreader.errors import LarkReaderError

Counts = int | npt.NDArray[np.int64]

LOOKED_AT = 1 << 15  # changes; more make it no clearer
FEWEST_BITS = 5  # data bits that every format has
FRAMING_BITS = 14.0  # what a framing error or a false start costs: what the character holds is lost too
FRAME_BITS = 24.0  # what a frame with right fixed values and checksum is worth at the least
# What a parity error costs, in bits: little where any damaged bit makes one, more where it must hit this very bit.
PARITY_BITS = {"E": 1.5, "O": 1.5, "M": 6.0, "S": 6.0}
MOST_WRONG = 0.15  # share of parity errors above which there is no parity bit
TEXT_BITS = 1.4  # what a character that is text is worth, where nearly all are: 7 bits hold 98 such values of 256
NEARLY_ALL = 0.95
# How unusual a format is, in bits, of the formats that microcontrollers are set to: an estimate, not a count.
PRIOR = {
    "8N": 0.0,
    "8E": 2.5,
    "8O": 3.5,
    "7E": 3.0,
    "7O": 4.0,
    "9N": 6.0,
    "7N": 6.0,
    "8M": 12.0,
    "8S": 12.0,
    "7M": 12.0,
    "7S": 12.0,
}
RARE = 13.0
USUAL_BITS = 6.0  # of `PRIOR`, up to which a format is usual
LOW_IDLE_BITS = 2.0
SHOWN_BITS = 6.6  # what must speak for an order of bits to be more than an assumption: a hundred to one
MSB_BITS = 5.0
OPPOSITE: dict[BitOrder, BitOrder] = {"lsb": "msb", "msb": "lsb"}


@dataclass(frozen=True)
class FormatFit:
    """How well a wire reads under some settings.

    Parameters
    ----------
    line : LineSettings
        The settings.
    cost : float
        How much there is to be explained away, in bits; a fit with 7 bits less is about 100 times as likely.
    characters : int
        How many were read.
    faulty : int
        How many of those have a parity error, a framing error or a break.
    false_starts : int
        How many starts were none.
    order_bits : float
        How many bits speak for its order of bits rather than for the opposite order: the values are text or declared
        frames in this order alone.
    """

    line: LineSettings
    cost: float
    characters: int
    faulty: int
    false_starts: int = 0
    order_bits: float = 0.0

    @property
    def is_faultless(self) -> bool:
        """Whether nothing speaks against it: characters, no faults, no false starts."""
        return self.characters > 0 and not self.faulty and not self.false_starts

    @property
    def is_usual(self) -> bool:
        """Whether microcontrollers are often set to its format."""
        return _prior(self.line.data_bits, self.line.parity) <= USUAL_BITS

    @property
    def shows_order(self) -> bool:
        """Whether the values show which bit was sent first."""
        return self.order_bits >= SHOWN_BITS

    @property
    def fault_share(self) -> float:
        """Share of the characters that are faulty; 1 if there are none."""
        return self.faulty / self.characters if self.characters else 1.0


def fit_formats(trace: Trace, baud: float, layouts: Sequence[FrameLayout] = ()) -> list[FormatFit]:
    """Read a wire under every format, and rank them.

    Parameters
    ----------
    trace : Trace
        Its level changes.
    baud : float
        Bits a second, as measured.
    layouts : sequence of FrameLayout
        Which frames it may carry; they show the bit order and the number of data bits.

    Returns
    -------
    list of FormatFit
        The best first.
    """
    if not 0 < baud <= MOST_BAUD:
        return []
    some = trace
    if len(trace) > LOOKED_AT:
        end = int(trace.edges[LOOKED_AT])
        some = Trace(trace.edges[:LOOKED_AT], trace.tick_s, trace.first_level, trace.begin, end)
    fits: list[FormatFit] = []
    idles: tuple[Idle, ...] = ("high", "low")
    for idle in idles:
        for bits in range(5, 10):
            fits += _fits_of(some, baud, idle, bits, layouts)
    return ranked(fits)


def in_declared_order(fits: Sequence[FormatFit], line: LineSettings | None) -> list[FormatFit]:
    """Return fits in the declared order of bits wherever the values do not show which bit was sent first."""
    if line is None:
        return list(fits)
    declared = {"first_bit": line.first_bit}
    return [fit if fit.shows_order else replace(fit, line=fit.line.model_copy(update=declared)) for fit in fits]


def ranked(fits: Sequence[FormatFit]) -> list[FormatFit]:
    """Return fits, the best first: the cheapest, but never a faulty format before a usual format without any fault.

    A parity bit is taken for data by a format that has one data bit more, which then has no parity errors. That such a
    format is faultless proves nothing; where parity errors are few it does not go first.
    """
    by_cost = sorted(fits, key=lambda fit: fit.cost)
    if not by_cost or by_cost[0].is_faultless:
        return by_cost
    best = by_cost[0]
    for place, fit in enumerate(by_cost):
        wider = fit.line.data_bits > best.line.data_bits and best.line.has_parity and best.fault_share <= MOST_WRONG
        if fit.is_faultless and fit.is_usual and not wider and 2 * fit.characters >= best.characters:
            return [fit, *by_cost[:place], *by_cost[place + 1 :]]
    return by_cost


def _fits_of(trace: Trace, baud: float, idle: Idle, bits: int, layouts: Sequence[FrameLayout]) -> list[FormatFit]:
    """Read a wire as so many bits behind the start bit, and weigh what the last of them may be."""
    raw = LineSettings(baud=baud, format=f"{bits}N1", idle=idle)
    try:
        characters = receive(trace, raw)
    except LarkReaderError:
        return []
    count = len(characters)
    if not count:
        return []
    sound = ~characters.has_fault(Fault.FRAMING | Fault.BREAK)
    values = characters.value[sound].astype(np.int64)
    if not len(values):
        return []
    bad = count - len(values)
    base = FRAMING_BITS * (bad + len(characters.false_starts_s)) + (LOW_IDLE_BITS if idle == "low" else 0.0)
    for place in range(FEWEST_BITS, bits - 1):
        base += _free_bit_cost(values, place)
    last, rest = values >> (bits - 1) & 1, values & ((1 << (bits - 1)) - 1)
    cost = base + _prior(bits, "N") + _free_bit_cost(values, bits - 1)
    fits = [_fit(raw, characters, cost, bad, layouts)]
    if bits > FEWEST_BITS:
        odd = np.bitwise_count(rest) & 1
        for parity, wanted in (("E", odd), ("O", 1 - odd), ("M", np.ones_like(odd)), ("S", np.zeros_like(odd))):
            wrong = int(np.count_nonzero(last != wanted))
            if wrong > MOST_WRONG * len(last):
                continue
            line = raw.model_copy(update={"format": f"{bits - 1}{parity}1"})
            # Which characters have a wrong parity must be explained too, or any rare bit would pass for a parity bit.
            cost = base + _prior(bits - 1, parity) + float(_coded(len(last) - wrong, wrong))
            cost += PARITY_BITS[parity] * wrong
            fits.append(_fit(line, characters, cost, bad + wrong, layouts))
    return fits


def _prior(data_bits: int, parity: str) -> float:
    return PRIOR.get(f"{data_bits}{parity}", RARE)


def _free_bit_cost(values: npt.NDArray[np.int64], place: int) -> float:
    """Return what it costs, in bits, to describe one bit of each character if it is a data bit.

    Either it is described whatever the bits below it are, which is cheap if it hardly ever changes; or for each value
    of those apart, which is cheap if few values come again and again.
    """
    bit = values >> place & 1
    plain = float(_coded(*_count_bits(bit)))
    _, group = np.unique(values & ((1 << place) - 1), return_inverse=True)
    ones = np.bincount(group, bit).astype(np.int64)
    return min(plain, float(np.sum(_coded(np.bincount(group) - ones, ones))))


def _count_bits(bits: npt.NDArray[np.int64]) -> tuple[int, int]:
    ones = int(np.count_nonzero(bits))
    return len(bits) - ones, ones


def _coded(zeros: Counts, ones: Counts) -> npt.NDArray[np.float64]:
    """Return the bits it takes to describe bits of which nothing is known (Krichevsky and Trofimov 1981)."""
    most = int(np.max(np.add(zeros, ones))) + 1
    places = np.arange(most, dtype=np.float64)
    half = np.concatenate([[0.0], np.cumsum(np.log2(places + 0.5))])  # log2 of (n - 1/2)! over (-1/2)!
    whole = np.concatenate([[0.0], np.cumsum(np.log2(places + 1))])
    cost: npt.NDArray[np.float64] = whole[np.add(zeros, ones)] - half[zeros] - half[ones]
    return cost


def _fit(
    line: LineSettings, characters: Characters, cost: float, faulty: int, layouts: Sequence[FrameLayout]
) -> FormatFit:
    """Weigh what the characters say against the cost of the format, in both bit orders."""
    data_bits = line.data_bits
    values = (characters.value & ((1 << data_bits) - 1)).astype(np.uint16)
    lsb, msb = (_meaning(read, data_bits, layouts) for read in (values, _mirrored(values, data_bits)))
    is_msb = msb - lsb > MSB_BITS
    cost += MSB_BITS - msb if is_msb else -lsb
    return FormatFit(
        line.model_copy(update={"first_bit": "msb" if is_msb else "lsb"}),
        float(cost),
        len(characters),
        faulty,
        len(characters.false_starts_s),
        order_bits=msb - lsb if is_msb else lsb - msb,
    )


def _meaning(values: npt.NDArray[np.uint16], data_bits: int, layouts: Sequence[FrameLayout]) -> float:
    """Return what the values are worth, in bits: declared frames, or plain text."""
    layouts = [layout for layout in layouts if not layout.boundary.opened_by]  # which values do not show
    if layouts and data_bits == 8:
        frames = read_layouts(values.astype(np.uint8), layouts).values()
        found = sum(int(np.count_nonzero(frame.faults == 0)) for frame in frames)
        if found:
            return FRAME_BITS * found
    text = (values >= 0x20) & (values < 0x7F) | (values == 0x0A) | (values == 0x0D) | (values == 0x09)
    if data_bits in (7, 8) and len(values) and text.mean() >= NEARLY_ALL and len(np.unique(values)) > 4:
        return TEXT_BITS * len(np.unique(values))
    return 0.0


def _mirrored(values: npt.NDArray[np.uint16], bits: int) -> npt.NDArray[np.uint16]:
    """Return values with their bits in the opposite order."""
    mirrored = np.zeros_like(values)
    for place in range(bits):
        mirrored |= (values >> place & 1) << (bits - 1 - place)
    return mirrored
