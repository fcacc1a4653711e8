"""What the stretches of a capture show altogether: findings that are put together, and counts that add up."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from larkreader.declare.document.sheet import Sheet
from larkreader.judge.findings.finding import Finding, Findings
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.findings.merging import MergedFindings, key_of
from larkreader.judge.measure.pair_columns import Pairs, PairState
from larkreader.judge.verdict.checked import Checked, add_up
from larkreader.judge.verdict.counts import KEPT_TIMES, FrameCounts, PairCounts, WireCounts
from larkreader.judge.verdict.judged import Stretch, in_order, of_wires_that_speak, pairs_that_speak
from larkreader.judge.verdict.past import Past
from larkreader.judge.verdict.wire_findings import Beginning, WireStretch, conclude_wire
from larkreader.judge.wire.character_faults import has_many
from larkreader.judge.wire.frame_faults import FITS, NEARLY_ALL
from larkreader.judge.wire.loss_findings import where_it_was
from larkreader.judge.wire.pauses import Pauses


@dataclass
class WireSum:
    """What the stretches of one wire show altogether.

    Parameters
    ----------
    of_characters, of_content : MergedFindings
        As in `WireStretch`.
    counts : WireCounts
        How much the wire carries.
    frames : dict of str to FrameCounts
        By layout.
    """

    of_characters: MergedFindings = field(default_factory=MergedFindings)
    of_content: MergedFindings = field(default_factory=MergedFindings)
    counts: WireCounts = field(default_factory=WireCounts)
    frames: dict[str, FrameCounts] = field(default_factory=dict)

    def add(self, stretch: WireStretch) -> None:
        """Add the next stretch; the places of its findings are those of the whole capture."""
        self.of_characters.add(stretch.of_characters)
        self.of_content.add(stretch.of_content)
        self.counts += stretch.counts
        for key, counts in stretch.frame_counts.items():
            self.frames[key] = self.frames.get(key, FrameCounts()) + counts

    def copy(self) -> WireSum:
        """Return the same sum, to which other stretches can be added."""
        return WireSum(self.of_characters.copy(), self.of_content.copy(), self.counts, dict(self.frames))


@dataclass
class Sum:
    """What the stretches of a capture show altogether.

    Parameters
    ----------
    wires : dict of str to WireSum
        By wire.
    together : MergedFindings
        What only several wires together show.
    pairs : dict of str to PairCounts
        By pairing.
    pauses : dict of str to Pauses
        By wire, the latest pauses that were requested, `KEPT_TIMES` at most.
    paused : dict of str to int
        By wire, how many pauses were requested.
    longest_s : dict of str to float
        By pairing, how long the longest good reply took, in seconds.
    unanswered_s : dict of str to float
        By pairing, when the last request that was not answered ended, in seconds.
    end_s : dict of str to float
        By pairing, when the capture ends, in seconds.
    waited_s : dict of str to float
        By pairing without an unanswered request since a time in which nothing was recorded, how long none followed the
        last before, in seconds.
    cuts : int
        How often stretches were cut where they are not quiet.
    rests : int
        How often nothing was recorded for a time.
    """

    wires: dict[str, WireSum] = field(default_factory=dict)
    together: MergedFindings = field(default_factory=MergedFindings)
    pairs: dict[str, PairCounts] = field(default_factory=dict)
    pauses: dict[str, Pauses] = field(default_factory=dict)
    paused: dict[str, int] = field(default_factory=dict)
    longest_s: dict[str, float] = field(default_factory=dict)
    unanswered_s: dict[str, float] = field(default_factory=dict)
    end_s: dict[str, float] = field(default_factory=dict)
    waited_s: dict[str, float] = field(default_factory=dict)
    cuts: int = 0
    rests: int = 0

    def rest(self) -> None:
        """Take note that nothing was recorded for a time."""
        self.waited_s |= {key: self.end_s[key] - at_s for key, at_s in self.unanswered_s.items()}
        self.unanswered_s = {}
        self.rests += 1

    def add(self, stretch: Stretch, past: Past) -> None:
        """Add the next stretch.

        Parameters
        ----------
        stretch : Stretch
            The places of its findings are those of the whole capture.
        past : Past
            What lay before it.
        """
        for wire, item in stretch.wires.items():
            self.wires.setdefault(wire, WireSum()).add(item)
        self.together.add(stretch.together)
        for key, pairs in stretch.pairs.items():
            self._add_pairs(key, pairs, past)
        for wire, pauses in stretch.pauses.items():
            some = pauses[pauses.begin_s >= past.first_s.get(wire, -np.inf)]
            self.paused[wire] = self.paused.get(wire, 0) + len(some)
            known = self.pauses.get(wire)
            self.pauses[wire] = (some if known is None else known.followed_by(some))[-KEPT_TIMES:]

    def _add_pairs(self, key: str, pairs: Pairs, past: Past) -> None:
        timeline = pairs.timeline
        first = np.array([past.first.get(wire, 0) for wire in timeline.wires], np.int64)
        is_new = timeline.offset >= first[timeline.wire]
        some = replace(pairs[is_new[pairs.request]], unasked=pairs.unasked[is_new[pairs.unasked]])
        self.pairs[key] = self.pairs.get(key, PairCounts()) + PairCounts.of(some)
        if (longest_s := pairs.longest_s) is not None:
            self.longest_s[key] = max(longest_s, self.longest_s.get(key, longest_s))
        unanswered = some.request[some.state == PairState.UNANSWERED]
        if len(unanswered):
            self.unanswered_s[key] = float(timeline.end_s[unanswered].max())
        self.end_s[key] = pairs.end_s

    def copy(self) -> Sum:
        """Return the same sum, to which other stretches can be added."""
        return Sum(
            {wire: item.copy() for wire, item in self.wires.items()},
            self.together.copy(),
            dict(self.pairs),
            dict(self.pauses),
            dict(self.paused),
            dict(self.longest_s),
            dict(self.unanswered_s),
            dict(self.end_s),
            dict(self.waited_s),
            self.cuts,
            self.rests,
        )

    @property
    def counts(self) -> dict[str, WireCounts]:
        """How much each wire carries."""
        return {wire: item.counts for wire, item in self.wires.items()}

    def pairs_on(self, sheet: Sheet) -> dict[str, PairCounts]:
        """Return what became of the requests of the pairings both sides of which carry anything.

        Parameters
        ----------
        sheet : Sheet
            What was declared.
        """
        return pairs_that_speak(sheet, self.pairs, self.counts)

    def take(self, other: Sum) -> None:
        """Add what was found on other wires.

        Parameters
        ----------
        other : Sum
            Of other wires.
        """
        self.wires |= other.wires
        self.together.by_key |= other.together.by_key
        self.pairs |= other.pairs
        self.pauses |= other.pauses
        self.paused |= other.paused
        self.longest_s |= other.longest_s
        self.unanswered_s |= other.unanswered_s
        self.end_s |= other.end_s
        self.waited_s |= other.waited_s
        self.rests = max(self.rests, other.rests)

    def conclude(
        self,
        sheet: Sheet,
        beginnings: Mapping[str, Beginning],
        more: Iterable[Finding] = (),
        *,
        is_open: bool = False,
    ) -> Findings:
        """Return all findings, in order.

        Parameters
        ----------
        sheet : Sheet
            What was declared.
        beginnings : mapping of str to Beginning
            How each wire begins.
        more : iterable of Finding
            What was found beside, of the whole capture.
        is_open : bool
            Whether more follows, so that nothing is concluded from what is not there.
        """
        found: list[Finding] = []
        for wire, item in self.wires.items():
            of_characters = self._complete(item.of_characters)
            causes = {key_of(finding): finding for finding in of_characters}
            of_content = [
                replace(finding, caused_by=causes.get(key_of(finding.caused_by))) if finding.caused_by else finding
                for finding in self._complete(item.of_content)
            ]
            if wire in beginnings:
                found += conclude_wire(
                    sheet,
                    wire,
                    beginnings[wire],
                    item.counts,
                    item.frames,
                    of_characters,
                    of_content,
                    is_open=is_open,
                )
        together = of_wires_that_speak(sheet, self._complete(self.together), self.counts)
        return in_order([*found, *together, *more])

    def check(
        self, sheet: Sheet, findings: Sequence[Finding], wires: Sequence[str], paths: Collection[str] = ()
    ) -> Checked:
        """Return what is proven, and what could not be checked.

        Parameters
        ----------
        sheet : Sheet
            What was declared.
        findings : sequence of Finding
            What is wrong.
        wires : sequence of str
            The wires that were asked for.
        paths : collection of str
            The wires whose receive path was replayed.
        """
        frames = {key: some for item in self.wires.values() for key, some in item.frames.items()}
        return add_up(
            sheet,
            self.counts,
            frames,
            findings,
            pairs=self.pairs_on(sheet),
            paths=paths,
            pauses=self.paused,
            wires=wires,
            cuts=self.cuts,
            rests=self.rests,
        )

    def _complete(self, merged: MergedFindings) -> list[Finding]:
        """Return findings with the evidence that only the whole has: totals, and what follows from them."""
        return [replace(finding, evidence=self._evidence_of(finding)) for finding in merged.by_key.values()]

    def _evidence_of(self, finding: Finding) -> dict[str, Any]:
        evidence, wire = dict(finding.evidence), finding.subject.wire
        counts = self.wires[wire].counts if wire in self.wires else WireCounts()
        total = self._total_of(finding, counts)
        if total is not None and "total" in evidence:
            evidence["total"] = total
        if "total_bytes" in evidence:
            evidence["total_bytes"] = counts.characters
        if "many" in evidence:
            evidence["many"] = has_many(finding.count, counts.characters)
        if "bytes_alone" in evidence:
            evidence |= where_it_was(has_line=counts.has_line, has_faults=counts.has_faults)
        if "fit" in evidence and total is not None and finding.count <= NEARLY_ALL * total:
            evidence = {name: value for name, value in evidence.items() if name not in FITS}
        pair = evidence.get("pair")
        if pair in self.longest_s and "learned_s" in evidence:
            evidence["learned_s"] = self.longest_s[pair]
        if "waited_s" in evidence and (pair in self.unanswered_s or pair in self.waited_s):
            since_s = self.unanswered_s.get(pair)
            evidence["waited_s"] = self.waited_s[pair] if since_s is None else self.end_s[pair] - since_s
        if finding.kind == "sent-while-paused":
            evidence["pauses"] = self.paused[wire]
        return evidence

    def _total_of(self, finding: Finding, counts: WireCounts) -> int | None:
        """Return of how many a finding is about some; None where its evidence shows that already."""
        among = KINDS[finding.kind].among
        if finding.subject.kind == "pair":
            return self.pairs[finding.subject.name].requests
        if finding.subject.kind == "frame" and among == "{frame} frames":
            return self.wires[finding.subject.wire].frames[finding.subject.name].frames
        return counts.characters if among == "characters" and counts.characters else None


def wires_judged_together(sheet: Sheet, wires: Iterable[str], *, together: bool = False) -> list[tuple[str, ...]]:
    """Return which wires have to be judged together: all where anything on the sheet concerns several of them.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    wires : iterable of str
        The wires that are judged.
    together : bool
        Whether all are to be, whatever the sheet has.
    """
    every = tuple(wires)
    is_joint = together or bool(sheet.pair or sheet.timing.shared)
    is_joint |= any(sheet.wire[wire].silence_s is not None for wire in every)
    is_joint |= any(sheet.wire[wire].line.flow_control != "none" for wire in every)
    return [every] if is_joint else [(wire,) for wire in every]
