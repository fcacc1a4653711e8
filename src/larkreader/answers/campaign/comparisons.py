"""Which findings go with which label, and what became of them since a baseline."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from larkreader.judge.campaign.chance import chance_of_ratios, chance_of_shares, corrected

from .campaign_tables import CampaignTables, Ratios

RARE = 0.01  # chance below which a difference is not taken for chance, with all tests of a question together
MOST_VALUES = 100  # of a label, that is compared value by value
LEAST_CAPTURES = 2  # with a value of a label in the mean, from which its values are compared
State = Literal["new", "fixed", "worse", "better", "same"]


@dataclass(frozen=True)
class Concentration:
    """A kind of finding that goes with a value of a label.

    Parameters
    ----------
    kind, wire : str
        The finding, and its wire.
    label, value : str
        The label, and the value with which the finding goes.
    affected, of : int
        In how many captures with that value it occurs, and how many there are.
    elsewhere, elsewhere_of : int
        The same of the other captures.
    chance : float
        How likely that is by chance, with all that is compared.
    """

    kind: str
    wire: str
    label: str
    value: str
    affected: int
    of: int
    elsewhere: int
    elsewhere_of: int
    chance: float


@dataclass(frozen=True)
class Change:
    """A kind of finding against a baseline.

    Parameters
    ----------
    kind, wire : str
        The finding, and its wire.
    state : {"new", "fixed", "worse", "better", "same"}
        What became of it.
    affected, of : int
        In how many captures it occurs, and how many there are.
    before, before_of : int
        The same of the baseline.
    per_1000, before_per_1000 : float
        How often it occurs in 1000 characters of its wire, in the mean of captures.
    chance : float
        How likely that is by chance, with all kinds that are compared.
    """

    kind: str
    wire: str
    state: State
    affected: int
    of: int
    before: int
    before_of: int
    per_1000: float
    before_per_1000: float
    chance: float

    @property
    def is_certain(self) -> bool:
        """Whether chance hardly explains it."""
        return self.chance < RARE


def find_concentrations(campaign: CampaignTables) -> list[Concentration]:
    """Return which kinds of findings go with which values of labels, the least likely by chance first.

    Parameters
    ----------
    campaign : CampaignTables
        The captures. Each value is compared with all others by Fisher's exact test; what is likely by chance is left
        out.
    """
    read = campaign.captures[campaign.captures["error"].isna()].set_index("capture")
    every: list[Concentration] = []
    for (kind, wire), rows in campaign.found.groupby(["kind", "wire"]):
        has_it = read.index.isin(rows["capture"])
        for label in campaign.labels:
            values = campaign.values_of(label)
            if not 2 <= len(values) <= min(MOST_VALUES, len(read) / LEAST_CAPTURES):
                continue
            for value in values:
                inside = (read[label] == value).to_numpy()
                affected, of = int((has_it & inside).sum()), int(inside.sum())
                elsewhere, elsewhere_of = int((has_it & ~inside).sum()), int((~inside).sum())
                chance = chance_of_shares(affected, of, elsewhere, elsewhere_of)
                counts = (affected, of, elsewhere, elsewhere_of)
                every.append(Concentration(str(kind), str(wire), label, value, *counts, chance))
    chances = corrected([item.chance for item in every])
    found = [
        replace(item, chance=chance)
        for item, chance in zip(every, chances, strict=True)
        if chance < RARE and item.affected * item.elsewhere_of > item.elsewhere * item.of
    ]
    return sorted(found, key=lambda item: item.chance)


def compare_campaigns(campaign: CampaignTables, baseline: CampaignTables) -> list[Change]:
    """Return what became of each kind of finding since a baseline, what is certain first.

    Parameters
    ----------
    campaign, baseline : CampaignTables
        What is, and what was before.

    Notes
    -----
    Two tests a kind: shares of captures with it (Fisher), and how often it occurs in 1000 characters of each
    capture (Mann and Whitney), with all of them corrected together.
    """
    now, before = campaign.ratios, baseline.ratios
    changes: list[Change] = []
    chances: list[float] = []
    for key in dict.fromkeys([*now, *before]):
        ratios, others = now.get(key, campaign.no_ratios), before.get(key, baseline.no_ratios)
        counts = (int((ratios > 0).sum()), len(ratios), int((others > 0).sum()), len(others))
        mean, other_mean = _mean(ratios), _mean(others)
        state: State = "better" if mean < other_mean else "worse" if mean > other_mean else "same"
        state = "new" if not counts[2] else "fixed" if not counts[0] else state
        changes.append(Change(*key, state, *counts, mean, other_mean, 1.0))
        chances += [chance_of_shares(*counts), chance_of_ratios(ratios, others)]
    whole = corrected(chances)
    found = [replace(item, chance=min(whole[2 * place : 2 * place + 2])) for place, item in enumerate(changes)]
    order: list[State] = ["new", "worse", "fixed", "better", "same"]
    return sorted(found, key=lambda item: (not item.is_certain, order.index(item.state), item.chance))


def _mean(values: Ratios) -> float:
    return float(values.mean()) if len(values) else 0.0
