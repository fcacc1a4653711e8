"""Where the places of a finding are, as far as the columns of its reading tell."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters, Fault
from larkreader.decode.frame_columns import FrameFault
from larkreader.judge.findings import Finding, place, time_of
from larkreader.judge.pairs import PairState
from larkreader.judge.reading import Reading

Places = npt.NDArray[np.int64]

MOST_PLACES = 12  # of a finding, that are listed
CHARACTER_FAULTS = {
    "parity-error": Fault.PARITY,
    "framing-error": Fault.FRAMING,
    "break": Fault.BREAK,
    "noise": Fault.NOISE,
    "overrun": Fault.OVERRUN,
    "unknown-level": Fault.UNKNOWN_LEVEL,
    "short-stop": Fault.SHORT_STOP,
}
FRAME_FAULTS = {
    "checksum-mismatch": FrameFault.CHECKSUM_MISMATCH,
    "unknown-value": FrameFault.UNKNOWN_VALUE,
    "out-of-range": FrameFault.OUT_OF_RANGE,
}
PAIR_STATES = {
    "unanswered-request": ("request", PairState.UNANSWERED),
    "damaged-reply": ("reply", PairState.DAMAGED_REPLY),
    "late-reply": ("reply", PairState.LATE),
}


def places_of(finding: Finding, reading: Reading) -> list[str]:
    """Return where a finding is, place by place: those that the columns tell, or the first.

    Parameters
    ----------
    finding : Finding
        Of the reading.
    reading : Reading
        What was read.

    Returns
    -------
    list of str
        Twelve at most, the first ones.
    """
    characters = reading.characters.get(finding.wire)
    if characters is None:
        return []
    offsets = _offsets(finding, reading, characters)
    if offsets is None or len(offsets) != finding.count:  # some of them are told by another finding
        first = place(finding.first_s, finding.offset)
        return [first] if first else []
    return [place(time_of(characters, offset), offset) for offset in offsets[:MOST_PLACES].tolist()]


def _offsets(finding: Finding, reading: Reading, characters: Characters) -> Places | None:
    """Return the characters of a wire at which the places of a finding begin; None where the columns do not tell."""
    if finding.kind in CHARACTER_FAULTS:
        return np.flatnonzero(characters.faults & CHARACTER_FAULTS[finding.kind])
    if finding.kind in FRAME_FAULTS and finding.frame is not None:
        frames = reading.frames[finding.frame]
        offsets: Places = frames.offset[(frames.faults & FRAME_FAULTS[finding.kind]) != 0]
        return offsets
    if finding.kind in PAIR_STATES:
        side, state = PAIR_STATES[finding.kind]
        for pairs in reading.pairs.values():
            rows = pairs.column(side)[pairs.state == state]
            if len(rows) == finding.count:
                return np.sort(pairs.timeline.offset[rows])
    return None
