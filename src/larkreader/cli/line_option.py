"""The option ``--line``: line settings instead of a sheet."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from .common import InputFile, naming, note
from .forms import KEYS, form_of, given_in

if TYPE_CHECKING:
    from larkreader.declare.link.line import LineSettings
    from larkreader.declare.run.capture_form import CaptureKind

WRITE = 'Write SHEET CAPTURE, or --line "57600 8N1" CAPTURE'
_Command = TypeVar("_Command", bound=Callable[..., Any])

MOST_NAMED = 12  # signals in a note


class _Text(io.BytesIO):
    """The text of a sheet, by the name that messages give it."""

    def __init__(self, text: str, name: str) -> None:
        super().__init__(text.encode())
        self.name = name


def sheet_and_capture(command: _Command) -> _Command:
    """Add the arguments SHEET and CAPTURE to a command with `form_options`, and ``--line`` in the place of SHEET."""

    @click.argument("files", nargs=-1, required=True, metavar="[SHEET] CAPTURE", type=InputFile())
    @line_options
    @wraps(command)
    def with_files(files: tuple[Path, ...], settings: str | None, signals: tuple[str, ...], **options: Any) -> Any:
        from larkreader.errors import RequestError

        wanted, advice = (2, WRITE) if settings is None else (1, "With --line, leave out SHEET")
        if len(files) < wanted:
            raise RequestError("SHEET or CAPTURE", "is missing", advice=WRITE)
        if len(files) > wanted:
            raise RequestError(f'"{files[-1]}"', "is an argument too many", advice=advice)
        if settings is None and files[1].suffix == ".toml" != files[0].suffix:
            raise RequestError(f'"{files[1]}"', "is a sheet, in the place of the capture", advice=WRITE)
        capture = files[-1]
        if settings is None:
            refuse_signals(signals)
            sheet = files[0]
        else:
            sheet = sheet_of_settings(capture, settings, signals, options["kind"], given_in(options))
        return command(sheet=sheet, capture=capture, **options)

    return with_files  # type: ignore[return-value]  # takes what the command takes, but for its files


def line_options(command: _Command) -> _Command:
    """Add ``--line`` and ``--signal`` to a command, which gets them as ``settings`` and ``signals``."""
    add_signal = click.option(
        "--signal", "signals", metavar="NAME", multiple=True, help="With --line: read this signal; may be repeated."
    )
    add_line = click.option(
        "--line", "settings", metavar="SETTINGS", help='Line settings instead of SHEET, as in "57600 8N1".'
    )
    return add_line(add_signal(command))


def refuse_signals(signals: Sequence[str]) -> None:
    """Raise `RequestError` if signals are named where a sheet does that."""
    from larkreader.errors import RequestError

    if signals:
        raise RequestError("--signal", "goes with --line", advice="With a sheet, use --wire")


def sheet_of_settings(
    capture: Path, settings: str, signals: Sequence[str], kind: CaptureKind | None, given: dict[str, Any]
) -> Path:
    """Return the path of a sheet for line settings that stand alone."""
    from larkreader.answers.proposed_sheet import sheet_of_line
    from larkreader.declare.document.sheet_text import sheet_text
    from larkreader.sources import path_of

    line = line_of(settings)
    with naming(*KEYS):
        found = sheet_of_line(capture, line, signals=signals, kind=kind, form=form_of(None, given))
    if found.silent:
        names, more = found.silent[:MOST_NAMED], len(found.silent) - MOST_NAMED
        silent = ", ".join(names) + (f" and {more:,} more" if more > 0 else "")
        note(f"note: nothing happens on {silent}: left out; --signal NAME reads a signal all the same")
    return path_of(_Text(sheet_text(found.sheet), f'--line "{line}"'))


def line_of(settings: str) -> LineSettings:
    """Return line settings as typed; a baud alone has 8 data bits, no parity and 1 stop bit, and a note says so."""
    from larkreader.declare.link.line import LineSettings

    if settings.replace("_", "").isdigit():
        settings = f"{settings} 8N1"
        note(f"note: --line is read as {settings}")
    return LineSettings.parse(settings)
