"""What is not certain yet of findings that are shown while a capture goes on."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.masked import is_masked
from larkreader.declare.frame.slot import Slot
from larkreader.decode.check.verify import counter_steps
from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.findings.finding import Finding
from larkreader.judge.findings.merging import OF_SEVERAL_WIRES
from larkreader.judge.measure.undecided import uncertain_begins
from larkreader.judge.wire.carried import trusted
from larkreader.judge.wire.frame_faults import ROW_OF_SPANS
from larkreader.judge.wire.pauses import KINDS_OF_PAUSES, Pauses

BY_LOSSES = ROW_OF_SPANS | {"checksum-mismatch"}  # kinds whose places a counter may explain by a loss


def found_so_far(
    finding: Finding,
    characters: Mapping[str, Characters],
    pauses: Mapping[str, Pauses],
    uncertain: Mapping[str, int],
) -> Finding:
    """Return a finding about several wires as likely, if what follows may show something else.

    A pause that lasts may still end, and be kept or not. A message that is not whole may begin elsewhere, so that it
    did not meet another.

    Parameters
    ----------
    finding : Finding
        What was found.
    characters : mapping of str to Characters
        By wire.
    pauses : mapping of str to Pauses
        By wire with flow control.
    uncertain : mapping of str to int
        As for `find_pairs`.
    """
    if finding.kind in OF_SEVERAL_WIRES:
        begins_s = uncertain_begins(characters, list(characters), uncertain)
        is_certain = bool((finding.places.time_s < begins_s.min(initial=np.inf)).all())
    else:
        some = pauses.get(finding.subject.wire)
        lasts = some is not None and len(some) > 0 and not np.isfinite(some.end_s[-1])
        is_certain = not lasts or finding.kind not in KINDS_OF_PAUSES
    return finding if is_certain else replace(finding, certainty="likely")


def of_frames_so_far(
    findings: Sequence[Finding], every: Sequence[Frames], counted_before: Collection[str]
) -> list[Finding]:
    """Return findings about the frames of a wire, as likely where the counter of a frame that follows may explain them.

    Parameters
    ----------
    findings : sequence of Finding
        What was found.
    every : sequence of Frames
        The frames of all layouts of the wire.
    counted_before : collection of str
        The layouts with a counter that had a trusted frame before these.
    """
    open_from = _last_counted(every, counted_before)
    return [
        replace(finding, certainty="likely")
        if finding.kind in BY_LOSSES and (finding.places.offset >= open_from).any()
        else finding
        for finding in findings
    ]


def _last_counted(every: Sequence[Frames], counted_before: Collection[str]) -> float:
    """Return behind which character the next frames with a counter may show that something was lost."""
    ends = [np.inf]
    for frames in every:
        if frames.layout.counter is not None:
            good = trusted(frames)
            last = _counted_on(good, frames.layout.counter)[-1:]
            if len(last):
                ends.append(float(last.offset[0] + last.length[0]))
            elif len(good) or frames.layout.key in counted_before:
                ends.append(0.0)
    return min(ends)


def _counted_on(good: Frames, counter: Slot) -> Frames:
    """Return the frames whose counter is believed: all with a checksum; others only if they follow the frame before."""
    if good.layout.checksum is not None:
        return good
    values = good.raw(counter.name)
    values = (values.data if is_masked(values) else values).astype(np.uint64)
    return good[np.flatnonzero(counter_steps(values, min(counter.cycle, 1 << 48)) == 1) + 1]
