"""Which numbers of captures move with a label, and which captures stand apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from larkreader.judge.campaign.chance import corrected
from larkreader.judge.campaign.odd_ones import odd_from, robust_scores
from larkreader.judge.campaign.trends import Crossing, Trend, fit_trend

from .campaign_tables import MEASURES, CampaignTables
from .comparisons import MOST_VALUES, RARE

FAR = 1.0  # times the span of what was measured, within which a limit is worth a warning
GROWN = 0.25  # of its level, by which a number changes over the captures, from which it is worth a warning
DERIVED = ("headroom",)  # measures that follow from others, which are judged
LEAST_PLACES = 3  # different values of a label, from which a trend over it is taken
Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class MeasuredTrend:
    """A number of each capture that moves with a label.

    Parameters
    ----------
    measure : str
        What is measured: ``clock_error``, ``jitter_s``, and so on, as of `Campaign.measured`.
    subject : str
        Of which wire, layout or pairing.
    over : str
        The label over which it moves, a number.
    label, value : str
        The captures it was taken from: those with this value of this label; empty for all.
    trend : Trend
        The line.
    chance : float
        How likely that is by chance, with all that is looked at.
    limit, crossing : float and Crossing, optional
        The limit that the line nears, and where it reaches it.
    severity : {"error", "warning", "note"}
        An error where the limit is reached among the captures, a warning where it is near or a number grows worse.
    """

    measure: str
    subject: str
    over: str
    label: str
    value: str
    trend: Trend
    chance: float
    limit: float | None = None
    crossing: Crossing | None = None
    severity: Severity = "note"


@dataclass(frozen=True)
class OddCaptures:
    """Captures in which a number stands far from that of the others, on the same side.

    Parameters
    ----------
    measure, subject : str
        What is measured, and of which wire, layout or pairing.
    paths : tuple of str
        Their files, the farthest first.
    shared : mapping of str to str
        The labels that are the same for all of them and not for all captures.
    values : tuple of float
        The number of each.
    median : float
        The median of all captures.
    score : float
        How many standard deviations the farthest is away.
    """

    measure: str
    subject: str
    paths: tuple[str, ...]
    shared: Mapping[str, str]
    values: tuple[float, ...]
    median: float
    score: float


def find_trends(campaign: CampaignTables, over: str | None = None, by: str | None = None) -> list[MeasuredTrend]:
    """Return which numbers move with a label, the worst first; what is likely by chance is left out.

    Parameters
    ----------
    campaign : CampaignTables
        The captures.
    over : str, optional
        A label whose values are numbers, or ``time``, as of `Campaign.numbers_of`; every such label by default.
    by : str, optional
        A label; a trend is taken of the captures with each of its values. By default of all captures, and of those
        with each value of every other label.

    Raises
    ------
    RequestError
        If no capture has such a label, or `over` has values other than numbers.
    """
    overs = [label for label in campaign.labels if campaign.is_number(label)] if over is None else [over]
    every = [
        trend
        for label in overs
        if campaign.numbers_of(label).nunique() >= LEAST_PLACES
        for trend in _trends_over(campaign, label, by)
    ]
    chances = corrected([item.trend.chance for item in every])
    found = [_judged(campaign, item, chance) for item, chance in zip(every, chances, strict=True) if chance < RARE]
    severities: list[Severity] = ["error", "warning", "note"]
    return sorted(found, key=lambda item: (severities.index(item.severity), item.chance))


def _trends_over(campaign: CampaignTables, over: str, by: str | None) -> Iterator[MeasuredTrend]:
    captures = campaign.captures.set_index("capture")
    at = campaign.numbers_of(over)
    groups: list[tuple[str, str]] = [] if by is not None else [("", "")]
    for label in campaign.labels if by is None else [by]:
        values = campaign.values_of(label)
        if label != over and (by is not None or len(values) <= MOST_VALUES):
            groups += [(label, value) for value in values]
    for (measure, subject), series in campaign.every_measured.items():
        for label, value in groups:
            own = series if not label else series[captures.loc[series.index, label] == value]
            trend = fit_trend(at.loc[own.index], own)
            if trend is not None:
                yield MeasuredTrend(measure, subject, over, label, value, trend, trend.chance)


def _judged(campaign: CampaignTables, item: MeasuredTrend, chance: float) -> MeasuredTrend:
    """Return a trend with the limit that it nears, and how bad that is."""
    trend = item.trend
    severity: Severity = "note"
    limit, crossing = None, None
    if item.measure == "clock_error":
        wires = campaign.table("wires")
        own = wires[(wires["wire"] == item.subject) & wires["fastest"].notna()]
        if len(own):
            limit = float(own["fastest"].min() if trend.slope > 0 else own["slowest"].max())
            crossing = trend.crossing(limit)
        if crossing is not None:
            near_s = crossing.low - trend.end
            severity = "error" if crossing.at <= trend.end else "note"
            if severity == "note" and near_s <= FAR * (trend.end - trend.begin):
                severity = "warning"
    elif trend.slope > 0 and item.measure not in ("period_s", *DERIVED):
        level = (abs(trend.at_begin) + abs(trend.at_end)) / 2
        severity = "warning" if trend.at_end - trend.at_begin > GROWN * level else "note"
    return replace(item, chance=chance, limit=limit, crossing=crossing, severity=severity)


def find_odd_ones(campaign: CampaignTables) -> list[OddCaptures]:
    """Return captures in which a number stands far from that of the others, the farthest first.

    Parameters
    ----------
    campaign : CampaignTables
        The captures.
    """
    measured = {key: series for key, series in campaign.every_measured.items() if key[0] not in DERIVED}
    tests = sum(map(len, measured.values()))
    captures = campaign.captures.set_index("capture")
    found = []
    for (measure, subject), series in measured.items():
        median = float(series.median())
        floor = MEASURES[measure].least_share * abs(median) or MEASURES[measure].least
        scores = np.nan_to_num(robust_scores(series, max(floor, MEASURES[measure].least)))
        limit = odd_from(len(series), tests)
        for side in (1, -1):
            places = np.flatnonzero(side * scores > limit)
            places = places[np.argsort(-side * scores[places], kind="stable")]
            if len(places):
                odd, every = captures.loc[series.index[places]], captures.loc[series.index]
                values = tuple(series.iloc[places].tolist())
                paths = tuple(odd["path"])
                score = float(scores[places[0]])
                found.append(OddCaptures(measure, subject, paths, _shared(campaign, odd, every), values, median, score))
    return sorted(found, key=lambda item: -abs(item.score))


def _shared(campaign: CampaignTables, odd: Any, every: Any) -> dict[str, str]:
    """Return the labels that are the same for some captures, and not for all."""
    first = odd.iloc[0]
    return {
        name: first[name]
        for name in campaign.labels
        if first[name] is not None and (odd[name] == first[name]).all() and not (every[name] == first[name]).all()
    }
