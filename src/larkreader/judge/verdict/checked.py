"""What a reading proves, and what it could not check.

``clean`` is a proof: every byte of every wire lies in a good frame, or in a stretch whose reason is harmless, and
whatever else the sheet declares was checked and held. So this module adds up what was checked, and names what was not,
with the reason. A wire without a declared layout, or a layout without a checksum, is not at fault; it is less proven.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.document.sheet import Sheet
from larkreader.decode.columns.frame_columns import Frames
from larkreader.judge.findings.finding import Finding, Verdict, verdict_of
from larkreader.judge.findings.wording import Template, render

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
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    bytes_of: Mapping[str, Mapping[str, int]],
    findings: Sequence[Finding],
    *,
    pairs: Mapping[str, Any],
    paths: Mapping[str, Any],
    pauses: Mapping[str, Any],
    wires: Sequence[str],
) -> Checked:
    """Add up what was checked and what was not.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    characters : mapping of str to Characters
        By wire.
    frames : mapping of str to Frames
        By layout.
    bytes_of : mapping of str to mapping
        By wire, how many bytes lie in good frames, in faulty frames, and in none.
    findings : sequence of Finding
        What is wrong.
    pairs, paths, pauses : mapping
        What was found of pairings, receive paths and pauses, by name or wire.
    wires : sequence of str
        The wires that were asked for.

    Returns
    -------
    Checked
    """
    every = [
        *_of_wires(sheet, characters, frames, bytes_of, findings, wires),
        *_of_pairs(sheet, pairs),
        *_of_paths(sheet, characters, paths, findings),
        *_of_pauses(sheet, characters, pauses, findings),
    ]
    proven, not_checked = ([item for item in every if item.is_proven is wanted] for wanted in (True, False))
    return Checked(tuple(proven), tuple(not_checked), is_read=any(map(len, characters.values())))


def _of_wires(
    sheet: Sheet,
    characters: Mapping[str, Characters],
    frames: Mapping[str, Frames],
    bytes_of: Mapping[str, Mapping[str, int]],
    findings: Sequence[Finding],
    wires: Sequence[str],
) -> Iterator[Check]:
    for wire in wires:
        held = characters.get(wire)
        if held is None:
            yield Check("not-captured", {"wire": wire})
        elif not len(held):
            yield Check("silent", {"wire": wire})
        else:
            layouts = sheet.layouts_of(wire)
            yield from _of_line(wire, held, sheet)
            if not layouts:
                yield Check("no-layout", {"wire": wire})
            elif bytes_of[wire]["good"]:
                counts = {name: bytes_of[wire][name] for name in ("good", "total")}
                yield Check("frames", {"wire": wire, **counts})
            for layout in layouts:
                if len(frames[layout.key]):
                    yield from _of_layout(wire, frames[layout.key], held, findings)


def _of_line(wire: str, held: Characters, sheet: Sheet) -> Iterator[Check]:
    layouts = sheet.layouts_of(wire)
    if held.has_line or held.faults.any():
        sound = int(np.count_nonzero(held.faults == 0))
        if sound and not layouts:
            yield Check("line", {"wire": wire, "good": sound, "total": len(held)})
        if not sheet.wire[wire].line.has_parity and not (layouts and all(layout.checksum for layout in layouts)):
            yield Check("no-parity", {"wire": wire})
    else:
        yield Check("bytes-alone", {"wire": wire})


def _of_layout(wire: str, frames: Frames, held: Characters, findings: Sequence[Finding]) -> Iterator[Check]:
    layout = frames.layout
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


def _of_pairs(sheet: Sheet, pairs: Mapping[str, Any]) -> Iterator[Check]:
    for key in sheet.pair:
        named = {"pair": key}
        if key not in pairs:
            yield Check("not-both-sides", named)
            continue
        some = pairs[key]
        answered, still_open = int(some.answered.sum()), some.count_open
        if not len(some):
            yield Check("no-requests", named)
        if answered:
            yield Check("pairs", {**named, "answered": answered, "total": len(some)})
        if still_open and not answered and some.has_no_limit:
            yield Check("no-limit", named)
        elif still_open:
            yield Check("open-requests", {**named, "open": still_open})


def _of_paths(
    sheet: Sheet, characters: Mapping[str, Characters], paths: Mapping[str, Any], findings: Sequence[Finding]
) -> Iterator[Check]:
    for wire in sheet.receive:
        if wire in paths:
            wrong = {"stuck-read", "misaligned-read", "discarded-characters", "setting-suspect"}
            has_reads = sheet.receive[wire].application is not None
            if has_reads and not any(finding.kind in wrong and finding.wire == wire for finding in findings):
                yield Check("reads", {"wire": wire})
        elif wire in characters and len(characters[wire]):
            yield Check("no-levels", {"wire": wire})


def _of_pauses(
    sheet: Sheet, characters: Mapping[str, Characters], pauses: Mapping[str, Any], findings: Sequence[Finding]
) -> Iterator[Check]:
    wrong = {"sent-while-paused", "pause-ignored", "pause-reversed", "never-resumed"}
    for wire, held in characters.items():
        if sheet.wire[wire].line.flow_control == "none" or not len(held):
            continue
        if wire not in pauses:
            yield Check("no-signal", {"wire": wire})
        elif not len(pauses[wire]):
            yield Check("no-pauses", {"wire": wire})
        elif not any(finding.kind in wrong and finding.wire == wire for finding in findings):
            yield Check("pauses", {"wire": wire, "pauses": len(pauses[wire])})
