"""Every exception that Lark Reader raises on purpose.

Bad *data* is a finding, a bad *request* is one of these. Each carries its parts, so that a terminal, a JSON
document and a test need not take the sentence apart::

    LarkReaderError               what was declared, asked for or opened cannot be used
    |-- SheetError (ValueError)   a sheet, or a model made in Python, is wrong; `mistakes` lists all of them
    |-- CaptureError (ValueError) a capture cannot be read as what it was taken for
    |   `-- CaptureFileError (OSError)  its file cannot be opened or read at all
    |-- HeaderError (ValueError)  a C header cannot be read, or declares what no wire carries
    |-- PortError (OSError)       a port cannot be opened or used
    `-- RequestError (ValueError) an argument or an option makes no sense here
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any

from larkreader.harmless import harmless


class LarkReaderError(Exception):
    """What was declared, asked for or opened cannot be used.

    Parameters
    ----------
    where : str
        The place: a file, a key of a sheet, an argument.
    found : str
        What stands there.
    wanted : str, optional
        What could have stood there.
    advice : str, optional
        What to do about it.
    """

    def __init__(self, where: str, found: str, wanted: str = "", advice: str = "") -> None:
        super().__init__(where, found, wanted, advice)
        self.where = where
        self.found = found
        self.wanted = wanted
        self.advice = advice

    def __reduce__(self) -> tuple[Any, ...]:
        """Return what makes the same error again, in another process too."""
        return type(self), (self.where, self.found, self.wanted, self.advice)

    def __str__(self) -> str:
        sentences = [_sentence(f"{self.where} {self.found}")]
        if self.wanted:
            subject = "They" if self.found.startswith("are ") else "It"
            wanted = f"{subject} {self.wanted}" if self.wanted.startswith("must ") else self.wanted
            sentences.append(_sentence(wanted[0].upper() + wanted[1:]))
        if self.advice:
            sentences.append(_sentence(self.advice))
        return harmless(" ".join(sentences))


@dataclass(frozen=True)
class Mistake:
    """One mistake in a declaration.

    Parameters
    ----------
    where : str
        The place: a key of a sheet, a field of a model.
    found : str
        What stands there.
    wanted : str
        What could have stood there.
    advice : str
        What to do about it.
    """

    where: str
    found: str
    wanted: str = ""
    advice: str = ""

    def __str__(self) -> str:
        head = f"  {self.where}" + (f" = {self.found}" if self.found else "")
        body = " ".join(_sentence(text) for text in (self.wanted, self.advice) if text)
        return f"{head}\n      {body}"


class SheetError(LarkReaderError, ValueError):
    """A sheet cannot be used. All its mistakes are reported at once.

    Parameters
    ----------
    name : str
        The sheet's name.
    mistakes : sequence of Mistake
        All that is wrong with it.
    """

    def __init__(self, name: str, mistakes: Sequence[Mistake]) -> None:
        first = mistakes[0]
        super().__init__(first.where, first.found, first.wanted, first.advice)
        self.name = name
        self.mistakes: tuple[Mistake, ...] = tuple(mistakes)

    def __reduce__(self) -> tuple[Any, ...]:
        """Return what makes the same error again, in another process too."""
        return type(self), (self.name, self.mistakes)

    def __str__(self) -> str:
        count = len(self.mistakes)
        head = f"{self.name} cannot be used: {count} mistake{'' if count == 1 else 's'}."
        return harmless("\n".join([head, *map(str, self.mistakes)]))


class CaptureError(LarkReaderError, ValueError):
    """A capture cannot be read as what it was taken for."""


class CaptureFileError(CaptureError, OSError):
    """The file of a capture cannot be opened or read."""


class HeaderError(LarkReaderError, ValueError):
    """A C header cannot be read, or what it declares has no place on a wire."""


class PortError(LarkReaderError, OSError):
    """A port cannot be opened or used."""


class RequestError(LarkReaderError, ValueError):
    """An argument or an option makes no sense here."""


def nearest(name: str, known: Sequence[str]) -> str:
    """Return a sentence that names the `known` name nearest to `name`."""
    close = get_close_matches(name.lower(), [item.lower() for item in known], n=1, cutoff=0.6)
    if close:
        meant = next(item for item in known if item.lower() == close[0])
        return f'Did you mean "{meant}"?'
    if not known:
        return "There is none to choose from."
    shown = ", ".join(known[:12]) + (f" and {len(known) - 12} more" if len(known) > 12 else "")
    return f"There is: {shown}."


def _sentence(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else text + "."
