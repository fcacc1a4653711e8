"""Escape sequences in text: found, named, taken out.

Source: ECMA-48, 5th edition (1991): control functions in their 7-bit form, 5.3 to 5.6; names from 8.3. The sequences
of type nF (ESC, intermediate bytes, a final byte) are those of ECMA-35, 6th edition (1994), 13.2. A control string may
also end with BEL, which is no part of the standard but is often sent.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal, cast

EscapeKind = Literal["control-sequence", "control-string", "control-function", "designation", "private", "unfinished"]
LONGEST = 4096  # bytes of a control string; a longer one has lost its end

_SEQUENCE = re.compile(
    rb"\x1b(?:"
    rb"(?P<control_sequence>\[[\x30-\x3f]*[\x20-\x2f]*[\x40-\x7e])"
    rb"|(?P<control_string>[PX\]^_][\x08-\x0d\x20-\x7e\x80-\xff]{0,%d}?(?:\x1b\\|\x07))"
    rb"|(?P<control_function>[\x40-\x4f\x51-\x57\x59\x5a\x5c\x60-\x7e])"
    rb"|(?P<designation>[\x20-\x2f]+[\x30-\x7e])"
    rb"|(?P<private>[\x30-\x3f])"
    rb")|\x1b" % LONGEST
)
# Final bytes 40 to 6F of control sequences without intermediate bytes: ECMA-48, table 3
_FUNCTIONS = (
    "ICH CUU CUD CUF CUB CNL CPL CHA CUP CHT ED EL IL DL EF EA DCH SEE CPR SU SD NP PP CTC "
    "ECH CVT CBT SRS PTX SDS SIMD - HPA HPR REP DA VPA VPR HVP TBC SM MC HPB VPB RM SGR DSR DAQ"
)
# ESC and one byte, without a string of their own: ECMA-48, tables 2b and 5
_TWO_BYTES = (
    "B BPH C NBH E NEL F SSA G ESA H HTS I HTJ J VTS K PLD L PLU M RI N SS2 O SS3 Q PU1 R PU2 S STS T CCH U MW V SPA "
    "W EPA Z SCI \\ ST ` DMI a INT b EMI c RIS d CMD n LS2 o LS3 | LS3R } LS2R ~ LS1R"
)
_STRINGS = "P DCS X SOS ] OSC ^ PM _ APC"
_NAMES = {
    "ICH": "insert character",
    "CUU": "cursor up",
    "CUD": "cursor down",
    "CUF": "cursor right",
    "CUB": "cursor left",
    "CUP": "cursor position",
    "HVP": "character and line position",
    "ED": "erase in page",
    "EL": "erase in line",
    "ECH": "erase character",
    "SGR": "select graphic rendition",
    "SM": "set mode",
    "RM": "reset mode",
    "DSR": "device status report",
    "CPR": "active position report",
    "DA": "device attributes",
}
_BY_FINAL = dict(enumerate(_FUNCTIONS.split(), 0x40))
_BY_SECOND = {ord(byte): name for byte, name in zip(*[iter(f"{_TWO_BYTES} {_STRINGS}".split())] * 2, strict=True)}


@dataclass(frozen=True)
class Escape:
    """One escape sequence.

    Parameters
    ----------
    offset : int
        Number of its first byte, ESC.
    data : bytes
        Its bytes, ESC among them.
    kind : str
        ``"control-sequence"`` (ESC [ ...), ``"control-string"`` (ESC P, X, ], ^ or _, up to its terminator),
        ``"control-function"`` (ESC and one byte), ``"designation"`` (of a character set), ``"private"``, or
        ``"unfinished"``: an ESC that begins none of these, or whose end is not there.
    name : str
        The standard's abbreviation, as ``"SGR"``; nothing where it names none.
    """

    offset: int
    data: bytes
    kind: EscapeKind
    name: str = ""

    def __str__(self) -> str:
        return f"{self.name} ({_NAMES[self.name]})" if self.name in _NAMES else self.name or self.kind


def find_escapes(data: bytes) -> list[Escape]:
    r"""Find the escape sequences of a text.

    Parameters
    ----------
    data : bytes
        The text, in any encoding that has ASCII's control characters.

    Returns
    -------
    list of Escape
        In order; they do not overlap.

    Examples
    --------
    >>> [str(one) for one in lr.find_escapes(b"\x1b[2J\x1b[1;31mflow\x1b[0m 12.5")]
    ['ED (erase in page)', 'SGR (select graphic rendition)', 'SGR (select graphic rendition)']
    """
    found = []
    for match in _SEQUENCE.finditer(data):
        kind = cast(EscapeKind, (match.lastgroup or "unfinished").replace("_", "-"))
        found.append(Escape(match.start(), match.group(), kind, _name_of(match.group(), kind)))
    return found


def strip_escapes(data: bytes) -> bytes:
    r"""Take the escape sequences out of a text. An ESC that begins none stays.

    Parameters
    ----------
    data : bytes
        The text.

    Returns
    -------
    bytes

    Examples
    --------
    >>> lr.strip_escapes(b"\x1b[1;31mflow\x1b[0m 12.5")
    b'flow 12.5'
    """
    return _SEQUENCE.sub(lambda match: match.group() if match.lastgroup is None else b"", data)


def _name_of(found: bytes, kind: EscapeKind) -> str:
    if kind == "control-sequence":
        has_intermediate, is_private = found[-2] in range(0x20, 0x30), found[2:3] in (b"<", b"=", b">", b"?")
        return "" if has_intermediate or is_private else _BY_FINAL.get(found[-1], "").strip("-")
    return _BY_SECOND.get(found[1], "") if kind in ("control-string", "control-function") else ""
