"""Findings about what was lost between frames."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace

import numpy as np

from larkreader.capture.characters import Characters, Fault
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.cut.frames import read_layouts
from larkreader.judge.findings.finding import Certainty, Finding, Places, frame_subject, make_finding
from larkreader.judge.findings.kinds import KINDS

from .sequence import FindCause, Losses, find_losses, lost_by_hardware

WHEREABOUTS = ("recorded", "bytes_alone", "marked")  # evidence of where bytes were lost


def explain_losses(wire: str, characters: Characters, layouts: Sequence[FrameLayout]) -> Iterator[Finding]:
    """Yield where characters were lost, by the counters of frames: on the line, in the hardware, or in a buffer."""
    if not layouts:
        return
    losses = find_losses(list(read_layouts(characters, layouts).values()), characters)
    found = [loss for lost in losses for loss in judge_losses(lost, characters, wire)]
    of_content = [loss for loss in found if loss.kind in ("counter-gap", "overflow")]
    overruns = np.flatnonzero(characters.has_fault(Fault.OVERRUN))
    of_characters = []
    if len(overruns):
        missing = lost_by_hardware(losses) or None
        places = Places.on(characters, overruns)
        of_characters = [make_finding("overrun", wire, places, total=len(characters), missing=missing)]
    of_characters, of_content = blame_hardware(of_characters, of_content, {name for _, name, _ in characters.counted})
    yield from of_content
    yield from of_characters


def blame_hardware(
    of_characters: Sequence[Finding], of_content: Sequence[Finding], counted: Collection[str]
) -> tuple[list[Finding], list[Finding]]:
    """Return findings with what was lost without a trace laid to the hardware, if its driver counted that alone.

    Parameters
    ----------
    of_characters, of_content : sequence of Finding
        On the characters of a wire, and on its frames or its pattern.
    counted : collection of str
        What the driver has counted: ``"overrun"``, ``"overflow"`` and others.

    Returns
    -------
    tuple of list of Finding and list of Finding
        The same, with fewer overflows.
    """
    lost = [item for item in of_content if item.kind == "overflow" and not item.evidence.get("counted")]
    if not lost or "overrun" not in counted or "overflow" in counted:
        return list(of_characters), list(of_content)
    found = [item for item in of_content if item not in lost]
    for item in lost:
        if item.evidence.get("counting"):
            evidence = {name: value for name, value in item.evidence.items() if name not in WHEREABOUTS}
            severity = KINDS["overrun"].severity
            found.append(replace(item, kind="overrun", evidence=evidence, severity=severity))
    framed = [item.evidence for item in lost if not item.evidence.get("counting")]
    missing = sum(evidence.get("missing", evidence.get("at_least", 0)) for evidence in framed)
    marked = [
        replace(item, evidence={**item.evidence, "missing": item.evidence.get("missing", 0) + missing})
        if missing and item.kind == "overrun" and not item.evidence.get("counted")
        else item
        for item in of_characters
    ]
    return marked, found


def judge_losses(
    losses: Losses, characters: Characters, wire: str, find_cause: FindCause | None = None
) -> Iterator[Finding]:
    """Yield the findings on what is missing between the frames of a layout.

    Parameters
    ----------
    losses : Losses
        Of the layout.
    characters : Characters
        Of the wire.
    wire : str
        Its name.
    find_cause : callable, optional
        Returns the finding that explains places from one offset to another, if one does.
    """
    subject = frame_subject(losses.layout, wire)
    for cause, kind in (("line", "counter-gap"), ("buffer", "overflow")):
        chosen = losses.by(cause)
        if not chosen.any():
            continue
        least, most = int(losses.at_least[chosen].sum()), int(losses.at_most[chosen].sum())
        exact = least == most
        is_proven = characters.has_line and not losses.whole[chosen].any()
        certainty: Certainty = "proven" if is_proven or cause == "line" else "likely"
        caused_by = find_cause(losses.begin[chosen], losses.end[chosen] + 1) if find_cause and cause == "line" else None
        whereabouts = (
            where_it_was(has_line=characters.has_line, has_faults=bool(characters.faults.any()))
            if kind == "overflow"
            else {}
        )
        yield make_finding(
            kind,
            subject,
            Places.at(losses.begin[chosen], losses.begin_s[chosen]),
            certainty=certainty,
            caused_by=caused_by,
            missing=least if exact else None,
            at_least=None if exact else least,
            at_most=None if exact else most,
            frames=int(losses.frames[chosen].sum()),
            joined=int(losses.joined[chosen].sum()) or None,
            **whereabouts,
        )
    for offsets, kind in ((losses.repeats, "counter-repeat"), (losses.restarts, "counter-restart")):
        if len(offsets):
            certainty = "likely" if kind == "counter-restart" else "proven"
            places = Places.on(characters, offsets)
            yield make_finding(kind, subject, places, certainty=certainty, total=losses.count)
    if len(losses.changed):
        values = {"found": int(losses.found[0]), "expected": int(losses.expected[0]), "total": losses.count}
        yield make_finding("counter-mismatch", subject, Places.on(characters, losses.changed), **values)
    if len(losses.jumps):
        values = {"before": int(losses.before[0]), "found": int(losses.after[0]), "total": losses.count}
        places = Places.on(characters, losses.jumps)
        yield make_finding("counter-jump", subject, places, certainty="possible", **values)


def where_it_was(*, has_line: bool, has_faults: bool) -> dict[str, bool]:
    """Return as evidence what the capture shows of the line, where a buffer lost bytes.

    Parameters
    ----------
    has_line : bool
        Whether the characters come from the levels of a wire.
    has_faults : bool
        Whether any of them has a fault.
    """
    bytes_alone = not has_line and not has_faults
    return {"recorded": has_line, "bytes_alone": bytes_alone, "marked": not has_line and not bytes_alone}
