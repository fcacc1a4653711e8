"""A report as one self-contained HTML page, or as Markdown with its figures beside it.

The page has no script, and loads nothing: its policy forbids it to. Everything out of a capture or a sheet is
escaped; control characters, and those that turn the direction of writing, are shown as what they are.
"""

from __future__ import annotations

import re
import unicodedata
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from larkreader.present.text.notation import CONTROLS
from larkreader.sources import write_whole

from .content import Report

PICTURES = {0x2400 + code: name for code, (name, _) in enumerate(CONTROLS)} | {
    0x2421: "DEL"
}  # of them, which few fonts have
_MARKDOWN = re.compile(r"([\\`*_{}\[\]<>#|~&$])")


def render_html(report: Report) -> str:
    """Return a report as one HTML page.

    Parameters
    ----------
    report : Report
        What it says.

    Returns
    -------
    str
        UTF-8 is declared as its encoding.
    """
    environment = _environment(autoescape=True)
    return environment.get_template("report.html.j2").render(report=report)


def render_campaign(page: Any) -> str:
    """Return the page of a campaign as HTML.

    Parameters
    ----------
    page : CampaignPage
        What it says.
    """
    return _environment(autoescape=True).get_template("campaign.html.j2").render(page=page)


def render_markdown(report: Report, figures: str = "") -> str:
    """Return a report as Markdown.

    Parameters
    ----------
    report : Report
        What it says.
    figures : str
        The folder with its figures, seen from where the document will lie; without it they are left out.

    Returns
    -------
    str
        Tables are those that most renderers know, with ``|`` between cells.
    """
    environment = _environment(autoescape=False)
    text = environment.get_template("report.md.j2").render(report=report, figures=figures)
    return re.sub(r"\n{3,}", "\n\n", text).strip() + "\n"


def write_figures(report: Report, folder: Path) -> list[Path]:
    """Write the figures of a report as SVG files into a folder, which is made.

    Parameters
    ----------
    report : Report
        What it says.
    folder : pathlib.Path
        Where to.

    Returns
    -------
    list of pathlib.Path
    """
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    pictures = [*(finding.picture for finding in report.findings if finding.picture is not None), *report.pictures]
    for picture in pictures:
        path = folder / f"{picture.name}.svg"
        write_whole(path, '<?xml version="1.0" encoding="utf-8"?>\n' + picture.svg + "\n")
        written.append(path)
    return written


def plain(text: object) -> str:
    """Write a text so that nothing in it is invisible, or changes how the rest of a page is shown."""
    return "".join(_shown(item) for item in str(text))


def escape_markdown(text: object) -> str:
    """Write a text so that Markdown, and HTML in it, take it for nothing but text; in one line."""
    return _MARKDOWN.sub(r"\\\1", plain(text).replace("\n", " "))


def _shown(text: str) -> str:
    code = ord(text)
    if text == "\n":
        return text
    name = CONTROLS[code][0] if code < len(CONTROLS) else "DEL" if code == 0x7F else PICTURES.get(code)
    if name is not None:
        return f"\u2039{name}\u203a"
    if unicodedata.category(text) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp"):
        return f"\\u{code:04x}"
    return text


def _finalize(value: Any) -> Any:
    return value if isinstance(value, Markup) else plain(value) if isinstance(value, str) else value


@cache
def _environment(*, autoescape: bool) -> Environment:
    environment = Environment(
        loader=PackageLoader("larkreader.present.report"),
        autoescape=autoescape,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_finalize,
    )
    environment.filters["md"] = escape_markdown
    environment.filters["drawing"] = Markup  # made by us, of numbers and escaped texts
    return environment
