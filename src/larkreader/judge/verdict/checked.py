"""What a reading proves, and what it could not check.

``clean`` is a proof: every byte of every wire lies in a good frame, or in a stretch whose reason is harmless, and
whatever else the sheet declares was checked and held. So this module adds up what was checked, and names what was not,
with the reason. A wire without a declared layout, or a layout without a checksum, is not at fault; it is less proven.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.judge.findings.finding import Finding, Verdict, verdict_of
from larkreader.judge.findings.wording import Template, render

from .counts import FrameCounts, PairCounts, WireCounts

# What can be proven, and why something could not be checked: a heading, and what stands behind it for each subject.
PROVEN: Mapping[str, tuple[str, Template]] = {
    "frames": ("bytes in good frames", "{good:,} of {total:,} on {wire}"),
    "line": ("characters without a line fault", "{good:,} of {total:,} on {wire}"),
    "counter": ("no frame missing by its counter", "{frame}"),
    "period": ("period kept", "{frame}"),
    "pairs": ("requests answered", "{answered:,} of {total:,} ({pair})"),
    "reads": ("every read returns", "{wire}"),
    "pauses": ("pauses kept", "{pauses:,} on {wire}"),
}
NOT_CHECKED: Mapping[str, tuple[str, Template]] = {
    "not-captured": ("wires that are not in the capture", "{wire}"),
    "silent": ("wires without a character", "{wire}"),
    "no-layout": ("content, as no frame is declared", "{wire}"),
    "no-checksum": ("corrupted bytes, as there is no checksum", "{frame}"),
    "no-counter": ("missing frames, as there is no counter and no period", "{frame}"),
    "bytes-alone": ("line faults, as the capture holds bytes alone", "{wire}"),
    "no-parity": ("single corrupted bits, as there is no parity", "{wire}"),
    "no-times": ("periods, as the capture has no times", "{frame}"),
    "not-both-sides": ("requests, as not both wires are in the capture", "{pair}"),
    "open-requests": ("replies that were not due yet when the capture ended", "{open:,} of {pair}"),
    "no-requests": ("replies, as there is no request", "{pair}"),
    "no-limit": ("replies, as neither the sheet nor a reply shows a reply time", "{pair}"),
    "no-signal": ("pauses, as the capture does not show requests for them", "{wire}"),
    "no-pauses": ("pauses, as none was requested", "{wire}"),
    "cut": ("what spans the places where a long capture was cut, as none was quiet", "{cuts:,}"),
    "not-recorded": ("what happened while nothing was recorded", "{rests:count time}"),
    "no-levels": ("reads, as the capture has no levels", "{wire}"),
}


@dataclass(frozen=True)
class Check:
    """One thing that was proven, or that could not be checked.

    Parameters
    ----------
    what : str
        A key of `PROVEN` or of `NOT_CHECKED`.
    evidence : mapping of str to value
        Of what, and how much.
    """

    what: str
    evidence: Mapping[str, Any]

    @property
    def is_proven(self) -> bool:
        """Whether it was proven."""
        return self.what in PROVEN

    @property
    def text(self) -> str:
        """The check in words."""
        head, subject = _words_of(self.what)
        return f"{head}: {render(subject, self.evidence)}"

    def to_dict(self) -> dict[str, Any]:
        """Return the check as JSON has it."""
        return {"what": self.what, **self.evidence, "text": self.text}


@dataclass(frozen=True)
class Checked:
    """What a reading proves, and what it could not check.

    Parameters
    ----------
    proven : tuple of Check
        What was checked and held.
    not_checked : tuple of Check
        What could not be checked, with the reason.
    is_read : bool
        Whether any character was read at all.
    """

    proven: tuple[Check, ...]
    not_checked: tuple[Check, ...]
    is_read: bool

    def verdict_with(self, findings: Sequence[Finding]) -> Verdict:
        """Return the verdict: ``nothing-read`` without a character, else what follows from the findings.

        Parameters
        ----------
        findings : sequence of Finding
            What was found.
        """
        return verdict_of(findings) if self.is_read else "nothing-read"

    def to_dict(self) -> dict[str, Any]:
        """Return both lists as JSON has them."""
        return {
            "proven": [item.to_dict() for item in self.proven],
            "not_checked": [item.to_dict() for item in self.not_checked],
        }

    def __str__(self) -> str:
        """Write both lists as two lines; what has the same heading stands together."""
        lines = []
        for title, every in (("Proven", self.proven), ("Not checked", self.not_checked)):
            by_head: dict[str, list[str]] = {}
            for item in every:
                head, subject = _words_of(item.what)
                by_head.setdefault(head, []).append(render(subject, item.evidence))
            if by_head:
                parts = [f"{head} ({', '.join(subjects)})" for head, subjects in by_head.items()]
                lines.append(f"{title}: {'; '.join(parts)}.")
        return "\n".join(lines)


def _words_of(what: str) -> tuple[str, Template]:
    return PROVEN[what] if what in PROVEN else NOT_CHECKED[what]


def add_up(
    sheet: Sheet,
    counts: Mapping[str, WireCounts],
    frames: Mapping[str, FrameCounts],
    findings: Sequence[Finding],
    *,
    pairs: Mapping[str, PairCounts],
    paths: Collection[str],
    pauses: Mapping[str, int],
    wires: Sequence[str],
    cuts: int = 0,
    rests: int = 0,
) -> Checked:
    """Add up what was checked and what was not.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    counts : mapping of str to WireCounts
        By wire.
    frames : mapping of str to FrameCounts
        By layout.
    findings : sequence of Finding
        What is wrong.
    pairs : mapping of str to PairCounts
        By pairing of which both sides were captured.
    paths : collection of str
        The wires whose receive path was replayed.
    pauses : mapping of str to int
        By wire whose requests to pause were captured, how many there were.
    wires : sequence of str
        The wires that were asked for.
    cuts : int
        How often a long capture was cut at a place that is not quiet, and both parts judged apart.
    rests : int
        How often nothing was recorded for a time, before the capture went on.

    Returns
    -------
    Checked
    """
    every = [
        *_of_wires(sheet, counts, frames, findings, wires),
        *_of_pairs(sheet, pairs),
        *_of_paths(sheet, counts, paths, findings),
        *_of_pauses(sheet, counts, pauses, findings),
        *([Check("cut", {"cuts": cuts})] if cuts else []),
        *([Check("not-recorded", {"rests": rests})] if rests else []),
    ]
    proven, not_checked = ([item for item in every if item.is_proven is wanted] for wanted in (True, False))
    return Checked(tuple(proven), tuple(not_checked), is_read=any(item.characters for item in counts.values()))


def _of_wires(
    sheet: Sheet,
    counts: Mapping[str, WireCounts],
    frames: Mapping[str, FrameCounts],
    findings: Sequence[Finding],
    wires: Sequence[str],
) -> Iterator[Check]:
    for wire in wires:
        held = counts.get(wire)
        if held is None:
            yield Check("not-captured", {"wire": wire})
        elif not held.characters:
            yield Check("silent", {"wire": wire})
        else:
            layouts = sheet.layouts_of(wire)
            yield from _of_line(wire, held, sheet)
            good = sum(frames[layout.key].good_bytes for layout in layouts)
            if not layouts:
                yield Check("no-layout", {"wire": wire})
            elif good:
                yield Check("frames", {"wire": wire, "good": good, "total": held.characters})
            for layout in layouts:
                if frames[layout.key].frames:
                    yield from _of_layout(wire, layout, held, findings)


def _of_line(wire: str, held: WireCounts, sheet: Sheet) -> Iterator[Check]:
    layouts = sheet.layouts_of(wire)
    if held.has_line or held.has_faults:
        if held.sound and not layouts:
            yield Check("line", {"wire": wire, "good": held.sound, "total": held.characters})
        if not sheet.wire[wire].line.has_parity and not (layouts and all(layout.checksum for layout in layouts)):
            yield Check("no-parity", {"wire": wire})
    else:
        yield Check("bytes-alone", {"wire": wire})


def _of_layout(wire: str, layout: FrameLayout, held: WireCounts, findings: Sequence[Finding]) -> Iterator[Check]:
    wrong = {finding.kind for finding in findings if finding.frame == layout.key and finding.wire == wire}
    named = {"frame": layout.key}
    if layout.checksum is None:
        yield Check("no-checksum", named)
    if layout.counter is not None:
        if not wrong & {"counter-gap", "overflow", "counter-jump", "counter-restart", "counter-mismatch"}:
            yield Check("counter", named)
    elif layout.period is None:
        yield Check("no-counter", named)
    if layout.period is not None:
        if not held.has_times:
            yield Check("no-times", named)
        elif not wrong & {"late-frame", "silent-layout"}:
            yield Check("period", {**named, "period_s": layout.period})


def _of_pairs(sheet: Sheet, pairs: Mapping[str, PairCounts]) -> Iterator[Check]:
    for key in sheet.pair:
        named = {"pair": key}
        if key not in pairs:
            yield Check("not-both-sides", named)
            continue
        some = pairs[key]
        if not some.requests:
            yield Check("no-requests", named)
        if some.answered:
            yield Check("pairs", {**named, "answered": some.answered, "total": some.requests})
        if some.open and not some.answered and some.has_no_limit:
            yield Check("no-limit", named)
        elif some.open:
            yield Check("open-requests", {**named, "open": some.open})


def _of_paths(
    sheet: Sheet, counts: Mapping[str, WireCounts], paths: Collection[str], findings: Sequence[Finding]
) -> Iterator[Check]:
    for wire in sheet.receive:
        if wire in paths:
            wrong = {"stuck-read", "misaligned-read", "discarded-characters", "setting-suspect"}
            has_reads = sheet.receive[wire].application is not None
            if has_reads and not any(finding.kind in wrong and finding.wire == wire for finding in findings):
                yield Check("reads", {"wire": wire})
        elif wire in counts and counts[wire].characters:
            yield Check("no-levels", {"wire": wire})


def _of_pauses(
    sheet: Sheet, counts: Mapping[str, WireCounts], pauses: Mapping[str, int], findings: Sequence[Finding]
) -> Iterator[Check]:
    wrong = {"sent-while-paused", "pause-ignored", "pause-reversed", "never-resumed"}
    for wire, held in counts.items():
        if sheet.wire[wire].line.flow_control == "none" or not held.characters:
            continue
        if wire not in pauses:
            yield Check("no-signal", {"wire": wire})
        elif not pauses[wire]:
            yield Check("no-pauses", {"wire": wire})
        elif not any(finding.kind in wrong and finding.wire == wire for finding in findings):
            yield Check("pauses", {"wire": wire, "pauses": pauses[wire]})
