"""The plan of a loopback: what is sent, in which blocks, and how long to wait for it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field, model_validator
from pydantic_core import PydanticCustomError

PatternName = Literal["counting", "all-values", "alternating", "random", "lines"]
Expectation = Literal["same", "altered", "prefixed"]


class LoopbackPlan(BaseModel, frozen=True, extra="forbid"):
    """What a loopback sends, and how.

    Parameters
    ----------
    characters : int
        How many characters are sent; with lines, as many whole ones as hold them.
    pattern : {"counting", "all-values", "alternating", "random", "lines"}
        Every value in turn; every value up and down in turn; 0x55 and 0xAA in turn; random values; or numbered lines
        of text that end in LF.
    data_bits : int
        Data bits of a character; a value has no more.
    block : int, optional
        How many characters are written at once; twice as many may be under way at a time. Unless said, what the
        port's line carries in a quarter of a second, but 64 to 8192.
    limit_s : float
        How long to wait, in seconds, for the next character of what is under way before it is taken as lost.
    seed : int
        Of the random pattern.
    expect : {"same", "altered", "prefixed"}
        What comes back if all is well: what was sent, its complement, or each line with `prefix` in front.
    prefix : str
        What stands before each line that comes back.
    """

    characters: int = Field(default=4096, ge=1, le=1 << 32)
    pattern: PatternName = "counting"
    data_bits: int = Field(default=8, ge=5, le=8)
    block: int | None = Field(default=None, ge=1, le=1 << 20)
    limit_s: float = Field(default=0.5, gt=0, le=3600)
    seed: int = 1
    expect: Expectation = "same"
    prefix: str = "got: "

    @model_validator(mode="after")
    def _lines_can_be_told(self) -> LoopbackPlan:
        if self.expect == "prefixed" and self.pattern != "lines":
            raise PydanticCustomError("wanted", "expects lines with a prefix, which needs the pattern lines.")
        return self
