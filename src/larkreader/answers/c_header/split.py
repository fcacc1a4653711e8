"""The declarations of a header, each by itself, with what ``#pragma pack`` is in force where a struct begins."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from larkreader.declare.common.byte_order import ByteOrder

from .preprocessed import Pragma
from .tokens import Place, Token, refuse, token_lines

ATTRIBUTE_WORDS = ("__attribute__", "__attribute", "__declspec", "_Alignas", "alignas")
STORAGE_ORDERS: Mapping[str, ByteOrder] = {"big-endian": "big", "little-endian": "little"}


@dataclass(frozen=True, slots=True)
class Opening(Token):
    """A bracket that opens a struct, with the pack and the byte order that hold there."""

    pack: int = 0
    order: ByteOrder | None = None

    @classmethod
    def of(cls, word: Token, pack: int, order: ByteOrder | None) -> Opening:
        """Return a bracket with what holds there."""
        return cls(word.text, word.kind, word.place, word.touches, pack, order)


def declarations(words: Iterable[Token | Pragma]) -> Iterator[list[Token]]:
    """Yield the words of each declaration of a header, without the bodies of functions.

    Parameters
    ----------
    words : iterable of Token or Pragma
        A header after its directives. Each bracket that opens a struct is given the ``pack`` that holds there.
    """
    packs = _Packs()
    held: list[Token] = []
    depth = 0
    skips = False  # the body of a function
    for word in _with_pragmas(words):
        if isinstance(word, Pragma):
            packs.apply(word.words, word.place)
            continue
        depth += {"{": 1, "}": -1}.get(word.text, 0)
        if skips:
            skips = depth > 0
            continue
        if depth < 0:
            refuse(word.place, 'has a "}" without its "{"')
        if word.text == "{" and depth == 1 and _is_function(held):
            skips, held = True, []
            continue
        held.append(Opening.of(word, packs.now, packs.order) if word.text == "{" else word)
        if word.text == ";" and depth == 0:
            if len(held) > 1:
                yield held
            held = []
    if held:
        refuse(held[0].place, "begins a declaration that has no end", 'must have a ";"')


def _with_pragmas(words: Iterable[Token | Pragma]) -> Iterator[Token | Pragma]:
    """Yield words and pragmas, those that ``_Pragma("...")`` gives too."""
    waiting: list[Token] = []
    for word in words:
        if isinstance(word, Token) and (waiting or word.text == "_Pragma"):
            waiting.append(word)
            if len(waiting) == 4:
                inner = waiting[2].text[1:-1].replace('\\"', '"')
                place = waiting[0].place
                yield Pragma([item for line in token_lines(inner, place.file) for item in line], place)
                waiting = []
        else:
            yield word


def _is_function(words: Sequence[Token]) -> bool:
    """Return whether a bracket behind these words opens the body of a function."""
    end = len(words)
    while end and words[end - 1].text == ")":
        begin, depth = end - 1, 0
        while begin >= 0:
            depth += {")": 1, "(": -1}.get(words[begin].text, 0)
            if depth == 0:
                break
            begin -= 1
        if begin <= 0 or words[begin - 1].text not in ATTRIBUTE_WORDS:
            return True
        end = begin - 1
    return False


@dataclass
class _Packs:
    """The state of ``#pragma pack`` and its kind."""

    now: int = 0
    order: ByteOrder | None = None
    stack: list[tuple[str, int]] = field(default_factory=list)

    def apply(self, words: Sequence[Token], place: Place) -> None:
        texts = [word.text for word in words]
        if texts[:1] == ["scalar_storage_order"]:
            self.order = STORAGE_ORDERS.get("".join(texts[1:]))
        if texts[:1] != ["pack"]:
            return
        if texts[1:2] != ["("] or texts[-1] != ")":
            refuse(place, f"has #pragma {' '.join(texts)}", "must be as #pragma pack(1)")
        given = [text for text in texts[2:-1] if text != ","]
        if given[:1] == ["push"]:
            name = given[1] if len(given) > 1 and not given[1].isdigit() else ""
            self.stack.append((name, self.now))
            self.now = self._size(given[-1], place) if given[-1].isdigit() else self.now
        elif given[:1] == ["pop"]:
            self._pop(given[1] if len(given) > 1 else "", place)
        else:
            self.now = self._size(given[0], place) if given else 0

    def _pop(self, name: str, place: Place) -> None:
        if not self.stack:
            refuse(place, "has a #pragma pack(pop) without its push")
        while self.stack:
            called, self.now = self.stack.pop()
            if not name or called == name:
                return

    def _size(self, text: str, place: Place) -> int:
        if text not in ("0", "1", "2", "4", "8", "16"):
            refuse(place, f"packs to {text}", "must be 1, 2, 4, 8 or 16 bytes")
        return int(text)
