"""What a finding is: one thing wrong or worth knowing, as evidence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np
import numpy.typing as npt

from larkreader.capture.characters import Characters
from larkreader.capture.columns import Columns
from larkreader.shown import Shown

from .kind import Severity
from .kinds import KINDS
from .wording import percent, render

Verdict = Literal["clean", "warnings", "faults", "nothing-read"]
Certainty = Literal["proven", "likely", "possible"]
SubjectKind = Literal["wire", "frame", "pair", "path", "end", "register", "pins"]

SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")
MOST_PLACES = 1000  # in a JSON document
LIKELY = 0.75  # the score from which an explanation is likely
NOWHERE = -1  # the offset, and the row, of a place that has none

Offsets = npt.NDArray[np.int64]
Seconds = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Subject:
    """What a finding is about.

    Parameters
    ----------
    kind : {"wire", "frame", "pair", "path", "end", "register", "pins"}
    name : str
        Its name on the sheet.
    wire : str
        The wire on which it shows; empty where none is concerned.
    """

    kind: SubjectKind
    name: str
    wire: str = ""

    @classmethod
    def of(cls, where: str) -> Subject:
        """Return the subject at a place of a sheet: ``end.controller``, ``register.brr``, ``a.tx b.rx``, or a wire.

        Parameters
        ----------
        where : str
            The place.
        """
        head, dot, name = where.partition(".")
        if dot and head in ("end", "register") and " " not in where:
            return cls("end" if head == "end" else "register", name)
        return cls("pins", where) if dot else cls("wire", where, where)

    def __str__(self) -> str:
        """Write the subject as a sheet names it."""
        return f"{self.kind}.{self.name}" if self.kind in ("end", "register") else self.wire or self.name


@dataclass(frozen=True, eq=False, repr=False)
class Places(Columns):
    """Where a finding occurs, one row an occurrence; all columns have shape (n_places,).

    Parameters
    ----------
    offset : ndarray of int64
        Number of the character on its wire, counted from 0; -1 where the place lies between characters.
    time_s : ndarray of float64
        When it began, in seconds on the clock of the capture; NaN where that is not known.
    row : ndarray of int64
        Row of what is concerned: of the frames of a layout, of the timeline, of reads; -1 without any.
    """

    COLUMNS: ClassVar[tuple[str, ...]] = ("offset", "time_s", "row")

    offset: Offsets
    time_s: Seconds
    row: Offsets

    def __post_init__(self) -> None:
        self.check_lengths()

    def __eq__(self, other: object) -> bool:
        """Return whether all places are the same."""
        if not isinstance(other, Places):
            return NotImplemented
        same = np.array_equal(self.offset, other.offset) and np.array_equal(self.row, other.row)
        return same and np.array_equal(self.time_s, other.time_s, equal_nan=True)

    def __hash__(self) -> int:
        return hash((len(self), int(self.offset[0]) if len(self) else 0))

    @classmethod
    def nowhere(cls) -> Places:
        """Return the only place of a finding about a whole wire, or about what is declared."""
        return cls.at()

    @classmethod
    def at(
        cls,
        offset: npt.ArrayLike | None = None,
        time_s: npt.ArrayLike | None = None,
        row: npt.ArrayLike | None = None,
    ) -> Places:
        """Make places of the columns that are known; without any, one place of which nothing is known.

        Parameters
        ----------
        offset : array_like of int, optional
            Numbers of characters.
        time_s : array_like of float, optional
            Times, in seconds.
        row : array_like of int, optional
            Numbers of frames or messages.
        """
        given = [np.atleast_1d(np.asarray(item)) for item in (offset, time_s, row) if item is not None]
        count = len(given[0]) if given else 1
        return cls(
            np.full(count, NOWHERE) if offset is None else np.atleast_1d(np.asarray(offset)).astype(np.int64),
            np.full(count, np.nan) if time_s is None else np.atleast_1d(np.asarray(time_s)).astype(np.float64),
            np.full(count, NOWHERE) if row is None else np.atleast_1d(np.asarray(row)).astype(np.int64),
        )

    @classmethod
    def on(cls, characters: Characters, offset: npt.ArrayLike, row: npt.ArrayLike | None = None) -> Places:
        """Make places at characters of a wire, with the times at which these began.

        Parameters
        ----------
        characters : Characters
            The characters of the wire.
        offset : array_like of int
            Numbers of characters.
        row : array_like of int, optional
            Numbers of frames or messages.
        """
        offsets = np.atleast_1d(np.asarray(offset)).astype(np.int64)
        times = np.full(len(offsets), np.nan)
        if characters.has_times and len(characters):
            there = offsets < len(characters)
            times[there] = characters.begin_s[offsets[there]]
        return cls.at(offsets, times, row)

    def to_list(self, most: int = MOST_PLACES) -> list[dict[str, Any]]:
        """Return the first places as JSON has them; what is not known is None.

        Parameters
        ----------
        most : int
            Most places.
        """
        return [
            {
                "offset": None if offset == NOWHERE else offset,
                "time_s": None if np.isnan(time_s) else round(time_s, 12),
                "row": None if row == NOWHERE else row,
            }
            for offset, time_s, row in zip(
                self.offset[:most].tolist(), self.time_s[:most].tolist(), self.row[:most].tolist(), strict=True
            )
        ]


@dataclass(frozen=True, repr=False)
class Finding(Shown):
    """One thing wrong or worth knowing, as evidence; the sentences are made from it.

    Parameters
    ----------
    kind : str
        A key of `KINDS`.
    subject : Subject
        What it is about.
    places : Places
        Every occurrence, in order; their number is the count.
    evidence : mapping of str to value
        The numbers from which it was concluded, by name; the kind says which names there may be.
    severity : {"error", "warning", "note"}
        How bad it is.
    certainty : {"proven", "likely", "possible"}
        How sure it is. A cause is proven where nothing else can explain the evidence.
    score : float, optional
        How likely it is as an explanation, 0 to 1; None for what was observed.
    caused_by : Finding, optional
        The finding of which this finding is a consequence.
    more : int
        Occurrences beyond those in `places`, where only the first are kept.
    group : str
        Which occurrences it has, where a subject can have several findings of one kind.
    """

    kind: str
    subject: Subject
    places: Places = field(default_factory=Places.nowhere)
    evidence: Mapping[str, Any] = field(default_factory=dict)
    severity: Severity = "error"
    certainty: Certainty = "proven"
    score: float | None = None
    caused_by: Finding | None = None
    more: int = 0
    group: str = field(default="", compare=False)

    def __hash__(self) -> int:
        return hash((self.kind, self.subject, self.places))

    def __repr__(self) -> str:
        first = place(self.first_s, self.offset)
        score = "" if self.score is None else f", score {self.score:.3g}"
        times = f": {self.count:,} time{'' if self.count == 1 else 's'}{first and ', first ' + first}"
        return f"<Finding {self.kind} on {self.subject}{times}; {self.severity}, {self.certainty}{score}>"

    @property
    def count(self) -> int:
        """How often it occurs."""
        return len(self.places) + self.more

    @property
    def wire(self) -> str:
        """The wire on which it shows; of what is declared alone, its place on the sheet."""
        return str(self.subject)

    @property
    def frame(self) -> str | None:
        """The layout concerned."""
        name: str | None = self.evidence.get("frame")
        return self.subject.name if self.subject.kind == "frame" else name

    @property
    def first_s(self) -> float | None:
        """When the first place began, in seconds on the clock of the capture; None where that is not known."""
        return float(self.places.time_s[0]) if len(self.places) and not np.isnan(self.places.time_s[0]) else None

    @property
    def offset(self) -> int | None:
        """Number of the first place's character on its wire; None where it lies between characters."""
        return int(self.places.offset[0]) if len(self.places) and self.places.offset[0] != NOWHERE else None

    @property
    def text(self) -> str:
        """Where, how often, and what it means."""
        known = KINDS[self.kind]
        held = self._named
        sentences = [self._how_often(), render(known.detail, held), render(known.meaning, held)]
        return " ".join(sentence for sentence in sentences if sentence)

    @property
    def detail(self) -> str:
        """What the evidence shows, without where, how often and what it means."""
        return render(KINDS[self.kind].detail, self._named)

    @property
    def advice(self) -> str:
        """What to do."""
        return render(KINDS[self.kind].advice, self._named)

    @property
    def _named(self) -> dict[str, Any]:
        return {
            "wire": self.wire,
            "frame": self.frame,
            "count": self.count,
            "certain": self.certainty == "proven",
            **self.evidence,
        }

    def _how_often(self) -> str:
        """Write how many places there are, of how many, and where the first is."""
        known, where = KINDS[self.kind], place(self.first_s, self.offset)
        total = self.evidence.get("total")
        if self.score is not None or (not where and total is None and self.count == 1 and known.detail):
            return ""  # an explanation of the whole wire, or about what is declared: the detail says it all
        text = f"{self.count:,} {known.singular if self.count == 1 else known.plural}"
        if total:
            text += f" in {total:,} {render(known.among, self._named)} ({percent(self.count / total)})"
        return f"{text}{', first ' * (self.count > 1) or ', '}{where}." if where else f"{text}."

    def to_dict(self) -> dict[str, Any]:
        """Return the finding as JSON has it."""
        found: dict[str, Any] = {
            "kind": self.kind,
            "severity": self.severity,
            "certainty": self.certainty,
            "wire": self.wire,
            "subject": {"kind": self.subject.kind, "name": self.subject.name},
            "count": self.count,
        }
        if self.frame is not None:
            found["frame"] = self.frame
        if self.score is not None:
            found["score"] = round(self.score, 3)
        if self.caused_by is not None:
            cause = self.caused_by
            found["caused_by"] = {"kind": cause.kind, "wire": cause.wire, "offset": cause.offset}
        first_s = None if self.first_s is None else round(self.first_s, 12)
        found |= {"first_s": first_s, "offset": self.offset, "places": self.places.to_list()}
        evidence = {name: list(item) if isinstance(item, tuple) else item for name, item in self.evidence.items()}
        return found | {"evidence": evidence, "text": self.text, "advice": self.advice}


class Findings(tuple[Finding, ...], Shown):
    """Findings, as a tuple that a notebook shows as a table."""

    __slots__ = ()


def make_finding(kind: str, subject: Subject | str, places: Places | None = None, /, **evidence: Any) -> Finding:
    """Make a finding of a kind.

    Parameters
    ----------
    kind : str
        A key of `KINDS`.
    subject : Subject or str
        What it is about; a text is a wire, or a place on the sheet as `Subject.of` reads it.
    places : Places, optional
        Every occurrence; one of which nothing is known is the default.
    **evidence
        The numbers from which it was concluded; None is left out. ``severity``, ``certainty``, ``score`` and
        ``caused_by`` are none of them, but as in `Finding`; the severity of the kind, and the certainty that goes with
        the score, are the defaults.

    Returns
    -------
    Finding

    Raises
    ------
    KeyError
        If the kind is not known, or has no evidence of such a name.
    """
    known = KINDS[kind]
    severity, certainty, score, caused_by = (
        evidence.pop(name, None) for name in ("severity", "certainty", "score", "caused_by")
    )
    held = {name: _plain(value) for name, value in evidence.items() if value is not None}
    if strange := held.keys() - {*known.evidence, "frame"}:
        raise KeyError(f"{kind} has no evidence {', '.join(sorted(strange))}")
    if certainty is None:
        certainty = "proven" if score is None else "likely" if score >= LIKELY else "possible"
    return Finding(
        kind,
        Subject.of(subject) if isinstance(subject, str) else subject,
        Places.nowhere() if places is None else places,
        held,
        severity or known.severity,
        certainty,
        score,
        caused_by,
    )


def frame_subject(layout: str, wire: str) -> Subject:
    """Return the subject of findings about the frames of a layout."""
    return Subject("frame", layout, wire)


def place(first_s: float | None, offset: int | None) -> str:
    """Write a place as text."""
    parts = [] if first_s is None else [f"at {first_s:.6f} s"]
    parts += [] if offset is None else [f"character {offset:,}"]
    return ", ".join(parts)


def number_of(count: int, noun: str) -> str:
    """Write a count with its noun."""
    return f"{count:,} {noun}{'' if count == 1 else 's'}"


def time_of(characters: Characters, offset: int) -> float | None:
    """Return when a character began, in seconds; None where that is not known, or it is not there."""
    return float(characters.begin_s[offset]) if characters.has_times and offset < len(characters) else None


def verdict_of(findings: Sequence[Finding]) -> Verdict:
    """Return the verdict that follows from findings alone: notes do not spoil it."""
    severities = {finding.severity for finding in findings}
    return "faults" if "error" in severities else "warnings" if "warning" in severities else "clean"


def _plain(value: Any) -> Any:
    """Return a value as plain Python has it, so that it compares, pickles and is written as JSON."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return tuple(value.tolist())
    return tuple(map(_plain, value)) if isinstance(value, (list, tuple)) else value
