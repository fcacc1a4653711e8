"""Emitted files on disk: written as a whole, and never over a file that was not emitted."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from larkreader.declare.document.sheet import Sheet
from larkreader.errors import RequestError
from larkreader.sources import write_whole

from .c_checksums import Way
from .c_source import MARKER, emit_c
from .c_values import Real


def write_c(
    folder: str | Path,
    sheet: Sheet,
    end: str | None = None,
    *,
    name: str = "link",
    checksums: Way = "table",
    values: Real | None = None,
) -> list[Path]:
    """Write the C of a sheet into a folder; see `emit_c`.

    Parameters
    ----------
    folder : str or pathlib.Path
        The folder, which is made if it is not there.
    sheet : Sheet
        What was declared.
    end : str, optional
        The end whose firmware it is.
    name : str
        What the files are called, and what every name in them begins with.
    checksums : {"table", "bits"}
        How CRCs are calculated.
    values : {"float", "double"}, optional
        Of which type values with a scale are, in a second struct of each frame.

    Returns
    -------
    list of pathlib.Path
        The files.

    Raises
    ------
    RequestError
        As `emit_c`; or if a file of such a name is there that was not emitted. Nothing is then written.

    Examples
    --------
    >>> import tempfile
    >>> sheet = lr.Sheet(wire={"tx": {}}, frame={"flow": {"boundary": {"kind": "cobs"}}})
    >>> [path.name for path in lr.write_c(tempfile.mkdtemp(), sheet, name="pump")]
    ['pump.h', 'pump.c']
    """
    files = emit_c(sheet, end, name=name, checksums=checksums, values=values)
    return write_files(Path(folder), files)


def write_files(folder: Path, files: Mapping[str, str]) -> list[Path]:
    """Write emitted files into a folder, each as a whole, or none of them.

    Parameters
    ----------
    folder : pathlib.Path
        The folder.
    files : mapping of str to str
        The text of each file, by its name.

    Raises
    ------
    RequestError
        If a file of such a name is there that does not begin as emitted files do.
    """
    for name in files:
        _check_ours(folder / name)
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in files.items():
        if not _holds(folder / name, text):
            write_whole(folder / name, text)
    return [folder / name for name in files]


def _check_ours(path: Path) -> None:
    try:
        with path.open(encoding="utf-8", errors="replace") as file:
            first = file.readline()
    except FileNotFoundError:
        return
    if MARKER not in first:
        found = "is there and was not emitted: its first line does not say so"
        raise RequestError(str(path), found, "must be an emitted file, or not there", "Choose another folder or name.")


def _holds(path: Path, text: str) -> bool:
    """Return whether a file holds a text already; it then keeps its time, for builds."""
    return path.is_file() and path.read_bytes() == text.encode()
