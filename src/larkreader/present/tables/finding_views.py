"""Findings and explanations as tables and sentences."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Group
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from larkreader.present.text.notation import visible

if TYPE_CHECKING:
    from larkreader.judge.findings.finding import Finding
    from larkreader.judge.infer.garble import Garble
    from larkreader.judge.verdict.checked import Checked
    from larkreader.judge.verdict.diagnosis import Diagnosis

from larkreader.present.text.terminal import ERROR, NOTE, WARNING, Paragraph, new_table

SHOWN_TEXT = 24  # characters of a message that is shown beside other things


CERTAINTIES = {"likely": "likely", "possible": "possible"}


SEVERITY_STYLES = {"error": ERROR, "warning": WARNING, "note": NOTE}


VERDICTS = {
    "clean": "clean: everything that was checked is right",
    "warnings": "warnings: nothing is broken, but look at the following",
    "faults": "faults: the following is wrong",
    "nothing-read": "nothing read: the capture holds no character of these wires",
}


def findings(found: Sequence[Finding], verdict: str, checked: Checked | None = None) -> Group:
    """Show the verdict, then each finding: where, how often, what it means, what to do; consequences below their cause.

    At the end stands what was proven and what could not be checked.
    """
    parts: list[Any] = [Text(f"Verdict: {VERDICTS[verdict]}", style="bold")]
    for one, depth in in_order(found):
        parts += ["", _head(one), *_sentences(one, depth)]
    if checked is not None and str(checked):
        parts += ["", *(Paragraph(line) for line in str(checked).split("\n"))]
    return Group(*parts)


def in_order(found: Sequence[Finding]) -> Iterator[tuple[Finding, int]]:
    """Yield findings, each followed by its consequences, with how many causes lie above it."""
    present = list(found)

    def below(cause: Finding | None, depth: int) -> Iterator[tuple[Finding, int]]:
        for one in present:
            is_listed = one.caused_by is not None and any(one.caused_by is other for other in present)
            if (one.caused_by if is_listed else None) is cause:
                yield one, depth
                yield from below(one, depth + 1)

    yield from below(None, 0)


def _head(one: Finding) -> Text:
    head = Text.assemble((f" {one.severity} ", SEVERITY_STYLES[one.severity]), f" {one.kind} on ", (one.wire, "bold"))
    if one.frame:
        head.append(f", frame {one.frame}")
    if one.certainty != "proven":
        head.append(f", {CERTAINTIES[one.certainty]}" if one.score is None else f", {_likelihood(one.score)}")
    return head


def _sentences(one: Finding, depth: int = 0) -> list[Padding]:
    """Return what a finding says and what to do; of a consequence, of what it is one."""
    sentences: list[Padding] = [Paragraph(one.text, 2)]
    if depth and one.caused_by is not None:
        sentences.append(Paragraph(f"A consequence of the {one.caused_by.kind} above.", 2))
    elif one.advice:
        sentences.append(Paragraph(Text.assemble(("Fix: ", "bold"), one.advice), 2))
    return sentences


def explanations(result: Mapping[str, Diagnosis]) -> Group:
    """Show of each wire what is the matter with it, the likeliest explanation first, and the settings to try."""
    parts: list[Any] = []
    for wire, one in result.items():
        parts += [explained(one.findings), ""]
        is_declared = any(finding.kind == "as-declared" for finding in one.findings)
        if one.proposal is not None and one.verdict != "clean" and not is_declared:
            parts += [
                Text.assemble((wire, "bold"), " reads best as ", (str(one.proposal), "bold"), "."),
                "",
            ]
    return Group(*parts[:-1])


def explained(found: Sequence[Finding]) -> Group:
    """Show findings with how likely they are as explanations, where they are some."""
    parts: list[Any] = []
    for one in found:
        parts += [_head(one), *_sentences(one), ""]
    return Group(*parts[:-1])


def garbles(found: Sequence[Garble], *, most: int = 5) -> Table:
    """Show which mistakes explain garbled bytes, the likeliest first, and what was sent if known."""
    table = new_table(">explains", "mistake of the sender", "its settings", "what was sent")
    for one in found[:most]:
        table.add_row(
            f"{100 * one.likeness:.0f} %", one.mistake, str(one.sender), Text(visible(one.recovered[:SHOWN_TEXT]))
        )
    return table


def _likelihood(score: float) -> str:
    return "almost certain" if score >= 0.99 else "likely" if score >= 0.75 else "possible"
