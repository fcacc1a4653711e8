"""What is printed where the encoding of a terminal or pipe lacks a letter: the nearest in ASCII, or its number."""

from __future__ import annotations

import codecs

PLAIN_LETTERS = "larkreader.plain_letters"
_NEAREST = {
    "\u00b5": "u", "\u03bc": "u", "\u00b1": "+-", "\u00b0": " deg", "\u03a9": "ohm", "\u00d7": "x", "\u2212": "-",
    "\u2013": "-", "\u2014": "-", "\u2026": "...", "\u00b7": ".", "\u2500": "-", "\u2502": "|", "\u2588": "#",
    "\u2591": ".", "\u2592": ":", "\u2593": "#",
}  # fmt: skip


def _plain(error: UnicodeError) -> tuple[str | bytes, int]:
    """Return ASCII for letters that cannot be encoded, and where to go on."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    letters = error.object[error.start : error.end]
    plain = [_NEAREST.get(letter) or letter.encode("ascii", "backslashreplace").decode() for letter in letters]
    return "".join(plain), error.end


codecs.register_error(PLAIN_LETTERS, _plain)
