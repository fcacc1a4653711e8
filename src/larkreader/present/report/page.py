"""A report of a reading as a file."""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from larkreader.errors import RequestError
from larkreader.sources import identity_of, name_of, path_of, write_whole

from .content import Report, make_report
from .render import render_html, render_markdown, write_figures

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading

ENDINGS = (".html", ".htm", ".md")


def write_report(
    path: str | Path,
    reading: Reading,
    *,
    whole: SummedReading | None = None,
    files: Sequence[str | Path] = (),
    command: str = "",
    remarks: Sequence[str] = (),
) -> list[Path]:
    """Write a reading as one page to hand to a colleague.

    Parameters
    ----------
    path : str or pathlib.Path
        The page: HTML, or Markdown if the name ends in ``.md``. The figures of a Markdown page are written into a
        folder beside it, ``NAME_figures``.
    reading : Reading
        What was read; figures of faulty characters need its levels, which `read` keeps if asked.
    whole : SummedReading, optional
        What `judge_capture` concludes from all of a large capture, of which `reading` is the first part, as
        `read_first_part` reads it.
    files : sequence of str or pathlib.Path
        Files that it was made from, such as the sheet and the capture; the page names their sizes and hashes.
    command : str
        A command that makes the page again.
    remarks : sequence of str
        Sentences to add.

    Returns
    -------
    list of pathlib.Path
        What was written: the page, and its figures.

    Raises
    ------
    RequestError
        If the name ends in something else than ``.html``, ``.htm`` or ``.md``.
    OSError
        If a file cannot be read or written.

    Notes
    -----
    Date and time are those of ``SOURCE_DATE_EPOCH`` where the environment has it, so that the same reading can give the
    same page.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> sheet = lr.Sheet(wire={"pump": {}})
    >>> reading = lr.read(sheet, {"pump": lr.transmit(b"flow", sheet.wire["pump"].line)})
    >>> [path.name for path in lr.write_report(pathlib.Path(tempfile.mkdtemp()) / "rig.html", reading)]
    ['rig.html']
    """
    path = Path(path)
    if path.suffix.lower() not in ENDINGS:
        raise RequestError("path", f'ends in "{path.suffix}"', f"must end in {', '.join(ENDINGS)}")
    report = report_of(reading, whole=whole, files=files, command=command, remarks=remarks)
    return write_page(path, report, markdown=path.suffix.lower() == ".md")


def report_of(
    reading: Reading,
    *,
    whole: SummedReading | None = None,
    files: Sequence[str | Path] = (),
    command: str = "",
    remarks: Sequence[str] = (),
    with_figures: bool = True,
) -> Report:
    """Return what a page says; arguments as of `write_report`."""
    return make_report(
        reading,
        whole=whole,
        files=[(name_of(path), identity_of(path)) for path in map(path_of, files)],
        command=command,
        made_at=made_at(),
        remarks=remarks,
        with_figures=with_figures,
    )


def write_page(path: Path, report: Report, *, markdown: bool) -> list[Path]:
    """Write a page, and the figures of a Markdown page; return what was written."""
    if not markdown:
        write_whole(path, render_html(report))
        return [path]
    folder = path.with_name(f"{path.stem}_figures")
    figures = write_figures(report, folder)
    write_whole(path, render_markdown(report, folder.name if figures else ""))
    return [path, *figures]


def made_at() -> str:
    """Return when a page is made; raise `RequestError` for an epoch of which no date can be made."""
    epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
    try:
        at = datetime.fromtimestamp(int(epoch), UTC) if epoch else datetime.now(UTC)
    except (ValueError, OverflowError, OSError):
        raise RequestError("SOURCE_DATE_EPOCH", f'is "{epoch[:40]}"', "must be seconds since 1970") from None
    return at.strftime("%Y-%m-%d %H:%M:%S UTC")
