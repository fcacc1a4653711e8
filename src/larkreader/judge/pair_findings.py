"""What is held against the requests and replies of a pairing."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from .findings import Finding, make_finding, number_of
from .pairs import Pairs, PairState
from .statistics import UNTRUSTED

Places = npt.NDArray[np.int64]


def judge_pairs(pairs: Pairs) -> Iterator[Finding]:
    """Yield unanswered requests, damaged and late replies, repeats, and replies that nobody asked for."""
    timeline, pairing = pairs.timeline, pairs.pairing
    of = (len(pairs), f"{pairing.key} requests")
    for state, kind in ((PairState.UNANSWERED, "unanswered-request"), (PairState.DAMAGED_REPLY, "damaged-reply")):
        places = np.flatnonzero(pairs.state == state)
        if len(places):
            damaged = int(np.count_nonzero(timeline.faults[pairs.request[places]] & UNTRUSTED))
            detail = ""
            if damaged and state == PairState.UNANSWERED:
                every = "Each" if damaged == len(places) > 1 else "It" if damaged == len(places) else ""
                detail = f"{every or f'{damaged:,} of them'} was damaged on the wire already."
                detail = detail.replace("them was", "them were") if damaged > 1 else detail
            row = pairs.request if state == PairState.UNANSWERED else pairs.reply
            yield _finding(kind, pairs, row[places], of, detail)
    late = np.flatnonzero(pairs.state == PairState.LATE)
    if len(late):
        longest = 1e3 * float(pairs.latency_s[late].max())
        detail = f"Declared are {1e3 * (pairing.within_s or 0):,.4g} ms; the longest took {longest:,.4g} ms."
        yield _finding("late-reply", pairs, pairs.reply[late], of, detail)
    again = np.flatnonzero(pairs.again >= 0)
    if len(again):
        why = pairs.state[pairs.again[again]]
        broken = int(np.count_nonzero(why == PairState.DAMAGED_REPLY))
        told = [f"{broken:,} after a damaged reply"] if broken else []
        told += [f"{len(again) - broken:,} after none"] if broken < len(again) else []
        helped = int(np.count_nonzero(pairs.answered[again]))
        detail = f"{' and '.join(told)}; {number_of(helped, 'repeat')} {'was' if helped == 1 else 'were'} answered."
        yield _finding("repeated-request", pairs, pairs.request[again], of, detail)
    if pairing.only_when_asked and len(pairs.unasked):
        yield _finding("unasked-reply", pairs, pairs.unasked, None, "")


def _finding(kind: str, pairs: Pairs, rows: Places, of: tuple[int, str] | None, detail: str) -> Finding:
    """Make a finding about rows of the timeline, which need not be in order."""
    timeline = pairs.timeline
    first = int(rows[np.argmin(timeline.begin_s[rows])])
    layout = int(timeline.layout[first])
    return make_finding(
        kind,
        timeline.wires[timeline.wire[first]],
        len(rows),
        of=of,
        first_s=float(timeline.begin_s[first]),
        offset=int(timeline.offset[first]),
        frame=timeline.layouts[layout] if layout >= 0 else None,
        detail=detail,
    )
