"""Bytes that stand for others, so that a frame cannot hold what delimits it; here one frame at a time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from pydantic import BaseModel, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

WRONG = -1  # no byte of a frame may stand behind an escape
BEGINS = -2
ENDS = -3
FULL_BLOCK = 0xFF  # the code of 254 bytes behind which there is no zero


class Escapes(BaseModel, frozen=True, extra="forbid"):
    """Which bytes delimit frames, and how the same bytes travel within them; see `EscapeBoundary`."""

    end: str
    begin: str | None = None
    escape: str
    xor: int = Field(default=0, ge=0, le=255)
    replaced: Mapping[str, str] = Field(default_factory=dict)
    also: str | None = None

    @field_validator("end", "begin", "escape", "also")
    @classmethod
    def _is_hex(cls, text: str | None) -> str | None:
        return None if text is None else _bytes(text).hex(" ").upper()

    @field_validator("replaced")
    @classmethod
    def _pairs_are_hex(cls, pairs: Mapping[str, str]) -> Mapping[str, str]:
        for part in [*pairs, *pairs.values()]:
            if len(_bytes(part)) != 1:
                raise PydanticCustomError("wanted", 'must be pairs of one byte each, as in { DC = "C0" }.')
        return {_bytes(key).hex().upper(): _bytes(value).hex().upper() for key, value in pairs.items()}

    @model_validator(mode="after")
    def _delimiters_fit(self) -> Escapes:
        escape = _bytes(self.escape)
        if len(escape) != 1:
            raise PydanticCustomError("wanted", "has an escape of more than one byte.")
        for delimiter in (self.end, self.begin):
            data = b"\0" if delimiter is None else _bytes(delimiter)
            if len(data) > 2 or (len(data) == 2 and data[:1] != escape):
                raise PydanticCustomError(
                    "wanted", "has a begin or an end that is neither a byte nor escape and a byte."
                )
            if data == escape:
                raise PydanticCustomError("wanted", "has an escape that begins or ends frames by itself.")
        if self.begin is not None and len(_bytes(self.begin)) != len(_bytes(self.end)):
            raise PydanticCustomError("wanted", "has a begin and an end of different length.")
        if mistake := _not_reversible(self):
            raise PydanticCustomError("wanted", mistake)
        return self


@dataclass(frozen=True)
class Stuffing:
    """What delimits frames, and what stands for what within them.

    Parameters
    ----------
    escape : int
        The byte that escapes the next byte.
    behind : tuple of int
        For each byte what it stands for behind an escape; `WRONG` for none, `BEGINS` or `ENDS` for a delimiter.
    plain : mapping of int to int
        Single bytes that delimit frames, `BEGINS` or `ENDS` each.
    begin, end : bytes
        What is sent before a frame, nothing where nothing is; and behind it.
    sent : mapping of int to bytes
        What is sent for a byte that cannot be sent as it is.
    is_closed_by_begin : bool
        Whether one delimiter begins and ends frames, or there is none that begins them.
    """

    escape: int
    behind: tuple[int, ...]
    plain: Mapping[int, int]
    begin: bytes
    end: bytes
    sent: Mapping[int, bytes]
    is_closed_by_begin: bool

    def __hash__(self) -> int:
        return hash((self.escape, self.behind, self.begin, self.end))


def escapes_of(declared: Escapes) -> Stuffing:
    """Work out what stands for what."""
    return _stuffing(
        declared.end,
        declared.begin,
        declared.escape,
        declared.xor,
        tuple(declared.replaced.items()),
        declared.also or "",
    )


def stuffed(content: bytes, stuffing: Stuffing) -> bytes:
    """Return a frame as it travels, its delimiters included."""
    inner = b"".join(stuffing.sent.get(byte, bytes((byte,))) for byte in content)
    return stuffing.begin + inner + stuffing.end


def cobs_stuffed(content: bytes) -> bytes:
    """Return a frame as it travels with consistent overhead byte stuffing, the zero behind it included."""
    result = bytearray()
    blocks = content.split(b"\0")
    for number, block in enumerate(blocks):
        while len(block) >= FULL_BLOCK - 1:
            result += bytes((FULL_BLOCK,)) + block[: FULL_BLOCK - 1]
            block = block[FULL_BLOCK - 1 :]
            if not block and number == len(blocks) - 1:
                return bytes(result) + b"\0"
        result += bytes((len(block) + 1,)) + block
    return bytes(result) + b"\0"


def _bytes(text: str) -> bytes:
    try:
        data = bytes.fromhex(text)
    except ValueError:
        data = b""
    if not data:
        raise PydanticCustomError("wanted", 'must be bytes in hexadecimal, as in "7E".')
    return data


def _delimiters(declared: Escapes) -> tuple[dict[int, int], dict[int, int]]:
    """Return what delimits by itself, and what does so behind an escape."""
    plain: dict[int, int] = {}
    escaped: dict[int, int] = {}
    for text, meaning in ((declared.begin, BEGINS), (declared.end, ENDS)):
        if text is not None:
            data = _bytes(text)
            (plain if len(data) == 1 else escaped)[data[-1]] = meaning
    return plain, escaped


def _behind(declared: Escapes) -> list[int]:
    plain, escaped = _delimiters(declared)
    behind = [byte ^ declared.xor for byte in range(256)]
    if declared.replaced:
        behind = [WRONG] * 256
        for key, value in declared.replaced.items():
            behind[int(key, 16)] = int(value, 16)
    for byte, meaning in escaped.items():
        behind[byte] = meaning
    for byte in plain:
        behind[byte] = WRONG
    return behind


def _not_reversible(declared: Escapes) -> str:
    """Say why some content could not be sent; nothing if all can."""
    behind = _behind(declared)
    plain, _ = _delimiters(declared)
    for byte in (*plain, int(declared.escape, 16), *bytes.fromhex(declared.also or "")):
        if byte not in behind:
            return f"cannot send the byte {byte:02X}: nothing behind the escape stands for it."
    return ""


@lru_cache(maxsize=64)
def _stuffing(
    end: str, begin: str | None, escape: str, xor: int, replaced: tuple[tuple[str, str], ...], also: str
) -> Stuffing:
    declared = Escapes(end=end, begin=begin, escape=escape, xor=xor, replaced=dict(replaced), also=also or None)
    plain, _ = _delimiters(declared)
    behind, code = _behind(declared), int(escape, 16)
    held_back = {*plain, code, *bytes.fromhex(also)}
    return Stuffing(
        escape=code,
        behind=tuple(behind),
        plain=plain,
        begin=_bytes(begin) if begin is not None else b"",
        end=_bytes(end),
        sent={byte: bytes((code, behind.index(byte))) for byte in held_back},
        is_closed_by_begin=begin is None or begin == end,
    )
