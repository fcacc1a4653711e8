"""What a device's receiver made of damage, as text for a terminal."""

from __future__ import annotations

from rich.console import Group
from rich.text import Text

from larkreader.exercise.loopback.torture import TortureResult, TortureRow
from larkreader.judge.findings.wording import duration
from larkreader.present.text.terminal import new_table

SHOWN = 20  # bytes of an example


def torture(result: TortureResult) -> Group:
    """Show what became of the frames around each kind of damage, and the first example of what went wrong."""
    table = new_table("damage", "", ">sound", ">lost", ">in a row", ">wrong")
    for row in result.rows:
        counts = (row.sound, row.lost, row.longest_loss, row.wrong)
        cells = [f"{count:,}" if count else "-" for count in counts] if row.trials else ["", "", "", ""]
        table.add_row(Text(row.damage), row.outcome, *cells)
    found = [Text(line) for row in result.rows if row.outcome not in ("pass", "not tried") for line in why(row)]
    failed = [row for row in result.rows if row.outcome != "pass"]
    kept = f"{len(result.rows) - len(failed)} of {len(result.rows)} kinds of damage"
    verdict = f"Verdict: {result.verdict}: {kept} cost no sound frame, in {duration(result.duration_s)}"
    return Group(table, *([""] if found else []), *found, "", Text(verdict, style="bold"))


def why(row: TortureRow) -> list[str]:
    """Say what went wrong at a kind of damage, and what the damage was in the first trial that failed.

    Parameters
    ----------
    row : TortureRow
        A row that did not pass.
    """
    if row.outcome == "not tried":
        return ["not tried: the device was stuck or gone before, or no sound frame could be read around the damage"]
    parts = []
    if row.outcome == "gone":
        parts.append(row.why)
    if row.lost:
        parts.append(f"{row.lost:,} of {row.sound:,} sound frames lost, at most {row.longest_loss:,} in a row")
    if row.needs_rest:
        parts.append(f"{row.needs_rest:,} times it took frames again only after a rest of the line")
    if row.wrong:
        parts.append(f"{row.wrong:,} frames taken that are damaged or were never sent")
    if row.outcome == "stuck":
        parts.append("then it took nothing more, not even after a rest")
    shown = row.example[:SHOWN].hex(" ").upper() + (" ..." if len(row.example) > SHOWN else "")
    return [f"{row.damage}: {'; '.join(parts)}", *([f"  such as {shown}"] if shown else [])]
