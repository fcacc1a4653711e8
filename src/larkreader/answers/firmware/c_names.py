"""Names of the sheet as names in C: letters, digits and "_", no word of the language, none of them twice."""

from __future__ import annotations

import re
from collections.abc import Iterable

# ISO/IEC 9899:1999, 6.4.1; those of C++ too (ISO/IEC 14882:2020, 5.11), as headers are often included there.
KEYWORDS = frozenset(
    (  # noqa: SIM905  # a hundred words, in rows
        "auto break case char const continue default do double else enum extern float for goto if inline int long "
        "register restrict return short signed sizeof static struct switch typedef union unsigned void volatile "
        "while bool true false asm alignas alignof and and_eq bitand bitor catch char8_t char16_t char32_t class "
        "compl concept const_cast consteval constexpr constinit co_await co_return co_yield decltype delete "
        "dynamic_cast explicit export friend mutable namespace new noexcept not not_eq nullptr operator or or_eq "
        "private protected public reinterpret_cast requires static_assert static_cast template this thread_local "
        "throw try typeid typename using virtual wchar_t xor xor_eq "
    ).split()
)


def c_word(text: str) -> str:
    """Return a text as a word of C: what is neither a letter of ASCII nor a digit becomes "_", or its code point.

    Parameters
    ----------
    text : str
        A name on the sheet, or the name of its file.
    """
    word = "".join(
        char if re.match(r"[A-Za-z0-9_]", char) else f"u{ord(char):04X}" if char.isalpha() else "_" for char in text
    )
    word = re.sub(r"__+", "_", word).lstrip("_")  # "__" and a leading "_" are the compiler's
    if not word or word[0].isdigit():
        word = f"n{word}"
    return word


def comment(text: str) -> str:
    """Return a text as it may stand in a comment: of one line, in ASCII, without the end of a comment.

    Parameters
    ----------
    text : str
        A title, a unit, a note.
    """
    plain = re.sub(r"\s+", " ", text).encode("ascii", errors="backslashreplace").decode()
    return plain.replace("*/", "* /").replace("/*", "/ *").replace("\\", "/").replace("??", "? ?")


class Names:
    """The names of one scope, each given once.

    Parameters
    ----------
    taken : iterable of str
        What cannot be given.
    """

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = {*KEYWORDS, *taken}

    def __contains__(self, name: str) -> bool:
        return name in self._taken

    def give(self, text: str, *, behind: tuple[str, ...] = ("",)) -> str:
        """Return a name for a text that nothing else in the scope has; with a number behind it where needed.

        Parameters
        ----------
        text : str
            What to name.
        behind : tuple of str
            What will be appended to the name to make others, none of which may be taken either.
        """
        word = c_word(text)
        tried, number = word, 1
        if tried in KEYWORDS:
            tried = f"{word}_"
        while any(f"{tried}{end}" in self._taken for end in behind):
            number += 1
            tried = f"{word}_{number}"
        self._taken |= {f"{tried}{end}" for end in behind}
        return tried
