"""Findings of one kind on one subject from stretches of a capture that follow each other, put together as one finding.

What was observed adds up: places, counts, the longest and the shortest. What describes the first place stays that of
the first stretch. Only so many places are kept, so that memory is bounded; their number is always right.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np

from .character_kinds import FAULT_OF
from .finding import MOST_PLACES, Certainty, Finding, Places

Rule = Literal["sum", "most", "least", "last"]
Key = tuple[str, ...]

RULES: Mapping[str, Rule] = {
    "missing": "sum",
    "frames": "sum",
    "joined": "sum",
    "bytes": "sum",
    "damaged": "sum",
    "after_damage": "sum",
    "after_none": "sum",
    "answered": "sum",
    "sent": "sum",
    "ignored": "sum",
    "long": "sum",
    "late": "sum",
    "pauses": "sum",
    "longest_s": "most",
    "longest_characters": "most",
    "most_late": "most",
    "latest_s": "most",
    "after": "most",
    "learned_s": "most",
    "shortest_s": "least",
    "to_end": "last",
    "waited_s": "last",
    "lasted_s": "last",
}
"""How evidence of two stretches becomes that of both, by name; other evidence is that of the first place."""
ADDING: Mapping[Rule, Callable[[Any, Any], Any]] = {
    "sum": lambda before, now: before + now,
    "most": max,
    "least": min,
    "last": lambda _, now: now,
}
CERTAINTIES: tuple[Certainty, ...] = ("possible", "likely", "proven")
BY_FIELD = ("substitute-values",)  # kinds of which each field has a finding
AT_BOTH_ENDS = ("cut-character",)  # kinds of which the beginning of a capture and its end have a finding each
OF_SEVERAL_WIRES = ("collision", "short-turnaround")  # a row is one of the timeline, an offset of that row's wire


def key_of(finding: Finding) -> Key:
    """Return what findings have in common that are the same finding in several stretches."""
    where = () if finding.subject.kind == "pair" else (finding.subject.wire,)
    if finding.kind in OF_SEVERAL_WIRES:
        return (finding.kind,)
    some = str(finding.evidence["field"]) if finding.kind in BY_FIELD else ""
    counted = "counted" if finding.evidence.get("counted") else ""
    end = "end" if finding.kind in AT_BOTH_ENDS and finding.offset is not None else ""
    return (finding.kind, finding.subject.kind, finding.subject.name, finding.group, some, counted, end, *where)


@dataclass
class MergedFindings:
    """The findings of the stretches so far.

    Parameters
    ----------
    by_key : dict of tuple to Finding
        In order of their first stretches.
    """

    by_key: dict[Key, Finding] = field(default_factory=dict)

    def add(self, findings: Iterable[Finding]) -> None:
        """Add the findings of the next stretch.

        Parameters
        ----------
        findings : iterable of Finding
            Their places are those of the whole capture.
        """
        for finding in findings:
            key = key_of(finding)
            known = self.by_key.get(key)
            self.by_key[key] = _bounded(finding) if known is None else merge(known, finding)

    def copy(self) -> MergedFindings:
        """Return the same findings, to which others can be added."""
        return MergedFindings(dict(self.by_key))


def merge(before: Finding, now: Finding) -> Finding:
    """Return one finding for what two stretches show, the second behind the first.

    Parameters
    ----------
    before, now : Finding
        Of one kind on one subject.
    """
    evidence = dict(before.evidence)
    for name, value in now.evidence.items():
        if (rule := RULES.get(name)) is not None:
            evidence[name] = ADDING[rule](evidence[name], value) if name in evidence else value
    for bound in ("at_least", "at_most"):
        if bound in before.evidence or bound in now.evidence:  # else what is missing is known exactly
            evidence.pop("missing", None)
            evidence[bound] = sum(item.evidence.get(bound, item.evidence.get("missing", 0)) for item in (before, now))
    places = before.places
    if len(places) < MOST_PLACES:
        room = now.places[: MOST_PLACES - len(places)]
        places = Places(*(np.concatenate([places.column(name), room.column(name)]) for name in Places.COLUMNS))
    weakest = min(before.certainty, now.certainty, key=CERTAINTIES.index)
    causes = [item.caused_by for item in (before, now) if item.caused_by is not None]
    return replace(
        before,
        evidence=evidence,
        places=places,
        more=before.count + now.count - len(places),
        certainty=weakest,
        caused_by=min(causes, key=_rank) if len(causes) == 2 else None,
    )


def _rank(cause: Finding) -> int:
    """Return the place of a cause among those that may explain damaged frames."""
    return list(FAULT_OF).index(cause.kind) if cause.kind in FAULT_OF else len(FAULT_OF)


def _bounded(finding: Finding) -> Finding:
    """Return a finding with no more places than are kept."""
    if len(finding.places) <= MOST_PLACES:
        return finding
    return replace(finding, places=finding.places[:MOST_PLACES], more=finding.count - MOST_PLACES)
