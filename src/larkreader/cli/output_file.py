"""Files that a command writes, ``-`` for standard output."""

from __future__ import annotations

import shutil
import sys
import tempfile
from contextlib import ExitStack, redirect_stdout
from pathlib import Path
from typing import Any, BinaryIO

import click

from .interrupts import PipeClosedError

PIECE = 1 << 16  # bytes that are written at once
STANDARD_OUTPUT = "larkreader.cli.standard_output"  # in what click remembers of a command: whether a file goes there


class OutputFile(click.Path):
    """A file to write; ``-`` is standard output, and tables then go to standard error.

    Parameters
    ----------
    ending : str
        What standard output gets, as the ending of a file: ``.csv``.
    """

    def __init__(self, ending: str) -> None:
        super().__init__(path_type=Path, allow_dash=True)
        self.ending = ending

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the path of the file; for standard output, of one that is copied there in the end."""
        if value in ("-", Path("-")) and ctx is not None and not ctx.resilient_parsing:
            return standard_output(self.ending)
        return super().convert(value, param, ctx)


def standard_output(ending: str) -> Path:
    """Return the path of a file that is copied to standard output when the command is over.

    Raises
    ------
    RequestError
        If another file goes to standard output already.
    """
    from larkreader.errors import RequestError
    from larkreader.sources import SpooledPath

    context = click.get_current_context()
    if context.meta.get(STANDARD_OUTPUT):
        raise RequestError("-", "is standard output, which was named already", "One file can go there")
    context.meta[STANDARD_OUTPUT] = True
    folder = Path(tempfile.mkdtemp(prefix="larkreader-"))
    path: Path = SpooledPath(folder, f"output{ending}")
    path.shown = "standard output"  # type: ignore[attr-defined]  # of a spooled path
    true_output = sys.stdout.buffer
    tables = ExitStack()
    tables.enter_context(redirect_stdout(sys.stderr))

    def finish() -> None:
        tables.close()
        try:
            if path.exists():
                _copy(path, true_output)
        except BrokenPipeError as gone:
            raise PipeClosedError from gone
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    context.call_on_close(finish)
    return path


def _copy(path: Path, output: BinaryIO) -> None:
    """Copy a file to a stream, which may take a part of what it is given if it is not buffered."""
    with path.open("rb") as written:
        while piece := written.read(PIECE):
            while piece:
                piece = piece[output.write(piece) :]
    output.flush()
