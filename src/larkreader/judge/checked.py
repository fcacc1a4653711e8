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
from larkreader.declare.sheet import Sheet
from larkreader.decode.frame_columns import Frames

from .findings import Finding, Verdict, verdict_of
from .wording import Template, render

# What can be checked: how it reads when it was, and when it was not, by reason.
CHECKS: Mapping[str, Template] = {
    "frames": "{good:count byte} of {wire} {good:is} in good frames",
    "line": "{characters:count character} of {wire} {characters:has} no line fault",
    "counter": "no {frame} frame is missing by its counter",
    "period": "{frame} keeps its period of {period_s:time}",
    "pairs": "{answered:count request} of {pair} {answered:is} answered",
    "reads": "every read of {wire} returns",
    "pauses": "{pauses:count pause} of {wire} {pauses:is} kept",
}
REASONS: Mapping[str, Template] = {
    "not-captured": "{wire}: not in the capture",
    "silent": "{wire}: nothing was sent on it",
    "no-layout": "content of {wire}: no frame is declared on it",
    "no-checksum": "content of {frame}: it has no checksum, so changed bytes do not show",
    "no-counter": "missing {frame} frames: it has no counter and no period",
    "bytes-alone": "line faults on {wire}: the capture holds bytes alone",
    "no-parity": "single changed bits on {wire}: it has no parity",
    "no-times": "{what} on {wire}: the capture has no times",
    "not-both-sides": "requests of {pair}: the capture does not have both wires",
    "open-requests": "{open:count request} of {pair}: the capture ends before a reply is due",
    "no-requests": "requests of {pair}: there is none",
    "no-limit": "reply times of {pair}: no time limit is declared, and no reply shows how long one takes",
    "no-signal": "pauses of {wire}: the capture does not show when a pause is requested",
    "no-pauses": "pauses of {wire}: none was requested",
    "no-levels": "receive path of {wire}: the capture has no levels of it",
}


@dataclass(frozen=True)
class Check:
    """One thing that was proven, or that could not be checked.

    Parameters
    ----------
    what : str
        A key of `CHECKS` if it was proven, of `REASONS` if it could not be checked.
    evidence : mapping of str to value
        Of what, and how much.
    """

    what: str
    evidence: Mapping[str, Any]

    @property
    def text(self) -> str:
        """The check as a clause."""
        return render(CHECKS.get(self.what) or REASONS[self.what], self.evidence)

    def to_dict(self) -> dict[str, Any]:
        """Return the check as JSON has it."""
        return {"what": self.what, "evidence": dict(self.evidence), "text": self.text}


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
        """Return the verdict: ``nothing-read`` without a character, else what follows from the findings."""
        return verdict_of(findings) if self.is_read else "nothing-read"

    def to_dict(self) -> dict[str, Any]:
        """Return both lists as JSON has them."""
        return {
            "proven": [one.to_dict() for one in self.proven],
            "not_checked": [one.to_dict() for one in self.not_checked],
        }

    def __str__(self) -> str:
        """Write both lists as two lines."""
        lines = [
            f"{head}: {'; '.join(one.text for one in every)}."
            for head, every in (("Proven", self.proven), ("Not checked", self.not_checked))
            if every
        ]
        return "\n".join(lines)


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
        By wire, how many bytes lie in good frames, faulty ones, and none.
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
    proven: list[Check] = []
    missing: list[Check] = []
    for one in _of_wires(sheet, characters, frames, bytes_of, findings, wires):
        (proven if one.what in CHECKS else missing).append(one)
    for one in (*_of_pairs(sheet, pairs), *_of_paths(sheet, characters, paths, findings)):
        (proven if one.what in CHECKS else missing).append(one)
    for one in _of_pauses(sheet, characters, pauses, findings):
        (proven if one.what in CHECKS else missing).append(one)
    return Checked(tuple(proven), tuple(missing), is_read=any(map(len, characters.values())))


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
                yield Check("frames", {"wire": wire, "good": bytes_of[wire]["good"]})
            for layout in layouts:
                if len(frames[layout.key]):
                    yield from _of_layout(wire, frames[layout.key], held, findings)


def _of_line(wire: str, held: Characters, sheet: Sheet) -> Iterator[Check]:
    sound = int(np.count_nonzero(held.faults == 0))
    if held.has_line or held.faults.any():
        if sound:
            yield Check("line", {"wire": wire, "characters": sound})
        if not sheet.wire[wire].line.has_parity and not all(one.checksum for one in sheet.layouts_of(wire)):
            yield Check("no-parity", {"wire": wire})
    else:
        yield Check("bytes-alone", {"wire": wire})


def _of_layout(wire: str, frames: Frames, held: Characters, findings: Sequence[Finding]) -> Iterator[Check]:
    layout = frames.layout
    wrong = {one.kind for one in findings if one.frame == layout.key and one.wire == wire}
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
            yield Check("no-times", {"what": f"the period of {layout.key}", "wire": wire})
        elif not wrong & {"late-frame", "silent-layout"}:
            yield Check("period", {**named, "period_s": layout.period})


def _of_pairs(sheet: Sheet, pairs: Mapping[str, Any]) -> Iterator[Check]:
    for key in sheet.pair:
        named = {"pair": key}
        if key not in pairs:
            yield Check("not-both-sides", named)
            continue
        one = pairs[key]
        answered, still_open = int(one.answered.sum()), one.count_open
        if not len(one):
            yield Check("no-requests", named)
        if answered:
            yield Check("pairs", {**named, "answered": answered})
        if still_open and not answered and one.has_no_limit:
            yield Check("no-limit", named)
        elif still_open:
            yield Check("open-requests", {**named, "open": still_open})


def _of_paths(
    sheet: Sheet, characters: Mapping[str, Characters], paths: Mapping[str, Any], findings: Sequence[Finding]
) -> Iterator[Check]:
    for wire in sheet.receive:
        if wire in paths:
            wrong = {"stuck-read", "misaligned-read", "discarded-characters"}
            has_reads = sheet.receive[wire].application is not None
            if has_reads and not any(one.kind in wrong and one.wire == wire for one in findings):
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
        elif not any(one.kind in wrong and one.wire == wire for one in findings):
            yield Check("pauses", {"wire": wire, "pauses": len(pauses[wire])})
