"""What a notebook shows of sheets, columns, findings and results: the tables of the terminal, as HTML.

Everything is escaped, what is invisible made visible; sizes and colours are left to the notebook, so that light and
dark notebooks both work.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from markupsafe import escape
from rich.console import Group
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from larkreader.answers.planning import Plan
from larkreader.answers.reading import Reading
from larkreader.capture.columns import Columns
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.decode.columns.frame_columns import Frames
from larkreader.exercise.loopback.matrix import MatrixResult
from larkreader.exercise.loopback.result import LoopbackResult
from larkreader.judge.findings.finding import Finding, Findings, verdict_of
from larkreader.judge.measure.pair_columns import Pairs
from larkreader.judge.measure.statistics import FrameStatistics
from larkreader.judge.verdict.diagnosis import Diagnosis
from larkreader.present.report.render import plain
from larkreader.present.tables import (
    finding_views,
    loopback_views,
    plan_views,
    reading_views,
    survey_views,
    timeline_views,
)
from larkreader.present.text import terminal

SHOWN_ROWS = 10  # of columns
CELL = "text-align:left;vertical-align:top"
NUMBER = "text-align:right;vertical-align:top"


def html_of(shown: Any) -> str:
    """Return what a notebook shows of one of our objects.

    Parameters
    ----------
    shown : object
        A `Sheet`, `FrameLayout`, columns such as `Characters` and `Frames`, `Finding`, `Findings`, `Reading`, `Pairs`,
        `Plan`, `Diagnosis`, `FrameStatistics`, `LoopbackResult` or `MatrixResult`; of anything else its repr is shown.

    Returns
    -------
    str
        HTML without scripts.
    """
    if isinstance(shown, Sheet):
        return f"<p><b>{_text(shown.title)}</b></p>" * bool(shown.title) + of_view(reading_views.link(shown))
    if isinstance(shown, FrameLayout):
        return of_view(reading_views.layout_table(shown))
    if isinstance(shown, Reading):
        return of_view(reading_views.counts(shown)) + html_of(shown.findings)
    if isinstance(shown, Findings):
        verdict = finding_views.VERDICTS[verdict_of(shown)]
        return f"<p><b>{_text(verdict)}</b></p>" + (of_view(findings_table(shown)) if shown else "")
    if isinstance(shown, Finding):
        return of_view(findings_table([shown]))
    if isinstance(shown, Plan):
        return "".join(of_view(view) for view in plan_views.topics(shown).values()) + html_of(Findings(shown.findings))
    if isinstance(shown, Diagnosis):
        return of_view(survey_views.surveys({"wire": shown.survey})) + of_view(finding_views.explained(shown.findings))
    if isinstance(shown, FrameStatistics):
        return of_view(reading_views.statistics({"": shown}))
    if isinstance(shown, LoopbackResult):
        return of_view(loopback_views.loopback(shown))
    if isinstance(shown, MatrixResult):
        return of_view(loopback_views.matrix(shown))
    if isinstance(shown, Pairs):
        return _of_columns(shown) + of_view(
            timeline_views.pairs_table({shown.pairing.key: shown}, {shown.pairing.key: shown.pairing})
        )
    if isinstance(shown, Columns):
        return _of_columns(shown)
    return f"<pre>{_text(repr(shown))}</pre>"


def findings_table(found: Sequence[Finding]) -> Table:
    """Return findings as a table, one a row."""
    table = terminal.new_table("severity", "kind", "wire", ">how many", ">first at s", "what it means", "what to do")
    for item in found:
        first = "" if item.first_s is None else f"{item.first_s:.6f}"
        table.add_row(item.severity, item.kind, item.wire, f"{item.count:,}", first, item.text, item.advice)
    return table


def of_view(view: Any) -> str:
    """Return a view for the terminal as HTML: its tables, and its texts as paragraphs."""
    return "".join(_parts(view))


def _parts(view: Any) -> Iterator[str]:
    if isinstance(view, Group):
        for part in view.renderables:
            yield from _parts(part)
    elif isinstance(view, Table):
        yield _table(view)
    elif isinstance(view, Padding):
        yield from _parts(view.renderable)
    elif isinstance(view, Text):
        tag = "b" if "bold" in str(view.style) else "span"
        if text := _text(view.plain):
            yield f"<p><{tag}>{text}</{tag}></p>"
    elif text := _text(str(view)):
        yield f"<p>{text}</p>"


def _table(table: Table) -> str:
    styles = [NUMBER if column.justify == "right" else CELL for column in table.columns]
    heads = "".join(
        f'<th style="{style}">{_text(_plain(column.header))}</th>'
        for column, style in zip(table.columns, styles, strict=True)
    )
    rows = [
        "".join(f'<td style="{style}">{_text(_plain(cell))}</td>' for cell, style in zip(row, styles, strict=True))
        for row in zip(*(column.cells for column in table.columns), strict=True)
    ]
    body = "".join(f"<tr>{row}</tr>" for row in rows)
    return f"<table><thead><tr>{heads}</tr></thead><tbody>{body}</tbody></table>"


def _of_columns(columns: Columns) -> str:
    """Return the first rows of columns, and how many there are."""
    count = len(columns)
    head = columns[slice(SHOWN_ROWS)]
    shown = head.shown()
    rest = columns[slice(len(next(iter(shown.values()), ())), SHOWN_ROWS)]  # a repr shows fewer rows
    parts = [shown, rest.shown()] if len(rest) else [shown]
    units = columns.layout.unit if isinstance(columns, Frames) else {}
    heads = "".join(
        f'<th style="{NUMBER}">{_text(name)}{f"<br>{_text(unit)}" if (unit := units.get(name)) else ""}</th>'
        for name in shown
    )
    body = "".join(
        "<tr>" + "".join(f'<td style="{NUMBER}">{_text(_value(part[name][row]))}</td>' for name in part) + "</tr>"
        for part in parts
        for row in range(len(next(iter(part.values()), ())))
    )
    about = columns.about()
    name = f"{type(columns).__name__}{about and ' ' + about}: {count:,} row{'' if count == 1 else 's'}"
    more = f"<p>... and {count - SHOWN_ROWS:,} more</p>" if count > SHOWN_ROWS else ""
    return f"<p>{_text(name)}</p><table><thead><tr>{heads}</tr></thead><tbody>{body}</tbody></table>{more}"


def _value(value: Any) -> str:
    return f"{value:.9g}" if isinstance(value, float) or getattr(value, "dtype", None) == "float64" else str(value)


def _plain(cell: Any) -> str:
    return cell.plain if isinstance(cell, Text) else str(cell)


def _text(text: str) -> str:
    return str(escape(plain(terminal.unbound(text)).strip()))
