"""The words and numbers of a diagnosis: usual bauds and clocks, formats, odds."""

from __future__ import annotations

from typing import Any

from larkreader.declare.link.bauds import STANDARD_BAUDS
from larkreader.declare.link.line import LineSettings
from larkreader.judge.infer.formats import FormatFit
from larkreader.judge.infer.survey import Survey

FACTORS = (2, 3, 4, 6, 8, 12, 16, 24, 32)
TOLERABLE = 0.02  # of the declared baud by which a sender may be off without a finding
NEAR_STANDARD = 0.025


def usual_baud(baud: float, line: LineSettings | None) -> float:
    """Return the usual baud next to a measured one, or the measured one with four digits if none is near."""
    known = (*STANDARD_BAUDS, *(() if line is None else (line.baud,)))
    nearest = min(known, key=lambda item: abs(item / baud - 1))
    return float(nearest) if abs(nearest / baud - 1) < NEAR_STANDARD else float(f"{baud:.4g}")


def factor_of(ratio: float) -> tuple[int, bool] | None:
    """Return a whole factor by which bauds differ, and whether the wire is the faster one."""
    for factor in FACTORS:
        if abs(ratio / factor - 1) < TOLERABLE:
            return factor, True
        if abs(ratio * factor - 1) < TOLERABLE:
            return factor, False
    return None


def clock_evidence(seen: Survey) -> dict[str, Any]:
    """Return the measured baud as evidence."""
    assert seen.baud is not None
    digits = max(0, 5 - len(str(int(seen.baud))))
    uncertainty_ppm = max(2 * seen.baud_uncertainty_ppm, 1)
    return {"measured": f"{seen.baud:.{digits}f}", "uncertainty_ppm": uncertainty_ppm}


def read_evidence(fit: FormatFit) -> dict[str, int]:
    """Return how well a wire reads as evidence."""
    return {"good": fit.characters - fit.faulty, "characters": fit.characters}


def format_text(line: LineSettings) -> str:
    """Write settings without the baud."""
    return str(line).split(" ", 1)[1]


def probability_of(bits: float) -> float:
    """Return the probability of what so many bits speak for."""
    return float(1 / (1 + 2.0 ** -min(bits, 60.0)))


def odds_text(bits: float) -> str:
    """Return how many times likelier something is for which so many bits speak, in words."""
    return f"{2**bits:,.0f} times" if bits < 20 else "more than a million times"
