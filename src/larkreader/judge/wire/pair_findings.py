"""Findings about the requests and replies of a pairing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.decode.columns.frame_columns import UNTRUSTED
from larkreader.judge.findings.finding import Certainty, Finding, Places, Subject, make_finding
from larkreader.judge.measure.pair_columns import Pairs, PairState

Rows = npt.NDArray[np.int64]


def judge_pairs(pairs: Pairs) -> Iterator[Finding]:
    """Yield unanswered requests, damaged and late replies, repeats, and unsolicited replies."""
    timeline, pairing, total = pairs.timeline, pairs.pairing, len(pairs)
    unanswered = np.flatnonzero(pairs.state == PairState.UNANSWERED)
    if len(unanswered):
        damaged = int(np.count_nonzero(timeline.faults[pairs.request[unanswered]] & UNTRUSTED))
        waited_s = pairs.end_s - float(timeline.end_s[pairs.request[unanswered]].max())
        yield _finding(
            "unanswered-request",
            pairs,
            pairs.request[unanswered],
            total=total,
            damaged=damaged or None,
            learned_s=pairs.longest_s if pairs.is_learned else None,
            waited_s=waited_s if pairs.is_learned else None,
        )
    spoiled = np.flatnonzero(pairs.state == PairState.DAMAGED_REPLY)
    if len(spoiled):
        yield _finding("damaged-reply", pairs, pairs.reply[spoiled], total=total)
    late = np.flatnonzero(pairs.state == PairState.LATE)
    if len(late):
        times = {"within_s": pairing.within_s, "longest_s": float(pairs.latency_s[late].max())}
        yield _finding("late-reply", pairs, pairs.reply[late], total=total, **times)
    again = np.flatnonzero(pairs.again >= 0)
    if len(again):
        after_damage = int(np.count_nonzero(pairs.state[pairs.again[again]] == PairState.DAMAGED_REPLY))
        yield _finding(
            "repeated-request",
            pairs,
            pairs.request[again],
            total=total,
            after_damage=after_damage or None,
            after_none=len(again) - after_damage or None,
            answered=int(np.count_nonzero(pairs.answered[again])),
        )
    if pairing.only_when_asked and len(pairs.unasked):
        yield _finding("unasked-reply", pairs, pairs.unasked)


def _finding(kind: str, pairs: Pairs, rows: Rows, **evidence: Any) -> Finding:
    """Make a finding about rows of the timeline; it is not certain where what follows may change what they are."""
    timeline = pairs.timeline
    rows = rows[np.argsort(timeline.begin_s[rows], kind="stable")]
    layout = int(timeline.layout[rows[0]])
    places = Places.at(timeline.offset[rows], timeline.begin_s[rows], rows)
    subject = Subject("pair", pairs.pairing.key, timeline.wires[timeline.wire[rows[0]]])
    frame = timeline.layouts[layout] if layout >= 0 else None
    certainty: Certainty = "likely" if np.isin(rows, pairs.undecided).any() else "proven"
    return make_finding(kind, subject, places, pair=pairs.pairing.key, frame=frame, certainty=certainty, **evidence)
