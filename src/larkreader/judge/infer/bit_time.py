"""How long a bit lasts, from the level changes alone.

Every stretch between two changes inside a character is a whole number of bits, made longer or shorter by the same
amount if the changes of one direction come late; between characters a stretch may have any length. So the stretches are
taken for a mixture of the two, and for each bit time that may be right it is found, by expectation and maximisation
(Dempster, Laird, Rubin 1977), how likely they are. Half and a third of the right bit time explain about as much: the
longest that does is taken. Then the distances between changes of the same direction, which do not know the amount, give
the bit time by least squares.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.trace import Trace

Widths = npt.NDArray[np.float64]

SEARCHED = 1 << 12  # stretches among which the bit time is searched
MEASURED = 1 << 16  # changes from which it is then measured; more make it no better
FEWEST = 8  # stretches from which a bit time can be found
LONGEST_BITS = 11  # of a stretch inside a character: start, nine data bits and parity at one level
ROUNDS = 6  # of expectation and maximisation
WIDEST = 0.1  # of a bit, by which a stretch may miss its length: standard deviation
NARROWEST = 0.01  # of a short stretch, the same for every bit time, so that none gains by being short
FEWEST_TICKS = 3  # ticks a bit, as for a receiver
MOST_ASYMMETRY = 0.3  # of a bit
AS_GOOD = 0.05  # of log likelihood a stretch, within which a multiple of a bit time is taken instead
LEAST_SHARE = 0.55  # of the stretches that must be whole numbers of bits
QUANTILES = (0.0, 0.02, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9)


@dataclass(frozen=True)
class BitTime:
    """How long a bit lasts.

    Parameters
    ----------
    ticks : float
        Its length in ticks of the trace.
    uncertainty_ppm : float
        Standard uncertainty of that, in millionths.
    asymmetry_ticks : float
        How much later changes to high come than changes to low, in ticks; low stretches are longer by so much.
    jitter_ticks : float
        Root mean square of what is left when bit time and asymmetry are taken off a distance, for one change.
    fit : float
        Share of the short stretches that fit, 0 to 1.
    glitches : int
        Stretches shorter than half a bit.
    """

    ticks: float
    uncertainty_ppm: float
    asymmetry_ticks: float
    jitter_ticks: float
    fit: float
    glitches: int


def measure_bit(trace: Trace) -> BitTime | None:
    """Measure how long a bit lasts.

    Parameters
    ----------
    trace : Trace
        Level changes of one wire.

    Returns
    -------
    BitTime or None
        None if there are too few changes, or they follow no common bit time.
    """
    if len(trace.edges) <= FEWEST:
        return None
    edges = trace.edges[: MEASURED + 1].astype(np.float64)
    widths = np.diff(edges)
    # low between the first two changes if the wire was high before the first
    sign = np.where((np.arange(len(widths)) + trace.first_level) % 2 == 1, 1.0, -1.0)
    some = widths[:SEARCHED]
    least = max(0.4, NARROWEST * float(np.quantile(some, 0.1)))
    fits = [_fit(some, sign, bit, least) for bit in _candidates(edges[:SEARCHED], some) if bit >= FEWEST_TICKS]
    if not fits:
        return None
    best = max(fits, key=lambda fit: fit.log_likelihood)
    if not best.bit:
        return None
    enough = best.log_likelihood - AS_GOOD * len(some)
    best = max((fit for fit in fits if fit.log_likelihood >= enough and best.divides(fit)), key=lambda fit: fit.bit)
    if best.share < LEAST_SHARE:
        return None
    bit, jitter, uncertainty = _refined(edges, widths, sign, best)
    return BitTime(
        ticks=bit,
        uncertainty_ppm=1e6 * uncertainty / bit,
        asymmetry_ticks=best.asymmetry,
        jitter_ticks=jitter,
        fit=best.share,
        glitches=int(np.count_nonzero(np.diff(trace.edges) < bit / 2)),
    )


@dataclass(frozen=True)
class _Fit:
    """What the stretches say of a bit time; all lengths in ticks."""

    log_likelihood: float
    bit: float
    asymmetry: float
    spread: float
    share: float

    def divides(self, other: _Fit) -> bool:
        """Return whether the other bit time is this bit time or a multiple of it."""
        if not self.bit:  # that of a fit that failed
            return False
        parts = other.bit / self.bit
        return abs(parts - round(parts)) < 0.02 * parts and round(parts) >= 1


def _candidates(edges: Widths, widths: Widths) -> set[float]:
    """Return bit times that may be right: usual stretches, and parts of usual distances between like changes."""
    pairs = edges[2:] - edges[:-2]
    found = set(np.quantile(widths, QUANTILES, method="nearest").tolist())
    for parts in (2, 3, 4, 5, 6, 8, 10):
        found |= set((np.quantile(pairs, QUANTILES, method="nearest") / parts).tolist())
    return found


def _fit(widths: Widths, sign: Widths, bit: float, least: float) -> _Fit:
    """Fit the mixture to stretches, beginning from a bit time; the spread is at the least as given."""
    sign = sign[: len(widths)]
    span = np.log(widths.max() / widths.min()) + 1e-3
    anything = 1 / (widths * span)  # density of a stretch that may have any length
    asymmetry, spread, share = 0.0, WIDEST * bit, 0.8
    how_often = np.full(LONGEST_BITS + 1, 1 / LONGEST_BITS)
    for _ in range(ROUNDS):
        count = np.clip(np.rint((widths - sign * asymmetry) / bit), 1, LONGEST_BITS)
        which = count.astype(np.int64)
        left = widths - sign * asymmetry - count * bit
        whole = share * how_often[which] * np.exp(-0.5 * (left / spread) ** 2) / (spread * np.sqrt(2 * np.pi))
        total = whole + (1 - share) * anything
        weight = whole / total
        believed = float(weight.sum())
        if believed < FEWEST / 2:
            break
        share = min(believed / len(widths), 0.995)
        how_often = (np.bincount(which, weight, LONGEST_BITS + 1) + 0.5) / (believed + 0.5 * LONGEST_BITS)
        bit, asymmetry = _least_squares(widths, count, sign, weight)
        if bit < FEWEST_TICKS or abs(asymmetry) > MOST_ASYMMETRY * bit:
            return _Fit(-np.inf, 0.0, 0.0, 0.0, 0.0)
        left = widths - sign * asymmetry - count * bit
        spread = float(np.sqrt((weight @ left**2) / believed))
        spread = float(np.clip(spread, least, max(WIDEST * bit, least)))
    likelihood = float(np.log(total).sum()) - len(widths) * (asymmetry / bit) ** 2  # a large asymmetry is rare
    return _Fit(likelihood, float(bit), asymmetry, spread, share)


def _least_squares(widths: Widths, count: Widths, sign: Widths, weight: Widths) -> tuple[float, float]:
    """Return bit time and asymmetry that fit weighted stretches best."""
    cc, cs, ss = weight @ count**2, weight @ (count * sign), weight.sum()
    cw, sw = weight @ (count * widths), weight @ (sign * widths)
    determinant = cc * ss - cs * cs
    if determinant <= 1e-9 * cc * ss:
        return float(cw / cc), 0.0
    return float((ss * cw - cs * sw) / determinant), float((cc * sw - cs * cw) / determinant)


def _refined(edges: Widths, widths: Widths, sign: Widths, fit: _Fit) -> tuple[float, float, float]:
    """Return the bit time by least squares over distances of like changes, the jitter, and its uncertainty in ticks."""
    count = np.rint((widths - sign * fit.asymmetry) / fit.bit)
    left = np.abs(widths - sign * fit.asymmetry - count * fit.bit)
    odd = (left > 4 * fit.spread) | (count < 1) | (count > LONGEST_BITS)
    before = np.concatenate([[0], np.cumsum(odd)])
    distances, counts = [], []
    for apart in (2, 4, 6):
        far = edges[apart:] - edges[:-apart]
        inside = (before[apart:] == before[:-apart]) & (far < (LONGEST_BITS + 0.5) * fit.bit)
        distances.append(far[inside])
        counts.append(np.rint(far[inside] / fit.bit))
    distance, number = np.concatenate(distances), np.concatenate(counts)
    if len(distance) < FEWEST // 2:
        return fit.bit, fit.spread, 0.5 * fit.spread
    bit = float(distance @ number / (number @ number))
    jitter = float(np.sqrt(np.mean((distance - number * bit) ** 2) / 2))
    noise = max(jitter, 1 / np.sqrt(12))
    return bit, jitter, float(noise * np.sqrt(6 / (number @ number)))  # each change counts in three distances
