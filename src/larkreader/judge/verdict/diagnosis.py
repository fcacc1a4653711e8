"""Why a wire does not read as declared: explanations, the likeliest first, each with its evidence."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.capture.median import median_of
from larkreader.capture.trace import Trace
from larkreader.capture.voltages import Voltages
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.bauds import STANDARD_BAUDS
from larkreader.declare.link.line import PARITY_NAMES, LineSettings
from larkreader.decode.characters.instants import FEWEST_TICKS
from larkreader.decode.characters.receive import receive
from larkreader.errors import CaptureError
from larkreader.judge.findings.finding import Finding, Verdict, make_finding, verdict_of
from larkreader.judge.infer.bit_time import BitTime, measure_bit
from larkreader.judge.infer.formats import FormatFit, fit_formats, in_declared_order
from larkreader.judge.infer.off_grid import ON_GRID, off_grid
from larkreader.judge.infer.survey import Survey, adds_silent_bit, measure_wire, survey_of
from larkreader.judge.measure.levels import judge_levels, survey_levels
from larkreader.judge.wire.loss_findings import explain_losses
from larkreader.shown import Shown

from .diagnosis_terms import (
    TOLERABLE,
    clock_evidence,
    factor_of,
    format_text,
    odds_text,
    probability_of,
    read_evidence,
    usual_baud,
)

# Crystals and internal oscillators in MHz, roughly by how usual they are
CLOCKS = (
    16, 8, 12, 11.0592, 20, 24, 4, 25, 48, 32, 7.3728, 14.7456, 18.432, 10, 1, 2, 72, 40, 26, 36, 64, 80, 84, 100, 120,
    168, 3.6864, 1.8432, 6, 27, 50, 13, 18, 22.1184, 30, 96, 125, 4.9152, 9.8304,
)  # fmt: skip
FEWEST_CHARACTERS = 8  # of which anything is concluded
FARTHEST = 6.0  # times the measured baud, up to which usual bauds are tried
SLOWER, FASTER = (0.5, 1 / 3), (2.0, 3.0, 0.25, 4.0)  # than the measured baud, that are tried
LOOKED_AT = 1 << 12  # changes on which other bauds are tried
UNMEASURED_PPM = 20_000.0  # uncertainty of a bit time that was taken from a list
SURE = 6.6  # bits: a hundred to one
READABLE = 0.08  # of the declared baud by which a sender may be off and still be read, now and then
RATIO_FIT = 0.006  # within which a ratio of bauds is taken for one of clocks, or for a factor
MOST_CLOCKS = 3
HEALTHY_FAULTS = 0.01  # share of faulty characters below which the settings cannot be what is wrong
BELIEVABLE_FAULTS = 0.2  # above which other settings than the declared explain nothing
HOPELESS_FAULTS = 0.4  # above which no settings are proposed
MANY_CHANGES = 100  # from which it means something that they follow no bit time
TWO_SENDERS_FAULTS = 0.05  # share of faulty characters that goes with it
TWO_SENDERS = 0.08  # share of changes between the bits, without glitches, above which two outputs drive the wire
LINE_IS_RIGHT = {"as-declared", "noisy-line"}  # findings that leave the settings as they are
ORDER_NAMES = {"lsb": "lowest", "msb": "highest"}
EARLY = 0.3  # of a bit by which a start may come before the declared stop bits are over


@dataclass(frozen=True, repr=False)
class Diagnosis(Shown):
    """What is wrong with a wire.

    Parameters
    ----------
    findings : tuple of Finding
        Explanations with a score, the likeliest first.
    survey : Survey
        What the wire looks like.
    proposal : LineSettings or None
        The settings under which it reads best, a usual baud if it is near; None if that is not
        certain.
    """

    findings: tuple[Finding, ...]
    survey: Survey
    proposal: LineSettings | None = None

    def __repr__(self) -> str:
        scores = (
            ", ".join(f"{finding.kind} {finding.score:.3g}" for finding in self.findings if finding.score is not None)
            or "nothing"
        )
        return f"<Diagnosis: {self.verdict}; {scores}; reads best at {self.proposal or 'no settings'}>"

    @property
    def likely(self) -> LineSettings | None:
        """The proposal, or where it is not certain the settings under which most characters have no fault."""
        best = self.survey.best
        if self.proposal is not None or best is None or best.fault_share > HOPELESS_FAULTS:
            return self.proposal
        return best.line.model_copy(update={"baud": usual_baud(best.line.baud, None)})

    @property
    def verdict(self) -> Verdict:
        """As of a reading."""
        return verdict_of(self.findings)

    def to_dict(self) -> dict[str, Any]:
        """Return the diagnosis as JSON has it."""
        return {
            "verdict": self.verdict,
            "proposal": None if self.proposal is None else str(self.proposal),
            "findings": [finding.to_dict() for finding in self.findings],
            "survey": self.survey.to_dict(),
        }


def diagnose(
    trace: Trace | Voltages,
    line: LineSettings | None = None,
    *,
    layouts: Sequence[FrameLayout] = (),
    wire: str = "wire",
) -> Diagnosis:
    """Find out why a wire does not read as declared, or what its settings are.

    Parameters
    ----------
    trace : Trace or Voltages
        Its level changes, or its voltages, of which the levels are judged too.
    line : LineSettings, optional
        What was declared.
    layouts : sequence of FrameLayout
        The frames that it is declared to carry.
    wire : str
        What to call it in the findings.

    Returns
    -------
    Diagnosis
        What was found, and the settings that fit best.

    Examples
    --------
    >>> line = lr.LineSettings.parse("57600 8E1")
    >>> trace = lr.transmit(bytes(range(100)), lr.LineSettings.parse("28800 8E1"))
    >>> result = lr.diagnose(trace, line)
    >>> result.findings[0].kind, str(result.proposal)
    ('baud-mismatch', '28800 8E1')
    """
    if isinstance(trace, Voltages):
        return _with_levels(trace, line, layouts, wire)
    if line is not None and len(trace) and (ticks := 1 / (line.baud * trace.tick_s)) < FEWEST_TICKS:
        evidence = {"baud": line.baud, "ticks": ticks, "rate": FEWEST_TICKS * 3 * line.baud}
        return Diagnosis((make_finding("undecided", wire, score=1.0, **evidence),), measure_wire(trace))
    is_healthy = line is not None and _fault_share(trace, line) <= HEALTHY_FAULTS
    bit = measure_bit(trace)
    fits = [] if bit is None else fit_formats(trace, float(1 / (bit.ticks * trace.tick_s)), layouts)
    if not is_healthy:
        bit, fits = _best_bit_time(trace, bit, fits, line, layouts)
    fits = in_declared_order(fits, line)
    seen = survey_of(trace, bit, fits, line)
    best = seen.best
    if best is None or best.characters < FEWEST_CHARACTERS:
        if is_healthy and line is not None:  # too few different stretches to measure anything, but all as it should be
            return Diagnosis((make_finding("as-declared", wire, score=0.9, alike=True),), seen, line)
        return Diagnosis((_too_little(wire, trace, seen, line),), seen)
    differ = [
        item
        for item in seen.alike
        if (item.data_bits, item.parity) != (best.line.data_bits, best.line.parity)
        and not adds_silent_bit(item, best.line)
    ]
    is_sure = seen.sureness >= SURE and best.fault_share <= HOPELESS_FAULTS and not differ
    usual = best.line.model_copy(update={"baud": usual_baud(best.line.baud, line)})
    if line is None:
        return Diagnosis((_proposed(wire, seen, usual, is_sure=is_sure),), seen, usual if is_sure else None)
    judged = best.line if best.fault_share <= BELIEVABLE_FAULTS else line
    damage = _damage_finding(wire, off_grid(trace, judged, seen.asymmetry_s), **read_evidence(best))
    means_nothing = damage.kind == "two-senders" and best.fault_share > TWO_SENDERS_FAULTS
    if means_nothing and not is_healthy:
        return Diagnosis((damage,), seen)
    is_near = abs((seen.deviation_ppm or 0.0) * 1e-6) <= READABLE
    if is_healthy and not is_near and off_grid(trace, line, seen.asymmetry_s)[0] <= ON_GRID:
        # Values that are all alike fit several bauds; that they fit the declared baud is enough.
        return Diagnosis((make_finding("as-declared", wire, score=0.9, alike=True),), seen, line)
    found = list(_setting_findings(wire, trace, seen, fits, usual, line, is_healthy=is_healthy))
    if not is_healthy and (best.fault_share > HEALTHY_FAULTS or not found):
        found.append(damage)
    if not found:
        evidence = {**clock_evidence(seen), **read_evidence(best), "faulty": best.faulty}
        found.append(make_finding("as-declared", wire, score=1.0, **evidence))
    found.sort(key=lambda item: -(item.score or 0.0))
    if {item.kind for item in found} <= LINE_IS_RIGHT:
        found += explain_losses(wire, receive(trace, line), layouts)
    return Diagnosis(tuple(found), seen, usual if is_sure else None)


def _best_bit_time(
    trace: Trace,
    bit: BitTime | None,
    fits: list[FormatFit],
    line: LineSettings | None,
    layouts: Sequence[FrameLayout],
) -> tuple[BitTime | None, list[FormatFit]]:
    """Return the bit time under which a wire reads best, and how well it reads under every format.

    The measured one if nothing speaks against it; else a multiple or a part of it, or the declared or a usual baud,
    under which a usual format has no fault.
    """
    is_faultless = bool(fits) and fits[0].is_faultless
    if bit is not None:
        measured = 1 / (bit.ticks * trace.tick_s)
        bauds = [measured * factor for factor in SLOWER]
        if not is_faultless:  # what was measured may be no multiple of it
            bauds += [measured * factor for factor in FASTER]
            bauds += [
                standard_baud
                for standard_baud in STANDARD_BAUDS
                if measured / FARTHEST <= standard_baud <= FARTHEST * measured
            ]
            bauds += [line.baud] if line is not None else []
    else:
        shortest = float(np.percentile(np.diff(trace.edges), 5)) * trace.tick_s if len(trace) > 2 else 0.0
        bauds = [
            standard_baud
            for standard_baud in STANDARD_BAUDS
            if shortest and 0.3 / shortest <= standard_baud <= 1.5 / shortest
        ]
        bauds += [line.baud] if line is not None and shortest else []
    some = trace
    if len(trace) > LOOKED_AT:
        some = Trace(trace.edges[:LOOKED_AT], trace.tick_s, trace.first_level, trace.begin, int(trace.edges[LOOKED_AT]))
    best_bit, best_fits = bit, fits
    for baud in bauds:
        ticks = 1 / (baud * trace.tick_s)
        if ticks < FEWEST_TICKS:
            continue
        other = fit_formats(some, baud, layouts)
        found = other[0] if other else None  # faultless if any usual format is
        if found is None or not found.is_faultless or found.characters < FEWEST_CHARACTERS:
            continue
        if not any(fit.is_faultless and fit.is_usual and fit.characters == found.characters for fit in other):
            continue
        if off_grid(some, found.line)[0] > ON_GRID:
            continue
        # of several bit times that explain everything it is the longest
        if not best_fits or not best_fits[0].is_faultless or (best_bit is not None and ticks > best_bit.ticks):
            best_bit = BitTime(ticks, UNMEASURED_PPM, 0.0, 0.0, 1.0, 0)
            best_fits = other
    return best_bit, best_fits


def _with_levels(voltages: Voltages, line: LineSettings | None, layouts: Sequence[FrameLayout], wire: str) -> Diagnosis:
    """Diagnose the trace that voltages make, and judge the voltages."""
    trace = voltages.to_trace()
    result = diagnose(trace, line, layouts=layouts, wire=wire)
    levels = survey_levels(voltages, trace)
    found = sorted((*result.findings, *judge_levels(wire, levels)), key=lambda item: -(item.score or 0.0))
    return replace(result, findings=tuple(found), survey=replace(result.survey, levels=levels))


def _setting_findings(
    wire: str,
    trace: Trace,
    seen: Survey,
    fits: Sequence[FormatFit],
    usual: LineSettings,
    line: LineSettings,
    *,
    is_healthy: bool,
) -> Iterator[Finding]:
    """Yield in what the settings of a wire differ from the declared settings."""
    best = seen.best
    assert best is not None
    if best.fault_share > BELIEVABLE_FAULTS:
        return
    declared = _fit_of(fits, line)
    baud_is_off = abs((seen.deviation_ppm or 0.0) * 1e-6) > TOLERABLE + 3e-6 * seen.baud_uncertainty_ppm
    if baud_is_off:
        yield from _baud_findings(wire, seen, line)
    is_healthy = is_healthy and not baud_is_off
    if declared is None or declared.cost - best.cost >= (2 * SURE if is_healthy else SURE):
        # A wire that reads without faults may still carry a parity bit where a data bit was declared, or be inverted.
        plain = best.line.parity in ("E", "O") or best.line.first_bit != line.first_bit or best.line.idle != line.idle
        if plain or not is_healthy:
            score = 0.999 if declared is None else min(probability_of(declared.cost - best.cost), 0.999)
            yield from _format_findings(wire, best, usual, line, score)
    elif not baud_is_off and (early := _early(receive(trace, line), line)):
        yield make_finding("stop-bits-mismatch", wire, score=0.95, declared=line.stop_bits, early=early)


def _too_little(wire: str, trace: Trace, seen: Survey, line: LineSettings | None) -> Finding:
    """Return what is known of a wire from which no characters can be read."""
    if not len(trace):
        return make_finding("silence", wire, score=1.0, level=trace.first_level)
    has_no_bit_time = seen.baud is None and len(trace) > MANY_CHANGES
    if has_no_bit_time and line is not None and seen.shortest_s is not None:
        return _damage_finding(wire, off_grid(trace, line), no_bit_time=True, changes=len(trace))
    evidence = {"changes": len(trace), "read": seen.characters or None, "no_bit_time": has_no_bit_time}
    return make_finding("undecided", wire, score=0.5, **evidence)


def _proposed(wire: str, seen: Survey, usual: LineSettings, *, is_sure: bool) -> Finding:
    """Return the proposal of settings for a wire of which nothing was declared."""
    assert seen.best is not None
    evidence = {"settings": str(usual), **clock_evidence(seen), **read_evidence(seen.best)}
    if not seen.best.shows_order:
        evidence["assumed_first"] = ORDER_NAMES[usual.first_bit]
    if alike := [format_text(item) for item in seen.alike if item.first_bit == usual.first_bit]:
        evidence["alike"] = alike
    elif seen.runner_up is not None:
        evidence |= {"runner_up": format_text(seen.runner_up.line), "odds": odds_text(seen.sureness)}
    kind = "best-settings" if is_sure else "undecided"
    return make_finding(kind, wire, score=probability_of(seen.sureness), **evidence)


def _baud_findings(wire: str, seen: Survey, line: LineSettings) -> Iterator[Finding]:
    """Yield what a baud that is off may come from."""
    assert seen.baud is not None
    ratio = seen.baud / line.baud
    factor = factor_of(ratio)
    evidence: dict[str, Any] = {"declared": line.baud, "deviation": ratio - 1, **clock_evidence(seen)}
    if factor is not None:
        many, is_faster = factor
        evidence |= {"factor" if is_faster else "part": many, "twice": many == 2}
    yield make_finding("baud-mismatch", wire, score=0.9995, **evidence)
    ranks = sorted(product(range(len(CLOCKS)), repeat=2), key=sum)  # the most usual first
    pairs = [
        f"{CLOCKS[assumed]:g} MHz assumed, {CLOCKS[fitted]:g} MHz on the board"
        for assumed, fitted in ranks
        if assumed != fitted and abs(CLOCKS[fitted] / CLOCKS[assumed] / ratio - 1) < RATIO_FIT
    ]
    if pairs and factor is None and abs(ratio - 1) > 0.04:
        named = "; ".join(pairs[:MOST_CLOCKS]) + ("; and others" if len(pairs) > MOST_CLOCKS else "")
        yield make_finding("clock-mismatch", wire, score=0.6, ratio=ratio, pairs=named)


def _format_findings(
    wire: str, fit: FormatFit, best: LineSettings, line: LineSettings, score: float
) -> Iterator[Finding]:
    """Yield in what the format under which a wire reads best differs from the declared format."""
    read = {"best": format_text(best), **read_evidence(fit)}
    if best.idle != line.idle:
        idles = {"declared": line.idle, "found": best.idle}
        yield make_finding("polarity-mismatch", wire, score=score, **idles, **read)
    if best.data_bits != line.data_bits:
        bits: dict[str, Any] = {"declared": line.data_bits, "found": best.data_bits}
        whole = (line.data_bits + line.has_parity, best.data_bits + best.has_parity)
        if best.has_parity and whole[1] == line.data_bits:
            bits |= {"word": line.data_bits, "sender_counts": True}
        elif line.has_parity and whole[0] == best.data_bits:
            bits |= {"word": best.data_bits, "sheet_counts": True}
        yield make_finding("data-bits-mismatch", wire, score=score, **bits, **read)
    if best.parity != line.parity:
        declared, sent = ("no" if item == "N" else PARITY_NAMES[item] for item in (line.parity, best.parity))
        yield make_finding("parity-mismatch", wire, score=score - 0.001, declared=declared, found=sent, **read)
    if best.first_bit != line.first_bit:
        order = {"declared": ORDER_NAMES[line.first_bit], "found": ORDER_NAMES[best.first_bit]}
        yield make_finding("bit-order-mismatch", wire, score=score - 0.002, **order, **read)


def _fit_of(fits: Sequence[FormatFit], line: LineSettings) -> FormatFit | None:
    wanted = (line.data_bits, line.parity, line.idle, line.first_bit)
    for fit in fits:
        if (fit.line.data_bits, fit.line.parity, fit.line.idle, fit.line.first_bit) == wanted:
            return fit
    return None


def _fault_share(trace: Trace, line: LineSettings) -> float:
    """Return the share of faulty characters and false starts when a wire is read as declared; 1 if too few are."""
    try:
        read = receive(trace, line)
    except CaptureError:
        return 1.0
    if len(read) < FEWEST_CHARACTERS:
        return 1.0
    faulty = int(np.count_nonzero(read.has_fault(Fault.PARITY | Fault.FRAMING | Fault.BREAK)))
    return (faulty + len(read.false_starts_s)) / max(len(read), 1)


def _early(read: Characters, line: LineSettings) -> float:
    """Return by how many bits characters begin before the declared stop bits of their predecessors are over."""
    if line.stop_bits == 1 or len(read) < FEWEST_CHARACTERS:
        return 0.0
    bits = np.diff(read.begin_s) * line.baud
    early = line.bits_per_character - bits
    often = early > EARLY
    return median_of(early[often]) if np.count_nonzero(often) >= 2 else 0.0


def _damage_finding(wire: str, damage: tuple[float, float], **evidence: Any) -> Finding:
    """Return whether a wire whose settings do not explain its faults is noisy, or driven by two senders."""
    off, glitches = damage
    is_driven_twice = off > TWO_SENDERS and glitches < 0.5
    kind, score = ("two-senders", 0.9) if is_driven_twice else ("noisy-line", 0.8)
    return make_finding(kind, wire, score=score, off=off, glitches=glitches, **evidence)
