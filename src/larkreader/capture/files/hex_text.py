"""Bytes as people paste them: dumps with offsets and a text column, ``od``, debuggers, C arrays, bare hexadecimal.

What a line begins with may be an offset: then it must be the number of bytes before it, in hexadecimal, octal or
decimal, whichever fits all lines. A line that holds nothing but ``*`` stands for lines like the line above it (POSIX
``od``); the next offset gives how many.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise

from larkreader.errors import CaptureError

_C_COMMENT = re.compile(r"/\*.*?\*/|//[^\n]*", re.DOTALL)
_C_BODY = re.compile(r"\{([^{}]*)(?:\}|\Z)")
_C_BETWEEN = re.compile(r"[\s,]+")
_OFFSET = re.compile(r"(?:0[xX])?([0-9A-Fa-f]{4,16})(?:\s*<[^<>]*>)?:?(?:\s|$)")  # a debugger may name the symbol
_WORD = re.compile(r"(?:[0-9A-Fa-f]{2})+")
_PREFIXED = re.compile(r"0[xX]([0-9A-Fa-f]{1,2})")
_OCTAL = re.compile(r"[0-3][0-7]{2}")
_BETWEEN = re.compile(r"[\s,;:_|-]+")
BASES = (16, 8, 10)
HALF_ROW, WIDEST_GAP = 8, 3  # bytes behind which some dumps leave a gap, and how wide it may be
WIDE = 6  # digits of an offset that need no colon
C_SHARE = 0.25  # of a text that arrays must take for it to be one of them
MOST_REPEATED = 1 << 28  # bytes that a line of * may stand for


def read_hex(text: str, name: str) -> bytes:
    """Read bytes that are written as text.

    Parameters
    ----------
    text : str
        What was pasted.
    name : str
        What to call it in messages.

    Returns
    -------
    bytes

    Raises
    ------
    CaptureError
        If a line holds something else, or an offset does not fit the bytes before it; the message names the line.
    """
    arrays = _c_arrays(text)
    if arrays:
        return bytes(int(item, 16) for item in _C_BETWEEN.split(" ".join(arrays).strip(", \n\t\r")) if item)
    lines = [line for line in enumerate(text.splitlines(), 1) if line[1].strip() and not line[1].startswith("#")]
    matches = [_OFFSET.match(line.strip()) for _, line in lines if line.strip() != "*"]
    offsets = [match for match in matches if match is not None]
    if offsets and len(offsets) == len(matches) and _can_be_offsets(offsets):
        try:
            return _with_offsets(lines, name)
        except CaptureError:
            if _are_offsets(offsets):
                raise
    return read_bare_hex(text, name)


def read_bare_hex(text: str, name: str, number: int = 1) -> bytes:
    """Read bytes that are written as pairs of hexadecimal digits, without offsets.

    Parameters
    ----------
    text : str
        Whole lines.
    name : str
        What to call it in messages.
    number : int
        The number of its first line.

    Returns
    -------
    bytes

    Raises
    ------
    CaptureError
        If a line holds something else; the message names the line.
    """
    try:
        return bytes.fromhex(text)  # nothing but pairs and white space
    except ValueError:
        lines = enumerate(text.splitlines(), number)
        return b"".join(_pairs(line, place, name) for place, line in lines if line.strip() and not line.startswith("#"))


def has_line_without_offset(text: str) -> bool:
    """Return whether a line holds bytes, and surely no offset before them."""
    lines = (line.strip() for line in text.splitlines() if line.strip() and not line.startswith("#"))
    return any(line != "*" and _OFFSET.match(line) is None for line in lines)


def is_hex(head: str) -> bool:
    """Return whether a text that begins like this is bytes written as text."""
    head = head.rsplit("\n", 1)[0] if head.count("\n") > 1 else head
    plain = _C_COMMENT.sub("", head)
    if arrays := _c_arrays(head):
        return sum(map(len, arrays)) > C_SHARE * len(plain)
    try:
        return len(read_hex(head, "")) > 0
    except CaptureError:
        return False


def _c_arrays(text: str) -> list[str]:
    """Return what stands between braces, where that is nothing but bytes as C writes them."""
    bodies = _C_BODY.findall(_C_COMMENT.sub(" ", text))
    words = [[word for word in _C_BETWEEN.split(body) if word] for body in bodies]
    return [
        body for body, result in zip(bodies, words, strict=True) if result and all(map(_PREFIXED.fullmatch, result))
    ]


def _can_be_offsets(matches: Sequence[re.Match[str]]) -> bool:
    """Return whether what lines begin with can be offsets: they rise, and something stands behind them."""
    written = [match[1] for match in matches]
    if len({len(item) for item in written}) > 1 or all(match.end() == len(match.string) for match in matches):
        return False
    return _are_offsets(matches) if len(written) == 1 else all(a < b for a, b in pairwise(written))


def _are_offsets(matches: Sequence[re.Match[str]]) -> bool:
    """Return whether what lines begin with is meant for offsets: a colon says so, or a wide 0 at the beginning."""
    first = matches[0]
    return ":" in first[0] or (len(first[1]) >= WIDE and not first[1].strip("0"))


def _with_offsets(lines: list[tuple[int, str]], name: str) -> bytes:
    first = None
    for base in BASES:
        try:
            return _joined(lines, name, base)
        except CaptureError as error:
            first = first or error
        except ValueError:  # its digits are not of this base
            continue
    raise first or CaptureError(name, "has offsets that are not numbers")


def _joined(lines: list[tuple[int, str]], name: str, base: int) -> bytes:
    """Put the bytes of lines together, whose offsets are of a base; raise `ValueError` if one is not."""
    data, last, repeats, begins = bytearray(), b"", False, None
    for number, line in lines:
        stripped = line.strip()
        if stripped == "*":
            repeats = True
            continue
        match = _OFFSET.match(stripped)
        assert match is not None
        offset = int(match[1], base)
        begins = offset if begins is None else begins
        missing = offset - begins - len(data)
        if repeats and last and 0 < missing <= MOST_REPEATED and missing % len(last) == 0:
            data += last * (missing // len(last))
            missing = 0
        repeats = False
        if missing:
            raise CaptureError(
                f"{name}: line {number}",
                f"has the offset {match[1]}",
                f"must be {begins + len(data)} in base {base}: so many bytes are before it",
            )
        last = _row(stripped[match.end() :], number, name)
        data += last
    return bytes(data)


def _row(rest: str, number: int, name: str) -> bytes:
    """Read what stands behind an offset: bytes in hexadecimal or octal, and perhaps the same as text."""
    rest = rest.strip("\r\n")
    prefixed = [_PREFIXED.fullmatch(word) for word in rest.split()]
    if prefixed and all(prefixed):
        return bytes(int(match[1], 16) for match in prefixed if match is not None)
    words: list[str] = []
    end = 0
    for word in re.finditer(r"\S+", rest):
        is_half = len(words) * len(words[-1]) == 2 * HALF_ROW and len(word[0]) <= len(words[-1]) if words else False
        if words and word.start() - end > (WIDEST_GAP if is_half else 1):
            break  # what follows is the same as text
        if not (_WORD.fullmatch(word[0]) or _OCTAL.fullmatch(word[0])):
            break
        words.append(word[0])
        end = word.end()
    if words and all(_OCTAL.fullmatch(word) for word in words):
        return bytes(int(word, 8) for word in words)
    if any(len(word) % 2 for word in words):
        raise CaptureError(
            f"{name}: line {number}", f'has "{rest.strip()[:40]}"', "must be pairs of hexadecimal digits"
        )
    return bytes.fromhex("".join(words))


def _pairs(line: str, number: int, name: str) -> bytes:
    """Read a line of bare hexadecimal with anything usual between the pairs."""
    data = bytearray()
    for word in filter(None, _BETWEEN.split(line.strip())):
        match = _PREFIXED.fullmatch(word)
        digits = match[1].zfill(2) if match else word.replace("\\x", "")
        if not _WORD.fullmatch(digits):
            found = f'has "{line.strip()[:40]}"'
            raise CaptureError(f"{name}: line {number}", found, "must be pairs of hexadecimal digits")
        data += bytes.fromhex(digits)
    return bytes(data)
