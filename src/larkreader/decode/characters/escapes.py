"""Escape sequences in text: found, named, taken out.

Source: ECMA-48, 5th edition (1991): control functions in their 7-bit form (ESC and a byte of 40 to 5F) and in their
8-bit form (a byte of 80 to 9F), 5.3 to 5.6; names from 8.3. The sequences of type nF (ESC, intermediate bytes, a final
byte) are those of ECMA-35, 6th edition (1994), 13.2. A control string may also end with BEL, which is not part of the
standard but is often sent.

The 8-bit form exists only where the encoding has these control characters: as one byte in the ISO 8859 family, as C2
and a byte in UTF-8. In ASCII such bytes are not text, and in other encodings they are letters.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from typing import Literal, cast

EscapeKind = Literal["control-sequence", "control-string", "control-function", "designation", "private", "unfinished"]
LONGEST = 4096  # bytes of a control string; a longer string has lost its end

_UNFINISHED = "unfinished"


def _pattern_of(lead: bytes | None) -> re.Pattern[bytes]:
    """Return the pattern of sequences; with a lead, in their 8-bit form too, where the lead is before each control."""

    def either(second: bytes) -> bytes:
        """Write control characters, named by the second bytes of their 7-bit form, as what matches both forms."""
        eighth = b"" if lead is None else b"|" + lead + b"[" + bytes(item + 0x40 for item in second) + b"]"
        return b"(?:\x1b[" + re.escape(second) + b"]" + eighth + b")"

    content = b"[\x08-\x0d\x20-\x7e\xa0-\xff]" if lead == b"" else b"[\x08-\x0d\x20-\x7e\x80-\xff]"
    functions = bytes(item for item in range(0x40, 0x60) if item not in b"PX[]^_")
    return re.compile(
        b"(?P<control_sequence>" + either(b"[") + rb"[\x30-\x3f]*[\x20-\x2f]*[\x40-\x7e])"
        b"|(?P<control_string>" + either(b"PX]^_") + content + b"{0,%d}?(?:" % LONGEST + either(b"\\") + rb"|\x07))"
        b"|(?P<control_function>" + either(functions) + rb"|\x1b[\x60-\x7e])"
        rb"|(?P<designation>\x1b[\x20-\x2f]+[\x30-\x7e])"
        rb"|(?P<private>\x1b[\x30-\x3f])"
        b"|" + either(b"PX[]^_") + rb"|\x1b"
    )


@cache
def _pattern(encoding: str) -> re.Pattern[bytes]:
    """Return the pattern of sequences in an encoding."""
    try:
        control = "\x9b".encode(encoding)
    except (LookupError, UnicodeError):
        control = b""
    return _pattern_of(control[:-1] if control in (b"\x9b", b"\xc2\x9b") else None)


# Final bytes 40 to 6F of control sequences without intermediate bytes: ECMA-48, table 3
_FUNCTIONS = (
    "ICH CUU CUD CUF CUB CNL CPL CHA CUP CHT ED EL IL DL EF EA DCH SEE CPR SU SD NP PP CTC "
    "ECH CVT CBT SRS PTX SDS SIMD - HPA HPR REP DA VPA VPR HVP TBC SM MC HPB VPB RM SGR DSR DAQ"
)
# The same with the one intermediate byte 20 (space): ECMA-48, table 4
_FUNCTIONS_WITH_SPACE = (
    "SL SR GSM GSS FNT TSS JFY SPI QUAD SSU PFS SHS SVS IGS - IDCS PPA PPR PPB SPD DTA SLH SLL FNK SPQR SEF PEC SSW "
    "SACS SAPV STAB GCC TATE TALE TAC TCC TSR SCO SRCS SCS SLS SPH SPL SCP"
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
    "SL": "scroll left",
    "SR": "scroll right",
    "FNT": "font selection",
    "GSM": "graphic size modification",
    "NEL": "next line",
}
_BY_FINAL = dict(enumerate(_FUNCTIONS.split(), 0x40))
_BY_FINAL_WITH_SPACE = dict(enumerate(_FUNCTIONS_WITH_SPACE.split(), 0x40))
_BY_SECOND = {ord(byte): name for byte, name in zip(*[iter(f"{_TWO_BYTES} {_STRINGS}".split())] * 2, strict=True)}


@dataclass(frozen=True)
class Escape:
    """One escape sequence.

    Parameters
    ----------
    offset : int
        Number of its first byte: ESC, or the control character of its 8-bit form.
    data : bytes
        Its bytes, from the first on.
    kind : str
        ``"control-sequence"`` (ESC [ ...), ``"control-string"`` (ESC P, X, ], ^ or _, up to its terminator),
        ``"control-function"`` (ESC and one byte), ``"designation"`` (of a character set), ``"private"``, or
        ``"unfinished"``: one that begins none of these, or whose end is missing.
    name : str
        The standard's abbreviation, as ``"SGR"``; nothing where it names none.
    """

    offset: int
    data: bytes
    kind: EscapeKind
    name: str = ""

    def __str__(self) -> str:
        return f"{self.name} ({_NAMES[self.name]})" if self.name in _NAMES else self.name or self.kind


def find_escapes(data: bytes, encoding: str = "ascii") -> list[Escape]:
    r"""Find the escape sequences of a text.

    Parameters
    ----------
    data : bytes
        The text, in any encoding that has ASCII's control characters.
    encoding : str
        Which one: in ``"latin-1"`` and its family, and in ``"utf-8"``, the 8-bit form is found as well.

    Returns
    -------
    list of Escape
        In order; they do not overlap.

    Examples
    --------
    >>> [str(one) for one in lr.decode.find_escapes(b"\x1b[2J\x1b[1;31mflow\x1b[0m 12.5")]
    ['ED (erase in page)', 'SGR (select graphic rendition)', 'SGR (select graphic rendition)']
    >>> [str(one) for one in lr.decode.find_escapes(b"\x9b2Jflow\x9b3 A 12.5\x85", "latin-1")]
    ['ED (erase in page)', 'SR (scroll right)', 'NEL (next line)']
    """
    found = []
    for match in _pattern(encoding).finditer(data):
        kind = cast(EscapeKind, (match.lastgroup or _UNFINISHED).replace("_", "-"))
        found.append(Escape(match.start(), match.group(), kind, _name_of(match.group(), kind)))
    return found


def strip_escapes(data: bytes, encoding: str = "ascii") -> bytes:
    r"""Take the escape sequences out of a text; an unfinished one stays.

    Parameters
    ----------
    data : bytes
        The text.
    encoding : str
        As for `find_escapes`.

    Returns
    -------
    bytes
        The rest of the text.

    Examples
    --------
    >>> lr.decode.strip_escapes(b"\x1b[1;31mflow\x1b[0m 12.5")
    b'flow 12.5'
    """
    return _pattern(encoding).sub(lambda match: match.group() if match.lastgroup is None else b"", data)


def _name_of(found: bytes, kind: EscapeKind) -> str:
    begins = next(place for place, byte in enumerate(found) if byte != 0xC2)
    is_7_bit = found[0] == 0x1B
    second, rest = (found[1:2], found[2:]) if is_7_bit else (bytes([found[begins] - 0x40]), found[begins + 1 :])
    if kind == "control-sequence":
        if rest[:1] in (b"<", b"=", b">", b"?"):
            return ""  # private
        between = bytes(byte for byte in rest[:-1] if byte in range(0x20, 0x30))
        names = {b"": _BY_FINAL, b" ": _BY_FINAL_WITH_SPACE}.get(between, {})
        return names.get(rest[-1], "").strip("-")
    return _BY_SECOND.get(second[0], "") if kind in ("control-string", "control-function") else ""
