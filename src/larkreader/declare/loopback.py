"""The plan of a loopback: what is sent, in which blocks, and how long to wait for it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

PatternName = Literal["counting", "alternating", "random"]


class LoopbackPlan(BaseModel, frozen=True, extra="forbid"):
    """What a loopback sends, and how.

    Parameters
    ----------
    characters : int
        How many characters are sent.
    pattern : {"counting", "alternating", "random"}
        Every value in turn; 0x55 and 0xAA in turn; or random values.
    data_bits : int
        Data bits of a character; a value has no more.
    block : int, optional
        How many characters are written at once; twice as many may be under way at a time. Unless said, what the
        port's line carries in a quarter of a second, but 64 to 4096.
    limit_s : float
        How long to wait, in seconds, for the next character of what is under way before it is taken as lost.
    seed : int
        Of the random pattern.
    expect : {"same", "altered"}
        What comes back if all is well: what was sent, or its complement.
    """

    characters: int = Field(default=4096, ge=1, le=1 << 32)
    pattern: PatternName = "counting"
    data_bits: int = Field(default=8, ge=5, le=8)
    block: int | None = Field(default=None, ge=1, le=1 << 20)
    limit_s: float = Field(default=0.5, gt=0, le=3600)
    seed: int = 1
    expect: Literal["same", "altered"] = "same"
