"""Declarations of a header, each as plain C99 for a parser, with what compilers' own words say about them set aside.

A struct with attributes, or under a ``#pragma pack``, gets a last member that names its attributes by number; a member
with attributes has such a member before it; an enum such a last value. `MARK` begins their names.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from larkreader.declare.common.byte_order import ByteOrder

from .constants import check_depth, value_of
from .split import ATTRIBUTE_WORDS, STORAGE_ORDERS, Opening
from .tokens import Place, Token, refuse

MARK = "larkreader_attributes_"
_RECORDS = ("struct", "union", "enum")
_WITHOUT_EFFECT = frozenset(
    [
        "__extension__",
        "__inline",
        "__inline__",
        "__forceinline",
        "__restrict",
        "__restrict__",
        "__volatile__",
        "__volatile",
        "__const",
        "__const__",
        "__IO",
        "__I",
        "__O",
        "__IM",
        "__OM",
        "__IOM",
        "__flash",
        "__far",
        "__near",
        "PROGMEM",
        "_Noreturn",
        "__cdecl",
        "__stdcall",
    ]
)
_OTHER_WORD = {"__signed__": "signed", "__signed": "signed", "__int64": "long long", "__alignof__": "_Alignof"}
_REFUSED = ("mode", "vector_size", "ms_struct", "gcc_struct", "transparent_union", "bitwidth")


@dataclass(frozen=True)
class Attributes:
    """What compilers' own words say about a struct, an enum or a member.

    Parameters
    ----------
    packed : bool
        Whether nothing in it is aligned.
    aligned : int
        To how many bytes it is aligned at least; 0 for its own.
    pack : int
        To how many bytes its members are aligned at most, by ``#pragma pack``; 0 for their own.
    order : {"little", "big"}, optional
        The byte order of its numbers, where that is not the chip's.
    """

    packed: bool = False
    aligned: int = 0
    pack: int = 0
    order: ByteOrder | None = None

    def joined(self, other: Attributes) -> Attributes:
        """Return these and other attributes together."""
        return Attributes(
            self.packed or other.packed, max(self.aligned, other.aligned), other.pack or self.pack,
            other.order or self.order,
        )  # fmt: skip


NONE = Attributes()


@dataclass(frozen=True)
class Declaration:
    """One declaration of a header.

    Parameters
    ----------
    words : list of Token
        It, as C99.
    attributes : list of Attributes
        Those that its marks name by number.
    notes : list of str
        What compilers ignore in it.
    """

    words: Sequence[Token]
    attributes: Sequence[Attributes]
    notes: Sequence[str]

    @property
    def place(self) -> Place:
        """Where it begins."""
        return self.words[0].place


def rewritten(words: Sequence[Token]) -> Declaration:
    """Return a declaration as C99, with its attributes beside it.

    Raises
    ------
    HeaderError
        If an attribute cannot be understood.
    """
    check_depth(words)
    stray = next((word for word in words if word.text in ("#", "##")), None)
    if stray is not None:
        refuse(stray.place, f"has a {stray.text} within a line", "must be without it")
    return _Rewriting(words).result()


@dataclass
class _Mark:
    """A place for attributes among the words: of a member before it, of a struct or an enum at its end."""

    place: Place
    in_enum: bool = False
    attributes: Attributes = NONE


class _Rewriting:
    """One pass over the words of a declaration."""

    def __init__(self, words: Sequence[Token]) -> None:
        self.words, self.at = words, 0
        self.out: list[Token | _Mark] = []
        self.notes: list[str] = []
        self.open: list[_Mark | None] = []  # of each bracket that is open, the mark at its end
        self.members: list[_Mark | None] = [None]  # of each, the mark of the member that was begun
        self.closed: _Mark | None = None  # of the struct whose bracket was just closed
        self.ahead = NONE  # of the struct whose bracket is still to open
        self.in_head = False  # between a struct's keyword and its bracket

    def result(self) -> Declaration:
        while self.at < len(self.words):
            word = self.words[self.at]
            self.at += 1
            if word.text in ATTRIBUTE_WORDS or (word.text == "[" and self._next_is("[")):
                self._put(word, self._attributes(word))
            elif word.text in ("__packed", "__PACKED"):
                self.ahead = replace(self.ahead, packed=True) if not self._is_member() else self.ahead
                if self._is_member():
                    self._put(word, Attributes(packed=True))
            elif word.text in ("asm", "__asm", "__asm__") and self._next_is("("):
                self.at = _behind(self.words, self.at)
            elif word.text not in _WITHOUT_EFFECT:
                self._word(word)
        return self._finished()

    def _next_is(self, text: str) -> bool:
        return self.at < len(self.words) and self.words[self.at].text == text

    def _is_member(self) -> bool:
        """Return whether a ``__packed`` that stands here is about a member, and not about a struct that follows."""
        behind = next((word.text for word in self.words[self.at :] if word.text in ("{", ";")), "")
        return behind != "{" and self.members[-1] is not None

    def _word(self, word: Token) -> None:
        text = word.text
        if text in _RECORDS:
            self.in_head = True
        elif text == "{":
            self._opening(word)
            return
        elif text == "}":
            self._closing(word)
            return
        elif not self._is_keyword_before():  # what follows the keyword is its tag, and ends no head
            self.in_head = False
        self.closed = None
        if text in _OTHER_WORD:
            self.out += [Token(part, "word", word.place) for part in _OTHER_WORD[text].split()]
        else:
            self.out.append(word)
        if text == ";" and self.open and self.open[-1] is not None:
            self.members[-1] = self._mark(word.place)

    def _is_keyword_before(self) -> bool:
        return bool(self.out) and isinstance(self.out[-1], Token) and self.out[-1].text in _RECORDS

    def _mark(self, place: Place) -> _Mark:
        mark = _Mark(place)
        self.out.append(mark)
        return mark

    def _opening(self, word: Token) -> None:
        kind = next((item.text for item in reversed(self.out) if isinstance(item, Token) and item.text in _RECORDS), "")
        self.out.append(word)
        if not self.in_head:  # of an initial value
            self.open.append(None)
            self.members.append(None)
            return
        pack = Attributes(pack=word.pack, order=word.order) if isinstance(word, Opening) else NONE
        self.open.append(_Mark(word.place, kind == "enum", self.ahead if kind == "enum" else pack.joined(self.ahead)))
        self.members.append(None if kind == "enum" else self._mark(word.place))
        self.ahead, self.in_head = NONE, False

    def _closing(self, word: Token) -> None:
        if not self.open:
            refuse(word.place, 'has a "}" without its "{"')
        mark = self.open.pop()
        self.members.pop()
        if mark is not None:
            self.out.append(mark)
        self.out.append(word)
        self.closed, self.in_head = mark, False

    def _put(self, word: Token, found: Attributes) -> None:
        """Give attributes to what they stand at."""
        if self.in_head:
            self.ahead = self.ahead.joined(found)
        elif self.closed is not None:
            self.closed.attributes = self.closed.attributes.joined(found)
        elif self.members[-1] is not None:
            member = self.members[-1]
            member.attributes = member.attributes.joined(found)
        elif found.packed:
            self.notes.append(
                f'{word.place}: compilers ignore "packed" where it stands; it belongs behind "struct", or behind "}}"'
            )

    def _attributes(self, word: Token) -> Attributes:
        """Take the attributes that begin with a word."""
        begin = self.at if word.text != "[" else self.at - 1
        end = _behind(self.words, begin)
        self.at = end
        inner = list(self.words[begin + 1 : end - 1])
        if word.text in ("_Alignas", "alignas"):
            return Attributes(aligned=value_of(inner, word.place))
        if inner and inner[0].text in "([":
            inner = inner[1:-1]
        found = NONE
        at = 0
        while at < len(inner):
            name = inner[at].text.strip("_")
            at += 1
            given: list[Token] = []
            if at < len(inner) and inner[at].text == "(":
                close = _behind(inner, at)
                given, at = inner[at + 1 : close - 1], close
            found = found.joined(_attribute(name, given, word.place))
        return found

    def _finished(self) -> Declaration:
        words: list[Token] = []
        attributes: list[Attributes] = []
        for item in self.out:
            if isinstance(item, Token):
                words.append(item)
            elif item.attributes != NONE:
                name = Token(f"{MARK}{len(attributes)}", "word", item.place)
                attributes.append(item.attributes)
                if not item.in_enum:
                    words += [Token("char", "word", item.place), name, Token(";", "sign", item.place)]
                else:
                    words += [name] if words[-1].text in ",{" else [Token(",", "sign", item.place), name]
        return Declaration(words, attributes, self.notes)


def _attribute(name: str, given: Sequence[Token], place: Place) -> Attributes:
    if name == "packed":
        return Attributes(packed=True)
    if name in ("aligned", "align"):
        return Attributes(aligned=value_of(given, place) if given else 8)
    if name == "scalar_storage_order":
        text = given[0].text.strip('"') if given else ""
        if text not in STORAGE_ORDERS:
            refuse(place, f"has the storage order {text}", f"must be {' or '.join(STORAGE_ORDERS)}")
        return Attributes(order=STORAGE_ORDERS[text])
    if name in _REFUSED:
        refuse(place, f"has the attribute {name}", "must be without it, to be compared")
    return NONE


def _behind(words: Sequence[Token], opening: int) -> int:
    """Return the place behind the bracket that closes an opening bracket."""
    depth = 0
    for at in range(opening, len(words)):
        depth += {"(": 1, "[": 1, ")": -1, "]": -1}.get(words[at].text, 0)
        if depth == 0:
            return at + 1
    refuse(words[opening - 1].place, "has a bracket that does not close")
