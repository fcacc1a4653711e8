"""A campaign as a JSON document, as test cases, and as a summary in Markdown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict
from typing import Any

from larkreader.answers.campaign.campaign import Campaign
from larkreader.answers.campaign.campaign_tables import VERDICTS
from larkreader.answers.campaign.policing import Outcome, PolicyResult
from larkreader.present.text.campaign_text import nothing_text, standing_out, verdicts_text

from .cases import Case

MOST_LISTED = 50  # captures that a summary lists


def campaign_document(campaign: Campaign, baseline: Campaign | None, result: PolicyResult | None) -> dict[str, Any]:
    """Return a campaign as JSON has it: counts, and the answers to the questions across captures.

    Parameters
    ----------
    campaign : Campaign
        The captures.
    baseline : Campaign, optional
        What was before.
    result : PolicyResult, optional
        What the sheet's policy says.
    """
    captures = campaign.captures
    bad = captures[captures["error"].notna()]
    return {
        "sheet": campaign.sheet_name,
        "captures": len(campaign),
        "verdicts": campaign.verdict_counts,
        "labels": {label: campaign.values_of(label) for label in campaign.labels},
        "kinds": list(_kinds_of(campaign)),
        "concentrations": [asdict(item) for item in campaign.concentrations()],
        "trends": [_trend_of(item) for item in campaign.trends()],
        "odd": [
            {**asdict(item), "paths": list(item.paths), "values": list(item.values)} for item in campaign.odd_ones()
        ],
        "changes": None if baseline is None else [asdict(item) for item in campaign.compare(baseline)],
        "not_read": [{"path": row["path"], "error": row["error"]} for row in bad.to_dict("records")],
        "policy": None if result is None else _policy_of(result),
    }


def _kinds_of(campaign: Campaign) -> Iterator[dict[str, Any]]:
    counts = campaign.kinds()
    for (kind, wire), (count,) in zip(counts.index.tolist(), counts.to_numpy().tolist(), strict=True):
        if wire or kind != "captures":
            yield {"kind": kind, "wire": wire, "captures": count}


def _trend_of(item: Any) -> dict[str, Any]:
    trend = item.trend
    return {
        "measure": item.measure,
        "subject": item.subject,
        "over": item.over,
        "label": item.label,
        "value": item.value,
        "captures": trend.points,
        "slope": trend.slope,
        "slope_95": [trend.low, trend.high],
        "from": [trend.begin, trend.at_begin],
        "to": [trend.end, trend.at_end],
        "chance": item.chance,
        "limit": item.limit,
        "crossing": None if item.crossing is None else asdict(item.crossing),
        "severity": item.severity,
    }


def _policy_of(result: PolicyResult) -> dict[str, Any]:
    return {
        "verdict": result.outcome,
        "failed": [
            {"path": item.path, "why": [{"kind": why.kind, "wire": why.wire, "count": why.count, "why": why.why}
                                        for why in item.failures]}
            for item in result.failed
        ],
        "allowed": sum(bool(item.allowed) for item in result.outcomes),
        "unused": [item.kind for item in result.unused],
        "expired": [item.kind for item in result.expired],
    }  # fmt: skip


def campaign_cases(result: PolicyResult) -> list[Case]:
    """Return a test case for each capture: it fails by the policy, or passes.

    Parameters
    ----------
    result : PolicyResult
        What the policy says.
    """
    return [_case_of(outcome) for outcome in result.outcomes]


def _case_of(outcome: Outcome) -> Case:
    def lines(reasons: Sequence[Any]) -> str:
        return "\n".join(
            f"{item.kind} on {item.wire}, {item.count:,} times: {item.why}. {item.text}" for item in reasons
        )

    if outcome.outcome == "fail":
        first = outcome.failures[0]
        message = ", ".join(dict.fromkeys(item.kind for item in outcome.failures))
        return Case(outcome.path, outcome.read_s, "fail", f"{message} ({first.why})", lines(outcome.failures))
    return Case(outcome.path, outcome.read_s, "pass", detail=lines(outcome.allowed))


def campaign_markdown(campaign: Campaign, baseline: Campaign | None, result: PolicyResult, by: str | None) -> str:
    """Return a summary in Markdown, as for a merge request.

    Parameters
    ----------
    campaign : Campaign
        The captures.
    baseline : Campaign, optional
        What was before.
    result : PolicyResult
        What the policy says.
    by : str, optional
        The label by which verdicts and kinds are shown.
    """
    failed = result.failed
    lines = [
        f"## {len(campaign):,} captures read against {_cell(campaign.sheet_name)}: {result.outcome}",
        "",
        f"{verdicts_text(campaign)}. {len(failed):,} of {len(campaign):,} captures fail by policy.",
        "",
        "### What stands out",
        "",
    ]
    found = standing_out(campaign, baseline)
    lines += [f"- **{_cell(item.title)}**: {_cell(item.text)} {_cell(item.advice)}".rstrip() for item in found]
    lines += [] if found else [nothing_text(campaign)]
    if by is not None:
        lines += ["", f"### By {_cell(by)}", "", *_verdict_rows(campaign, by)]
    if failed:
        lines += ["", "### Captures that fail", "", "| capture | why |", "|---|---|"]
        for item in failed[:MOST_LISTED]:
            reasons = ", ".join(dict.fromkeys(f"{why.kind} ({why.why})" for why in item.failures))
            lines.append(f"| {_cell(item.path)} | {_cell(reasons)} |")
        if len(failed) > MOST_LISTED:
            lines += [f"| ... and {len(failed) - MOST_LISTED:,} more | |"]
    return "\n".join(lines) + "\n"


def _verdict_rows(campaign: Campaign, by: str) -> Iterator[str]:
    counts = campaign.verdicts([by])
    shown = [verdict for verdict in VERDICTS if counts[verdict].any()]
    yield f"| {_cell(by)} | {' | '.join(verdict.replace('-', ' ') for verdict in shown)} |"
    yield f"|---|{'---:|' * len(shown)}"
    for value, row in zip(counts.index.tolist(), counts[shown].to_numpy().tolist(), strict=True):
        yield f"| {_cell(str(value))} | {' | '.join(f'{count:,}' for count in row)} |"


def _cell(text: str) -> str:
    """Return a text that Markdown shows as it is, in a table too."""
    for letter in "\\`*_<>|[]#":
        text = text.replace(letter, f"\\{letter}")
    return " ".join(text.split())
