"""What a finding is: one thing wrong or worth knowing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from larkreader.capture.characters import Characters
from larkreader.shown import Shown

from .kind import Severity
from .kinds import KINDS

Verdict = Literal["clean", "warnings", "faults"]

SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding(Shown):
    """One thing wrong or worth knowing; like places are one finding with a count.

    Parameters
    ----------
    kind : str
        A key of `KINDS`.
    wire : str
        Where it was seen.
    count : int
        How many places there are.
    text : str
        Where, how often, and what it means.
    advice : str
        What to do.
    first_s : float, optional
        When the first place began, in seconds on the clock of the capture; None where that has no times.
    offset : int, optional
        Number of the first place's character on its wire, counted from 0; None where it lies between characters.
    frame : str, optional
        The layout concerned.
    severity : {"error", "warning", "note"}
        How bad it is; as `KINDS` has it.
    score : float, optional
        How likely it is as an explanation, 0 to 1; None for what was seen, not concluded.
    """

    kind: str
    wire: str
    count: int
    text: str
    advice: str
    first_s: float | None = None
    offset: int | None = None
    frame: str | None = None
    severity: Severity = "error"
    score: float | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return the finding as JSON has it."""
        found: dict[str, Any] = {
            "kind": self.kind,
            "severity": self.severity,
            "wire": self.wire,
            "count": self.count,
        }
        if self.frame is not None:
            found["frame"] = self.frame
        if self.score is not None:
            found["score"] = round(self.score, 3)
        first_s = None if self.first_s is None else round(self.first_s, 12)
        return found | {"first_s": first_s, "offset": self.offset, "text": self.text, "advice": self.advice}


class Findings(tuple[Finding, ...], Shown):
    """Findings, as a tuple that a notebook shows as a table."""

    __slots__ = ()


def make_finding(
    kind: str,
    wire: str,
    count: int,
    *,
    of: tuple[int, str] | None = None,
    first_s: float | None = None,
    offset: int | None = None,
    frame: str | None = None,
    detail: str = "",
    meaning: str | None = None,
    advice: str | None = None,
    score: float | None = None,
) -> Finding:
    """Make a finding with the sentences of its kind.

    Parameters
    ----------
    kind : str
        A key of `KINDS`.
    wire : str
        Where it was seen.
    count : int
        How many places there are.
    of : tuple of int and str, optional
        How many there could have been, and what those are called.
    first_s, offset, frame
        As in `Finding`.
    detail : str
        A sentence about these places alone, which stands before the meaning.
    meaning, advice : str, optional
        Instead of those of the kind.
    score : float, optional
        As in `Finding`.

    Returns
    -------
    Finding
    """
    known = KINDS[kind]
    how_many = f"{count:,} {known.one if count == 1 else known.many}"
    if of is not None and of[0]:
        how_many += f" in {of[0]:,} {of[1]} ({_share(count, of[0])})"
    where = place(first_s, offset)
    if score is not None:  # an explanation is of the whole wire
        how_many = ""
    sentences = [f"{how_many}{', first ' * (count > 1) or ', '}{where}." if where else f"{how_many}."]
    sentences = sentences if how_many else []
    sentences += [sentence for sentence in (detail, known.meaning if meaning is None else meaning) if sentence]
    return Finding(
        kind=kind,
        wire=wire,
        count=count,
        text=" ".join(sentences),
        advice=known.advice if advice is None else advice,
        first_s=first_s,
        offset=offset,
        frame=frame,
        severity=known.severity,
        score=score,
    )


def stated(
    kind: str,
    where: str,
    detail: str,
    *,
    meaning: str | None = None,
    advice: str | None = None,
    severity: Severity | None = None,
) -> Finding:
    """Make a finding about what is declared, which nobody has seen on a wire.

    Parameters
    ----------
    kind : str
        A key of `KINDS`.
    where : str
        The wire, or the place on the sheet.
    detail : str
        What is so, with its figures; stands before what the kind means.
    meaning, advice, severity : str, optional
        Instead of those of the kind.

    Returns
    -------
    Finding
    """
    known = KINDS[kind]
    return Finding(
        kind,
        where,
        1,
        f"{detail} {known.meaning if meaning is None else meaning}".strip(),
        known.advice if advice is None else advice,
        severity=severity or known.severity,
    )


def number_of(count: int, noun: str) -> str:
    """Write a count with its noun."""
    return f"{count:,} {noun}{'' if count == 1 else 's'}"


def place(first_s: float | None, offset: int | None) -> str:
    """Write a place as text."""
    parts = [] if first_s is None else [f"at {first_s:.6f} s"]
    parts += [] if offset is None else [f"character {offset:,}"]
    return ", ".join(parts)


def time_of(characters: Characters, offset: int) -> float | None:
    """Return when a character began, in seconds; None where nobody knows, or it is not there."""
    return float(characters.begin_s[offset]) if characters.has_times and offset < len(characters) else None


def verdict_of(findings: tuple[Finding, ...]) -> Verdict:
    """Return the verdict that follows from findings: notes do not spoil it."""
    severities = {finding.severity for finding in findings}
    return "faults" if "error" in severities else "warnings" if "warning" in severities else "clean"


def _share(count: int, total: int) -> str:
    share = 100 * count / total
    return f"{share:.3g} %" if share < 99.95 or count == total else "almost all"
