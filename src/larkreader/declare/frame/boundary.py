"""How the start and the end of a frame are found in what arrives.

Two families. With a *delimited* boundary something that is no part of the content says where a frame ends: a rest of
the line, a break, a byte that the content cannot hold. With the others the content says it: a marker that may occur
elsewhere too, a length field, fields that add up.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Annotated, ClassVar, Literal

from pydantic import BaseModel, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default

from .stuffing import Escapes, Stuffing, escapes_of

LONGEST = 65_536  # bytes; a longer frame is a mistake in the sheet, not a message
Longest = Annotated[int, Field(ge=1, le=LONGEST)]


def _hex(text: str, most: int = 16) -> str:
    """Check bytes written in hexadecimal, and write them our way."""
    try:
        data = bytes.fromhex(text)
    except ValueError:
        data = b""
    if not 1 <= len(data) <= most:
        raise PydanticCustomError("wanted", f'must be 1 to {most} bytes in hexadecimal, as in "D7 4B".')
    return data.hex(" ").upper()


class MarkerBoundary(BaseModel, frozen=True, extra="forbid"):
    """A frame begins with fixed bytes, which may occur elsewhere too.

    Parameters
    ----------
    kind : {"marker"}
    marker : str
        The bytes in hexadecimal, as in ``"D7 4B"``. They are part of the frame.
    end : str, optional
        The bytes with which it ends, in hexadecimal. They are part of the frame too.
    trailer : int
        How many bytes of the frame lie behind its end marker: its last fields, such as a check value.
    longest : int
        Most bytes of a frame, where its fields do not fix them.
    """

    tag: ClassVar[str] = "marker"

    kind: Literal["marker"] = "marker"
    marker: str
    end: str | None = None
    trailer: int = Field(default=0, ge=0, le=64)
    longest: Longest = 4096

    @field_validator("marker", "end")
    @classmethod
    def _marker_is_hex(cls, text: str | None) -> str | None:
        return None if text is None else _hex(text)

    @model_validator(mode="after")
    def _trailer_needs_an_end(self) -> MarkerBoundary:
        if self.trailer and self.end is None:
            raise PydanticCustomError("wanted", "has a trailer, which needs an end marker before it.")
        return self

    @property
    def data(self) -> bytes:
        """The marker's bytes."""
        return bytes.fromhex(self.marker)


class FixedBoundary(BaseModel, frozen=True, extra="forbid"):
    """Frames of one length follow each other from the first byte on.

    Parameters
    ----------
    kind : {"fixed"}
    length : int, optional
        Length of a frame in bytes. It may be left out; it is then what the fields add up to.
    """

    tag: ClassVar[str] = "fixed"

    kind: Literal["fixed"] = "fixed"
    length: Longest | None = None


class LengthBoundary(BaseModel, frozen=True, extra="forbid"):
    """A field of the frame says how long it is.

    Parameters
    ----------
    kind : {"length-field"}
    field : str
        The field that says it.
    counts : {"rest", "payload", "all"}
        What it counts: the bytes behind it, of those the ones before the checksum, or every byte of the frame.
    offset : int
        What the field holds more than it counts; -1 where a 0 stands for one byte.
    marker : str, optional
        The bytes with which a frame begins, in hexadecimal. They are part of the frame.
    longest : int
        Most bytes of a frame; a length beyond it is none.
    """

    tag: ClassVar[str] = "length-field"

    kind: Literal["length-field"] = "length-field"
    field: str
    counts: Literal["rest", "payload", "all"] = "rest"
    offset: int = 0
    marker: str | None = None
    longest: Longest = LONGEST

    @field_validator("marker")
    @classmethod
    def _marker_is_hex(cls, text: str | None) -> str | None:
        return None if text is None else _hex(text)

    @property
    def data(self) -> bytes:
        """The marker's bytes; none where there is no marker."""
        return bytes.fromhex(self.marker or "")


class IdleBoundary(BaseModel, frozen=True, extra="forbid"):
    """Between frames the line rests, and within a frame it does not.

    Parameters
    ----------
    kind : {"idle"}
    characters : float, optional
        For how long at least, in character times.
    seconds : float, optional
        For how long at least, in seconds; one of the two is said.
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "idle"

    kind: Literal["idle"] = "idle"
    characters: float | None = Field(default=None, gt=0)
    seconds: float | None = Field(default=None, gt=0)
    longest: Longest = 4096

    @model_validator(mode="after")
    def _one_is_said(self) -> IdleBoundary:
        if (self.characters is None) == (self.seconds is None):
            raise PydanticCustomError("wanted", "must say for how long: characters = 3.5, or seconds = 0.002.")
        return self


class TerminatorBoundary(BaseModel, frozen=True, extra="forbid"):
    r"""A frame ends with fixed bytes, which it cannot hold, as a line of text does.

    Parameters
    ----------
    kind : {"terminator"}
    terminator : str or tuple of str
        The bytes as text, ``"\r\n"``; several where any of them will do. They are no part of the content.
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "terminator"

    kind: Literal["terminator"] = "terminator"
    terminator: Input[str | tuple[str, ...], str | Sequence[str]] = default("\n")
    longest: Longest = 1024

    @field_validator("terminator")
    @classmethod
    def _terminator_is_bytes(cls, said: str | tuple[str, ...]) -> str | tuple[str, ...]:
        for text in [said] if isinstance(said, str) else said:
            if not 1 <= len(text) <= 16 or max(text) > "\xff":
                raise PydanticCustomError("wanted", 'must be 1 to 16 characters up to U+00FF, as in "\\r\\n".')
        if not said:
            raise PydanticCustomError("wanted", "must be one at least.")
        return said

    @property
    def every(self) -> tuple[bytes, ...]:
        """What may end a frame, longer ones first; the first that was said is the one that is sent."""
        said = [self.terminator] if isinstance(self.terminator, str) else self.terminator
        return tuple(sorted({text.encode("latin-1") for text in said}, key=lambda one: (-len(one), one)))

    @property
    def sent(self) -> bytes:
        """What ends a frame that we send."""
        return (self.terminator if isinstance(self.terminator, str) else self.terminator[0]).encode("latin-1")


class BreakBoundary(BaseModel, frozen=True, extra="forbid"):
    """A frame begins with a break, which is no part of its content.

    Parameters
    ----------
    kind : {"break"}
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "break"

    kind: Literal["break"] = "break"
    longest: Longest = 4096


class AddressMarkBoundary(BaseModel, frozen=True, extra="forbid"):
    """A frame begins with a character whose ninth bit marks it as an address.

    Parameters
    ----------
    kind : {"address-mark"}
    longest : int
        Most bytes of a frame.
    """

    tag: ClassVar[str] = "address-mark"

    kind: Literal["address-mark"] = "address-mark"
    longest: Longest = 4096


class CobsBoundary(BaseModel, frozen=True, extra="forbid"):
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

    kind: Literal["cobs"] = "cobs"
    longest: Longest = 4096


class SlipBoundary(BaseModel, frozen=True, extra="forbid"):
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

    @cached_property
    def stuffing(self) -> Stuffing:
        """What stands for what."""
        return escapes_of(Escapes(end="C0", escape="DB", replaced={"DC": "C0", "DD": "DB"}))


class HdlcBoundary(BaseModel, frozen=True, extra="forbid"):
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
        return None if text is None else _hex(text, 256)

    @cached_property
    def stuffing(self) -> Stuffing:
        """What stands for what."""
        return escapes_of(Escapes(begin="7E", end="7E", escape="7D", xor=0x20, also=self.also))


class EscapeBoundary(Escapes, frozen=True, extra="forbid"):
    """Frames between bytes of one's own choice, with an escape byte of one's own choice.

    Parameters
    ----------
    kind : {"escape"}
    end : str
        The byte that ends a frame, in hexadecimal; or two, the first of them `escape`.
    begin : str, optional
        The byte, or the two, that begin a frame. May be the same as `end`.
    escape : str
        The byte that escapes the next one.
    xor : int
        What an escaped byte is combined with by exclusive or; 0 sends it as it is.
    replaced : mapping of str to str
        For single escaped bytes what they stand for, both in hexadecimal, where that is no exclusive or.
    also : str, optional
        Further bytes that the sender escapes, in hexadecimal.
    longest : int
        Most bytes of a frame, before stuffing.
    """

    tag: ClassVar[str] = "escape"

    kind: Literal["escape"] = "escape"
    longest: Longest = 4096

    @cached_property
    def stuffing(self) -> Stuffing:
        """What stands for what."""
        return escapes_of(self)


EscapedBoundary = SlipBoundary | HdlcBoundary | EscapeBoundary
DelimitedBoundary = (
    IdleBoundary | TerminatorBoundary | BreakBoundary | AddressMarkBoundary | CobsBoundary | EscapedBoundary
)
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
