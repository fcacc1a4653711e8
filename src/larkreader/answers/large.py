"""Which captures are so large that their columns should not be held."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from larkreader.capture.files.capture_file import CaptureFile
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind

LARGE_FROM = 32 << 20  # bytes of a file that is judged without its columns


def is_large_capture(
    sheet: Sheet,
    path: Path,
    kind: CaptureKind | None = None,
    form: CaptureForm | None = None,
    wire: str | None = None,
) -> bool:
    """Return whether a capture is so large that its columns should not be held, and `judge_capture` can judge it.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    path : pathlib.Path
        The file.
    kind, form, wire
        As of `judge_capture`.

    Raises
    ------
    CaptureError
        If the capture cannot be read.
    RequestError
        If `wire` is not on the sheet.
    """
    if not path.is_file() or path.stat().st_size < LARGE_FROM:
        return False
    with CaptureFile(path, kind=kind, form=form) as file:
        return needs_whole(sheet, sheet.wires_named(wire)) is None if file.holds_levels else _is_stream(file)


def needs_whole(sheet: Sheet, wires: Iterable[str]) -> str | None:
    """Return a wire of which levels must be read whole, as it has a clear-to-send signal; None if there is none."""
    return next((wire for wire in wires if sheet.wire[wire].clear_to_send), None)


def is_large_stream(path: Path, kind: CaptureKind | None = None, form: CaptureForm | None = None) -> bool:
    """Return whether a capture is so large that its columns should not be held, and holds nothing but characters.

    Parameters
    ----------
    path : pathlib.Path
        The file.
    kind : str, optional
        As of `judge_capture`.
    form : CaptureForm, optional
        As of `judge_capture`.

    Raises
    ------
    CaptureError
        If the capture cannot be read.
    """
    if not path.is_file() or path.stat().st_size < LARGE_FROM:
        return False
    with CaptureFile(path, kind=kind, form=form) as file:
        return not file.holds_levels and _is_stream(file)


def _is_stream(file: CaptureFile) -> bool:
    """Return whether none of the first characters of a file were received from levels."""
    return not any(piece.has_line for piece in next(file.pieces_of_every_wire(), {}).values())
