"""Six boards, four builds, three temperatures: which build loses bytes, and which board drifts towards its limit."""

from datetime import date
from pathlib import Path

import larkreader as lr
from larkreader.demo.campaign import write_campaign


def main() -> None:
    """Read the campaign, and ask."""
    files = write_campaign(Path())
    with lr.read_many(files["sheet"], files["captures"], store="campaign.sqlite") as campaign:
        print(campaign)
        print(campaign.verdicts(["build"])[["clean", "faults"]].to_string())
        for found in campaign.concentrations():
            print(
                f"{found.kind} goes with {found.label} {found.value}: in {found.affected} of {found.of} captures, "
                f"and in {found.elsewhere} of {found.elsewhere_of} others"
            )
        for moving in campaign.trends(over="temperature", by="board"):
            if moving.crossing is not None and moving.severity != "note":
                print(
                    f"board {moving.value} gains {1e6 * moving.trend.slope:.0f} ppm a kelvin; its receiver begins to "
                    f"misread at {moving.crossing.at:.0f} °C, {moving.crossing.low:.1f} to {moving.crossing.high:.1f}"
                )

    known = {"kind": "overflow", "labels": {"build": "1.3"}, "reason": "its receive buffer is too small"}
    with lr.Campaign.open("campaign.sqlite") as campaign:
        result = lr.answers.apply_policy(campaign, lr.declare.Policy(known=[known]), today=date(2026, 6, 1))
        print(f"with that declared as known, {len(result.failed)} captures fail: {result.outcome}")


if __name__ == "__main__":
    main()
