"""What stands out in a campaign, in sentences: for terminals, pages and summaries alike."""

from __future__ import annotations

from typing import NamedTuple

from larkreader.answers.campaign.campaign import Campaign
from larkreader.answers.campaign.campaign_tables import MEASURES
from larkreader.answers.campaign.comparisons import Change, Concentration
from larkreader.answers.campaign.movements import MeasuredTrend, OddCaptures
from larkreader.judge.campaign.odd_ones import LEAST_VALUES
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.findings.wording import duration

IN_PPM = 1e-3  # clock errors below which are written in millionths
MOST_NAMED = 3  # captures that a sentence names


class Standing(NamedTuple):
    """Something that stands out: how bad it is, a title, a sentence, what to do, and the captures concerned.

    Attributes
    ----------
    severity : str
        ``error``, ``warning`` or ``note``.
    title, text, advice : str
        In words.
    paths : tuple of str
        Captures to look at.
    """

    severity: str
    title: str
    text: str
    advice: str
    paths: tuple[str, ...] = ()


def standing_out(campaign: Campaign, baseline: Campaign | None = None) -> list[Standing]:
    """Return what stands out in a campaign: against a baseline, by label, over numbers, and single captures.

    Parameters
    ----------
    campaign : Campaign
        The captures.
    baseline : Campaign, optional
        What was before.
    """
    found: list[Standing] = []
    if baseline is not None:
        found += [change_text(item) for item in campaign.compare(baseline) if item.is_certain]
    concentrations = campaign.concentrations()
    found += [concentration_text(campaign, item) for item in concentrations]
    trends = [item for item in campaign.trends() if item.severity != "note"]
    found += [trend_text(campaign, item) for item in trends]
    found += [odd_text(item) for item in campaign.odd_ones() if not _is_explained(item, concentrations, trends)]
    return found


def _is_explained(odd: OddCaptures, concentrations: list[Concentration], trends: list[MeasuredTrend]) -> bool:
    """Return whether captures stand apart by what was found about a label that they share."""
    known = {(item.label, item.value) for item in concentrations} if odd.measure == "error_ratio" else set()
    known |= {(item.label, item.value) for item in trends if item.measure == odd.measure}
    return any(item in known for item in odd.shared.items())


def verdicts_text(campaign: Campaign) -> str:
    """Write how many captures have which verdict."""
    counts = campaign.verdict_counts
    return ", ".join(f"{count:,} {verdict.replace('-', ' ')}" for verdict, count in counts.items() if count) or "none"


def nothing_text(campaign: Campaign) -> str:
    """Write what it means that nothing stands out."""
    count = len(campaign) - campaign.verdict_counts["not-read"]
    if count < LEAST_VALUES:
        return f"Nothing stands out; comparing takes {LEAST_VALUES} captures, and {count:,} could be read."
    return (
        "Nothing stands out: no finding goes with a label, no number nears its limit, "
        "and no capture is far from the others."
    )


def concentration_text(campaign: Campaign, item: Concentration) -> Standing:
    """Write which label a kind of finding goes with."""
    text = (
        f"{item.affected:,} of {item.of:,} captures with {item.label} {item.value} have {item.kind} on {item.wire}, "
        f"{item.elsewhere:,} of {item.elsewhere_of:,} others do{chance_text(item.chance)}."
    )
    found = campaign.found
    numbers = found.loc[(found["kind"] == item.kind) & (found["wire"] == item.wire), "capture"]
    captures = campaign.captures
    own = captures[captures["capture"].isin(numbers) & (captures[item.label] == item.value)]
    paths = tuple(own["path"][:MOST_NAMED])
    advice = f"Look at {paths[0]} first, and at what is different in {item.label} {item.value}."
    return Standing(KINDS[item.kind].severity, f"{item.kind} goes with {item.label} {item.value}", text, advice, paths)


def change_text(item: Change) -> Standing:
    """Write what became of a kind of finding since a baseline."""
    now, before = f"{item.affected:,} of {item.of:,}", f"{item.before:,} of {item.before_of:,}"
    text = f"{item.kind} on {item.wire} occurs in {now} captures, before in {before}"
    if item.state in ("worse", "better"):
        text += f"; {item.per_1000:.3g} in 1,000 characters, before {item.before_per_1000:.3g}"
    text += f"{chance_text(item.chance)}."
    if not item.is_certain and item.state != "same":
        text += " Chance may explain it; more captures would show."
    is_worse = item.state in ("new", "worse") and item.is_certain
    severity = KINDS[item.kind].severity if is_worse else "note"
    advice = "Find what changed since the baseline." if is_worse else ""
    return Standing(severity, f"{item.kind} on {item.wire} is {_STATES[item.state]}", text, advice)


_STATES = {
    "new": "new",
    "fixed": "fixed",
    "worse": "more frequent",
    "better": "less frequent",
    "same": "as frequent as before",
}


def trend_text(campaign: Campaign, item: MeasuredTrend) -> Standing:
    """Write how a number moves with a label, and where it reaches its limit."""
    name = MEASURES[item.measure].name
    among = f" with {item.label} {item.value}" if item.label else ""
    trend = item.trend
    way = "rises" if trend.slope > 0 else "falls"
    begin, end = value_text(item.measure, trend.at_begin), value_text(item.measure, trend.at_end)
    text = (
        f"The {name} of {item.subject}{among} {way} from {begin} at {item.over} {trend.begin:g} to {end} at "
        f"{trend.end:g}, in {trend.points:,} captures{chance_text(item.chance)}."
    )
    advice = "Look at what grows worse." if item.severity == "warning" else ""
    if item.crossing is not None and item.limit is not None and item.severity != "note":
        at = item.crossing
        half = max(at.high - at.at, at.at - at.low)
        limit = value_text(item.measure, item.limit)
        text += f" At this slope it reaches {limit}, where a receiver with an exact clock misreads, "
        text += f"at {item.over} {at.at:.4g} ± {half:.2g}."
        advice = "Use a more stable clock at the sending end, or keep it within that range."
    title = f"{name} of {item.subject}{among} {way} with {item.over}"
    return Standing(item.severity, title, text, advice, _farthest(campaign, item))


def _farthest(campaign: Campaign, item: MeasuredTrend) -> tuple[str, ...]:
    """Return a capture at the end of a trend."""
    series = campaign.measured(item.measure, item.subject)
    captures = campaign.captures.set_index("capture").loc[series.index]
    own = captures if not item.label else captures[captures[item.label] == item.value]
    at = campaign.numbers_of(item.over).loc[own.index]
    return (str(own["path"].tolist()[int(at.to_numpy().argmax())]),)


def odd_text(item: OddCaptures) -> Standing:
    """Write which captures stand apart."""
    name = MEASURES[item.measure].name
    shared = ", ".join(f"{label} {value}" for label, value in item.shared.items())
    count = len(item.paths)
    which = f"{count:,} captures, all with {shared}," if count > 1 and shared else f"{count:,} captures"
    which = item.paths[0] if count == 1 else which
    far, median = value_text(item.measure, item.values[0]), value_text(item.measure, item.median)
    is_far = "is" if count == 1 else "is up to"
    text = (
        f"The {name} of {item.subject} in {which} {is_far} {far}; the median of all captures is {median} "
        f"({abs(item.score):.0f} standard deviations)."
    )
    return Standing("note", f"{name} of {item.subject} is far from the others", text, "", item.paths[:MOST_NAMED])


def value_text(measure: str, value: float) -> str:
    """Write a number that was measured."""
    unit = MEASURES[measure].unit
    if unit == "s":
        return duration(value)
    if measure == "clock_error":
        return f"{1e6 * value:+,.0f} ppm" if abs(value) < IN_PPM else f"{100 * value:+.3g} %"
    return f"{100 * value:.3g} %"


def chance_text(chance: float) -> str:
    """Write how likely something is by chance, behind a sentence."""
    if chance >= 0.01:
        return f" (by chance: {100 * chance:.2g} %)"
    return " (by chance: below 1 in a million)" if chance < 1e-6 else f" (by chance: 1 in {1 / chance:,.0f})"
