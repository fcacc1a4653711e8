"""Which captures of a campaign pass, as the policy of a sheet has it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any, Literal

from larkreader.declare.run.policy import KnownFinding, Policy
from larkreader.errors import RequestError, nearest
from larkreader.judge.findings.finding import SEVERITIES
from larkreader.judge.findings.kinds import KINDS

from .campaign_tables import CampaignTables


@dataclass(frozen=True)
class Reason:
    """Why a capture fails, or why a finding of it does not count.

    Parameters
    ----------
    kind, wire : str
        The finding; ``not-read`` and ``nothing-read`` for a capture without any.
    count : int
        How often it occurs.
    why : str
        Why it counts, or does not.
    text : str
        The finding as a sentence.
    """

    kind: str
    wire: str
    count: int
    why: str
    text: str = ""


@dataclass(frozen=True)
class Outcome:
    """Whether a capture passes.

    Parameters
    ----------
    path : str
        Its file.
    outcome : {"pass", "fail"}
        Whether it does.
    failures, allowed : tuple of Reason
        What fails it, and what would but for the policy.
    read_s : float
        How long reading took, in seconds.
    labels : mapping of str to str
        Its labels.
    """

    path: str
    outcome: Literal["pass", "fail"]
    failures: tuple[Reason, ...]
    allowed: tuple[Reason, ...]
    read_s: float
    labels: Mapping[str, str]


@dataclass(frozen=True)
class PolicyResult:
    """What a policy says of a campaign.

    Parameters
    ----------
    outcomes : tuple of Outcome
        One for each capture.
    unused, expired : tuple of KnownFinding
        What is declared as known and did not occur; what is known and no longer allowed.
    """

    outcomes: tuple[Outcome, ...]
    unused: tuple[KnownFinding, ...]
    expired: tuple[KnownFinding, ...]

    @property
    def outcome(self) -> Literal["pass", "fail"]:
        """``pass`` if every capture does, and there is one."""
        return "pass" if self.outcomes and all(item.outcome == "pass" for item in self.outcomes) else "fail"

    @property
    def failed(self) -> tuple[Outcome, ...]:
        """The captures that fail."""
        return tuple(item for item in self.outcomes if item.outcome == "fail")


def apply_policy(campaign: CampaignTables, policy: Policy, today: date) -> PolicyResult:
    """Decide which captures pass.

    Parameters
    ----------
    campaign : CampaignTables
        The captures.
    policy : Policy
        What fails them.
    today : datetime.date
        The day on which what is known must still be allowed.

    Returns
    -------
    PolicyResult
        An outcome for each capture.

    Raises
    ------
    RequestError
        If the policy names a kind of finding that there is not.
    """
    check_policy(policy)
    findings = campaign.table("findings")[["capture", "kind", "severity", "wire", "count", "text"]]
    by_capture: dict[int, list[dict[str, Any]]] = {}
    for found in findings.to_dict("records"):
        by_capture.setdefault(found["capture"], []).append({str(name): value for name, value in found.items()})
    outcomes: list[Outcome] = []
    used: set[int] = set()
    for row in campaign.captures.to_dict("records"):
        labels = {name: row[name] for name in campaign.labels if row[name] is not None}
        failures: list[Reason] = []
        allowed: list[Reason] = []
        if row["verdict"] == "not-read":
            failures.append(Reason("not-read", "", 1, "could not be read", row["error"] or ""))
        elif row["verdict"] == "nothing-read":
            failures.append(Reason("nothing-read", "", 1, "holds no character of these wires"))
        for finding in by_capture.get(row["capture"], ()):
            kind, wire, count = str(finding["kind"]), str(finding["wire"]), int(finding["count"])
            known = [place for place, item in enumerate(policy.known) if item.holds_for(kind, wire or "", labels)]
            used |= set(known)
            if not _fails(policy, kind, str(finding["severity"])):
                continue
            open_still = [policy.known[place] for place in known if _is_open(policy.known[place], today)]
            text = str(finding["text"])
            if open_still:
                until = "" if open_still[0].until is None else f", until {open_still[0].until}"
                allowed.append(Reason(kind, wire, count, f"known: {open_still[0].reason}{until}", text))
            elif count <= policy.most.get(kind, 0):
                allowed.append(Reason(kind, wire, count, f"at most {policy.most[kind]} are allowed", text))
            else:
                ended = [policy.known[place] for place in known]
                why = f"known, but allowed until {ended[0].until} only" if ended else "fails by policy"
                why = f"more than {policy.most[kind]}" if kind in policy.most and not ended else why
                failures.append(Reason(kind, wire, count, why, text))
        read_s = float(row["read_s"]) if row["read_s"] == row["read_s"] and row["read_s"] is not None else 0.0
        outcome: Literal["pass", "fail"] = "fail" if failures else "pass"
        outcomes.append(Outcome(row["path"], outcome, tuple(failures), tuple(allowed), read_s, labels))
    unused = tuple(item for place, item in enumerate(policy.known) if place not in used)
    expired = tuple(item for item in policy.known if not _is_open(item, today))
    return PolicyResult(tuple(outcomes), unused, expired)


def check_policy(policy: Policy) -> None:
    """Raise `RequestError` if a policy names a kind of finding that there is not."""
    named = {"fail": policy.fail, "most": tuple(policy.most), "known": tuple(item.kind for item in policy.known)}
    for key, kinds in named.items():
        known = [*KINDS, *(SEVERITIES if key == "fail" else ())]
        for kind in kinds:
            if kind not in known:
                raise RequestError(f'policy.{key} "{kind}"', "is not a kind of finding", advice=nearest(kind, known))


def _fails(policy: Policy, kind: str, severity: str) -> bool:
    limit = max((SEVERITIES.index(name) for name in policy.fail if name in SEVERITIES), default=-1)
    return kind in policy.fail or SEVERITIES.index(severity) <= limit


def _is_open(known: KnownFinding, today: date) -> bool:
    return known.until is None or today <= known.until
