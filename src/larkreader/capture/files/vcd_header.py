"""The declarations of a VCD file (IEEE 1364-2005, clause 18): timescale, scopes and variables."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from larkreader.errors import CaptureError, nearest

from .content import Content

EXPONENTS = {b"s": 0, b"ms": -3, b"us": -6, b"ns": -9, b"ps": -12, b"fs": -15}
_KEYWORD = re.compile(rb"\s*\$(date|version|comment|timescale|scope|var|upscope|enddefinitions|attrbegin)\b", re.ASCII)
NOT_LEVELS = ("real", "realtime", "event", "parameter", "string")
LONGEST_HEADER = 64 << 20
_TIMESCALE = re.compile(rb"(1|10|100)\s*(s|ms|us|ns|ps|fs)")
_RANGE = re.compile(r"\[(-?[0-9]{1,9})(?::(-?[0-9]{1,9}))?\]$")
_SIZE = re.compile(r"[0-9]{1,9}")  # of a variable, in bits


@dataclass(frozen=True)
class Variable:
    """One declared variable: its code in the file, its width, and the bit numbers of a vector."""

    code: bytes
    kind: str
    size: int
    left: int | None = None
    right: int | None = None


@dataclass
class VcdHeader:
    """What the declarations say."""

    tick_s: float = 1.0
    variables: dict[str, Variable] = field(default_factory=dict)

    def find(self, signal: str, file_name: str) -> tuple[Variable, int]:
        """Return the variable that carries `signal`, and which of its bits counted from the lowest.

        Parameters
        ----------
        signal : str
            The full name with its scopes (``rig.pump_tx``), or as much of its end as makes it unique. A bit of a
            vector is named by its number (``rig.bus[3]``).
        file_name : str
            What to call the file in messages.

        Returns
        -------
        tuple of Variable and int

        Raises
        ------
        CaptureError
            If there is no such signal, several end like that, or it carries no single level.
        """
        found = self._named(signal, file_name)
        bit = 0
        if found is None and (match := _RANGE.search(signal)) and match[2] is None:
            found = self._named(signal[: match.start()].rstrip(), file_name)
            if found is not None:
                bit = _bit_place(found, int(match[1]), signal, file_name)
        if found is not None and found.kind in NOT_LEVELS:
            raise CaptureError(f'{file_name}: signal "{signal}"', f"is a {found.kind}, which has no logic level")
        if found is not None and found.size > 1 and not _RANGE.search(signal):
            raise CaptureError(
                f'{file_name}: signal "{signal}"',
                f"is a vector of {found.size} bits",
                f'name one bit of it, as in "{signal}[0]"',
            )
        if found is None:
            levels = [name for name, variable in self.variables.items() if variable.kind not in NOT_LEVELS]
            raise CaptureError(f'{file_name}: signal "{signal}"', "is not in the file", advice=nearest(signal, levels))
        return found, bit

    def one_bit_signals(self) -> list[str]:
        """Name the scalars and the vectors of one bit; bits of wider vectors must be named one by one."""
        return [
            name for name, variable in self.variables.items() if variable.kind not in NOT_LEVELS and variable.size == 1
        ]

    def _named(self, signal: str, file_name: str) -> Variable | None:
        if signal in self.variables:
            return self.variables[signal]
        ending = [name for name in self.variables if name.endswith("." + signal)]
        if len({self.variables[name] for name in ending}) > 1:
            raise CaptureError(
                f'{file_name}: signal "{signal}"', "is not unique", f"it could be {', '.join(ending[:6])}"
            )
        return self.variables[ending[0]] if ending else None


def is_vcd(head: bytes) -> bool:
    """Return whether a file that begins like this is a VCD file."""
    return _KEYWORD.match(head) is not None


def read_header(file: Content) -> VcdHeader:
    """Read the declarations and leave `file` at the byte behind them.

    Parameters
    ----------
    file : Content
        At its beginning.

    Returns
    -------
    VcdHeader

    Raises
    ------
    CaptureError
        If the declarations have no end, or one of them is not understood.
    """
    text = b""
    while (end := re.search(rb"\$enddefinitions\s+\$end\s", text + b" ")) is None:
        piece = file.read(1 << 16)
        if not piece or len(text) > LONGEST_HEADER:
            raise CaptureError(file.name, "is not a VCD file, or is cut off: its declarations have no $enddefinitions")
        text += piece
    file.seek(min(end.end(), len(text)))
    return _parse(text[: end.start()].split(), file.name)


def _parse(words: list[bytes], name: str) -> VcdHeader:
    header, scopes = VcdHeader(), list[str]()
    place = 0
    while place < len(words):
        keyword = words[place]
        try:
            end = words.index(b"$end", place)
        except ValueError:
            raise CaptureError(name, f"has a {keyword.decode('latin-1')} without $end in its declarations") from None
        body = words[place + 1 : end]
        if keyword == b"$timescale":
            match = _TIMESCALE.fullmatch(b" ".join(body))
            if not match:
                found = b" ".join(body).decode("latin-1")
                raise CaptureError(f"{name}: $timescale", f'is "{found}"', "must be 1, 10 or 100 of s to fs")
            header.tick_s = float(f"{int(match[1])}e{EXPONENTS[match[2]]}")
        elif keyword == b"$scope":
            scopes.append(body[-1].decode("latin-1") if body else "")
        elif keyword == b"$upscope" and scopes:
            scopes.pop()
        elif keyword == b"$var":
            _declare(header, scopes, [word.decode("latin-1") for word in body], name)
        place = end + 1
    return header


def _declare(header: VcdHeader, scopes: list[str], words: list[str], name: str) -> None:
    if len(words) < 4 or not _SIZE.fullmatch(words[1]):
        raise CaptureError(f"{name}: $var", f'is "{" ".join(words)}"', "must be type, size, code and name")
    kind, size, code = words[0], int(words[1]), words[2]
    reference = "".join(words[3:]).removeprefix("\\")
    left = right = None
    if (match := _RANGE.search(reference)) and (size > 1 or match[2] is not None):
        left = int(match[1])
        right = left if match[2] is None else int(match[2])
        reference = reference[: match.start()]
    header.variables[".".join([*scopes, reference])] = Variable(code.encode("latin-1"), kind, size, left, right)


def _bit_place(variable: Variable, number: int, signal: str, file_name: str) -> int:
    """Turn a bit number as declared into a place counted from the vector's last bit."""
    left, right = variable.left, variable.right
    if left is None or right is None:
        left, right = variable.size - 1, 0
    place = number - right if left >= right else right - number
    if not 0 <= place < variable.size:
        raise CaptureError(f'{file_name}: signal "{signal}"', f"has no bit {number}", f"it has bits {left} to {right}")
    return place
