"""A campaign as tables and sentences."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Group
from rich.table import Table
from rich.text import Text

from larkreader.answers.campaign.campaign import Campaign
from larkreader.answers.campaign.campaign_tables import MEASURES, VERDICTS
from larkreader.answers.campaign.policing import PolicyResult
from larkreader.present.tables.finding_views import SEVERITY_STYLES
from larkreader.present.text.campaign_text import (
    Standing,
    change_text,
    nothing_text,
    odd_text,
    standing_out,
    trend_text,
    value_text,
    verdicts_text,
)
from larkreader.present.text.terminal import Paragraph, new_table

MOST_COLUMNS = 12  # values of a label in a table
MOST_ROWS = 20


def headline(campaign: Campaign) -> Text:
    """Show how many captures there are, and how many have which verdict."""
    return Text(f"{len(campaign):,} captures: {verdicts_text(campaign)}", style="bold")


def verdicts(campaign: Campaign, by: Sequence[str]) -> Table:
    """Show verdicts by labels; verdicts that no capture has are left out."""
    counts = campaign.verdicts(by)
    shown = [verdict for verdict in VERDICTS if counts[verdict].any()]
    table = new_table(*by, *(f">{verdict.replace('-', ' ')}" for verdict in shown))
    every = zip(counts.index.tolist(), counts[shown].to_numpy().tolist(), strict=True)
    for key, row in list(every)[:MOST_ROWS]:
        cells = [str(part) for part in (key if isinstance(key, tuple) else (key,))] if by else []
        table.add_row(*cells, *(f"{count:,}" if count else "-" for count in row))
    if len(counts) > MOST_ROWS:
        table.add_row(*(["..."] * len(table.columns)))
    return table


def kinds(campaign: Campaign, by: str | None) -> Any:
    """Show in how many captures each kind of finding occurs, by the values of a label."""
    counts = campaign.kinds(by)
    values = list(counts.columns)
    *rows, totals = counts.to_numpy()[:, :MOST_COLUMNS].tolist()
    if not rows:
        return Text("No capture has an error or a warning.")
    shown = values[:MOST_COLUMNS]
    heads = ["captures"] if by is None else [str(value) for value in shown]
    table = new_table("finding", "wire", *(f">{head}" for head in heads))
    for (kind, wire), row in list(zip(counts.index.tolist(), rows, strict=False))[:MOST_ROWS]:
        table.add_row(kind, wire, *(f"{count:,}" if count else "-" for count in row))
    table.add_section()
    table.add_row("of captures", "", *(f"{total:,}" for total in totals))
    left_out = len(values) - len(shown)
    parts: list[Any] = [] if by is None else [Text(f"Captures with each finding, by {by}:", style="bold")]
    parts += [table, Text(f"{left_out:,} more values of {by} are left out.")] if left_out else [table]
    return Group(*parts)


def stands_out(found: Sequence[Standing]) -> Group:
    """Show what stands out."""
    parts: list[Any] = []
    for item in found:
        style = SEVERITY_STYLES[item.severity]
        parts += [Text.assemble((f" {item.severity} ", style), f" {item.title}"), Paragraph(item.text, 2)]
        if item.advice:
            parts.append(Paragraph(Text.assemble(("Fix: ", "bold"), item.advice), 2))
        parts.append("")
    return Group(*parts[:-1])


def changes(campaign: Campaign, baseline: Campaign) -> Any:
    """Show what became of each kind of finding since a baseline."""
    found = campaign.compare(baseline)
    if not found:
        return Text("Neither the captures nor the baseline have an error or a warning.")
    table = new_table("finding", "wire", "is", ">captures", ">of", ">before", ">of", ">by chance")
    for item in found[:MOST_ROWS]:
        counts = (item.affected, item.of, item.before, item.before_of)
        chance = f"{item.chance:.2g}" if item.chance >= 1e-6 else "< 1e-6"
        state = item.state if item.is_certain or item.state == "same" else f"{item.state}?"
        table.add_row(item.kind, item.wire, state, *(f"{count:,}" for count in counts), chance)
    sentences = [change_text(item) for item in found if item.is_certain]
    parts: list[Any] = [table, ""]
    parts.append(stands_out(sentences) if sentences else Paragraph("Chance may explain every difference."))
    return Group(*parts)


def trends(campaign: Campaign, over: str | None, by: str | None) -> Any:
    """Show which numbers move with which label."""
    found = campaign.trends(over, by)
    if not found:
        return Text("No number moves with a label.")
    parts: list[Any] = []
    for label in dict.fromkeys(item.over for item in found):
        table = new_table("of", "measured", "captures", ">from", ">to", ">limit at")
        own = [item for item in found if item.over == label][:MOST_ROWS]
        for item in own:
            trend = item.trend
            limit = "-" if item.crossing is None or item.severity == "note" else f"{item.crossing.at:.3g}"
            table.add_row(
                item.subject,
                MEASURES[item.measure].name,
                f"{item.label} {item.value}".strip() or "all",
                value_text(item.measure, trend.at_begin),
                value_text(item.measure, trend.at_end),
                limit,
            )
        begin, end = min(item.trend.begin for item in own), max(item.trend.end for item in own)
        parts += [Text(f"With {label}, from {begin:g} to {end:g}:", style="bold"), table, ""]
    bad = [trend_text(campaign, item) for item in found if item.severity != "note"]
    return Group(*parts, stands_out(bad)) if bad else Group(*parts[:-1])


def odd_ones(campaign: Campaign) -> Any:
    """Show which captures stand apart."""
    found = campaign.odd_ones()
    if not found:
        return Text("No capture is far from the others.")
    parts: list[Any] = []
    for item in found:
        table = new_table("capture", f">{MEASURES[item.measure].name}")
        for path, value in list(zip(item.paths, item.values, strict=True))[:MOST_ROWS]:
            table.add_row(path, value_text(item.measure, value))
        parts += [Paragraph(odd_text(item).text), "", table, ""]
    return Group(*parts[:-1])


def not_read(campaign: Campaign) -> Any:
    """Show which captures could not be read, and why."""
    captures = campaign.captures
    bad = captures[captures["error"].notna()]
    if not len(bad):
        return Text("Every capture was read.")
    parts: list[Any] = []
    for row in bad[:MOST_ROWS].to_dict("records"):
        parts += [Text(row["path"], style="bold"), Paragraph(row["error"], 2)]
    if len(bad) > MOST_ROWS:
        parts.append(Text(f"... and {len(bad) - MOST_ROWS:,} more"))
    return Group(*parts)


def policy(result: PolicyResult) -> Group:
    """Show which captures fail by policy, and what is allowed."""
    failed = result.failed
    total = len(result.outcomes)
    head = f"Policy: {'pass' if result.outcome == 'pass' else 'fail'}; {len(failed):,} of {total:,} captures fail"
    parts: list[Any] = [Text(head, style="bold")]
    reasons: dict[str, int] = {}
    for outcome in result.outcomes:
        for reason in outcome.allowed:
            text = f"{reason.kind} on {reason.wire} is allowed: {reason.why}"
            reasons[text] = reasons.get(text, 0) + 1
    parts += [Paragraph(f"{text} (in {count:,} captures)", 2) for text, count in reasons.items()]
    parts += [
        Paragraph(f"{item.kind} is declared as known ({item.reason}), but does not occur: remove it", 2)
        for item in result.unused
    ]
    return Group(*parts)


def overview(campaign: Campaign, by: Sequence[str], baseline: Campaign | None = None) -> Group:
    """Show a campaign in short: verdicts, kinds of findings, what stands out, what could not be read."""
    parts: list[Any] = [headline(campaign), ""]
    by = list(by) or [label for label in campaign.labels if 1 < len(campaign.values_of(label)) <= MOST_COLUMNS]
    shown = _telling(campaign, by)
    if shown is not None:
        parts += [verdicts(campaign, [shown]), ""]
    standing = standing_out(campaign, baseline)
    parts += [kinds(campaign, shown), "", stands_out(standing) if standing else Paragraph(nothing_text(campaign))]
    if campaign.verdict_counts["not-read"]:
        parts += ["", Text("Could not be read:", style="bold"), not_read(campaign)]
    return Group(*parts)


def _telling(campaign: Campaign, labels: Sequence[str]) -> str | None:
    """Return the label with which findings go most certainly; the first without any."""
    found = [item.label for item in campaign.concentrations() if item.label in labels]
    return next(iter([*found, *labels]), None)
