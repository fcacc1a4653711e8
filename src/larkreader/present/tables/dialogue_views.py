"""The result of a dialogue, as text for a terminal."""

from __future__ import annotations

from rich.console import Group
from rich.padding import Padding
from rich.text import Text

from larkreader.exercise.talk.dialogue import DialogueResult, StepResult
from larkreader.judge.findings.wording import duration
from larkreader.present.text.notation import visible
from larkreader.present.text.terminal import new_table

SHOWN = 16  # characters sent or received that are shown in the table


def dialogue(result: DialogueResult) -> Group:
    """Show the result of each step, and at length those that failed."""
    table = new_table(">", "step", "", ">took", ">tries", "received")
    for number, step in enumerate(result.steps, 1):
        table.add_row(
            f"{number}",
            Text(step.name),
            step.outcome,
            duration(step.duration_s) if step.tries else "-",
            f"{step.tries}" if step.tries else "-",
            Text(_received_text(step)),
        )
    found: list[Text | Padding] = []
    for number, step in enumerate(result.steps, 1):
        if step.outcome == "fail":
            found += [Text(f"\nStep {number}, {step.name}: {step.why}", style="bold")]
            found += [Padding(Text(row), (0, 0, 0, 2)) for row in step.detail().splitlines()]
    counts = {what: sum(item.outcome == what for item in result.steps) for what in ("pass", "fail", "skipped")}
    words = ", ".join(f"{count} {what}" for what, count in counts.items() if count)
    words = f"interrupted: {words}" if result.interrupted else words
    return Group(table, *found, "", Text(f"Verdict: {result.verdict}: {words}", style="bold"))


def _received_text(step: StepResult) -> str:
    """Say what a step brought: what was kept, else what was received, else why nothing did."""
    if step.values:
        return ", ".join(f"{name} = {value}" for name, value in step.values.items())
    if not step.got:
        return step.why
    shown = step.got[:SHOWN]
    printable = sum(32 <= item < 127 or item in b"\r\n\t" for item in shown)
    text = visible(shown) if 2 * printable > len(shown) else shown.hex(" ").upper()
    return text + ("..." if len(step.got) > SHOWN else "")
