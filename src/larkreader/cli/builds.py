"""What build servers are given of `decode`, `plan` and `diagnose`: test cases, and annotations."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import check_output, print_json
from .output_file import OutputFile

if TYPE_CHECKING:
    from larkreader.judge.findings.finding import Finding
    from larkreader.judge.verdict.checked import Checked
    from larkreader.present.documents.annotations import Remark

_Command = Callable[..., Any]


def build_options(command: _Command) -> _Command:
    """Add ``--junit`` and ``--annotations`` to a command."""
    junit = click.option("--junit", type=OutputFile(".xml"), metavar="FILE", help="Write findings as JUnit XML.")
    annotations = click.option(
        "--annotations",
        type=click.Choice(["github", "gitlab"]),
        help="Print findings as a build server shows them, instead of tables.",
    )
    return junit(annotations(command))


def check_build_options(junit: Path | None, annotations: str | None, *, as_json: bool) -> None:
    """Raise `RequestError` before any work is done if what is asked for cannot be given."""
    from larkreader.errors import RequestError

    check_output(junit)
    if annotations is not None and as_json:
        raise RequestError("--annotations and --json", "each print something else", "must stand alone")


def report_to_build(
    junit: Path | None,
    annotations: str | None,
    what: str,
    findings: Sequence[Finding],
    *,
    sheet: Path | None,
    capture: Path | None = None,
    checked: Checked | None = None,
    more: Iterable[Remark] = (),
) -> bool:
    """Write and print what was asked for.

    Parameters
    ----------
    junit : pathlib.Path, optional
        Where to write test cases.
    annotations : str, optional
        For whom to print annotations.
    what : str
        What was done, as the name of the suite.
    findings : sequence of Finding
    sheet, capture : pathlib.Path, optional
        What annotations point to: the sheet, or the capture where there is none.
    checked : Checked, optional
        What was proven, and what could not be checked.
    more : iterable of Remark
        What is wrong beside the findings.

    Returns
    -------
    bool
        Whether annotations were printed, so that nothing else is.
    """
    if junit is None and annotations is None:
        return False
    from larkreader.present.documents.annotations import Remark, github_lines, gitlab_report
    from larkreader.present.documents.cases import remark_cases
    from larkreader.present.documents.junit import write_junit

    remarks = [*map(Remark.of, findings), *more]
    if junit is not None:
        write_junit(junit, what, remark_cases(remarks, checked))
    if annotations is None:
        return False
    text = sheet.read_text(encoding="utf-8") if sheet is not None else ""
    file = str(sheet if sheet is not None else capture).replace("\\", "/")  # as a repository writes it
    if annotations == "github":
        for line in github_lines(remarks, file, text):
            click.echo(line)
    else:
        print_json(gitlab_report(remarks, file, text))
    return True
