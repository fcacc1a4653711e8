"""A campaign as a page: what stands out first, with links to the pages of captures."""

from __future__ import annotations

import re
import shlex
import sys
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote

from larkreader import __version__
from larkreader.answers.campaign.campaign import Campaign
from larkreader.answers.campaign.campaign_tables import VERDICTS
from larkreader.answers.campaign.policing import PolicyResult
from larkreader.answers.reading import read
from larkreader.declare.document.sheet import Sheet
from larkreader.errors import LarkReaderError
from larkreader.present.figures.campaign import draw_kinds, draw_trend, kinds_height
from larkreader.present.tables.campaign_views import MOST_COLUMNS
from larkreader.present.text.campaign_text import Standing, nothing_text, odd_text, standing_out, verdicts_text
from larkreader.sources import write_whole

from .page import made_at, report_of, write_page
from .pictures import Picture, picture_of
from .render import render_campaign

MOST_PAGES = 20  # captures with a page of their own
MOST_FAILED = 200  # captures that fail, in the table
MOST_TRENDS = 6  # figures
LARGEST = 8 << 20  # bytes of a capture whose page has figures of single levels
_UNUSUAL = re.compile(r"[^\w.-]")  # in the name of a file
Table = dict[str, Any]


@dataclass(frozen=True)
class CampaignPage:
    """What a page of a campaign says."""

    title: str
    outcome: str
    summary: str
    nothing: str
    standing: Sequence[Standing]
    matrices: Sequence[Picture]
    verdicts: Sequence[Table]
    pictures: Sequence[Picture]
    odd: Sequence[Standing]
    failed: Sequence[Table]
    failed_left: int
    allowed: Sequence[str]
    facts: Table
    remarks: Sequence[str] = ()
    pages: dict[str, str] = field(default_factory=dict)


def write_campaign_page(
    path: Path, campaign: Campaign, baseline: Campaign | None, result: PolicyResult, sheet: Sheet | None
) -> int:
    """Write a campaign as an HTML page.

    Parameters
    ----------
    path : pathlib.Path
        The page. Pages of captures are written into a folder beside it, ``NAME_captures``.
    campaign : Campaign
        The captures.
    baseline : Campaign, optional
        What was before.
    result : PolicyResult
        What the policy says.
    sheet : Sheet, optional
        What was declared, which the pages of captures need: those that stand out, and the first that fail.

    Returns
    -------
    int
        How many pages of captures were written.

    Raises
    ------
    OSError
        If a file cannot be written.
    """
    standing = standing_out(campaign, baseline)
    named = dict.fromkeys((capture for item in standing for capture in item.paths), True)
    wanted = {**dict.fromkeys((outcome.path for outcome in result.failed), False), **named}
    order = sorted(wanted, key=lambda capture: not wanted[capture])[:MOST_PAGES]
    pages = {} if sheet is None else _write_pages(path, {capture: wanted[capture] for capture in order}, sheet)
    write_whole(path, render_campaign(_page_of(campaign, result, standing, pages)))
    return len(pages)


def _write_pages(path: Path, captures: Mapping[str, bool], sheet: Sheet) -> dict[str, str]:
    """Write the pages of captures, with figures or without; return where each is, seen from the campaign's page."""
    folder = path.with_name(f"{path.stem}_captures")
    pages: dict[str, str] = {}
    for number, (capture, with_figures) in enumerate(captures.items(), 1):
        file = Path(capture)
        try:
            reading = read(sheet, file, keep_levels=with_figures and file.stat().st_size <= LARGEST)
        except (LarkReaderError, OSError):
            continue  # the row of the capture has the error
        folder.mkdir(exist_ok=True)
        page = folder / f"{number:03}-{_UNUSUAL.sub('_', file.stem)[:80]}.html"
        write_page(page, report_of(reading, files=[file], with_figures=with_figures), markdown=False)
        pages[capture] = quote(f"{folder.name}/{page.name}")
    return pages


def _page_of(
    campaign: Campaign, result: PolicyResult, standing: Sequence[Standing], pages: dict[str, str]
) -> CampaignPage:
    labels = [label for label in campaign.labels if 1 < len(campaign.values_of(label)) <= MOST_COLUMNS]
    failed = [
        {
            "path": item.path,
            "labels": ", ".join(f"{name} {value}" for name, value in item.labels.items()),
            "why": "; ".join(dict.fromkeys(f"{why.kind}: {why.text or why.why}" for why in item.failures)),
        }
        for item in result.failed
    ]
    allowed = Counter(f"{why.kind} on {why.wire}: {why.why}" for item in result.outcomes for why in item.allowed)
    made = shlex.join(["larkreader", *sys.argv[1:]]) if sys.argv[1:2] == ["batch"] else ""
    facts = [["sheet", campaign.sheet_name], ["Lark Reader", __version__], ["made", made_at()]]
    return CampaignPage(
        title=f"{len(campaign):,} captures read against {campaign.sheet_name}",
        outcome=result.outcome,
        summary=f"{verdicts_text(campaign)}. {len(result.failed):,} of {len(campaign):,} captures fail by policy.",
        nothing=nothing_text(campaign),
        standing=standing,
        matrices=list(_matrices(campaign, _telling(campaign, labels))),
        verdicts=[_verdicts(campaign, label) for label in labels],
        pictures=list(_trends(campaign)),
        odd=[odd_text(item) for item in campaign.odd_ones()],
        failed=failed[:MOST_FAILED],
        failed_left=max(len(failed) - MOST_FAILED, 0),
        allowed=[f"{text} (in {count:,} captures)" for text, count in allowed.items()],
        facts={"title": "", "heads": ["", ""], "rows": facts + ([["command", made]] if made else []), "left": ""},
        pages=pages,
    )


def _telling(campaign: Campaign, labels: Sequence[str]) -> list[str]:
    """Return the labels with which findings go; the first without any."""
    found = dict.fromkeys(item.label for item in campaign.concentrations() if item.label in labels)
    return list(found) or list(labels[:1])


def _matrices(campaign: Campaign, labels: Sequence[str]) -> Iterator[Picture]:
    height = kinds_height(len(campaign.kinds()) - 1)
    for label in labels:

        def draw(axes: Any, by: str = label) -> None:
            draw_kinds(campaign, by, ax=axes)

        picture = picture_of(f"kinds-{label}", f"Captures with each finding, by {label}", draw, height)
        if picture is not None:
            yield picture


def _trends(campaign: Campaign) -> Iterator[Picture]:
    found = campaign.trends()
    for number, item in enumerate([trend for trend in found if trend.severity != "note"][:MOST_TRENDS], 1):

        def draw(axes: Any, shown: Any = item) -> None:
            draw_trend(campaign, shown, ax=axes)

        picture = picture_of(f"trend-{number}", f"{item.measure} of {item.subject} over {item.over}", draw)
        if picture is not None:
            yield picture


def _verdicts(campaign: Campaign, label: str) -> Table:
    counts = campaign.verdicts([label])
    shown = [verdict for verdict in VERDICTS if counts[verdict].any()]
    rows = [
        [str(value), *(f"{count:,}" for count in row)]
        for value, row in zip(counts.index.tolist(), counts[shown].to_numpy().tolist(), strict=True)
    ]
    heads = [label, *(f">{verdict.replace('-', ' ')}" for verdict in shown)]
    return {"title": f"Verdicts by {label}", "heads": heads, "rows": rows, "left": ""}
