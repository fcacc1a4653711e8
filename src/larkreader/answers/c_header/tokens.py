"""Words of a C header, each with its file and line: comments and joined lines are gone."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple, NoReturn

from larkreader.errors import HeaderError

MOST_CHARACTERS = 8 << 20  # of a header with all that it includes
JOINED = "\ue00a"  # of the private use area: stands where a line goes on in the next
_WORD = re.compile(
    r"""
    (?P<text>(?:L|u8|u|U)?"(?:[^"\\\n]|\\.)*")
  | (?P<char>(?:L|u|U)?'(?:[^'\\\n]|\\.)*')
  | (?P<word>[A-Za-z_$][\w$]*)
  | (?P<number>\.?\d(?:[eEpP][+-]|[\w.'])*)
  | (?P<sign><<=|>>=|\.\.\.|->|\+\+|--|<<|>>|<=|>=|==|!=|&&|\|\||\#\#|[-+*/%&|^]=|[^\s])
  | (?P<space>\s+)
    """,
    re.VERBOSE | re.ASCII,
)
_COMMENT = re.compile(r'/\*.*?\*/|//[^\n]*|"(?:[^"\\\n]|\\.)*"|\'(?:[^\'\\\n]|\\.)*\'', re.DOTALL)


class Place(NamedTuple):
    """Where something stands in a header."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}, line {self.line}"


@dataclass(frozen=True, slots=True)
class Token:
    """One word of C.

    Parameters
    ----------
    text : str
        What stands there.
    kind : str
        ``word``, ``number``, ``text``, ``char`` or ``sign``.
    place : Place
        Where.
    touches : bool
        Whether it follows the word before without a space.
    """

    text: str
    kind: str
    place: Place
    touches: bool = False


def refuse(place: Place | str, found: str, wanted: str = "", advice: str = "") -> NoReturn:
    """Raise `HeaderError` about a place of a header; what a terminal would act on is shown as an escape."""
    shown = "".join(letter if letter.isprintable() else ascii(letter)[1:-1] for letter in found)
    raise HeaderError(str(place), shown, wanted, advice)


def token_lines(text: str, file: str) -> Iterator[list[Token]]:
    """Yield the words of each line, where a line that ends in a backslash goes on in the next.

    Parameters
    ----------
    text : str
        The header.
    file : str
        What it is called in messages.

    Raises
    ------
    HeaderError
        If a comment or a text has no end.
    """
    number = 1
    joined = text.replace("\r\n", "\n").replace("\r", "\n").replace("\\\n", JOINED)
    plain = _COMMENT.sub(_without_comment, joined)
    begun = _COMMENT.sub("", plain).find("/*")
    if begun >= 0:
        refuse(file, 'has a "/*" without an end', 'must have a "*/" behind it')
    for line in plain.split("\n"):
        words = list(_words(line.replace(JOINED, ""), Place(file, number)))
        if words:
            yield words
        number += 1 + line.count(JOINED)


def _without_comment(found: re.Match[str]) -> str:
    """Return what stands in place of a comment: a space, and as many ends of lines as it has."""
    text = found[0]
    if not text.startswith("/"):
        return text
    return " " + "\n" * text.count("\n") + JOINED * text.count(JOINED)


def _words(line: str, place: Place) -> Iterator[Token]:
    touches = False
    for found in _WORD.finditer(line):
        if found.lastgroup != "space":
            yield Token(found[0], found.lastgroup or "", place, touches)
        touches = found.lastgroup != "space"
