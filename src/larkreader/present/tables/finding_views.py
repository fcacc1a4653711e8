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
    for item, depth in in_order(found):
        parts += ["", _head(item), *_sentences(item, depth)]
    if checked is not None and str(checked):
        parts += ["", *(Paragraph(line) for line in str(checked).split("\n"))]
    return Group(*parts)


def in_order(found: Sequence[Finding]) -> Iterator[tuple[Finding, int]]:
    """Yield findings, each followed by its consequences, with how many causes lie above it."""
    present = list(found)

    def below(cause: Finding | None, depth: int) -> Iterator[tuple[Finding, int]]:
        for item in present:
            is_listed = item.caused_by is not None and any(item.caused_by is other for other in present)
            if (item.caused_by if is_listed else None) is cause:
                yield item, depth
                yield from below(item, depth + 1)

    yield from below(None, 0)


def _head(finding: Finding) -> Text:
    head = Text.assemble(
        (f" {finding.severity} ", SEVERITY_STYLES[finding.severity]), f" {finding.kind} on ", (finding.wire, "bold")
    )
    if finding.frame:
        head.append(f", frame {finding.frame}")
    if finding.certainty != "proven":
        head.append(
            f", {CERTAINTIES[finding.certainty]}" if finding.score is None else f", {_likelihood(finding.score)}"
        )
    return head


def _sentences(finding: Finding, depth: int = 0) -> list[Padding]:
    """Return what a finding says and what to do; of a consequence, of what it is one."""
    sentences: list[Padding] = [Paragraph(finding.text, 2)]
    if depth and finding.caused_by is not None:
        sentences.append(Paragraph(f"A consequence of the {finding.caused_by.kind} above.", 2))
    elif finding.advice:
        sentences.append(Paragraph(Text.assemble(("Fix: ", "bold"), finding.advice), 2))
    return sentences


def explanations(result: Mapping[str, Diagnosis]) -> Group:
    """Show of each wire what is the matter with it, the likeliest explanation first, and the settings to try."""
    parts: list[Any] = []
    for wire, item in result.items():
        parts += [explained(item.findings), ""]
        is_declared = any(finding.kind == "as-declared" for finding in item.findings)
        if item.proposal is not None and item.verdict != "clean" and not is_declared:
            parts += [
                Text.assemble((wire, "bold"), " reads best as ", (str(item.proposal), "bold"), "."),
                "",
            ]
    return Group(*parts[:-1])


def explained(found: Sequence[Finding]) -> Group:
    """Show findings with how likely they are as explanations, where they are some."""
    parts: list[Any] = []
    for item in found:
        parts += [_head(item), *_sentences(item), ""]
    return Group(*parts[:-1])


def garbles(found: Sequence[Garble], *, most: int = 5) -> Table:
    """Show which mistakes explain garbled bytes, the likeliest first, and what was sent if known."""
    table = new_table(">explains", "mistake of the sender", "its settings", "what was sent")
    for item in found[:most]:
        table.add_row(
            f"{100 * item.likeness:.0f} %", item.mistake, str(item.sender), Text(visible(item.recovered[:SHOWN_TEXT]))
        )
    return table


def _likelihood(score: float) -> str:
    return "almost certain" if score >= 0.99 else "likely" if score >= 0.75 else "possible"
