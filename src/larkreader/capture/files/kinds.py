"""What kind of capture a file is, found from its content.

A file of mere bytes, samples or words looks like nothing in particular, so that somebody must say so: the sheet, an
option, or for bytes the ending of the name (``.bin``, ``.raw``, ``.dat``).
"""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

from larkreader.declare.run.capture_form import CaptureForm, CaptureKind
from larkreader.errors import CaptureError
from larkreader.sources import Source, path_of

from .byte_files import whole_pairs
from .content import Content, file_errors
from .csv_characters import CHARACTER_COLUMNS
from .csv_form import find_form
from .hex_text import is_hex
from .log import is_log
from .recording import is_recording
from .voltage_files import NPY_MAGIC, WAV_MAGIC, ZIP_MAGIC

BYTE_ENDINGS = (".bin", ".raw", ".dat")
LOOKED_AT = 1 << 16  # bytes from which the kind is found
TRACES = ("vcd", "levels", "voltages", "samples")  # kinds that hold levels
_VCD_KEYWORD = re.compile(
    rb"\s*\$(date|version|comment|timescale|scope|var|upscope|enddefinitions|attrbegin)\b", re.ASCII
)


def find_kind(path: Source, form: CaptureForm | None = None) -> CaptureKind:
    """Find from a file's content what kind of capture it is.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The file; one packed with gzip is looked into.
    form : CaptureForm, optional
        Its ``kind`` counts if the content does not tell; with its ``rate``, a table without times
        and a raw file are of samples.

    Returns
    -------
    str
        One of those that `open_capture` knows.

    Raises
    ------
    CaptureFileError
        If it cannot be opened.
    CaptureError
        If it is empty, or looks like none of these and does not end like a file of bytes.
    """
    path, form = path_of(path), form or CaptureForm()
    with file_errors(path), Content(path) as file:
        head = file.read(LOOKED_AT).removeprefix(b"\xef\xbb\xbf")
    if not head:
        raise CaptureError(str(path), "is empty", advice="Was anything recorded?")
    told = _from_content(path, head) or form.kind
    if told is None and form.rate is not None and (found := find_form(head, with_times=False)) is not None:
        told = found.holds
    if told is not None:
        return told
    ending = Path(path.stem if path.suffix == ".gz" else path).suffix.lower()
    if ending in BYTE_ENDINGS:  # bytes that were received have no rate
        return "bytes" if form.rate is None else "samples"
    if is_hex(whole_pairs(head)[0].decode("latin-1")):
        return "hex"
    begins = head[:16].decode("latin-1").encode("unicode_escape").decode()
    if ending == ".vcd":
        raise CaptureError(str(path), f'is not a VCD file: it begins with "{begins}"', "a VCD file begins with $")
    raise CaptureError(
        str(path),
        f'is no kind of capture that can be told from its content: it begins with "{begins}"',
        "must be a VCD file, a table that begins with a time, a WAV or NumPy file, or a log of bytes",
        "If it holds the bytes as they arrived, say --kind bytes; samples of levels, --kind samples and their --rate",
    )


def _from_content(path: Path, head: bytes) -> CaptureKind | None:
    """Return the kind of a file whose content tells it."""
    if _VCD_KEYWORD.match(head):
        return "vcd"
    if (head[:4] in WAV_MAGIC and head[8:12] == b"WAVE") or head.startswith(NPY_MAGIC):
        return "voltages"
    if head.startswith(ZIP_MAGIC):
        return _of_archive(path)
    if is_recording(head):
        return "recording"
    lines = [line for line in head.splitlines() if line.strip() and not line.startswith(b"#")]
    columns = [cell.strip() for cell in lines[0].decode("latin-1").split(",")] if lines else []
    if tuple(columns) == CHARACTER_COLUMNS:
        return "characters"
    if is_log(head):
        return "log"
    form = find_form(head)
    return None if form is None else form.holds


def _of_archive(path: Path) -> CaptureKind:
    """Return what an archive of NumPy arrays holds: traces as we write them, or samples."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = archive.namelist()
    except (zipfile.BadZipFile, NotImplementedError, ValueError, EOFError) as error:
        raise CaptureError(str(path), f"is a damaged NumPy file, or is cut off: {error}") from None
    if not names or not all(name.endswith(".npy") for name in names):
        raise CaptureError(str(path), f"is an archive of {', '.join(names[:3]) or 'nothing'}", "must hold NumPy arrays")
    return "levels" if any(name.endswith(".edges.npy") for name in names) else "voltages"
