"""What every kind of boundary answers, so that nothing has to ask which kind it is."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, NamedTuple

from pydantic import BaseModel, Field
from pydantic_core import PydanticCustomError

from .stuffing import Stuffing

LONGEST = 65_536  # bytes; a longer frame is a mistake in the sheet, not a message
Longest = Annotated[int, Field(ge=1, le=LONGEST)]


def as_hex(text: str, most: int = 16) -> str:
    """Check bytes written in hexadecimal, and write them our way."""
    try:
        data = bytes.fromhex(text)
    except ValueError:
        data = b""
    if not 1 <= len(data) <= most:
        raise PydanticCustomError("wanted", f'must be 1 to {most} bytes in hexadecimal, as in "D7 4B".')
    return data.hex(" ").upper()


class Counted(NamedTuple):
    """What a field counts that holds the length of its frame; see `LengthBoundary`."""

    field: str
    counts: Literal["rest", "payload", "all"]
    offset: int
    longest: int


class FrameBoundary(BaseModel, frozen=True, extra="forbid"):
    """What each kind of boundary answers; nothing asks for its class."""

    is_delimited: ClassVar[bool] = False
    """Whether something that no content can hold ends a frame."""
    is_marked: ClassVar[bool] = False
    """Whether a frame begins with bytes that may stand elsewhere too, and its fields fix its length."""
    is_back_to_back: ClassVar[bool] = False
    """Whether frames follow each other without anything that begins or ends them."""
    is_text: ClassVar[bool] = False
    """Whether a frame is a line of text."""
    is_recoded: ClassVar[bool] = False
    """Whether what a byte is sent as depends on those before it."""
    opened_by: ClassVar[Literal["", "break", "address-mark", "rest"]] = ""
    """What begins a frame besides bytes."""
    most_delimiters: ClassVar[int] = 0
    """Most bytes of delimiters around one frame whose content is changed when it is sent."""

    @property
    def may_be_empty(self) -> bool:
        """Whether a frame may hold nothing."""
        return False

    @property
    def begin_marker(self) -> bytes:
        """The bytes with which a frame begins; none where there is no marker."""
        return b""

    @property
    def end_marker(self) -> bytes:
        """The bytes of a frame that end it; none where there is no end marker."""
        return b""

    @property
    def behind_end(self) -> int:
        """How many bytes of a frame lie behind its end marker."""
        return 0

    @property
    def fixed_length(self) -> int | None:
        """The length in bytes that all frames have, where it is declared."""
        return None

    @property
    def counted(self) -> Counted | None:
        """What a length field counts, where there is one."""
        return None

    @property
    def stuffing(self) -> Stuffing | None:
        """Which bytes stand for others, where an escape byte does that."""
        return None

    @property
    def rest(self) -> tuple[float, float]:
        """How long the line rests between frames, in character times and in seconds; one of them is 0."""
        return 0.0, 0.0

    @property
    def place(self) -> str:
        """Where a frame stands, in words."""
        return f"between delimiters, by {self.__class__.__dict__['tag']}"

    def as_sent(self, content: bytes) -> bytes:
        """Return the content of a frame as it travels, delimiters included as far as they are bytes."""
        return content

    def most_sent(self, count: int) -> int:
        """Return the most bytes that a content of `count` bytes takes when it is sent, delimiters left out."""
        return count
