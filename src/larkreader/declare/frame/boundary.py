"""How the start and the end of a frame are found in what arrives.

Two families. With a *delimited* boundary something outside the content ends a frame: a rest of the line, a break, a
byte that the content cannot hold. With the others the content itself does: a marker that may occur elsewhere
too, a length field, fields that add up.

A kind of boundary is a model, which answers the questions of `FrameBoundary`. The delimited kinds are here, each with a
class in `decode.cut.delimiters` that cuts by it; the others are in `content_boundary`.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Annotated, ClassVar, Literal

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default

from .content_boundary import FixedBoundary, LengthBoundary, MarkerBoundary
from .frame_boundary import FrameBoundary, Longest, as_hex
from .stuffing import Escapes, Stuffing, cobs_stuffed, escapes_of, stuffed


class IdleBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """Between frames the line rests, and within a frame it does not.

    Parameters
    ----------
    kind : {"idle"}
    characters : float, optional
        For how long at least, in character times.
    seconds : float, optional
        For how long at least, in seconds; either of the two is given.
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "idle"
    is_delimited: ClassVar[bool] = True
    opened_by: ClassVar[Literal["", "break", "address-mark", "rest"]] = "rest"

    kind: Literal["idle"] = "idle"
    characters: float | None = Field(default=None, gt=0, allow_inf_nan=False)
    seconds: float | None = Field(default=None, gt=0, allow_inf_nan=False)
    longest: Longest = 4096

    @model_validator(mode="after")
    def _length_is_given(self) -> IdleBoundary:
        if (self.characters is None) == (self.seconds is None):
            raise PydanticCustomError("wanted", "must have a length: characters = 3.5, or seconds = 0.002.")
        return self

    @property
    def rest(self) -> tuple[float, float]:
        """How long the line rests between frames, in character times and in seconds; one of them is 0."""
        return self.characters or 0.0, self.seconds or 0.0

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return "between rests of the line"


class TerminatorBoundary(FrameBoundary, frozen=True, extra="forbid"):
    r"""A frame ends with fixed bytes, which it cannot hold, as a line of text does.

    Parameters
    ----------
    kind : {"terminator"}
    terminator : str or tuple of str
        The bytes as text, ``"\r\n"``; several where any of them ends a frame. The content does not include them.
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "terminator"
    is_delimited: ClassVar[bool] = True
    is_text: ClassVar[bool] = True

    kind: Literal["terminator"] = "terminator"
    terminator: Input[str | tuple[str, ...], str | Sequence[str]] = default("\n")
    longest: Longest = 1024

    @field_validator("terminator")
    @classmethod
    def _terminator_is_bytes(cls, declared: str | tuple[str, ...]) -> str | tuple[str, ...]:
        for text in [declared] if isinstance(declared, str) else declared:
            if not 1 <= len(text) <= 16 or max(text) > "\xff":
                raise PydanticCustomError("wanted", 'must be 1 to 16 characters up to U+00FF, as in "\\r\\n".')
        if not declared:
            raise PydanticCustomError("wanted", "must be at least one.")
        return declared

    @property
    def every(self) -> tuple[bytes, ...]:
        """What may end a frame, the longest first."""
        declared = [self.terminator] if isinstance(self.terminator, str) else self.terminator
        return tuple(sorted({text.encode("latin-1") for text in declared}, key=lambda item: (-len(item), item)))

    @property
    def may_be_empty(self) -> bool:
        """Whether a frame may hold nothing, as a line can."""
        return True

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return "up to " + " or ".join(text.hex(" ").upper() for text in self.every)

    def as_sent(self, content: bytes) -> bytes:
        """Return the content with the first of the declared terminators behind it."""
        first = self.terminator if isinstance(self.terminator, str) else self.terminator[0]
        return content + first.encode("latin-1")


class BreakBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """A frame begins with a break, which is not part of its content.

    Parameters
    ----------
    kind : {"break"}
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "break"
    is_delimited: ClassVar[bool] = True
    opened_by: ClassVar[Literal["", "break", "address-mark", "rest"]] = "break"

    kind: Literal["break"] = "break"
    longest: Longest = 4096

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return "behind a break"


class AddressMarkBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """A frame begins with a character whose ninth bit marks it as an address.

    Parameters
    ----------
    kind : {"address-mark"}
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "address-mark"
    is_delimited: ClassVar[bool] = True
    opened_by: ClassVar[Literal["", "break", "address-mark", "rest"]] = "address-mark"

    kind: Literal["address-mark"] = "address-mark"
    longest: Longest = 4096


class CobsBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """Consistent overhead byte stuffing: no zero in the content, a zero behind it.

    As Cheshire and Baker describe it, "Consistent Overhead Byte Stuffing", IEEE/ACM Transactions on Networking 7 (2),
    1999.

    Parameters
    ----------
    kind : {"cobs"}
    longest : int
        Most bytes of a frame, before stuffing.
    """

    tag: ClassVar[str] = "cobs"
    is_delimited: ClassVar[bool] = True
    is_recoded: ClassVar[bool] = True
    most_delimiters: ClassVar[int] = 1

    kind: Literal["cobs"] = "cobs"
    longest: Longest = 4096

    def as_sent(self, content: bytes) -> bytes:
        """Return the content stuffed, with the zero behind it."""
        return cobs_stuffed(content)

    def most_sent(self, count: int) -> int:
        """Return the most bytes that a content of `count` bytes takes when it is sent, delimiters left out."""
        return count + count // 254 + 1


class _EscapedBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """A boundary whose delimiters an escape byte keeps out of the content."""

    is_delimited: ClassVar[bool] = True
    most_delimiters: ClassVar[int] = 4

    def escapes(self) -> Escapes:
        """Return which bytes delimit frames, and how the same bytes travel within them."""
        raise NotImplementedError

    @cached_property
    def stuffing(self) -> Stuffing:
        """Which bytes stand for others."""
        return escapes_of(self.escapes())

    @property
    def may_be_empty(self) -> bool:
        """Whether a frame may hold nothing, as it may where different bytes begin and end it."""
        return not self.stuffing.is_closed_by_begin

    def as_sent(self, content: bytes) -> bytes:
        """Return the content stuffed, between its delimiters."""
        return stuffed(content, self.stuffing)

    def most_sent(self, count: int) -> int:
        """Return the most bytes that a content of `count` bytes takes when it is sent, delimiters left out."""
        return 2 * count


class SlipBoundary(_EscapedBoundary, frozen=True, extra="forbid"):
    """A frame ends with END, 0xC0, as RFC 1055 says.

    Parameters
    ----------
    kind : {"slip"}
    longest : int
        Most bytes of a frame, before stuffing.
    """

    tag: ClassVar[str] = "slip"

    kind: Literal["slip"] = "slip"
    longest: Longest = 4096

    def escapes(self) -> Escapes:
        """Return which bytes delimit frames, and how the same bytes travel within them."""
        return Escapes(end="C0", escape="DB", replaced={"DC": "C0", "DD": "DB"})


class HdlcBoundary(_EscapedBoundary, frozen=True, extra="forbid"):
    """Frames between flags, 0x7E, with octet stuffing as RFC 1662 says.

    Parameters
    ----------
    kind : {"hdlc"}
    also : str, optional
        Further bytes, in hexadecimal, that the sender escapes; ``"11 13"`` on a line with XON and XOFF.
    longest : int
        Most bytes of a frame, before stuffing, its check sequence included.
    """

    tag: ClassVar[str] = "hdlc"

    kind: Literal["hdlc"] = "hdlc"
    also: str | None = None
    longest: Longest = 4096

    @field_validator("also")
    @classmethod
    def _also_is_hex(cls, text: str | None) -> str | None:
        return None if text is None else as_hex(text, 256)

    def escapes(self) -> Escapes:
        """Return which bytes delimit frames, and how the same bytes travel within them."""
        return Escapes(begin="7E", end="7E", escape="7D", xor=0x20, also=self.also)


class EscapeBoundary(_EscapedBoundary, Escapes, frozen=True, extra="forbid"):
    """Frames between bytes of one's own choice, with an escape byte of one's own choice.

    Parameters
    ----------
    end : str
        The byte that ends a frame, in hexadecimal; or two, the first of them `escape`.
    begin : str, optional
        The byte, or the two, that begin a frame. May be the same as `end`.
    escape : str
        The byte that escapes the next byte.
    xor : int
        What an escaped byte is combined with by exclusive or; 0 sends it as it is.
    replaced : mapping of str to str
        For single escaped bytes what they stand for, both in hexadecimal, instead of an exclusive or.
    also : str, optional
        Further bytes that the sender escapes, in hexadecimal.
    kind : {"escape"}
    longest : int
        Most bytes of a frame, before stuffing.
    """

    tag: ClassVar[str] = "escape"

    kind: Literal["escape"] = "escape"
    longest: Longest = 4096

    def escapes(self) -> Escapes:
        """Return which bytes delimit frames, and how the same bytes travel within them."""
        return self


Boundary = Annotated[
    MarkerBoundary
    | FixedBoundary
    | LengthBoundary
    | IdleBoundary
    | TerminatorBoundary
    | BreakBoundary
    | AddressMarkBoundary
    | CobsBoundary
    | SlipBoundary
    | HdlcBoundary
    | EscapeBoundary,
    Field(discriminator="kind"),
]
