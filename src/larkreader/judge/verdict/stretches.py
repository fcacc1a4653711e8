"""A capture that is judged as it arrives, in bounded memory.

The latest stretch is kept whole and judged again and again. Once it is long, what lies before a quiet place in it is
judged for the last time, added to what was found before, and given up. A place is quiet where a run of good frames
shows nothing at all, whether it is judged as the end of what lies before or as the beginning of what follows: then
both parts show together what the whole shows. The run is kept, so that counters, checksums and replies go on from it.

That a place is quiet is not assumed but tried: both parts are judged, and neither may have a finding in the run. Where
no place is quiet for long, as in noise, the stretch is cut between two frames all the same, and the cut is counted.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Frames, Skip, Spans
from larkreader.decode.timeline import Timeline, What, make_timeline
from larkreader.judge.findings.finding import NOWHERE, Finding, Places
from larkreader.judge.measure.pairs import MOST_OPEN
from larkreader.judge.measure.statistics import LATE, SOON
from larkreader.judge.wire.frame_faults import substituting_since
from larkreader.judge.wire.sequence import LastFrame, last_trusted

from .judged import Stretch, judge_stretch
from .received import Received
from .sums import Sum
from .wire_findings import BEGINNING, Beginning, Past, unexplained

STRETCH = 1 << 15  # characters of which the part before a quiet place is given up
MOST = 1 << 20  # characters from which on a stretch is cut where it is not quiet
OPENING = 256  # characters of a wire that show what it did before its first idle time
MANY = 4  # times as many characters as are kept, with which no more are waited for of a wire that has few
RUN = 8  # frames without a finding that are judged with both parts
BEHIND = 4  # good frames that follow them
SURE = 3  # frames in time that must follow a late frame
TRIES = 4  # places that are tried before more is waited for
FEW = 64  # characters of a wire without frames that are judged with both parts

ROW_OF_SPANS = frozenset(
    (
        "truncated-frame",
        "length-mismatch",
        "resynchronised",
        "cut-frame",
        "undeclared-frame",
        "bad-stuffing",
        "terminator-missing",
        "overlong-frame",
    )
)
"""Kinds of which a row is a stretch that belongs to no frame."""
Offsets = npt.NDArray[np.int64]


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


class StretchJudge:
    """Judges wires that concern each other, as their characters arrive.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wires : sequence of str
        The wires.
    stretch : int
        After how many characters the part before a quiet place is given up.
    most : int
        After how many characters the stretch is cut where it is not quiet.

    Attributes
    ----------
    total : Sum
        What was found in all that was given up.
    beginnings : dict of str to Beginning
        How each wire begins.
    cuts : int
        How often the stretch was cut at a place that is not quiet.
    latest : Stretch
        The latest stretch, as it was judged last.
    """

    total: Sum
    beginnings: dict[str, Beginning]
    cuts: int
    latest: Stretch

    def __init__(self, sheet: Sheet, wires: Sequence[str], *, stretch: int = STRETCH, most: int = MOST) -> None:
        self._sheet, self._wires = sheet, tuple(wires)
        self._stretch, self._most, self._next = stretch, most, stretch
        nothing = Characters.from_groups(())
        self._held = {wire: [nothing] for wire in wires}
        self._dropped = dict.fromkeys(wires, 0)
        self._rows: dict[str, int] = {}
        self._past = Past()
        self._openings = dict.fromkeys(wires, nothing)
        self.total, self.beginnings, self.cuts, self.latest = Sum(), {}, 0, Stretch({}, [])

    def add(self, wire: str, characters: Characters) -> None:
        """Take in characters of a wire, which follow those before.

        Parameters
        ----------
        wire : str
            The wire.
        characters : Characters
            With times.
        """
        if self._sheet.wire[wire].line.has_address_mark:
            characters = characters.with_ninth_bit_apart()
        self._held[wire].append(characters)
        opening = self._openings[wire]
        if len(opening) < BEGINNING and len(characters):
            self._openings[wire] = Characters.joined([opening, characters.between(0, BEGINNING - len(opening))])

    @property
    def held(self) -> dict[str, Characters]:
        """The characters of the latest stretch, by wire."""
        for wire, parts in self._held.items():
            if len(parts) > 1:
                self._held[wire] = [Characters.joined(parts)]
        return {wire: parts[0] for wire, parts in self._held.items()}

    @property
    def dropped(self) -> Mapping[str, int]:
        """By wire, how many characters were given up."""
        return self._dropped

    @property
    def rows_dropped(self) -> Mapping[str, int]:
        """How many rows were given up: by layout, by pairing (``pair NAME``), and of the timeline (``timeline``)."""
        return self._rows

    def so_far(self, now_s: float | None = None) -> tuple[Sum, dict[str, Beginning]]:
        """Return what was found so far, and how each wire begins; what only the end of a capture shows is not in it.

        Parameters
        ----------
        now_s : float, optional
            What time it is, in seconds on the clock of the characters.
        """
        return self._with_rest(replace(self._past, is_open=True, now_s=now_s))

    def close(self) -> tuple[Sum, dict[str, Beginning]]:
        """Return what was found, now that nothing follows, and how each wire begins."""
        return self._with_rest(self._past)

    def _with_rest(self, past: Past) -> tuple[Sum, dict[str, Beginning]]:
        held = self.held
        self.latest = stretch = judge_stretch(self._sheet, Received(held), past)
        total = self.total.copy()
        total.add(self._placed(stretch), past)
        return total, self._beginnings_with(stretch)

    def _beginnings_with(self, stretch: Stretch) -> dict[str, Beginning]:
        """Return how each wire begins; its start-up is that of its first stretch, and what follows it is all there."""
        found = dict(self.beginnings)
        for wire, item in stretch.wires.items():
            if item.beginning is not None:
                found[wire] = item.beginning
        for wire, beginning in found.items():
            opening = self._openings[wire]
            if len(opening) > len(beginning.characters):
                held = unexplained(opening, beginning.startup, self._sheet.layouts_of(wire))
                found[wire] = replace(beginning, characters=opening, held=held)
        return found

    def settle(self) -> None:
        """Give up what lies before a quiet place, if the stretch is long and has one."""
        held = self.held
        count = sum(map(len, held.values()))
        if count < self._next:
            return
        whole = judge_stretch(self._sheet, Received(held), replace(self._past, is_open=True))
        end_s = max(float(some.begin_s[-1]) for some in held.values() if len(some))
        past = replace(self._past, is_open=True, is_cut=True, replies_until_s=end_s)
        if count < self._most and not self._may_begin(held):
            self._wait(count)
            return
        for cut in _quiet_places(self._sheet, held, whole, past.first):
            if not _is_certain(whole, cut):
                continue
            parts = self._try(cut, held, past)
            if parts is not None:
                self._give_up(cut, parts, past)
                self._next = self._stretch
                return
        if count < self._most:
            self._wait(count)
            return
        cut = _last_place(self._sheet, held, whole)
        before = judge_stretch(self._sheet, Received(_until(held, cut.settle)), past)
        self._give_up(cut, before, past)
        self._next = self._stretch
        self.cuts += 1

    def _wait(self, count: int) -> None:
        """Try no place before there is half as much again, or as much as is kept at most."""
        self._next = min(count + max(count, self._stretch) // 2, self._most)

    def _may_begin(self, held: Mapping[str, Characters]) -> bool:
        """Return whether enough is there of each wire that begins; few characters are if other wires have many."""
        short = any(0 < len(some) < OPENING for wire, some in held.items() if wire not in self._past.begun)
        return not short or sum(map(len, held.values())) >= MANY * self._stretch

    def _try(self, cut: Cut, held: Mapping[str, Characters], past: Past) -> Stretch | None:
        """Return what lies before a place, if the place is quiet."""
        before = judge_stretch(self._sheet, Received(_until(held, cut.settle)), past)
        if any(item.count_open for item in before.pairs.values()):
            return None
        if any(_waits_for_more(frames) for frames in before.frames.values()):
            return None
        if any(self._is_counter_open(frames, before, cut, past) for frames in before.frames.values()):
            return None
        if any(not np.isfinite(item.end_s).all() for item in before.pauses.values()):
            return None
        if any(_lies_from(finding, cut.keep, cut.keep_s) for finding in _every(before)):
            return None
        behind = judge_stretch(self._sheet, Received(_since(held, cut.keep)), self._past_behind(cut, before, past))
        moved = {wire: cut.settle[wire] - cut.keep[wire] for wire in held}
        if any(_lies_before(finding, moved, cut.settle_s) for finding in _every(behind)):
            return None
        return before if _agree(before, behind, cut) else None

    def _is_counter_open(self, frames: Frames, before: Stretch, cut: Cut, past: Past) -> bool:
        """Return whether the next frame of a layout may show that something before a place was lost."""
        layout = frames.layout
        wire = layout.wire or self._wires[0]
        known, last = past.last_frames.get(layout.key), last_trusted(frames, cut.settle[wire])
        if layout.counter is None or (last is None and known is None):
            return False
        end = max(known.end, 0) if last is None and known is not None else last[1] if last else 0
        if end > cut.keep[wire]:
            return False
        spans = before.skipped[wire]
        is_odd = ((spans.reason != Skip.FILL) & (spans.offset >= end)).any()
        is_faulty = any((item.faults[item.offset >= end] != 0).any() for item in before.wires[wire].frames.values())
        return bool(is_odd or is_faulty) or layout.checksum is None

    def _last_frames(self, before: Stretch, cut: Cut, past: Past) -> dict[str, LastFrame]:
        """Return the last trusted frame of each layout with a counter that has none in what is kept."""
        found = {}
        for key, frames in before.frames.items():
            wire = frames.layout.wire or self._wires[0]
            keep, known = cut.keep[wire], past.last_frames.get(key)
            last = last_trusted(frames, cut.settle[wire])
            if last is not None and last[1] <= keep:
                after_s = float(self.held[wire].begin_s[last[1]])
                found[key] = LastFrame(last[0], last[1] - keep, after_s)
            elif last is None and known is not None:
                found[key] = replace(known, end=known.end - keep)
        return found

    def _past_behind(self, cut: Cut, before: Stretch, past: Past) -> Past:
        """Return what lies before what is kept."""
        last = dict(past.last_begin_s)
        for key, frames in before.frames.items():
            wire = frames.layout.wire or self._wires[0]
            given_up = int(np.searchsorted(frames.offset, cut.keep[wire]))
            if frames.layout.period is not None and given_up:
                last[key] = float(frames.begin_s[given_up - 1])
        longest = dict(past.longest_s)
        for key, pairs in before.pairs.items():
            if pairs.longest_s is not None:
                longest[key] = max(pairs.longest_s, longest.get(key, pairs.longest_s))
        begun = {*past.begun, *(wire for wire, item in before.wires.items() if item.counts.characters)}
        first = {wire: cut.settle[wire] - cut.keep[wire] for wire in cut.keep}
        pauses = dict(past.longest_pause_s)
        for wire, found in before.pauses.items():
            lasted_s = (found.end_s - found.begin_s).max(initial=pauses.get(wire, 0.0))
            pauses[wire] = float(lasted_s)
        substituting: dict[tuple[str, str], float] = {}
        for frames in before.frames.values():
            keep = cut.keep[frames.layout.wire or self._wires[0]]
            substituting |= substituting_since(frames, keep, past.substituting_s)
        habits = {key: habit for item in before.wires.values() for key, habit in item.habits.items()}
        return Past(
            begun,
            is_open=True,
            first=first,
            first_s=dict.fromkeys(first, cut.settle_s),
            last_begin_s=last,
            longest_s=longest,
            longest_pause_s=pauses,
            habits=habits,
            last_frames=self._last_frames(before, cut, past),
            substituting_s=substituting,
        )

    def _give_up(self, cut: Cut, before: Stretch, past: Past) -> None:
        """Add what lies before a place to what was found, and keep what follows."""
        self.total.add(self._placed(before), past)
        self.beginnings = self._beginnings_with(before)
        self._past = replace(self._past_behind(cut, before, past), is_open=False)
        held = self.held
        for key, frames in before.frames.items():
            wire = frames.layout.wire or self._wires[0]
            self._count_rows(key, int(np.searchsorted(frames.offset, cut.keep[wire])))
        for wire, spans in before.skipped.items():
            self._count_rows(f"skipped {wire}", int(np.searchsorted(spans.offset, cut.keep[wire])))
        for key, pairs in before.pairs.items():
            self._count_rows(f"pair {key}", int(np.count_nonzero(pairs.timeline.begin_s[pairs.request] < cut.keep_s)))
        if len(held) > 1:
            timeline = _timeline_of(self._sheet, _until(held, cut.settle), before.frames, before.skipped)
            until = np.array([cut.keep[wire] for wire in timeline.wires], np.int64)
            rows = int(np.count_nonzero(timeline.offset < until[timeline.wire])) if len(timeline) else 0
            self._count_rows("timeline", rows)
        for wire, first in cut.keep.items():
            self._held[wire] = [held[wire].between(first)]
            self._dropped[wire] += first
        self.beginnings = {wire: item for wire, item in self.beginnings.items() if wire in self._past.begun}

    def _count_rows(self, name: str, count: int) -> None:
        self._rows[name] = self._rows.get(name, 0) + count

    def _placed(self, stretch: Stretch) -> Stretch:
        """Return a stretch whose findings have the places of the whole capture."""
        timeline = next((item.timeline for item in stretch.pairs.values()), None)
        wires = {}
        for wire, item in stretch.wires.items():
            of_characters, of_content = (
                [self._moved(finding, timeline) for finding in findings]
                for findings in (item.of_characters, item.of_content)
            )
            wires[wire] = replace(item, of_characters=of_characters, of_content=of_content)
        together = [self._moved(finding, timeline) for finding in stretch.together]
        return replace(stretch, wires=wires, together=together)

    def _moved(self, finding: Finding, timeline: Timeline | None) -> Finding:
        """Return a finding with the places of the whole capture."""
        places, by = finding.places, finding.subject
        more: int | Offsets = self._dropped.get(by.wire, 0)
        rows = self._rows.get(by.name if by.kind == "frame" else "", 0)
        if by.kind == "pair" and timeline is not None:
            moves = np.array([self._dropped[wire] for wire in timeline.wires], np.int64)
            more, rows = moves[timeline.wire[places.row]], self._rows.get("timeline", 0)
        elif finding.kind in ROW_OF_SPANS:
            rows = self._rows.get(f"skipped {by.wire}", 0)
        offset = np.where(places.offset == NOWHERE, NOWHERE, places.offset + more)
        row = np.where(places.row == NOWHERE, NOWHERE, places.row + rows)
        return replace(finding, places=Places(offset, places.time_s, row))


def _every(stretch: Stretch) -> Iterator[Finding]:
    for item in stretch.wires.values():
        yield from item.of_characters
        yield from item.of_content
    yield from stretch.together


def _until(held: Mapping[str, Characters], end: Mapping[str, int]) -> dict[str, Characters]:
    return {wire: characters.between(0, end[wire]) for wire, characters in held.items()}


def _since(held: Mapping[str, Characters], first: Mapping[str, int]) -> dict[str, Characters]:
    return {wire: characters.between(first[wire]) for wire, characters in held.items()}


def _lies_from(finding: Finding, first: Mapping[str, int], first_s: float) -> bool:
    """Return whether any place of a finding lies at or behind a place."""
    return bool((~_is_before(finding, first, first_s)).any())


def _lies_before(finding: Finding, first: Mapping[str, int], first_s: float) -> bool:
    """Return whether any place of a finding lies before a place."""
    return bool(_is_before(finding, first, first_s).any())


def _is_before(finding: Finding, first: Mapping[str, int], first_s: float) -> npt.NDArray[np.bool_]:
    """Return which places of a finding lie before a place: by their characters, or by time where there are none."""
    places = finding.places
    if finding.subject.kind == "pair":
        return places.time_s < first_s
    by_offset = places.offset < first.get(finding.subject.wire, 0)
    return np.where(places.offset == NOWHERE, places.time_s < first_s, by_offset)


def _is_certain(stretch: Stretch, cut: Cut) -> bool:
    """Return whether no reply behind a place answers a request before it, nor may one that is still to arrive."""
    for pairs in stretch.pairs.values():
        begins_s = pairs.timeline.begin_s
        is_before = begins_s[pairs.request] < cut.settle_s
        replied_s = begins_s[pairs.reply[is_before & (pairs.reply >= 0)]]
        if (replied_s >= cut.settle_s).any():
            return False
        is_open = not pairs.answered[is_before][-MOST_OPEN:].all()
        if pairs.pairing.match and is_open and np.count_nonzero(~is_before) < MOST_OPEN:
            return False
    return True


def _waits_for_more(frames: Frames) -> bool:
    """Return whether what follows may still show that a late frame was not missing but late."""
    period_s = frames.layout.period
    if period_s is None or len(frames) < 2 or not np.isfinite(frames.begin_s[0]):
        return False
    apart = np.diff(frames.begin_s)
    late = np.flatnonzero(apart >= LATE * period_s)
    return len(late) > 0 and int(np.count_nonzero(apart[late[-1] + 1 :] >= SOON * period_s)) < SURE


def _agree(before: Stretch, behind: Stretch, cut: Cut) -> bool:
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


def _timeline_of(
    sheet: Sheet, held: Mapping[str, Characters], frames: Mapping[str, Frames], skipped: Mapping[str, Spans]
) -> Timeline:
    return make_timeline(held, frames, skipped, {key: wire.line for key, wire in sheet.wire.items()})


def _quiet_places(
    sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch, first: Mapping[str, int]
) -> Iterable[Cut]:
    """Yield places that may be quiet, the last first."""
    if len(held) > 1:
        return _places_between_messages(sheet, held, stretch)
    wire, characters = next(iter(held.items()))
    if wire in stretch.skipped:
        return _places_between_frames(wire, characters, stretch, first.get(wire, 0))
    return _places_in_pattern(wire, characters, first.get(wire, 0))


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


def _places_in_pattern(wire: str, characters: Characters, first: int) -> Iterator[Cut]:
    """Yield places of a wire without frames: stretches of characters without a fault."""
    for number in range(1, TRIES + 1):
        settle = len(characters) - number * len(characters) // (2 * TRIES) - 1
        if settle - FEW <= first:
            return
        yield _cut_at(wire, characters, settle - FEW, settle)


def _cut_at(wire: str, characters: Characters, keep: int, settle: int) -> Cut:
    times = characters.begin_s
    return Cut({wire: keep}, {wire: settle}, float(times[keep]), float(times[settle]))


def _places_between_messages(sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch) -> Iterator[Cut]:
    """Yield places at which no wire is inside a message, behind runs of good messages."""
    timeline = _timeline_of(sheet, held, stretch.frames, stretch.skipped)
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


def _last_place(sheet: Sheet, held: Mapping[str, Characters], stretch: Stretch) -> Cut:
    """Return the last place between two messages, if there is one in the later half; else the middle in time."""
    if len(held) == 1:
        wire, characters = next(iter(held.items()))
        begins = np.sort(np.concatenate([item.offset for item in stretch.frames.values()] or [np.empty(0, np.int64)]))
        place = int(begins[-1]) if len(begins) and begins[-1] > len(characters) // 2 else len(characters) // 2
        return _cut_at(wire, characters, place, place)
    timeline = _timeline_of(sheet, held, stretch.frames, stretch.skipped)
    ends_s = np.maximum.accumulate(timeline.end_s)
    apart = np.flatnonzero(np.append(False, timeline.begin_s[1:] > ends_s[:-1]))
    row = int(apart[-1]) if len(apart) and apart[-1] > len(timeline) // 2 else len(timeline) // 2
    at_s = float(timeline.begin_s[row])
    index = _index_at(held, at_s)
    return Cut(index, index, at_s, at_s)
