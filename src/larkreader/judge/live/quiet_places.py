"""Where a capture that arrives can be cut, so that both parts show together what the whole shows."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Frames, Skip
from larkreader.decode.timeline import Timeline, What
from larkreader.judge.measure.pairs import MOST_OPEN
from larkreader.judge.measure.statistics import LATE, SOON
from larkreader.judge.verdict.judged import Stretch, timeline_of

RUN = 8  # frames without a finding that are judged with both parts
BEHIND = 4  # good frames that follow them
SURE = 3  # frames in time that must follow a late frame
TRIES = 4  # places that are tried before more is waited for
FEW, FAR = 64, 1024  # characters of a wire without frames, at least and at most, that are judged with both parts

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Cut:
    """Where a stretch is cut.

    Parameters
    ----------
    keep, settle : mapping of str to int
        By wire, the number of the first character that is kept, and of the first that is not given up.
    keep_s, settle_s : float
        When they begin, in seconds.
    """

    keep: Mapping[str, int]
    settle: Mapping[str, int]
    keep_s: float
    settle_s: float


def is_certain(stretch: Stretch, cut: Cut) -> bool:
    """Return whether no reply behind a place answers a request before it, nor may one that is still to arrive."""
    for pairs in stretch.pairs.values():
        begins_s = pairs.timeline.begin_s
        replied_s = np.where(pairs.reply >= 0, begins_s[pairs.reply], -np.inf)
        for place_s in (cut.keep_s, cut.settle_s):
            is_before = begins_s[pairs.request] < place_s
            if (replied_s[is_before] >= place_s).any():
                return False
        is_open = not pairs.answered[is_before][-MOST_OPEN:].all()
        if pairs.pairing.match and is_open and np.count_nonzero(~is_before) < MOST_OPEN:
            return False
    return True


def waits_for_more(frames: Frames) -> bool:
    """Return whether what follows may still show that a late frame was not missing but late."""
    period_s = frames.layout.period
    if period_s is None or len(frames) < 2 or not np.isfinite(frames.begin_s[0]):
        return False
    apart = np.diff(frames.begin_s)
    late = np.flatnonzero(apart >= LATE * period_s)
    return len(late) > 0 and int(np.count_nonzero(apart[late[-1] + 1 :] >= SOON * period_s)) < SURE


def agree(before: Stretch, behind: Stretch, cut: Cut) -> bool:
    """Return whether two parts have the same frames in the run that both hold."""
    for key, frames in before.frames.items():
        others = behind.frames[key]
        wire = frames.layout.wire or next(iter(cut.keep))
        some = frames[int(np.searchsorted(frames.offset, cut.keep[wire])) :]
        same = others[: len(some)]
        if not np.array_equal(some.offset - cut.keep[wire], same.offset) or not np.array_equal(
            some.faults, same.faults
        ):
            return False
    return True


def messages_of(sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch) -> Timeline:
    """Return the messages of a stretch, whose characters are `held`."""
    return stretch.timeline or timeline_of(sheet, held, stretch.frames, stretch.skipped)


def quiet_places(
    sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch, first: Mapping[str, int]
) -> Iterable[Cut]:
    """Yield places that may be quiet, the last first."""
    if len(held) > 1:
        return _places_between_messages(sheet, held, stretch)
    wire, characters = next(iter(held.items()))
    if wire in stretch.skipped:
        return _places_between_frames(wire, characters, stretch, first.get(wire, 0))
    begins = messages_of(sheet, held, stretch).offset
    return _places_in_pattern(wire, characters, first.get(wire, 0), begins)


def _places_between_frames(wire: str, characters: Characters, stretch: Stretch, first: int) -> Iterator[Cut]:
    """Yield places behind runs of good frames of a single wire."""
    every = list(stretch.frames.values())
    offset = np.concatenate([item.offset for item in every])
    order = np.argsort(offset, kind="stable")
    offset = offset[order]
    length = np.concatenate([item.length for item in every])[order]
    is_good = np.concatenate([item.faults == 0 for item in every])[order]
    spans = stretch.skipped[wire]
    odd = np.sort(spans.offset[spans.reason != Skip.FILL])
    follows = np.searchsorted(odd, offset + length) == np.searchsorted(odd, offset)
    is_free = np.append(True, np.searchsorted(odd, offset[1:]) == np.searchsorted(odd, offset[:-1]))
    for row in _runs(is_good & follows & is_free):
        keep, settle = int(offset[row]), int(offset[row + RUN])
        if settle > first:
            yield _cut_at(wire, characters, keep, settle)


def _runs(is_quiet: npt.NDArray[np.bool_]) -> list[int]:
    """Return the last rows from which on so many are quiet as a run takes, with those behind it; the last first."""
    size = RUN + BEHIND
    if len(is_quiet) < size:
        return []
    within = np.convolve(is_quiet, np.ones(size, np.int64), "valid")
    rows = np.flatnonzero(within == size)[::-1]
    return [int(row) for row in rows[:: max(size, len(rows) // TRIES)][:TRIES]]


def _places_in_pattern(wire: str, characters: Characters, first: int, begins: Numbers) -> Iterator[Cut]:
    """Yield places of a wire without frames: stretches of characters without a fault, from where a message begins."""
    for number in range(1, TRIES + 1):
        settle = len(characters) - number * len(characters) // (2 * TRIES) - 1
        if settle - FEW <= first:
            return
        message = int(begins[np.searchsorted(begins, settle - FEW, side="right") - 1]) if len(begins) else 0
        yield _cut_at(wire, characters, message if message > max(first, settle - FAR) else settle - FEW, settle)


def _cut_at(wire: str, characters: Characters, keep: int, settle: int) -> Cut:
    times = characters.begin_s
    return Cut({wire: keep}, {wire: settle}, float(times[keep]), float(times[settle]))


def _places_between_messages(sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch) -> Iterator[Cut]:
    """Yield places at which no wire is inside a message, behind runs of good messages."""
    timeline = messages_of(sheet, held, stretch)
    if len(timeline) <= RUN + BEHIND:
        return
    ends_s = np.maximum.accumulate(timeline.end_s)
    is_apart = np.append(False, timeline.begin_s[1:] > ends_s[:-1])
    is_good = (timeline.faults == 0) & (timeline.what != What.SKIPPED)
    asks = np.zeros(len(timeline), np.bool_)
    for pairing in sheet.pair.values():
        asks |= timeline.is_of(pairing.request)
    begins = is_apart & (asks if sheet.pair else True)
    places = np.flatnonzero(begins)
    good_before = np.concatenate([[0], np.cumsum(is_good)])
    found = []
    for settle in places[::-1].tolist():
        at = int(np.searchsorted(places, settle - RUN, side="right")) - 1
        end = settle + BEHIND
        if at < 0 or end > len(timeline):
            continue
        keep = int(places[at])
        if good_before[end] - good_before[keep] == end - keep:
            found.append((keep, settle))
            if len(found) == TRIES:
                break
    for keep, settle in found:
        keep_s, settle_s = float(timeline.begin_s[keep]), float(timeline.begin_s[settle])
        yield Cut(_index_at(held, keep_s), _index_at(held, settle_s), keep_s, settle_s)


def _index_at(held: Mapping[str, Characters], at_s: float) -> dict[str, int]:
    return {wire: int(np.searchsorted(characters.begin_s, at_s)) for wire, characters in held.items()}


def last_place(sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch) -> Cut:
    """Return the last place between two messages, if there is one in the later half; else the middle in time."""
    if len(held) == 1:
        wire, characters = next(iter(held.items()))
        begins = np.sort(np.concatenate([item.offset for item in stretch.frames.values()] or [np.empty(0, np.int64)]))
        place = int(begins[-1]) if len(begins) and begins[-1] > len(characters) // 2 else len(characters) // 2
        return _cut_at(wire, characters, place, place)
    timeline = messages_of(sheet, held, stretch)
    ends_s = np.maximum.accumulate(timeline.end_s)
    apart = np.flatnonzero(np.append(False, timeline.begin_s[1:] > ends_s[:-1]))
    row = int(apart[-1]) if len(apart) and apart[-1] > len(timeline) // 2 else len(timeline) // 2
    at_s = float(timeline.begin_s[row])
    index = _index_at(held, at_s)
    return Cut(index, index, at_s, at_s)
