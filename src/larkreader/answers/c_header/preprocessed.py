"""A C header after its directives: conditions decided, macros replaced, other headers included.

That is as C11 has it (6.10), without ``#`` and ``##`` in macros. Headers in quotes are included from the folder of the
header that names them and from given folders; those in angle brackets are passed over, as a rule they hold nothing of a
struct but the types of `known_types`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from larkreader.errors import HeaderError

from .constants import value_of
from .tokens import MOST_CHARACTERS, Place, Token, refuse, token_lines

DEEPEST = 50  # headers within headers
MOST_TOKENS = 1_000_000
_PASSED_OVER = ("error", "warning", "ident", "line", "sccs")


@dataclass(frozen=True)
class Macro:
    """What a name stands for.

    Parameters
    ----------
    body : sequence of Token
        What it is replaced by.
    parameters : tuple of str, optional
        Of a macro that is called, the names of what it is called with.
    """

    body: Sequence[Token]
    parameters: tuple[str, ...] | None = None


@dataclass(frozen=True)
class Pragma:
    """A ``#pragma``, which takes effect where it stands among the words."""

    words: Sequence[Token]
    place: Place


@dataclass
class _Group:
    """What ``#if`` began: whether this part of it is read, and whether a part of it was."""

    place: Place
    reads: bool
    was_read: bool
    outer: bool


@dataclass
class Preprocessor:
    """Reads a header and what it includes.

    Parameters
    ----------
    folders : sequence of Path
        Where headers in quotes are looked for, beside the folder of the header that includes them.
    macros : mapping of str to Macro
        What is defined before the first line.
    """

    folders: Sequence[Path] = ()
    macros: dict[str, Macro] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)
    _once: set[Path] = field(default_factory=set)
    _room: int = MOST_CHARACTERS
    _count: int = 0

    def define(self, name: str, text: str) -> None:
        """Define a macro without parameters, as a compiler's option ``-D`` does."""
        place = f"the macro {name}"
        if not re.fullmatch(r"[A-Za-z_]\w*", name, re.ASCII):
            refuse("define", f'has "{name}"', "must be NAME or NAME=WORDS")
        words = [word for line in token_lines(text, place) for word in line]
        self.macros[name] = Macro(words)

    def read(self, path: Path, depth: int = 0) -> Iterator[Token | Pragma]:
        """Yield the words of a header, and pragmas where they stand.

        Raises
        ------
        HeaderError
            If it cannot be read, or a directive cannot be understood.
        """
        yield from self.words_of(_text_of(path), str(path) if depth == 0 else path.name, path.parent, depth)

    def words_of(self, text: str, file: str, folder: Path | None, depth: int = 0) -> Iterator[Token | Pragma]:
        """Yield the words of a header whose text is given; see `read`."""
        self._room -= len(text)
        if self._room < 0:
            refuse(file, "is too long", f"must have {MOST_CHARACTERS:,} characters at most, with what it includes")
        groups: list[_Group] = []
        waiting: list[Token] = []
        for line in token_lines(text, file):
            if line[0].text != "#":
                if not groups or groups[-1].reads:
                    waiting += line
                continue
            if len(line) == 1:
                continue
            reads = not groups or groups[-1].reads
            name, words = line[1].text, line[2:]
            if name in ("if", "ifdef", "ifndef", "elif", "else", "endif"):
                self._condition(groups, name, words, line[0].place)
            elif reads and name in ("define", "undef"):
                yield from self._expanded(waiting)
                waiting = []
                self._define(name, words, line[0].place)
            elif reads and name in ("include", "include_next", "import"):
                yield from self._expanded(waiting)
                waiting = []
                yield from self._include(words, line[0].place, folder, depth)
            elif reads and name == "pragma":
                yield from self._expanded(waiting)
                waiting = []
                if words and words[0].text == "once" and folder is not None:
                    self._once.add((folder / Path(file).name).resolve())
                else:
                    yield Pragma(words, line[0].place)
            elif reads and name == "error":
                refuse(line[0].place, f"is an #error: {_shown(words)}", advice="Define what it asks for")
            elif reads and name not in _PASSED_OVER and line[1].kind != "number":
                refuse(line[0].place, f"has the directive #{name}", "must be a directive of C")
        if groups:
            refuse(groups[-1].place, "has a condition that has no end", "must have an #endif")
        yield from self._expanded(waiting)

    def _condition(self, groups: list[_Group], name: str, words: Sequence[Token], place: Place) -> None:
        if name.startswith("if"):
            outer = not groups or groups[-1].reads
            reads = outer and self._holds(name, words, place)
            groups.append(_Group(place, reads, reads, outer))
            return
        if not groups:
            refuse(place, f"has an #{name} without an #if")
        group = groups[-1]
        if name == "endif":
            groups.pop()
        elif name == "else":
            group.reads, group.was_read = group.outer and not group.was_read, True
        else:
            group.reads = group.outer and not group.was_read and self._holds("if", words, place)
            group.was_read |= group.reads

    def _holds(self, name: str, words: Sequence[Token], place: Place) -> bool:
        if not words:
            refuse(place, f"has an #{name} without a condition")
        if name != "if":
            return (words[0].text in self.macros) == (name == "ifdef")
        decided = list(self._expanded(list(self._decided(words))))
        plain = [Token("0", "number", word.place) if word.kind == "word" else word for word in decided]
        return bool(value_of(plain, place))

    def _decided(self, words: Sequence[Token]) -> Iterator[Token]:
        """Yield a condition in which each ``defined`` is 1 or 0, and what only compilers know is 0."""
        at = 0
        while at < len(words):
            word = words[at]
            behind = [item.text for item in words[at + 1 : at + 4]]
            if word.text == "defined" and behind:
                in_brackets = behind[0] == "("
                name = behind[1] if in_brackets and len(behind) > 1 else behind[0]
                yield Token(str(int(name in self.macros)), "number", word.place)
                at += 4 if in_brackets else 2
            elif word.text.startswith("__has_") and behind[:1] == ["("]:
                end = _closing(words, at + 1)
                yield Token("0", "number", word.place)
                at = end + 1
            else:
                yield word
                at += 1

    def _define(self, name: str, words: Sequence[Token], place: Place) -> None:
        if not words or words[0].kind != "word":
            refuse(place, f"has a #{name} without a name")
        if name == "undef":
            self.macros.pop(words[0].text, None)
            return
        self.macros[words[0].text] = _macro_of(words, place)

    def _include(
        self, words: Sequence[Token], place: Place, folder: Path | None, depth: int
    ) -> Iterator[Token | Pragma]:
        named = list(self._expanded(list(words))) if words and words[0].kind == "word" else words
        if not named or named[0].kind != "text":
            self.missing.append(_shown(named).replace(" ", ""))
            return
        if depth >= DEEPEST:
            refuse(place, f"includes headers within headers, {DEEPEST} deep", "must come to an end")
        name = named[0].text[1:-1]
        for where in ([folder] if folder is not None else []) + list(self.folders):
            path = where / name
            if path.is_file():
                if path.resolve() not in self._once:
                    yield from self.read(path, depth + 1)
                return
        self.missing.append(named[0].text)

    def _expanded(self, words: Sequence[Token]) -> Iterator[Token]:
        """Yield words with their macros replaced."""
        for word in _Expansion(self.macros).expand(words, frozenset()):
            self._count += 1
            if self._count > MOST_TOKENS:
                refuse(word.place, f"gives more than {MOST_TOKENS:,} words", "must be shorter with its macros replaced")
            yield word


class _Expansion:
    """Macros replaced in a stretch of words, each not within itself, and not without end."""

    def __init__(self, macros: Mapping[str, Macro]) -> None:
        self.macros = macros
        self.left = MOST_TOKENS

    def expand(self, words: Sequence[Token], within: frozenset[str]) -> Iterator[Token]:
        at = 0
        while at < len(words):
            word = words[at]
            at += 1
            self.left -= 1
            if self.left < 0:
                refuse(word.place, f"gives more than {MOST_TOKENS:,} words", "must be shorter with its macros replaced")
            macro = self.macros.get(word.text) if word.kind == "word" else None
            if macro is None or word.text in within:
                yield word
                continue
            if len(within) >= DEEPEST:
                refuse(word.place, f"has macros within macros, {DEEPEST} deep")
            if macro.parameters is None:
                body = macro.body
            elif at < len(words) and words[at].text == "(":
                end = _closing(words, at)
                body = self._called(word, macro, words[at + 1 : end], within)
                at = end + 1
            else:
                yield word
                continue
            moved = [Token(item.text, item.kind, word.place) for item in body]
            yield from self.expand(moved, within | {word.text})

    def _called(self, name: Token, macro: Macro, given: Sequence[Token], within: frozenset[str]) -> list[Token]:
        """Return the body of a macro with what it is called with in place of its parameters."""
        assert macro.parameters is not None
        if any(item.text in ("#", "##") for item in macro.body):
            refuse(name.place, f"uses {name.text}, a macro with # or ##", "must have its words written out")
        parts = _parted(given) if given or macro.parameters else []
        wanted = len(macro.parameters)
        if macro.parameters[-1:] == ("__VA_ARGS__",):
            rest = [word for part in parts[wanted - 1 :] for word in [*part, _comma(name.place)]][:-1]
            parts = [*parts[: wanted - 1], rest]
        if len(parts) != wanted:
            refuse(name.place, f"calls {name.text} with {len(parts)}", f"must be with {wanted}")
        meant = {
            parameter: list(self.expand(part, within)) for parameter, part in zip(macro.parameters, parts, strict=True)
        }
        body: list[Token] = []
        for item in macro.body:
            body += meant.get(item.text, [item]) if item.kind == "word" else [item]
            if len(body) > self.left:
                refuse(name.place, f"gives more than {MOST_TOKENS:,} words", "must be shorter with its macros replaced")
        return body


def _macro_of(words: Sequence[Token], place: Place) -> Macro:
    if len(words) < 2 or words[1].text != "(" or not words[1].touches:
        return Macro(words[1:])
    end = _closing(words, 1)
    names = [word.text for word in words[2:end] if word.text != ","]
    if any(not re.fullmatch(r"\w+|\.\.\.", name) for name in names):
        refuse(place, f"defines {words[0].text} with parameters that are not names")
    return Macro(words[end + 1 :], tuple("__VA_ARGS__" if name == "..." else name for name in names))


def _closing(words: Sequence[Token], opening: int) -> int:
    """Return where the bracket that opens at a place closes."""
    depth = 0
    for at in range(opening, len(words)):
        depth += {"(": 1, ")": -1}.get(words[at].text, 0)
        if depth == 0:
            return at
    refuse(words[opening].place, 'has a "(" without its ")"')


def _parted(words: Sequence[Token]) -> list[list[Token]]:
    """Return words parted at the commas that stand in no brackets."""
    parts: list[list[Token]] = [[]]
    depth = 0
    for word in words:
        depth += {"(": 1, ")": -1}.get(word.text, 0)
        if word.text == "," and depth == 0:
            parts.append([])
        else:
            parts[-1].append(word)
    return parts


def _comma(place: Place) -> Token:
    return Token(",", "sign", place)


def _shown(words: Sequence[Token]) -> str:
    text = " ".join(word.text for word in words)
    return text if len(text) <= 80 else text[:77] + "..."


def _text_of(path: Path) -> str:
    try:
        with path.open("rb") as file:
            data = file.read(MOST_CHARACTERS + 1)
    except OSError as error:
        raise HeaderError(str(path), error.strerror or str(error), "must be a C header") from error
    if b"\0" in data:
        refuse(str(path), "has bytes that are 0", "must be text")
    return data.decode("utf-8", errors="replace")
