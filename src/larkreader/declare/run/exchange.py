"""A step of a dialogue: what is sent, what must come, and within which time."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property
from typing import Any

from pydantic import BaseModel, Field, StrictBool, StrictInt, field_validator, model_validator
from pydantic_core import PydanticCustomError

_PLACE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")
_ESCAPE = re.compile(r"\\(x[0-9A-Fa-f]{2}|.|$)", re.DOTALL)
_SINGLE: Mapping[str, bytes] = {"r": b"\r", "n": b"\n", "t": b"\t", "0": b"\0", "e": b"\x1b", "\\": b"\\"}
KINDS: Mapping[str, str] = {
    "": r"[^\r\n]*?",
    "number": r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?",
    "integer": r"[+-]?\d+",
    "hex": r"[0-9A-Fa-f]+",
    "word": r"[^\s,;]+",
}


class TextReply:
    r"""An expected text, in which ``{name}`` stands for anything in its line, and ``{name:number}`` for a number.

    Parameters
    ----------
    text : str
        ``\r \n \t \0 \e \\`` and ``\xHH`` stand for single characters; two braces for one.

    Raises
    ------
    ValueError
        If a name or a kind cannot be used.
    """

    expression: re.Pattern[str]

    def __init__(self, text: str) -> None:
        here = 0
        self.names: list[str] = []
        self._parts: list[tuple[str, str]] = []  # each as an expression, and as it was written or would be
        for match in _PLACE.finditer(text):
            self._add_text(bytes_of(text[here : match.start()]))
            here = match.end()
            if match[0] in ("{{", "}}"):
                self._add_text(match[0][:1].encode())
                continue
            name, _, kind = (match[1] or "").partition(":")
            if not name.isidentifier() or kind not in KINDS:
                known = ", ".join(item for item in KINDS if item)
                raise ValueError(f'has "{match[0]}", which must be a name in braces, or with one of {known} behind it; '
                                 f"{{{name}}} alone is text to the end of the line")  # fmt: skip
            if name in self.names:
                raise ValueError(f"has {{{name}}} twice")
            self.names.append(name)
            self._parts.append((f"(?P<{name}>{KINDS[kind]})", match[0]))
        self._add_text(bytes_of(text[here:]))
        if self.names and here == len(text):  # a name at the end stands for the rest of its line
            self._parts.append((r"(?=[\r\n])", "the end of the line"))
        self.expression = re.compile("".join(part for part, _ in self._parts))  # over one character a byte

    def _add_text(self, data: bytes) -> None:
        self._parts += [(re.escape(letter), f'"{_written(letter)}"') for letter in data.decode("latin-1")]

    def fits_as_far_as(self, received: bytes) -> tuple[bytes, str] | None:
        r"""Return what fits the beginning of the text, two characters at least, and what was expected next.

        Parameters
        ----------
        received : bytes
            In which the whole text does not occur.

        Returns
        -------
        tuple of bytes and str, or None
            None where not even the beginning was received.

        Examples
        --------
        >>> from larkreader.declare.run.exchange import TextReply
        >>> TextReply(r"flow {flow:number} mL\n").fits_as_far_as(b"flow 12.5 mL")
        (b'flow 12.5 mL', '"\\n"')
        """
        held = received.decode("latin-1")
        for count in range(len(self._parts) - 1, 0, -1):
            beginning = "".join(part for part, _ in self._parts[:count])
            match = re.search(rf"{beginning}\Z", held) or re.search(beginning, held)
            if match is not None and len(match[0]) >= 2:
                return match[0].encode("latin-1"), self._parts[count][1]
        return None


def text_of_bytes(data: bytes) -> str:
    """Write bytes as a text of a sheet that stands for them; see `bytes_of`."""
    return "".join(map(_written, data.decode("latin-1")))


def _written(letter: str) -> str:
    """Write one character as a sheet has it."""
    named = next((name for name, byte in _SINGLE.items() if byte == letter.encode("latin-1")), None)
    return letter if letter.isascii() and letter.isprintable() else f"\\{named or f'x{ord(letter):02X}'}"


def bytes_of(text: str) -> bytes:
    """Return the bytes of a text: UTF-8, but for what is written by a backslash.

    Raises
    ------
    ValueError
        If a backslash is followed by something else.
    """
    parts, here = [], 0
    for match in _ESCAPE.finditer(text):
        parts.append(text[here : match.start()].encode())
        here, what = match.end(), match[1]
        if len(what) == 3:
            parts.append(bytes.fromhex(what[1:]))
        elif what in _SINGLE:
            parts.append(_SINGLE[what])
        else:
            known = ", ".join(f"\\{name}" for name in _SINGLE)
            raise ValueError(f'has "\\{what}", which must be one of {known} or \\xHH')
    return b"".join([*parts, text[here:].encode()])


class Exchange(BaseModel, frozen=True, extra="forbid"):
    r"""A step of a dialogue: ``[[exchange]]`` on the sheet.

    Parameters
    ----------
    name : str
        What it is called in every output; what it sends by default.
    at : str, optional
        The port of the sheet at which it is sent; the first one by default.
    send : str, optional
        The text to send. ``\r \n \t \0 \e \\`` and ``\xHH`` stand for single bytes; ``{name}`` for a value that an
        earlier step kept, ``{n}`` for how often this step has been sent, from 1 on.
    send_hex : str, optional
        The bytes to send, in hexadecimal.
    send_frame : str, optional
        The layout of a frame to send, with `values`.
    values : mapping of str to value
        Its fields; a text such as ``"{flow}"`` stands for a value that an earlier step kept.
    expect : str, optional
        The text that must come. ``{name}`` stands for anything in its line, ``{name:number}``, ``{name:integer}``,
        ``{name:hex}`` and ``{name:word}`` for such values; what they stand for is kept by that name.
    expect_hex : str, optional
        The bytes that must come, in hexadecimal; ``??`` is any byte.
    expect_frame : str, optional
        The layout of a good frame that must come.
    where : mapping of str to value
        What fields, or what is kept, must be: a value, or a list of the least and the most.
    expect_at : str, optional
        The port of the sheet at which it must come; the port at which was sent by default.
    keep : mapping of str to str
        Fields of the frame that are kept, and by which name.
    within_s : float
        How long it may take, in seconds.
    strict : bool
        Whether anything else before it is a failure.
    optional : bool
        Whether the dialogue goes on if it does not come.
    times : int
        How often the step is done.
    pause_s : float
        How long to wait before sending, in seconds.
    retries : int
        How often it is tried again.
    retry_on : str, optional
        Tried again at once if this text arrives instead, and otherwise not; by default, if nothing fits in time.
    """

    name: str = ""
    at: str | None = None
    send: str | None = None
    send_hex: str | None = None
    send_frame: str | None = None
    values: Mapping[str, Any] = {}
    expect: str | None = None
    expect_hex: str | None = None
    expect_frame: str | None = None
    where: Mapping[str, Any] = {}
    expect_at: str | None = None
    keep: Mapping[str, str] = {}
    within_s: float = Field(default=1.0, gt=0, le=3600)
    strict: StrictBool = False
    optional: StrictBool = False
    times: StrictInt = Field(default=1, ge=1, le=1_000_000)
    pause_s: float = Field(default=0.0, ge=0, le=3600)
    retries: StrictInt = Field(default=0, ge=0, le=1000)
    retry_on: str | None = None

    @field_validator("expect", "retry_on")
    @classmethod
    def _text_can_be_used(cls, text: str | None) -> str | None:
        try:
            if text is not None:
                TextReply(text)
        except ValueError as error:
            raise PydanticCustomError("wanted", "{result}.", {"result": str(error)}) from None
        if text == "":
            raise PydanticCustomError("wanted", "must not be empty.")
        return text

    @field_validator("send")
    @classmethod
    def _text_can_be_sent(cls, text: str | None) -> str | None:
        try:
            bytes_of(text or "")
        except ValueError as error:
            raise PydanticCustomError("wanted", "{result}.", {"result": str(error)}) from None
        return text

    @field_validator("send_hex", "expect_hex")
    @classmethod
    def _bytes_are_hex(cls, text: str | None, info: Any) -> str | None:
        digits = re.sub(r"\s", "", text or "")
        if info.field_name == "expect_hex":
            digits = digits.replace("??", "00")
        if text is not None and (not digits or not re.fullmatch(r"(?:[0-9A-Fa-f]{2})*", digits)):
            wanted = " or ??" if info.field_name == "expect_hex" else ""
            raise PydanticCustomError("wanted", "must be pairs of hexadecimal digits{or}.", {"or": wanted})
        return text

    @model_validator(mode="after")
    def _goes_together(self) -> Exchange:
        sends = [item for item in (self.send, self.send_hex, self.send_frame) if item is not None]
        awaits = [item for item in (self.expect, self.expect_hex, self.expect_frame) if item is not None]
        wrong = ""
        if len(sends) > 1 or len(awaits) > 1:
            wrong = "must send a single thing, and expect a single thing: a text, bytes or a frame."
        elif not sends and not awaits:
            wrong = "must send or expect something."
        elif self.values and self.send_frame is None:
            wrong = "has values, which are those of send_frame."
        elif self.keep and self.expect_frame is None:
            wrong = "has keep, which is of expect_frame; in a text {name} keeps a value."
        elif self.where and self.expect_hex is not None:
            wrong = "has where, which is of expect or expect_frame."
        elif self.expect is not None and (unknown := set(self.where) - set(self.reply.names)):
            wrong = f"has where for {', '.join(sorted(unknown))}, which the text has not in braces."
        elif (self.retry_on is not None or self.strict) and not awaits:
            wrong = "must expect something to be strict, or to try again."
        elif self.retry_on is not None and not self.retries:
            wrong = "has retry_on, and no retries."
        elif not sends and self.retries:
            wrong = "has retries, and nothing that could be sent again."
        for limits in self.where.values():
            if isinstance(limits, list) and (
                len(limits) != 2 or not all(isinstance(limit, int | float) for limit in limits)
            ):
                wrong = "has a list in where that is not the least and the most."
        if wrong:
            raise PydanticCustomError("wanted", "{wrong}", {"wrong": wrong})
        return self

    @cached_property
    def reply(self) -> TextReply:
        """The text that must come, ready for use."""
        return TextReply(self.expect or "")

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name or self.send or self.send_hex or self.send_frame or f"wait for {self.awaited}"

    @property
    def awaited(self) -> str:
        """What must come, as it is written."""
        if self.expect is not None:
            return f'"{self.expect}"'
        if self.expect_hex is not None:
            return self.expect_hex
        if self.expect_frame is None:
            return ""
        return f"a frame {self.expect_frame}" + (f" with {self.conditions}" if self.where else "")

    @property
    def conditions(self) -> str:
        """What must hold of what arrives, in words."""
        result = []
        for name, value in self.where.items():
            result.append(f"{name} {value[0]:g} to {value[1]:g}" if isinstance(value, list) else f"{name} {value}")
        return ", ".join(result)
