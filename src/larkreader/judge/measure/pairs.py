"""Which reply answers which request, how long it took, and which request was not answered.

A reply can begin as soon as the receiver has judged the request's first stop bit. It answers the last request before
it, or with fields to match the last request that holds the same. Of several the first counts. A request that got no
good reply may have got a damaged one: what is damaged on the reply's wire before the next request. A reply to a
request that more than `MOST_OPEN` others have followed answers nothing: where numbers come round again, it is of a
later request that was not captured.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.ragged import Ragged
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.pairing import Pairing
from larkreader.decode.columns.frame_columns import UNTRUSTED, Frames, Skip
from larkreader.decode.timeline import Timeline, What

from .pair_columns import Pairs, PairState, Places, Seconds
from .undecided import next_alike, uncertain_begins, undecided_rows

STOP_JUDGED = 0.5  # bit times into the first stop bit, after which the receiver has the character
ROUNDING_S = 1e-9  # of times
MOST_OPEN = 128  # requests that may follow a request before its reply; the numbers of more come round again
PATIENCE = 2.0  # times the longest good reply after which, without a declared limit, a request counts as unanswered
PATIENCE_CHARACTERS = 4.0  # character times in addition, for latencies of almost nothing


def find_pairs(
    pairing: Pairing,
    timeline: Timeline,
    frames: Mapping[str, Frames],
    characters: Mapping[str, Characters],
    lines: Mapping[str, LineSettings],
    end_s: float | None = None,
    longest_s: float | None = None,
    *,
    asked_before: bool = False,
    uncertain: Mapping[str, int] | None = None,
) -> Pairs:
    """Find what answers each request.

    Parameters
    ----------
    pairing : Pairing
        Which messages answer which.
    timeline : Timeline
        The messages of all wires.
    frames : mapping of str to Frames
        By layout, those of the timeline.
    characters : mapping of str to Characters
        By wire, those of the timeline.
    lines : mapping of str to LineSettings
        By wire.
    end_s : float, optional
        When the capture ends, in seconds; with its last message by default.
    longest_s : float, optional
        How long the longest good reply before these messages took, in seconds.
    asked_before : bool
        Whether a request lies before these messages, so that a reply before the first of theirs answers nothing.
    uncertain : mapping of str to int, optional
        Where more follows: by wire, the number of the first character of which it is not certain yet to which message
        it belongs. A request for which a reply may have begun counts as open then.

    Returns
    -------
    Pairs
        What became of each request.
    """
    request = np.flatnonzero(timeline.is_of(pairing.request))
    reply = np.flatnonzero(timeline.is_of(pairing.reply))
    good = reply[(timeline.faults[reply] & UNTRUSTED) == 0]
    ready_s = _ready(timeline, request, lines)
    asked, answers = _keys(pairing, timeline, frames, request, good)
    found = _last_before(ready_s, asked, timeline.begin_s[good], answers)
    begun_before = np.searchsorted(ready_s, timeline.begin_s[good], side="right")
    found[begun_before - 1 - found > MOST_OPEN] = -1
    ends_s = np.append(timeline.end_s[request], np.nan)  # the last column is of those that have no request
    latency_s = timeline.begin_s[good] - ends_s[found]
    if pairing.gone_after_s is not None:
        found[latency_s > pairing.gone_after_s] = -1
    asking, first = np.unique(found, return_index=True)
    asking, first = asking[asking >= 0], first[asking >= 0]
    answered = np.full(len(request), -1)
    answered[asking] = good[first]
    took_s = np.full(len(request), np.nan)
    took_s[asking] = latency_s[first]
    state = np.where(answered >= 0, PairState.ANSWERED, PairState.UNANSWERED).astype(np.uint8)
    if pairing.within_s is not None:
        state[(answered >= 0) & (took_s > pairing.within_s + ROUNDING_S)] = PairState.LATE
    answered_well = state <= PairState.LATE
    last_s = (float(timeline.end_s.max()) if len(timeline) else 0.0) if end_s is None else end_s
    limit_s, is_learned = _limit(pairing, took_s[answered_well], lines, longest_s)
    replying = _wires_of(pairing.reply, timeline, frames)
    cut_off = _cut_off(timeline, frames, characters, replying)
    cut_off = cut_off[last_s - timeline.end_s[cut_off] <= _slack(lines)]
    sound = cut_off
    if uncertain is not None:  # nor is damaged what is not certain yet
        certain = np.array([uncertain[wire] for wire in timeline.wires], np.int64)
        sound = np.union1d(cut_off, np.flatnonzero(timeline.offset >= certain[timeline.wire]))
    _find_damaged(pairing, timeline, request, ready_s, reply, replying, sound, answered, took_s, state)
    next_s = next_alike(pairing, ready_s, asked)
    begun_s = np.append(uncertain_begins(characters, replying, uncertain), timeline.begin_s[cut_off])
    begun_s = np.sort(np.append(begun_s, np.inf))
    waited_s = np.minimum(last_s, begun_s[np.searchsorted(begun_s, ready_s)])  # what has begun may be the reply
    early = (waited_s - timeline.end_s[request] < limit_s) & (next_s == np.inf)
    state[early & (state == PairState.UNANSWERED)] = PairState.OPEN
    used = np.zeros(len(good), np.bool_)
    used[first] = True
    begun = timeline.begin_s[good] >= ready_s[0] if len(ready_s) else np.zeros(len(good), np.bool_)
    again = _repeats(timeline, frames, characters, request, answered, state)
    unasked = good[~used & (begun | asked_before)]
    undecided = request[:0]
    if uncertain is not None:
        asking_wires = _wires_of(pairing.request, timeline, frames)
        from_s = uncertain_begins(characters, [*asking_wires, *replying], uncertain).min(initial=np.inf)
        may_follow = (next_s == np.inf) | (next_s > from_s)
        may_follow &= np.arange(len(request))[::-1] <= MOST_OPEN
        if pairing.gone_after_s is not None:
            may_follow &= waited_s - timeline.end_s[request] <= pairing.gone_after_s
        undecided = undecided_rows(timeline, request, answered, state, again, may_follow)
        undecided = np.union1d(undecided, np.flatnonzero(timeline.begin_s >= from_s))
    return Pairs(request, answered, took_s, state, again, pairing, timeline, unasked, last_s, is_learned, undecided)


def _limit(
    pairing: Pairing, took_s: Seconds, lines: Mapping[str, LineSettings], longest_s: float | None
) -> tuple[float, bool]:
    """Return how long to wait for a reply, in seconds, and whether that was learned from the received replies.

    Without a declared limit it is `PATIENCE` times the longest good reply and a few character times.
    """
    limit_s = pairing.within_s if pairing.gone_after_s is None else pairing.gone_after_s
    if limit_s is not None:
        return limit_s, False
    if longest_s is not None:
        took_s = np.append(took_s, longest_s)
    if not len(took_s):
        return np.inf, False
    return PATIENCE * max(float(took_s.max()), 0.0) + _slack(lines), True


def _slack(lines: Mapping[str, LineSettings]) -> float:
    """Return for how long a wire may rest while a message goes on, in seconds."""
    return PATIENCE_CHARACTERS * max(line.character_time_s for line in lines.values())


def _ready(timeline: Timeline, rows: Places, lines: Mapping[str, LineSettings]) -> Seconds:
    """Return from when on a receiver can answer each row."""
    judged = [(lines[wire].stop_bits - STOP_JUDGED) * lines[wire].bit_time_s for wire in timeline.wires]
    slack = np.array([*judged, 0.0])[timeline.wire[rows]]
    lasting = timeline.end_s[rows] - timeline.begin_s[rows]  # what arrived in a group lasts no time
    ready_s: Seconds = timeline.end_s[rows] - np.minimum(slack, lasting) - ROUNDING_S
    return ready_s


def _keys(
    pairing: Pairing, timeline: Timeline, frames: Mapping[str, Frames], request: Places, reply: Places
) -> tuple[Places, Places]:
    """Return numbers of what requests and replies hold in the fields to match; all are 0 without any."""
    asked, answers = np.zeros(len(request), np.int64), np.zeros(len(reply), np.int64)
    for item, other in pairing.match.items():
        both = np.concatenate([_raw(timeline, frames, request, item), _raw(timeline, frames, reply, other)])
        joined = np.stack([np.concatenate([asked, answers]), np.unique(both, return_inverse=True)[1].reshape(-1)])
        numbers = np.unique(joined, axis=1, return_inverse=True)[1].reshape(-1)
        asked, answers = numbers[: len(request)], numbers[len(request) :]
    return asked, answers


def _raw(timeline: Timeline, frames: Mapping[str, Frames], rows: Places, name: str) -> npt.NDArray[Any]:
    """Return what a field holds in rows that are frames of several layouts: as texts, whatever its type."""
    texts = np.full(len(rows), "", dtype=object)
    for place, layout in enumerate(timeline.layouts):
        own = np.flatnonzero(timeline.layout[rows] == place)
        if len(own):
            raw = frames[layout][timeline.row[rows[own]]].raw(name)
            if isinstance(raw, Ragged) or raw.ndim > 1:
                texts[own] = [str(item.tolist()) for item in raw]
            else:
                texts[own] = (raw.astype(np.uint8) if raw.dtype.kind == "b" else raw).astype(str)
    return texts.astype(str)


def _last_before(ready_s: Seconds, asked: Places, begins_s: Seconds, answers: Places) -> Places:
    """Return for each reply the last request that was ready before it and has the same number; -1 without any."""
    key = np.concatenate([asked, answers])
    is_reply = np.repeat([False, True], [len(asked), len(answers)])
    order = np.lexsort((is_reply, np.concatenate([ready_s, begins_s]), key))
    place = np.where(is_reply[order], -1, np.arange(len(order)))
    last = np.maximum.accumulate(place) if len(place) else place
    fits = (last >= 0) & (key[order][last] == key[order]) if len(place) else np.zeros(0, np.bool_)
    found = np.full(len(order), -1)
    found[order] = np.where(fits, order[last], -1) if len(place) else -1
    return found[len(asked) :]


def _wires_of(names: Sequence[str], timeline: Timeline, frames: Mapping[str, Frames]) -> list[str]:
    """Return on which wires of the timeline the messages of some names are sent."""
    wires = [(frames[name].layout.wire or timeline.wires[0]) if name in frames else name for name in names]
    return [wire for wire in timeline.wires if wire in wires]


def _cut_off(
    timeline: Timeline, frames: Mapping[str, Frames], characters: Mapping[str, Characters], wires: list[str]
) -> Places:
    """Return the rows with which some wires end inside a frame: the capture may end before the frame does."""
    every = {some.layout.wire or timeline.wires[0]: some.skipped for some in frames.values()}
    is_last = np.zeros(len(timeline), np.bool_)
    for wire in wires:
        spans = every.get(wire)
        if spans is not None and len(spans) and spans.reason[-1] == Skip.UNFINISHED:
            is_own = (timeline.wire == timeline.wires.index(wire)) & (timeline.row == len(spans) - 1)
            is_last |= is_own & (timeline.offset + timeline.length == len(characters[wire]))
    return np.flatnonzero(is_last & (timeline.what == What.SKIPPED))


def _find_damaged(
    pairing: Pairing,
    timeline: Timeline,
    request: Places,
    ready_s: Seconds,
    reply: Places,
    wires: list[str],
    sound: Places,
    answered: Places,
    took_s: Seconds,
    state: npt.NDArray[np.uint8],
) -> None:
    """Find what was received damaged in the place of a reply, before the next request."""
    damaged = np.zeros(len(timeline), np.bool_)
    damaged[reply] = (timeline.faults[reply] & UNTRUSTED) != 0
    damaged |= (timeline.what == What.SKIPPED) & timeline.is_on(wires)
    damaged[sound] = False
    rows = np.flatnonzero(damaged)
    if not len(rows) or not len(request):
        return
    begins = timeline.begin_s[rows]
    at = np.searchsorted(begins, ready_s)
    until = np.append(timeline.begin_s[request][1:], np.inf)
    if pairing.gone_after_s is not None:
        until = np.minimum(until, timeline.end_s[request] + pairing.gone_after_s)
    arrived = (state == PairState.UNANSWERED) & (np.append(begins, np.inf)[at] < until)
    answered[arrived] = rows[at[arrived]]
    took_s[arrived] = begins[at[arrived]] - timeline.end_s[request][arrived]
    state[arrived] = PairState.DAMAGED_REPLY


def _repeats(
    timeline: Timeline,
    frames: Mapping[str, Frames],
    characters: Mapping[str, Characters],
    request: Places,
    answered: Places,
    state: npt.NDArray[np.uint8],
) -> Places:
    """Return which request each repeats: the request before it, if that has the same content and no good reply yet."""
    again = np.full(len(request), -1)
    if len(request) < 2:
        return again
    failed = (state[:-1] == PairState.UNANSWERED) | (state[:-1] == PairState.DAMAGED_REPLY)
    failed |= (answered[:-1] >= 0) & (timeline.begin_s[answered[:-1]] > timeline.begin_s[request[1:]])
    for place in np.flatnonzero(failed).tolist():  # few requests fail
        before, now = (_content(timeline, frames, characters, int(row)) for row in request[place : place + 2])
        again[place + 1] = place if before == now else -1
    return again


def _content(timeline: Timeline, frames: Mapping[str, Frames], characters: Mapping[str, Characters], row: int) -> bytes:
    """Return what a row holds, with counters and checksums taken out."""
    if timeline.what[row] == What.FRAME:
        return _without_counters(frames[timeline.layouts[timeline.layout[row]]], int(timeline.row[row]))
    begin, length = int(timeline.offset[row]), int(timeline.length[row])
    return characters[timeline.wires[timeline.wire[row]]].value[begin : begin + length].tobytes()


def _without_counters(frames: Frames, row: int) -> bytes:
    """Return a frame with its counters and its checksum as zeros."""
    data = frames.data[row].tobytes()
    if frames.layout.pattern is not None:
        return data
    counting = [
        slot
        for slot in frames.layout.shape_of(data).slot.values()
        if slot.kind == "checksum" or (slot.field is not None and slot.field.counter)
    ]
    left = bytearray(data)
    for slot in counting:
        begin, end = slot.first_bit // 8, -(-slot.end_bit // 8)
        left[begin:end] = bytes(end - begin)
    return frames.layout.key.encode() + bytes(left)
