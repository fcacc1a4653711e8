"""A capture that is judged as it arrives, in bounded memory.

The latest stretch is kept whole and judged again and again. Once it is long, what lies before a quiet place in it is
judged for the last time, added to what was found before, and given up. A place is quiet where a run of good frames
shows nothing at all, whether it is judged as the end of what lies before or as the beginning of what follows: then
both parts show together what the whole shows. The run is kept, so that counters, checksums and replies go on from it.

That a place is quiet is not assumed but tried: both parts are judged, and neither may have a finding in the run. Where
no place is quiet for long, as in noise, the stretch is cut between two frames all the same, and the cut is counted.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Frames, Skip
from larkreader.decode.timeline import Timeline
from larkreader.judge.findings.finding import NOWHERE, Finding, Places
from larkreader.judge.findings.merging import OF_SEVERAL_WIRES
from larkreader.judge.verdict.judged import Stretch, judge_stretch
from larkreader.judge.verdict.past import Past
from larkreader.judge.verdict.received import Received
from larkreader.judge.verdict.wire_findings import BEGINNING, Beginning, unexplained
from larkreader.judge.wire.carried import LastFrame, last_trusted, substituting_since
from larkreader.judge.wire.character_faults import Extent
from larkreader.judge.wire.frame_faults import ROW_OF_SPANS

from .parts import CARRIED, Settled, ends_before, every_finding, last_frame, lies_before, lies_from, since, until
from .quiet_places import Cut, agree, is_certain, last_place, messages_of, quiet_places, waits_for_more
from .sums import Sum

STRETCH = 1 << 15  # characters of which the part before a quiet place is given up
MOST = 1 << 20  # characters from which on a stretch is cut where it is not quiet
OPENING = 256  # characters of a wire that show what it did before its first idle time
MANY = 4  # times as many characters as are kept, with which no more are waited for of a wire that has few

Offsets = npt.NDArray[np.int64]
NOTHING = Characters.from_groups(())


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
    settled : callable, optional
        Called with each stretch that is given up, as `Settled`.

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

    def __init__(
        self,
        sheet: Sheet,
        wires: Sequence[str],
        *,
        stretch: int = STRETCH,
        most: int = MOST,
        settled: Callable[[Settled], None] | None = None,
    ) -> None:
        self._sheet, self._settled, self._levels = sheet, settled, Received()
        self._stretch, self._most, self._next = stretch, most, stretch
        self._held: dict[str, list[Characters]] = {wire: [] for wire in wires}
        self._dropped = dict.fromkeys(wires, 0)
        self._rows: dict[str, int] = {}
        self._past = Past()
        self._openings = dict.fromkeys(wires, NOTHING)
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
            more = characters.between(0, BEGINNING - len(opening))
            self._openings[wire] = Characters.joined([opening, more]) if len(opening) else more

    def note_levels(self, extents: Mapping[str, Extent], beginnings: Mapping[str, Trace]) -> None:
        """Take note of what is known of the levels of wires, where these were captured.

        Parameters
        ----------
        extents : mapping of str to Extent
            By wire, what is known of the levels so far.
        beginnings : mapping of str to Trace
            By wire, its first levels.
        """
        known = [wire for wire in self._held if wire in extents]
        self._levels.extents = {wire: extents[wire] for wire in known}
        self._levels.beginnings = {wire: beginnings[wire] for wire in known}

    def _judge(self, held: Mapping[str, Characters], past: Past) -> Stretch:
        """Judge a stretch; when the capture ends is not known of an open one."""
        extents = self._levels.extents
        if past.is_open:
            extents = {wire: replace(extent, end_s=None) for wire, extent in extents.items()}
        return judge_stretch(self._sheet, Received(dict(held), extents, beginnings=self._levels.beginnings), past)

    @property
    def held(self) -> dict[str, Characters]:
        """The characters of the latest stretch, by wire."""
        for wire, parts in self._held.items():
            if len(parts) > 1:
                self._held[wire] = [Characters.joined(parts)]
        return {wire: parts[0] if parts else NOTHING for wire, parts in self._held.items()}

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
        return self._with_rest(replace(self._past, end="shown", now_s=now_s))

    def close(self) -> tuple[Sum, dict[str, Beginning]]:
        """Return what was found, now that nothing follows, and how each wire begins."""
        total, beginnings = self._with_rest(self._past)
        self._hand_over(self.latest, self._past, self.held, {wire: len(some) for wire, some in self.held.items()})
        for wire, extent in self._levels.extents.items():
            if wire in beginnings:
                span_s = None if extent.end_s is None else (extent.begin_s, extent.end_s)
                beginnings[wire] = replace(beginnings[wire], trace=self._levels.beginnings[wire], span_s=span_s)
        return total, beginnings

    def _with_rest(self, past: Past) -> tuple[Sum, dict[str, Beginning]]:
        held = self.held
        self.latest = stretch = self._judge(held, past)
        total = self.total.copy()
        total.add(self._placed(stretch), past)
        return total, self._beginnings_with(stretch)

    def _beginnings_with(self, stretch: Stretch) -> dict[str, Beginning]:
        """Return how each wire begins; its start-up is that of its first stretch, and what follows it is all there."""
        found = dict(self.beginnings)
        for wire, item in stretch.wires.items():
            if item.beginning is not None:
                found.setdefault(wire, item.beginning)
        for wire, beginning in found.items():
            opening = self._openings[wire]
            if len(opening) > len(beginning.characters):
                held = unexplained(opening, beginning.startup, self._sheet.layouts_of(wire))
                found[wire] = replace(beginning, characters=opening, held=held)
        return found

    def settle(self) -> None:
        """Give up what lies before a quiet place, if the stretch is long and has one."""
        count = sum(len(part) for parts in self._held.values() for part in parts)
        if count < self._next:
            return
        held = self.held
        open_past = replace(self._past, end="open")
        whole = self._judge(held, open_past)
        end_s = max(float(some.begin_s[-1]) for some in held.values() if len(some))
        past = replace(self._past, end="cut", replies_until_s=end_s)
        if count < self._most and not self._may_begin(held):
            self._wait(count)
            return
        for cut in quiet_places(self._sheet, held, whole, past.first):
            if not is_certain(whole, cut):
                continue
            parts = self._try(cut, held, past)
            if parts is not None:
                self._give_up(cut, parts, past)
                self._next = self._stretch
                return
        if count < self._most:
            self._wait(count)
            return
        cut = last_place(self._sheet, held, whole)
        before = self._judge(until(held, cut.settle), past)
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
        before = self._judge(until(held, cut.settle), past)
        if any(item.count_open for item in before.pairs.values()):
            return None
        if any(waits_for_more(frames) for frames in before.frames.values()):
            return None
        if any(self._is_counter_open(frames, before, cut, past) for frames in before.frames.values()):
            return None
        if any(not np.isfinite(item.end_s).all() for item in before.pauses.values()):
            return None
        if any(lies_from(finding, cut.keep, cut.keep_s) for finding in every_finding(before)):
            return None
        behind = self._judge(since(held, cut.keep), self._past_behind(cut, before, past))
        moved = {wire: cut.settle[wire] - cut.keep[wire] for wire in held}
        if any(lies_before(finding, moved, cut.settle_s) for finding in every_finding(behind)):
            return None
        return before if agree(before, behind, cut) else None

    def _is_counter_open(self, frames: Frames, before: Stretch, cut: Cut, past: Past) -> bool:
        """Return whether the next frame of a layout may show that something before a place was lost."""
        layout = frames.layout
        wire = layout.wire or next(iter(self._held))
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
            wire = frames.layout.wire or next(iter(self._held))
            last = last_frame(
                frames, self.held[wire], past.last_frames.get(key), keep=cut.keep[wire], until=cut.settle[wire]
            )
            if last is not None:
                found[key] = last
        return found

    def _past_behind(self, cut: Cut, before: Stretch, past: Past) -> Past:
        """Return what lies before what is kept."""
        last = dict(past.last_begin_s)
        for key, frames in before.frames.items():
            wire = frames.layout.wire or next(iter(self._held))
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
            keep = cut.keep[frames.layout.wire or next(iter(self._held))]
            substituting |= substituting_since(frames, keep, past.substituting_s)
        habits = {key: habit for item in before.wires.values() for key, habit in item.habits.items()}
        return Past(
            begun,
            end="open",
            first=first,
            first_s=dict.fromkeys(first, cut.settle_s),
            last_begin_s=last,
            longest_s=longest,
            longest_pause_s=pauses,
            habits=habits,
            last_frames=self._last_frames(before, cut, past),
            passed_highest={wire for wire, item in before.wires.items() if item.passed_highest},
            substituting_s=substituting,
            last_end_s=ends_before(self.held, cut.keep, cut.settle, past.last_end_s),
        )

    def _give_up(self, cut: Cut, before: Stretch, past: Past) -> None:
        """Add what lies before a place to what was found, and keep what follows."""
        self.total.add(self._placed(before), past)
        self._hand_over(before, past, until(self.held, cut.settle), cut.keep)
        known = set(self.beginnings)
        self.beginnings = self._beginnings_with(before)
        self._past = replace(self._past_behind(cut, before, past), end="known")
        held = self.held
        for key, frames in before.frames.items():
            wire = frames.layout.wire or next(iter(self._held))
            self._count_rows(key, int(np.searchsorted(frames.offset, cut.keep[wire])))
        for wire, spans in before.skipped.items():
            self._count_rows(f"skipped {wire}", int(np.searchsorted(spans.offset, cut.keep[wire])))
        for key, pairs in before.pairs.items():
            self._count_rows(f"pair {key}", int(np.count_nonzero(pairs.timeline.begin_s[pairs.request] < cut.keep_s)))
        timeline = messages_of(self._sheet, until(held, cut.settle), before)
        keep = np.array([cut.keep[wire] for wire in timeline.wires], np.int64)
        rows = int(np.count_nonzero(timeline.offset < keep[timeline.wire])) if len(timeline) else 0
        self._count_rows("timeline", rows)
        for wire, first in cut.keep.items():
            self._held[wire] = [held[wire].between(first)]
            self._dropped[wire] += first
        begun = {*known, *self._past.begun}
        self.beginnings = {wire: item for wire, item in self.beginnings.items() if wire in begun}

    def rest(self) -> None:
        """Judge what is there by itself: nothing was recorded behind it for a time, before more follows."""
        ends = {wire: len(some) for wire, some in self.held.items()}
        if not any(ends.values()):
            return
        self._give_up(Cut(ends, ends, np.inf, np.inf), self._judge(self.held, self._past), self._past)
        self._past = Past()
        self.total.rest()

    def _hand_over(self, stretch: Stretch, past: Past, held: Mapping[str, Characters], end: Mapping[str, int]) -> None:
        if self._settled is not None:
            self._settled(Settled(stretch, held, past.first, dict(self._dropped), end, dict(self._rows)))

    def _count_rows(self, name: str, count: int) -> None:
        self._rows[name] = self._rows.get(name, 0) + count

    def _placed(self, stretch: Stretch) -> Stretch:
        """Return a stretch whose findings have the places of the whole capture."""
        wires, timeline = {}, stretch.timeline
        for wire, item in stretch.wires.items():
            of_characters, of_content = (
                [self._moved(finding, timeline) for finding in findings]
                for findings in (item.of_characters, item.of_content)
            )
            begins = item.beginning
            if begins is not None and begins.startup is not None and wire in self.beginnings:  # of an earlier part
                of_characters.append(self._moved(begins.startup.finding(wire, begins.characters), timeline))
            wires[wire] = replace(item, of_characters=of_characters, of_content=of_content)
        together = [self._moved(finding, timeline) for finding in stretch.together]
        return replace(stretch, wires=wires, together=together)

    def _moved(self, finding: Finding, timeline: Timeline | None) -> Finding:
        """Return a finding with the places of the whole capture."""
        places, by = finding.places, finding.subject
        more: int | Offsets = self._dropped.get(by.wire, 0)
        rows = self._rows.get(by.name if by.kind == "frame" else "", 0)
        if timeline is not None and (by.kind == "pair" or finding.kind in OF_SEVERAL_WIRES):
            moves = np.array([self._dropped[wire] for wire in timeline.wires], np.int64)
            more, rows = moves[timeline.wire[places.row]], self._rows.get("timeline", 0)
        elif finding.kind in ROW_OF_SPANS:
            rows = self._rows.get(f"skipped {by.wire}", 0)
        has_none = (places.offset == NOWHERE) & (finding.kind not in CARRIED)
        offset = np.where(has_none, NOWHERE, places.offset + more)
        row = np.where(places.row == NOWHERE, NOWHERE, places.row + rows)
        return replace(finding, places=Places(offset, places.time_s, row))
