"""Which captures are so large that their columns should not be held."""

from __future__ import annotations

from pathlib import Path

from larkreader.capture.files.capture_file import CaptureFile
from larkreader.declare.run.capture_form import CaptureForm, CaptureKind

LARGE_FROM = 32 << 20  # bytes of a file of characters that is judged without its columns


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
        if file.holds_levels:
            return False
        return not any(piece.has_line for piece in next(file.pieces_of_every_wire(), {}).values())
