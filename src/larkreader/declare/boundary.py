"""How the start and the end of a frame are found in the bytes."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import BaseModel, Field, field_validator
from pydantic_core import PydanticCustomError


class MarkerBoundary(BaseModel, frozen=True, extra="forbid"):
    """A frame begins with fixed bytes, which may occur elsewhere too.

    Parameters
    ----------
    kind : {"marker"}
    marker : str
        The bytes in hexadecimal, as in ``"D7 4B"``. They are part of the frame.
    """

    tag: ClassVar[str] = "marker"

    kind: Literal["marker"] = "marker"
    marker: str

    @field_validator("marker")
    @classmethod
    def _marker_is_hex(cls, text: str) -> str:
        try:
            data = bytes.fromhex(text)
        except ValueError:
            data = b""
        if not 1 <= len(data) <= 16:
            raise PydanticCustomError("wanted", 'must be 1 to 16 bytes in hexadecimal, as in "D7 4B".')
        return data.hex(" ").upper()

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
    length: int | None = Field(default=None, ge=1, le=65_536)


Boundary = Annotated[MarkerBoundary | FixedBoundary, Field(discriminator="kind")]
