"""``larkreader batch``: read many captures, and ask what they show together."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import check_figure, check_output, json_option, note, print_document, progress_of, wire_option
from .forms import form_of, form_options
from .grouped import command
from .interrupts import end_if_interrupted
from .output_file import OutputFile

if TYPE_CHECKING:
    from concurrent.futures import Executor

    from larkreader.answers.campaign.campaign import Campaign
    from larkreader.answers.campaign.policing import PolicyResult
    from larkreader.declare.document.sheet import Sheet

VIEWS = ("overview", "verdicts", "kinds", "changes", "trends", "odd", "errors")


@dataclass(frozen=True)
class _Asked:
    """What is asked of a campaign."""

    show: str
    by: tuple[str, ...]
    over: str | None
    as_json: bool


@command()
@click.argument("files", nargs=-1, metavar="[SHEET CAPTURES...]", type=click.Path(path_type=Path))
@click.option(
    "--labels",
    metavar="PATTERN",
    help='Where labels stand in paths, as in "{board}/{build}/{temperature}C.vcd"; a list of captures has them itself.',
)
@wire_option
@form_options
@click.option(
    "--workers", type=click.IntRange(1), metavar="N", help="Read in N processes; one for each core by default."
)
@click.option("--cluster", metavar="ADDRESS", help="Read on a Dask cluster, as in tcp://host:8786.")
@click.option(
    "--store",
    type=click.Path(path_type=Path),
    metavar="PATH",
    help="Keep what was read: in FILE.sqlite, or in a folder of Parquet files; alone, show what is kept there.",
)
@click.option("--resume", is_flag=True, help="With --store: read only captures that are new or have changed.")
@click.option("--replace", is_flag=True, help="With --store: remove what is kept there, and begin anew.")
@click.option(
    "--show", type=click.Choice(VIEWS), default="overview", show_default=True, help="Which question is answered."
)
@click.option("--by", metavar="LABEL,...", help="Show verdicts, kinds and trends by labels.")
@click.option("--over", metavar="LABEL", help="With --show trends: over this label, whose values are numbers.")
@click.option(
    "--baseline", type=click.Path(path_type=Path), metavar="STORE", help="Compare with what is kept in another store."
)
@click.option(
    "--figure",
    type=OutputFile(".png"),
    metavar="FILE",
    help="Draw the answer: with --show kinds, findings by a label; with --show trends, the worst of them.",
)
@click.option("--report", type=OutputFile(".html"), metavar="FILE", help="Write a page with all of it.")
@click.option(
    "--junit", type=OutputFile(".xml"), metavar="FILE", help="Write a test case for each capture, as JUnit XML."
)
@click.option("--markdown", type=OutputFile(".md"), metavar="FILE", help="Write a summary, as for a merge request.")
@json_option
def batch(
    files: tuple[Path, ...],
    labels: str | None,
    wire: str | None,
    kind: Any,
    given: dict[str, Any],
    workers: int | None,
    cluster: str | None,
    store: Path | None,
    resume: bool,
    replace: bool,
    show: str,
    by: str | None,
    over: str | None,
    baseline: Path | None,
    figure: Path | None,
    report: Path | None,
    junit: Path | None,
    markdown: Path | None,
    as_json: bool,
) -> int:
    """Read CAPTURES as SHEET declares them, and show what they have in common and where they differ.

    CAPTURES are files, folders, patterns such as "runs/*.vcd", lists of captures (CSV with a column "capture" and one
    for each label), or manifests that `listen` leaves beside recordings. Without them, --store has what was read.

    The exit status is 1 if a capture fails by the sheet's [policy]: by default with an error, or if it cannot be read.
    """
    from larkreader.answers.campaign.campaign import Campaign
    from larkreader.answers.campaign.policing import apply_policy, check_policy
    from larkreader.declare.document.sheet_file import open_sheet
    from larkreader.declare.run.policy import Policy
    from larkreader.errors import RequestError

    for path in (report, junit, markdown):
        check_output(path)
    if figure is not None:
        check_figure(figure)
        if show not in ("kinds", "trends"):
            raise RequestError("--figure", f"goes with --show {show}", "must go with --show kinds or --show trends")
    asked = _Asked(show, tuple(name.strip() for name in (by or "").split(",") if name.strip()), over, as_json)
    _check(files, store, baseline, show, resume=resume, replace=replace)
    reading = {"--labels": labels, "--wire": wire, "--kind": kind, "--workers": workers, "--cluster": cluster, **given}
    _check_questions(asked, [name for name, value in reading.items() if value] if len(files) < 2 else [])
    if workers is not None and cluster is not None:
        raise RequestError("--workers and --cluster", "exclude each other")
    policy, on_sheet = Policy(), None
    if files:
        on_sheet = open_sheet(files[0])
        policy = on_sheet.policy
        check_policy(policy)  # before the captures are read, which may take long
    with ExitStack() as stack:
        before = None if baseline is None else stack.enter_context(Campaign.open(baseline))
        if len(files) > 1:
            form = form_of(on_sheet.capture if on_sheet else None, given) if given else None
            executor = stack.enter_context(_cluster(cluster)) if cluster is not None else None
            kept = _store_for(store, resume=resume, replace=replace)
            campaign = _read(files, labels, kept, executor, workers, kind, form, wire, resume=resume)
        elif store is not None:
            campaign = Campaign.open(store)
        else:
            raise RequestError("CAPTURES", "are missing", advice="Write SHEET CAPTURES, or --store with what was read")
        stack.enter_context(campaign)
        if before is not None and before.sheet_hash != campaign.sheet_hash:
            note("note: the baseline was read against another sheet; what differs may come from that")
        result = apply_policy(campaign, policy, date.today())
        _show(campaign, before, asked, result)
        if figure is not None:
            _draw(campaign, asked, figure)
        _write(campaign, before, asked, result, on_sheet, junit, markdown, report)
        if store is not None and len(files) > 1:
            note(f"kept in {store}; now try: larkreader batch --store {store} --show trends")
    return 0 if result.outcome == "pass" else 1


def _check(
    files: Sequence[Path], store: Path | None, baseline: Path | None, show: str, *, resume: bool, replace: bool
) -> None:
    """Raise `RequestError` if options do not go together."""
    from larkreader.errors import RequestError

    if store is None and (resume or replace):
        raise RequestError("--resume" if resume else "--replace", "has no store", "must go with --store")
    if resume and replace:
        raise RequestError("--resume and --replace", "exclude each other")
    if show == "changes" and baseline is None:
        raise RequestError("--show changes", "has no baseline", "must go with --baseline STORE")
    if len(files) == 1 and store is None:
        advice = f"Write larkreader batch {files[0]} CAPTURES..."
        raise RequestError("CAPTURES", "are missing", advice=advice)


def _check_questions(asked: _Asked, of_reading: Sequence[str]) -> None:
    """Raise `RequestError` for an option that the question, or a store alone, has no use for."""
    from larkreader.errors import RequestError

    if of_reading:
        name = of_reading[0] if of_reading[0].startswith("--") else f"--{of_reading[0].replace('_', '-')}"
        raise RequestError(name, "reads nothing", "must go with SHEET CAPTURES", "A store has what was read")
    if asked.over is not None and asked.show != "trends":
        raise RequestError("--over", f"goes with --show {asked.show}", "must go with --show trends")
    if asked.by and asked.show in ("changes", "odd", "errors"):
        raise RequestError("--by", f"goes with --show {asked.show}", "must go with verdicts, kinds, trends or overview")
    if len(asked.by) > 1 and asked.show != "verdicts":
        raise RequestError("--by", f"has {len(asked.by)} labels", f"--show {asked.show} takes a single label")


def _store_for(store: Path | None, *, resume: bool, replace: bool) -> Path | None:
    """Return where what is read is kept, once nothing is in the way."""
    from larkreader.answers.campaign.store import open_store
    from larkreader.errors import RequestError

    if store is None or not store.exists():
        return store
    if replace:
        open_store(store).close()  # which raises if it is anything else, that must not be removed
        if store.is_dir():
            shutil.rmtree(store)
        else:
            store.unlink()
    elif not resume:
        advice = "Add --resume to read what is new, or --replace to begin anew"
        raise RequestError(f'--store "{store}"', "is there already", "", advice)
    return store


def _read(
    files: Sequence[Path],
    labels: str | None,
    store: Path | None,
    executor: Executor | None,
    workers: int | None,
    kind: Any,
    form: Any,
    wire: str | None,
    *,
    resume: bool,
) -> Campaign:
    from larkreader.answers.campaign.reading_many import read_many

    with progress_of("reading captures", shown=True) as progress:

        def go_on(done: int, total: int) -> None:
            end_if_interrupted()
            if progress is not None:
                progress(done, total)

        return read_many(
            files[0],
            files[1:],
            labels=labels,
            store=store,
            resume=resume,
            executor=executor,
            workers=workers,
            kind=kind,
            form=form,
            wire=wire,
            progress=go_on,
        )


@contextmanager
def _cluster(address: str) -> Iterator[Executor]:
    """Connect to a Dask cluster."""
    from larkreader.errors import RequestError

    try:
        from distributed import Client
    except ImportError:
        advice = "Install lark-reader[cluster]"
        raise RequestError("--cluster", "needs Dask, which is not installed", "", advice) from None
    try:
        client: Any = Client(address, timeout=10)  # type: ignore[no-untyped-call]
    except (OSError, ValueError) as error:
        raise RequestError(f'--cluster "{address}"', f"cannot be reached: {error}", "must be a scheduler") from None
    with client:
        executor: Executor = client.get_executor()
        yield executor


def _show(campaign: Campaign, before: Campaign | None, asked: _Asked, result: PolicyResult) -> None:
    """Print the answer to what is asked."""
    from larkreader.present.tables import campaign_views as views
    from larkreader.present.text import terminal

    if asked.as_json:
        from larkreader.present.documents.campaign_document import campaign_document

        print_document("campaign", campaign_document(campaign, before, result))
        return
    by = asked.by[0] if asked.by else None
    console = terminal.make_console()
    shown: Any
    if asked.show == "verdicts":
        shown = views.verdicts(campaign, asked.by)
    elif asked.show == "kinds":
        shown = views.kinds(campaign, by)
    elif asked.show == "changes" and before is not None:
        shown = views.changes(campaign, before)
    elif asked.show == "trends":
        shown = views.trends(campaign, asked.over, by)
    elif asked.show == "odd":
        shown = views.odd_ones(campaign)
    elif asked.show == "errors":
        shown = views.not_read(campaign)
    else:
        shown = views.overview(campaign, asked.by, before)
    console.print(shown)
    if asked.show == "overview":
        console.print("", views.policy(result), sep="\n")


def _draw(campaign: Campaign, asked: _Asked, into: Path) -> None:
    """Draw the answer to what is asked into a file."""
    from larkreader.errors import RequestError
    from larkreader.present.figures.campaign import draw_kinds, draw_trend, kinds_height
    from larkreader.present.figures.style import new_figure, write_figure

    picture = new_figure()
    if asked.show == "kinds":
        if not asked.by:
            raise RequestError("--figure", "has no label", "must go with --by LABEL")
        picture = new_figure(height_px=kinds_height(len(campaign.kinds()) - 1))
        draw_kinds(campaign, asked.by[0], ax=picture.add_subplot())
    else:
        found = campaign.trends(asked.over, asked.by[0] if asked.by else None)
        if not found:
            raise RequestError("--figure", "has no trend to draw", "no number moves with a label")
        draw_trend(campaign, found[0], ax=picture.add_subplot())
    write_figure(picture, into)
    note(f"drawn into {into}")


def _write(
    campaign: Campaign,
    before: Campaign | None,
    asked: _Asked,
    result: PolicyResult,
    declared: Sheet | None,
    junit: Path | None,
    markdown: Path | None,
    report: Path | None,
) -> None:
    """Write the files that were asked for."""
    if junit is not None:
        from larkreader.present.documents.campaign_document import campaign_cases
        from larkreader.present.documents.junit import write_junit

        write_junit(junit, f"batch {campaign.sheet_name}", campaign_cases(result))
        note(f"test cases written to {junit}")
    if markdown is not None:
        from larkreader.present.documents.campaign_document import campaign_markdown
        from larkreader.sources import write_whole

        by = asked.by[0] if asked.by else None
        write_whole(markdown, campaign_markdown(campaign, before, result, by))
        note(f"summary written to {markdown}")
    if report is not None:
        from larkreader.present.report.campaign_page import write_campaign_page

        written = write_campaign_page(report, campaign, before, result, declared)
        pages = f", with {written:,} pages of captures beside it" if written else ""
        note(f"report written to {report}{pages}")
