"""What several commands share: options, progress, and output."""

from __future__ import annotations

import json
import shutil
import sys
import textwrap
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from io import TextIOWrapper
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, BinaryIO

import click

from larkreader.harmless import harmless

if TYPE_CHECKING:
    from larkreader.answers.reading import Reading
    from larkreader.answers.summed_reading import SummedReading
    from larkreader.declare.document.sheet import Sheet
    from larkreader.exercise.ports.port import Port
    from larkreader.judge.setup.path_report import PathReport

Progress = Callable[[int, int], None]
Decorator = Callable[[Callable[..., Any]], Callable[..., Any]]

_HELD: list[str] | None = None  # notes that wait until a progress bar is gone

DETAIL = "larkreader.cli.detail"  # in what click remembers of a command: how much it prints beside the result
STANDARD_INPUT = "larkreader.cli.standard_input"  # in what click remembers of a command: whether it was read
FIGURE_ENDINGS = (".png", ".svg", ".pdf")
MOST_WORKERS = 4  # of which more would wait for what their results are for
PROGRESS_FROM = 8 << 20  # bytes of a capture below which reading is too quick to show


class InputFile(click.Path):
    """A file to read; ``-`` is standard input, which a single argument of a command can be."""

    def __init__(self, *, exists: bool = False) -> None:
        super().__init__(path_type=Path, exists=exists, dir_okay=not exists, allow_dash=True)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the path of the file; for standard input and pipes, the path of a copy."""
        from larkreader.sources import path_of

        if value in ("-", Path("-")) and not (ctx is not None and ctx.resilient_parsing):
            return standard_input()
        path = super().convert(value, param, ctx)
        return path_of(path) if isinstance(path, Path) and path.is_fifo() else path


def standard_input() -> Path:
    """Return the path of a copy of standard input."""
    from larkreader.errors import RequestError
    from larkreader.sources import path_of

    context = click.get_current_context(silent=True)
    if context is not None:
        if context.meta.get(STANDARD_INPUT):
            raise RequestError("-", "is standard input, which was named already", "It can be read once")
        context.meta[STANDARD_INPUT] = True
    if sys.stdin.isatty():
        raise RequestError("-", "is standard input, which is a terminal here", "must be a file or a pipe")
    return path_of(_Named(sys.stdin.buffer))


def name_of(path: Path) -> str:
    """Return what to type for a file: its path, or ``-`` for standard input."""
    return "-" if str(path) == _Named.name else str(path)


class _Named:
    """Standard input, by the name that messages give it."""

    name = "standard input"

    def __init__(self, stream: BinaryIO) -> None:
        self.read = stream.read


sheet_argument: Decorator = click.argument("sheet", type=InputFile())
capture_argument: Decorator = click.argument("capture", type=InputFile())
wire_option: Decorator = click.option("--wire", metavar="NAME", help="Read this wire of the sheet alone.")
samples_option: Decorator = click.option(
    "--samples",
    type=click.Choice(["1", "3"]),
    default="1",
    show_default=True,
    help="Samples per bit: 1 in the middle, or the majority of 3.",
)
oversampling_option: Decorator = click.option(
    "--oversampling",
    type=click.Choice(["8", "16"]),
    help="Look at the wire so many times a bit, as hardware does; all the time unless given.",
)
stops_option: Decorator = click.option("--check-stops", is_flag=True, help="Look at the second stop bit too.")
json_option: Decorator = click.option(
    "--json", "as_json", is_flag=True, help="Print a JSON document instead of tables."
)
json_lines_option: Decorator = click.option(
    "--json", "as_json", is_flag=True, help="Print a recording (JSON Lines) instead of rows."
)


def check_output(path: Path | None) -> None:
    """Raise `RequestError` before any work is done if a file could not be written."""
    from larkreader.errors import RequestError

    if path is None:
        return
    if path.is_dir():
        raise RequestError(str(path), "is a folder", "must be a file to write")
    if not path.parent.is_dir():
        raise RequestError(str(path), f"cannot be written: there is no folder {path.parent}")


def check_span(from_s: float | None, to_s: float | None) -> None:
    """Raise `RequestError` if a time at which something ends is not later than the time at which it begins."""
    from larkreader.errors import RequestError

    if from_s is not None and to_s is not None and to_s <= from_s:
        raise RequestError("--to", f"is {to_s:g}", f"must be later than --from, {from_s:g}")


def check_figure(path: Path) -> None:
    """Raise `RequestError` before any work is done if a figure could not be written into a file."""
    from larkreader.errors import RequestError

    if path.suffix.lower() not in FIGURE_ENDINGS:
        raise RequestError(str(path), f'ends in "{path.suffix}"', f"must end in {', '.join(FIGURE_ENDINGS)}")
    check_output(path)


def write_fates_of(paths: Mapping[str, PathReport], path: Path, sheet: str) -> None:
    """Write what became of each character in some receive paths; raise `RequestError` if there are none."""
    from larkreader.errors import RequestError
    from larkreader.present.tables.fate_table import write_fates

    if not paths:
        wanted = "a wire needs [receive.*], and traffic, a burst or its levels in a capture"
        raise RequestError(
            "--fates", f"has nothing to write: {sheet} and what it is read with have no receive path", wanted
        )
    write_fates(path, paths)
    note(f"what became of each character written to {path}")


@contextmanager
def naming(*parameters: str) -> Iterator[None]:
    """Name in a `RequestError` about a parameter of the library the option that was typed."""
    from larkreader.errors import RequestError

    try:
        yield
    except RequestError as error:
        if error.where in parameters:
            raise RequestError(f"--{error.where.replace('_', '-')}", error.found, error.wanted, error.advice) from None
        raise


def exit_status(verdict: str) -> int:
    """Return the exit status of a verdict: 1 for faults, and where nothing was read, 0 otherwise."""
    return 1 if verdict in ("faults", "nothing-read") else 0


def console_form() -> tuple[int, bool]:
    """Return the columns of the terminal, and whether it has nothing but ASCII."""
    from larkreader.present.text.terminal import make_console

    return make_console().width, not (sys.stdout.encoding or "ascii").lower().startswith("utf")


def print_json(document: Any) -> None:
    """Print one JSON document on standard output."""
    click.echo(json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False))


def print_document(kind: str, content: Mapping[str, Any]) -> None:
    """Print one of our JSON documents, with its kind and the version of its form."""
    from larkreader.present.documents.schemas import document_of

    print_json(document_of(kind, content))


def print_long_document(kind: str, content: Mapping[str, Any], last: str, items: IO[bytes]) -> None:
    """Print a document whose last part is a list, the items of which are in a file as JSON, with commas between them.

    Parameters
    ----------
    kind, content
        As of `print_document`, without the list.
    last : str
        What the list is called.
    items : binary file
        The items; each begins with a line end, and is indented by four.
    """
    from larkreader.present.documents.schemas import document_of

    head = json.dumps(document_of(kind, {**content, last: []}), indent=2, ensure_ascii=False, allow_nan=False)
    if not items.tell():
        click.echo(head)
        return
    click.echo(head.removesuffix("]\n}"), nl=False)
    items.seek(0)
    reader = TextIOWrapper(items, encoding="utf-8", newline="")
    for text in iter(partial(reader.read, 1 << 20), ""):
        click.echo(text, nl=False)
    click.echo("\n  ]\n}")


def print_written(files: Mapping[str, str], **more: Any) -> None:
    """Print which files a command wrote, and what each holds, as JSON."""
    print_document("written", {"files": dict(files), **more})


def note(text: str) -> None:
    """Print a remark beside the result, on standard error, unless ``--quiet``; a terminal breaks it between words."""
    if level_of_detail() >= 0:
        _remark(text)


def detail(text: str) -> None:
    """Print a remark on standard error with ``--verbose``."""
    if level_of_detail() > 0:
        _remark(text)


def level_of_detail() -> int:
    """Return -1 with ``--quiet``, 1 with ``--verbose``, 0 with neither."""
    context = click.get_current_context(silent=True)
    return 0 if context is None else context.meta.get(DETAIL, 0)


def _remark(text: str) -> None:
    text = harmless(text)
    if sys.stderr.isatty():
        text = textwrap.fill(text, shutil.get_terminal_size().columns, break_long_words=False, break_on_hyphens=False)
    if _HELD is None:
        click.echo(text, err=True)
    else:
        _HELD.append(text)


def note_waiting(place: str) -> None:
    """Note that a port waits for a connection, and whether other machines can reach it."""
    kind, _, address = place.partition(":")
    host = address.rpartition(":")[0].strip("[]")
    if kind != "accept" or not host:
        return
    is_near = host == "localhost" or host == "::1" or host.startswith("127.")
    note(f"waiting for a connection at {address}" + ("" if is_near else ", which other machines can reach"))


def say_what_is_worth_knowing(port: Port) -> None:
    """Say on standard error what there is to know about a port before it is used."""
    for item in port.notes:
        note(f"note: {item}")


@contextmanager
def progress_of(what: str, *, shown: bool) -> Iterator[Progress | None]:
    """Give a function that shows progress on standard error, or None without a terminal."""
    if not shown or not sys.stderr.isatty():
        yield None
        return
    from rich.progress import Progress as Bar

    from larkreader.present.text.terminal import make_console

    global _HELD
    _HELD = []
    try:
        console = make_console(stderr=True)
        click.get_current_context().call_on_close(lambda: console.show_cursor(True))  # whenever it is interrupted
        with Bar(console=console, transient=True) as bar:
            task = bar.add_task(what, total=None)

            def update(done: int, total: int) -> None:
                bar.update(task, completed=done, total=total)

            yield update
    finally:
        held, _HELD = _HELD, None
        for text in held or ():
            click.echo(text, err=True)


def _describe(capture: Path, options: Mapping[str, Any]) -> None:
    """Print with ``--verbose`` what kind of capture a file is, and what it holds."""
    if level_of_detail() < 1:
        return
    from larkreader.capture.files.capture_file import CaptureFile

    with CaptureFile(capture, kind=options.get("kind"), form=options.get("form")) as file:
        held = f"signals {', '.join(file.signals())}" if file.holds_levels else "characters"
        how = "as given" if options.get("kind") else "found from its content"
        detail(f"{file.name}: {capture.stat().st_size:,} bytes, kind {file.kind} ({how}), holds {held}")


def read_with_progress(sheet: Sheet, capture: Path, *, sheet_name: str, **options: Any) -> Reading:
    """Read a capture against a sheet, with a progress bar if it is a large one."""
    from larkreader.answers.reading import read

    _describe(capture, options)
    large = capture.is_file() and capture.stat().st_size > PROGRESS_FROM
    with progress_of(f"reading {capture.name}", shown=large) as progress:
        reading = read(sheet, capture, progress=progress, workers=workers(), **options)
        return replace(reading, sheet_name=sheet_name)


def judge_large(declared: Sheet, sheet: Path, capture: Path, how: dict[str, Any]) -> SummedReading | None:
    """Judge a large capture stretch by stretch, with a progress bar; None if it is read as a whole."""
    from larkreader.answers.large import is_large_capture

    if not is_large_capture(declared, capture, how.get("kind"), how.get("form"), how.get("wire")):
        return None
    from larkreader.answers.capture_judge import TimesGoBackError
    from larkreader.answers.summed_reading import judge_capture

    try:
        with progress_of(f"reading {capture.name}", shown=True) as progress:
            summed = judge_capture(declared, capture, progress=progress, workers=workers(), **how)
    except TimesGoBackError as error:
        detail(f"read as a whole: {error.where} {error.found}")
        return None
    return replace(summed, sheet_name=str(sheet))


def workers() -> int:
    """Return how many processes may take part in reading a large capture: as many as there are processors for it."""
    from larkreader.processes import cores

    return min(cores(), MOST_WORKERS)
