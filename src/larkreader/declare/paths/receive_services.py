"""What fetches characters from the hardware of a receive path: interrupts, polling, DMA, software."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import BaseModel, Field, StrictBool, StrictInt, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default

Seconds = Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)]
Period = Annotated[float, Field(ge=1e-9, le=1e6, allow_inf_nan=False)]
Size = Annotated[StrictInt, Field(ge=1, le=1 << 24)]
Notice = Literal["half", "full", "idle"]


class PathPart(BaseModel, frozen=True, extra="forbid"):
    """What all parts of a path have in common."""


class Fifo(PathPart, frozen=True):
    """The hardware's own memory behind the shift register.

    Parameters
    ----------
    size : int
        How many characters it holds; 1 is a data register.
    trigger : int
        At how many it asks to be served.
    idle_characters : float, optional
        After how many character times without a new character, and without a fetch, it asks with fewer than `trigger`
        in it; never by default.
    shift_waits : bool
        Whether a complete character that finds it full waits in the shift register until the next start bit. By
        default it is lost at once.
    """

    size: Annotated[StrictInt, Field(ge=1, le=65_536)] = 1
    trigger: Size = 1
    idle_characters: float | None = Field(default=None, gt=0, le=1e6)
    shift_waits: StrictBool = False

    @model_validator(mode="after")
    def _trigger_can_be_reached(self) -> Fifo:
        if self.trigger > self.size:
            found = f"must be at most {self.size}, the size of the FIFO, or it never asks."
            raise PydanticCustomError("wanted", "trigger {found}", {"found": found})
        return self


class TimedService(PathPart, frozen=True):
    """What a handler costs: until it has the first character, for each, and after the last, in seconds."""

    jitter_s: Seconds = 0.0
    enter_s: Seconds = 0.0
    each_s: Seconds = 0.0
    leave_s: Seconds = 0.0


class InterruptService(TimedService, frozen=True):
    """An interrupt handler empties the FIFO.

    Parameters
    ----------
    kind : {"interrupt"}
    latency_s, jitter_s : float
        From the request to the handler's start, in seconds, and by up to how much longer, evenly spread.
    enter_s, each_s, leave_s : float
        What the handler takes before the first character, for each character and after the last, in seconds.
    most : int
        How many characters it fetches at a time; by default all that are in the FIFO.
    """

    tag: ClassVar[str] = "interrupt"

    kind: Literal["interrupt"] = "interrupt"
    latency_s: Seconds = 0.0
    most: StrictInt = Field(default=0, ge=0)


class PollingService(TimedService, frozen=True):
    """A loop looks every so often and empties the FIFO.

    Parameters
    ----------
    kind : {"polling"}
    every_s, first_s : float
        The period, and when it first looks, on the clock of the capture, in seconds. A look that is due while the
        last is still at work is left out.
    jitter_s : float
        By up to how much it looks later than that, evenly spread.
    enter_s, each_s, leave_s : float
        What a look takes before the first character, for each character and after the last, in seconds.
    most : int
        How many characters it fetches at a time; by default all that are in the FIFO.
    """

    tag: ClassVar[str] = "polling"

    kind: Literal["polling"]
    every_s: Period
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    most: StrictInt = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _jitter_fits(self) -> PollingService:
        if self.jitter_s >= self.every_s:
            raise PydanticCustomError("wanted", "jitter_s must be less than every_s.")
        return self


class DmaService(TimedService, frozen=True):
    """DMA fetches each character at once into a block; on a notice a handler stores what is new in the ring.

    Parameters
    ----------
    kind : {"dma"}
    block : int
        How many characters the block holds.
    notices : list of {"half", "full", "idle"}
        What starts the handler.
    idle_characters : float
        After how many character times without a new character the line counts as idle.
    circular : bool
        Whether it begins again at the front of the block; else it ends with the block or with an idle line, and must be
        armed again.
    gap_s : float
        From the handler's end until it is armed again, where it is not circular, in seconds.
    latency_s, jitter_s : float
        From the notice to the handler's start, in seconds, and by up to how much longer, evenly spread.
    enter_s, each_s, leave_s : float
        What the handler takes before the first character, for each character and after the last, in seconds.
    """

    tag: ClassVar[str] = "dma"

    kind: Literal["dma"]
    block: Size
    notices: Input[tuple[Notice, ...], Sequence[Notice]] = default(("half", "full", "idle"))
    idle_characters: float = Field(default=1.0, gt=0, le=1e6)
    circular: StrictBool = True
    gap_s: Seconds = 0.0
    latency_s: Seconds = 0.0

    @model_validator(mode="after")
    def _there_is_a_notice(self) -> DmaService:
        if not self.notices or (not self.circular and "full" not in self.notices):
            raise PydanticCustomError("wanted", 'notices must hold "full", or DMA that is not circular ends for good.')
        if self.gap_s and self.circular:
            raise PydanticCustomError("wanted", "gap_s is of DMA that is not circular.")
        return self


class SoftwareReceiver(PathPart, frozen=True):
    """No hardware at all: code watches the line, judges each bit itself, and stores the character at once.

    Parameters
    ----------
    kind : {"software"}
    start : {"change", "level", "latched"}
        What it takes for a start when it hears again after a stretch in which it was deaf: the next change to start
        level; start level itself; or a change that a latch has kept for it.
    """

    tag: ClassVar[str] = "software"

    kind: Literal["software"]
    start: Literal["change", "level", "latched"] = "change"
