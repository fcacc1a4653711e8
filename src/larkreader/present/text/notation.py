"""One value in every notation, and bytes as text of which each byte has a column of its own."""

from __future__ import annotations

import codecs
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from larkreader.errors import RequestError, nearest

Notation = Literal["hex", "decimal", "octal", "binary"]
DELETE = 0x7F

# ECMA-6 (ISO 646), 7.2, with the names of ECMA-48 for IS1 to IS4
CONTROLS = (
    ("NUL", "null"),
    ("SOH", "start of heading"),
    ("STX", "start of text"),
    ("ETX", "end of text"),
    ("EOT", "end of transmission"),
    ("ENQ", "enquiry"),
    ("ACK", "acknowledge"),
    ("BEL", "bell"),
    ("BS", "backspace"),
    ("HT", "character tabulation"),
    ("LF", "line feed"),
    ("VT", "line tabulation"),
    ("FF", "form feed"),
    ("CR", "carriage return"),
    ("SO", "shift out"),
    ("SI", "shift in"),
    ("DLE", "data link escape"),
    ("DC1", "device control one, XON"),
    ("DC2", "device control two"),
    ("DC3", "device control three, XOFF"),
    ("DC4", "device control four"),
    ("NAK", "negative acknowledge"),
    ("SYN", "synchronous idle"),
    ("ETB", "end of transmission block"),
    ("CAN", "cancel"),
    ("EM", "end of medium"),
    ("SUB", "substitute"),
    ("ESC", "escape"),
    ("IS4", "information separator four"),
    ("IS3", "information separator three"),
    ("IS2", "information separator two"),
    ("IS1", "information separator one"),
)
_DIGITS: dict[Notation, Callable[[int], int]] = {
    "hex": lambda bits: -(-bits // 4),
    "decimal": lambda bits: len(str((1 << bits) - 1)),
    "octal": lambda bits: -(-bits // 3),
    "binary": lambda bits: bits,
}
_FORMS: dict[Notation, str] = {"hex": "X", "decimal": "d", "octal": "o", "binary": "b"}


@dataclass(frozen=True)
class Notations:
    """One value of a character in every notation.

    Parameters
    ----------
    value : int
        The value.
    decimal, hex, octal, binary : str
        Its digits; all but the decimal digits are as many as the largest value needs.
    character : str
        What it prints: one column wide, a control picture for a control character, a middle dot for what is not ASCII.
    name : str
        What a control character is called; nothing for others.
    """

    value: int
    decimal: str
    hex: str
    octal: str
    binary: str
    character: str
    name: str = ""


def notations(value: int, bits: int = 8) -> Notations:
    """Write one value in every notation.

    Parameters
    ----------
    value : int
        0 to 2**bits - 1.
    bits : int
        Data bits of a character, 1 to 64.

    Returns
    -------
    Notations
        The value in each notation.

    Raises
    ------
    RequestError
        If the value does not fit.

    Examples
    --------
    >>> result = lr.notations(13)
    >>> result.decimal, result.hex, result.octal, result.binary, result.character, result.name
    ('13', '0D', '015', '00001101', '␍', 'CR carriage return')
    """
    if not 1 <= bits <= 64 or not 0 <= value < 1 << bits:
        raise RequestError(f"value {value}", f"does not fit into {bits} bits", f"must be 0 to {(1 << bits) - 1}")
    name = (
        " ".join(CONTROLS[value]) if value < len(CONTROLS) else {0x20: "SP space", DELETE: "DEL delete"}.get(value, "")
    )
    written = {notation: digits(value, notation, bits) for notation in _FORMS if notation != "decimal"}
    return Notations(value, str(value), written["hex"], written["octal"], written["binary"], picture(value), name)


def digits(value: int, notation: Notation, bits: int = 8) -> str:
    """Write a value in one notation, with as many digits as the largest one needs."""
    return f"{value:0{_DIGITS[notation](bits)}{_FORMS[notation]}}"


def digits_width(notation: Notation, bits: int = 8) -> int:
    """Return how many digits the largest value needs."""
    return _DIGITS[notation](bits)


def picture(value: int) -> str:
    """Return what shows a value in one column: itself, a control picture (U+2400 to U+2421), or a middle dot."""
    if value < len(CONTROLS):
        return chr(0x2400 + value)
    return "\u2421" if value == DELETE else chr(value) if value < DELETE else "\u00b7"


def check_encoding(encoding: str) -> str:
    """Return Python's name of an encoding.

    Raises
    ------
    RequestError
        If there is none, or it is not one of text.
    """
    try:
        found = codecs.lookup(encoding)
        "\u00b7".encode(found.name, errors="replace")
    except (LookupError, UnicodeError):
        known = ["ascii", "utf-8", "latin-1", "cp437", "cp850", "cp1252", "koi8-r", "shift-jis", "utf-16-le"]
        raise RequestError(f'encoding "{encoding}"', "is not known", advice=nearest(encoding, known)) from None
    return found.name


def cells_of(data: Sequence[int], encoding: str = "ascii", *, ascii_only: bool = False) -> list[str]:
    """Write characters as text in which each has a cell of its own.

    Parameters
    ----------
    data : sequence of int
        Values of characters; those beyond 255 have no text.
    encoding : str
        Any that Python knows. A letter of several bytes stands in the cell of its first; the others show a middle dot.
    ascii_only : bool
        Whether the terminal has nothing else; what is not ASCII is a full stop then.

    Returns
    -------
    list of str
        One for each; one column wide, but for wide letters, which take the next cell too.
    """
    if ascii_only:
        return [chr(item) if 0x20 <= item < DELETE else "." for item in data]
    encoding = check_encoding(encoding)
    cells = [picture(item) for item in data]
    if encoding == "ascii":
        return cells
    from rich.cells import cell_len

    decoder = codecs.getincrementaldecoder(encoding)(errors="replace")
    first = 0
    for place, item in enumerate(data):
        text = decoder.decode(bytes([item])) if item < 0x100 else ""
        if not text:
            continue
        letter = text[-1]
        if len(text) > 1 and "\ufffd" in text[:-1]:
            first = place  # what was begun before it was no letter
        if letter != "\ufffd" and letter.isprintable() and (place > first or not letter.isascii()):
            wide = cell_len(letter)
            cells[first : place + 1] = [letter if wide else "\u00b7"] + ["\u00b7"] * (place - first)
            if wide == 2 and place > first:
                cells[first + 1] = ""
        first = place + 1 - len(decoder.getstate()[0])  # what has begun and is not whole yet
    return cells


def visible(data: Sequence[int], *, encoding: str = "ascii", ascii_only: bool = False) -> str:
    r"""Write characters as text in which each is one column wide.

    Parameters
    ----------
    data : sequence of int
        Values of characters.
    encoding : str
        Any that Python knows.
    ascii_only : bool
        Whether to use nothing but ASCII.

    Returns
    -------
    str
        One column for each character.

    Raises
    ------
    RequestError
        If there is no such encoding.

    Examples
    --------
    >>> lr.present.visible(b"flow 12.5\r\n\0")
    'flow 12.5␍␊␀'
    """
    return "".join(cells_of(data, encoding, ascii_only=ascii_only))
