"""Boundaries of frames whose own content ends them: a marker that may occur elsewhere too, a length field, fields."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from .frame_boundary import LONGEST, Counted, FrameBoundary, Longest, as_hex


class MarkerBoundary(FrameBoundary, frozen=True, extra="forbid"):
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
    is_marked: ClassVar[bool] = True

    kind: Literal["marker"] = "marker"
    marker: str
    end: str | None = None
    trailer: int = Field(default=0, ge=0, le=64)
    longest: Longest = 4096

    @field_validator("marker", "end")
    @classmethod
    def _marker_is_hex(cls, text: str | None) -> str | None:
        return None if text is None else as_hex(text)

    @model_validator(mode="after")
    def _trailer_needs_an_end(self) -> MarkerBoundary:
        if self.trailer and self.end is None:
            raise PydanticCustomError("wanted", "has a trailer, which needs an end marker before it.")
        return self

    @property
    def begin_marker(self) -> bytes:
        """The bytes with which a frame begins."""
        return bytes.fromhex(self.marker)

    @property
    def end_marker(self) -> bytes:
        """The bytes of a frame that end it; none where there is no end marker."""
        return bytes.fromhex(self.end or "")

    @property
    def behind_end(self) -> int:
        """How many bytes of a frame lie behind its end marker."""
        return self.trailer

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return f"behind the marker {self.marker}" + (f", up to {self.end}" if self.end else "")


class FixedBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """Frames of one length follow each other from the first byte on.

    Parameters
    ----------
    kind : {"fixed"}
    length : int, optional
        Length of a frame in bytes. It may be left out; it is then what the fields add up to.
    """

    tag: ClassVar[str] = "fixed"
    is_back_to_back: ClassVar[bool] = True

    kind: Literal["fixed"] = "fixed"
    length: Longest | None = None

    @property
    def fixed_length(self) -> int | None:
        """The length in bytes that all frames have, where it is declared."""
        return self.length

    @property
    def longest(self) -> int:
        """Most bytes of a frame."""
        return self.length or LONGEST

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return "one behind the other"


class LengthBoundary(FrameBoundary, frozen=True, extra="forbid"):
    """A field of the frame says how long it is.

    Parameters
    ----------
    kind : {"length-field"}
    field : str
        The field that says it.
    counts : {"rest", "payload", "all"}
        What it counts: the bytes behind it, of those the bytes before the checksum, or every byte of the frame.
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
        return None if text is None else as_hex(text)

    @property
    def begin_marker(self) -> bytes:
        """The bytes with which a frame begins; none where there is no marker."""
        return bytes.fromhex(self.marker or "")

    @property
    def counted(self) -> Counted:
        """What the length field counts."""
        return Counted(self.field, self.counts, self.offset, self.longest)

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return f"as long as {self.field} says"
