"""A sheet's TOML document, read. The only module of this stage that opens a file."""

from __future__ import annotations

import tomllib
from pathlib import Path

from larkreader.errors import Mistake, SheetError
from larkreader.sources import Source, SpooledPath, path_of

from .sheet import Sheet

SHIPPED = Path(__file__).parents[2] / "data"


def open_sheet(path: Source) -> Sheet:
    r"""Load a sheet.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The TOML file. What the sheet names lies in its folder, or in the current one for an open file.

    Returns
    -------
    Sheet
        The declared link.

    Raises
    ------
    SheetError
        If it cannot be read or used; `mistakes` lists everything that is wrong with it.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> path = pathlib.Path(tempfile.mkdtemp()) / "rig.toml"
    >>> written = path.write_text('sheet = 1\n[line]\nbaud = 57_600\nformat = "8E1"\n[wire.from_pump]\n')
    >>> str(lr.open_sheet(path).wire["from_pump"].line)
    '57600 8E1'
    """
    path = path_of(path)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise SheetError(str(path), [Mistake(str(path), "", "does not exist")]) from None
    except UnicodeDecodeError as error:
        raise SheetError(str(path), [Mistake(f"byte {error.start}", "", "is not UTF-8 text, which TOML is")]) from None
    except OSError as error:
        raise SheetError(str(path), [Mistake(str(path), "", f"cannot be read: {error.strerror}")]) from None
    folder = Path() if isinstance(path, SpooledPath) else path.parent
    return parse_sheet(text, name=str(path), folder=folder)


def open_shipped_sheet(name: str) -> Sheet:
    """Load one of the sheets that ship with us.

    Parameters
    ----------
    name : str
        ``rig``, the dosing rig's.

    Returns
    -------
    Sheet
    """
    return open_sheet(SHIPPED / f"{name}.toml")


def parse_sheet(text: str, *, name: str = "sheet", folder: str | Path = ".") -> Sheet:
    r"""Read a sheet from the text of its TOML document.

    Parameters
    ----------
    text : str
        The document.
    name : str
        What to call it in messages.
    folder : str or pathlib.Path
        Where the files that it names lie.

    Returns
    -------
    Sheet
        The declared link.

    Raises
    ------
    SheetError
        If it cannot be used; `mistakes` lists everything that is wrong with it.

    Examples
    --------
    >>> sheet = lr.parse_sheet('sheet = 1\n[wire.from_pump]\nline = { baud = 9600 }')
    >>> str(sheet.wire["from_pump"].line)
    '9600 8N1'
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        what, _, place = str(error).rpartition(" (at ")
        where = place.rstrip(")") if what else "the document"
        raise SheetError(name, [Mistake(where, "", f"is not TOML: {what or error}")]) from None
    except (RecursionError, ValueError) as error:
        what = "is nested too deeply" if isinstance(error, RecursionError) else f"is not TOML: {error}"
        raise SheetError(name, [Mistake("the document", "", f"{what}.")]) from None
    return Sheet.of_document(document, name, lambda file: (Path(folder) / file).read_bytes())
