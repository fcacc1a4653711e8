"""Whether a wire would read better under other settings than the declared: the cheap part of a diagnosis.

Where many characters are faulty, or no declared frame is found, the beginning of the wire is diagnosed. Where nothing
is faulty, settings can be wrong all the same if their format cannot see it: the highest of eight data bits may be the
parity of the seven others, and bits may come in the opposite order. That shows in the values, and costs next to
nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.judge.findings.finding import Finding, make_finding

COMPARED = 1 << 16  # characters whose values are compared
LOOKED_AT = 1 << 9  # changes that are diagnosed: some 100 characters, and a few hundredths of a second
FAULTS = 0.01  # share of faulty characters from which the settings are doubted
TOLERABLE = 0.02  # of the declared baud by which the better baud must differ to be named
READS = 0.5  # share of the characters in good frames from which a wire reads as declared
FEWEST = 8  # characters of which anything is concluded
FEWEST_VALUES = 14  # different values that all agree in a parity bit: one to 8,000 by chance
FEWEST_LETTERS = 9  # the same where the other bits are letters
FEWEST_OF_EACH = 3  # different values with that bit set, and without
PRINTED = np.array([0x20 <= item < 0x7F or item in (0x09, 0x0A, 0x0D) for item in range(128)])
MISMATCHES = frozenset(
    ("baud-mismatch", "polarity-mismatch", "parity-mismatch", "data-bits-mismatch", "bit-order-mismatch")
)
Values = npt.NDArray[np.uint16]


def judge_settings(
    wire: str,
    characters: Characters,
    beginning: Trace | None,
    line: LineSettings,
    layouts: Sequence[FrameLayout],
    *,
    good_share: float,
    total: int,
    faulty: int,
) -> Iterator[Finding]:
    """Yield that a wire reads better under other settings, if it does.

    Parameters
    ----------
    wire : str
        Its name.
    characters : Characters
        As it reads under the declared settings: the first of them, `COMPARED` at least.
    beginning : Trace, optional
        How its level changes begin; None where the capture holds bytes alone.
    line : LineSettings
        The declared settings.
    layouts : sequence of FrameLayout
        The frames that it may carry.
    good_share : float
        Which share of the characters lies in good frames. If most do, and have a checksum, the settings are proven.
    total, faulty : int
        How many characters there are, and how many of them have a parity error, a framing error or a break.
    """
    reads = good_share > READS
    if total < FEWEST or (reads and all(layout.checksum for layout in layouts)):
        return
    few = faulty <= FAULTS * total  # else those without a fault are a choice by their parity
    sound = characters[:COMPARED]
    if few and (parity := _parity_within(sound.value[sound.faults == 0], line)):
        other = line.model_copy(update={"format": f"{line.data_bits - 1}{parity}{line.stop_bits:g}"})
        values = np.unique(sound.value)
        evidence = {"parity_bit": True, "parity": {"E": "even", "O": "odd"}[parity], "different": len(values)}
        yield _suspect(wire, line, other, characters=total - faulty, **evidence)
        return
    is_doubtful = faulty > FAULTS * total or (bool(layouts) and not reads) or _reads_backwards(characters.value, line)
    if beginning is None or not is_doubtful or not len(beginning):
        return
    from .diagnosis import diagnose  # few wires are in doubt, and it takes a while to load

    some = beginning
    if len(beginning) > LOOKED_AT:
        edges, end = beginning.edges[:LOOKED_AT], int(beginning.edges[LOOKED_AT])
        some = Trace(edges, beginning.tick_s, beginning.first_level, beginning.begin, end)
    result = diagnose(some, line, layouts=layouts, wire=wire)
    best = result.survey.best
    if result.proposal is None or best is None or not any(finding.kind in MISMATCHES for finding in result.findings):
        return
    if result.proposal == line or (best.fault_share > FAULTS and best.fault_share > 0.5 * faulty / total):
        return
    good = total - faulty
    yield _suspect(
        wire,
        line,
        result.proposal,
        good=best.characters - best.faulty,
        characters=best.characters,
        declared_good=good,
        declared_characters=total,
    )


def _suspect(wire: str, line: LineSettings, other: LineSettings, **evidence: object) -> Finding:
    differs = [f"baud = {other.baud:g}"] if abs(other.baud / line.baud - 1) > TOLERABLE else []
    differs += [f'format = "{other.format}"'] if other.format != line.format else []
    differs += [f'{name} = "{getattr(other, name)}"' for name in ("idle", "first_bit") if
                getattr(other, name) != getattr(line, name)]  # fmt: skip
    return make_finding(
        "setting-suspect",
        wire,
        certainty="likely",
        declared=str(line),
        settings=str(other),
        settings_toml=f"{{ {', '.join(differs)} }}",
        **evidence,
    )


def _parity_within(values: Values, line: LineSettings) -> str:
    """Return of which parity, E or O, the highest data bit is the parity bit in every character; nothing if of none."""
    if line.has_parity or not 7 <= line.data_bits <= 9 or line.has_address_mark or not len(values):
        return ""
    some = np.flatnonzero(np.bincount(values, minlength=1 << line.data_bits)).astype(np.uint16)
    low = some & np.uint16((1 << (line.data_bits - 1)) - 1)
    top = (some >> (line.data_bits - 1) & 1).astype(np.uint8)
    is_text = line.data_bits == 8 and bool(PRINTED[low].all())
    if len(np.unique(low)) < (FEWEST_LETTERS if is_text else FEWEST_VALUES):
        return ""
    if min(np.count_nonzero(top), np.count_nonzero(top == 0)) < FEWEST_OF_EACH:
        return ""
    odd = (np.bitwise_count(low) & 1).astype(np.uint8)
    return "E" if (top == odd).all() else "O" if (top != odd).all() else ""


def _reads_backwards(values: Values, line: LineSettings) -> bool:
    """Return whether values are text if their bits are taken in the opposite order, and none as they are."""
    if line.data_bits != 8 or int(values.max(initial=0)) > 0xFF:
        return False
    some = values[:COMPARED].astype(np.uint8)
    mirrored = np.packbits(np.unpackbits(some[:, None], axis=1)[:, ::-1], axis=1).reshape(-1)
    shares = [float(np.mean(PRINTED[item & 0x7F] & (item < 0x80))) for item in (some, mirrored)]
    return shares[0] < 0.8 and shares[1] > 0.95 and len(np.unique(some)) > 4
