"""The receive path: all that a character goes through from the wire to the code that wants it.

A character is complete in the middle of its first stop bit. It then goes into the FIFO, or the data register, which is
a FIFO of one; a service fetches it from there and stores it in a ring; the application takes it out of the ring.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import BaseModel, Field, StrictBool, StrictInt, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import raise_mistakes
from larkreader.errors import Mistake

Seconds = Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)]
Period = Annotated[float, Field(ge=1e-9, le=1e6, allow_inf_nan=False)]
Size = Annotated[StrictInt, Field(ge=1, le=1 << 24)]
Notice = Literal["half", "full", "idle"]


class _Part(BaseModel, frozen=True, extra="forbid"):
    """What all parts of a path have in common."""


class Fifo(_Part, frozen=True):
    """The hardware's own memory behind the shift register.

    Parameters
    ----------
    size : int
        How many characters it holds; 1 is a data register.
    trigger : int
        At how many it asks to be served.
    idle_characters : float, optional
        After how many character times without a new character, and without one being fetched, it asks with fewer than
        `trigger` in it; never unless said.
    shift_waits : bool
        Whether a complete character that finds it full waits in the shift register until the next start bit. Unless
        said, it is lost at once.
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


class _Service(_Part, frozen=True):
    """What a handler costs: until it has the first character, for each, and after the last, in seconds."""

    jitter_s: Seconds = 0.0
    enter_s: Seconds = 0.0
    each_s: Seconds = 0.0
    leave_s: Seconds = 0.0


class InterruptService(_Service, frozen=True):
    """An interrupt handler empties the FIFO.

    Parameters
    ----------
    kind : {"interrupt"}
    latency_s, jitter_s : float
        From the request to the handler's start, in seconds, and by up to how much longer, evenly spread.
    enter_s, each_s, leave_s : float
        What the handler takes before the first character, for each one and after the last, in seconds.
    most : int
        How many characters it fetches at a time; until the FIFO is empty unless said.
    """

    tag: ClassVar[str] = "interrupt"

    kind: Literal["interrupt"] = "interrupt"
    latency_s: Seconds = 0.0
    most: StrictInt = Field(default=0, ge=0)


class PollingService(_Service, frozen=True):
    """A loop looks every so often and empties the FIFO.

    Parameters
    ----------
    kind : {"polling"}
    every_s, first_s : float
        The period, and when it first looks, on the clock of the capture, in seconds. A look that comes due while the
        last one is still at work is left out.
    jitter_s : float
        By up to how much it looks later than that, evenly spread.
    enter_s, each_s, leave_s : float
        What a look takes before the first character, for each one and after the last, in seconds.
    most : int
        How many characters it fetches at a time; until the FIFO is empty unless said.
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


class DmaService(_Service, frozen=True):
    """DMA fetches each character at once into a block; a handler is told, and stores what is new in the ring.

    Parameters
    ----------
    kind : {"dma"}
    block : int
        How many characters the block holds.
    notices : list of {"half", "full", "idle"}
        When the handler is told.
    idle_characters : float
        After how many character times without a new one the line counts as idle.
    circular : bool
        Whether it begins again at the front of the block; else it ends with the block or with an idle line, and must be
        armed again.
    gap_s : float
        From the handler's end until it is armed again, where it is not circular, in seconds.
    latency_s, jitter_s : float
        From the notice to the handler's start, in seconds, and by up to how much longer, evenly spread.
    enter_s, each_s, leave_s : float
        What the handler takes before the first character, for each one and after the last, in seconds.
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
    def _somebody_is_told(self) -> DmaService:
        if not self.notices or (not self.circular and "full" not in self.notices):
            raise PydanticCustomError("wanted", 'notices must hold "full", or DMA that is not circular ends for good.')
        if self.gap_s and self.circular:
            raise PydanticCustomError("wanted", "gap_s is of DMA that is not circular.")
        return self


class SoftwareReceiver(_Part, frozen=True):
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


class Ring(_Part, frozen=True):
    """The software buffer between service and application.

    Parameters
    ----------
    size : int
        How many places it has.
    full : {"drop-new", "overwrite-oldest", "wrap", "stop"}
        What happens to a character for which there is no room: it is dropped; the oldest is given up for it; nobody
        notices, the indices meet, and all that the ring holds is lost; or the service fetches nothing until there is
        room.
    keeps_one_free : bool
        Whether one place stays empty, so that equal indices mean an empty ring.
    """

    size: Size
    full: Literal["drop-new", "overwrite-oldest", "wrap", "stop"] = "drop-new"
    keeps_one_free: StrictBool = False

    @property
    def capacity(self) -> int:
        """How many characters it can hold."""
        return self.size - (self.keeps_one_free or self.full == "wrap")

    @model_validator(mode="after")
    def _holds_something(self) -> Ring:
        if not self.capacity:
            raise PydanticCustomError("wanted", "holds nothing: one place of its one stays free.")
        if self.keeps_one_free and self.full == "wrap":
            raise PydanticCustomError("wanted", "keeps_one_free is of a ring that looks whether it is full.")
        return self


class PeriodicApplication(_Part, frozen=True):
    """The application looks every so often.

    Parameters
    ----------
    kind : {"periodic"}
    every_s, first_s : float
        The period, and when it first looks, on the clock of the capture, in seconds.
    most : int
        How many characters it takes at a time; all unless said.
    """

    tag: ClassVar[str] = "periodic"

    kind: Literal["periodic"] = "periodic"
    every_s: Period
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    most: StrictInt = Field(default=0, ge=0)


class LineApplication(_Part, frozen=True):
    """The application looks every so often, and takes whole lines.

    Parameters
    ----------
    kind : {"lines"}
    every_s, first_s : float
        The period, and when it first looks, on the clock of the capture, in seconds.
    terminator : str
        What ends a line, in hexadecimal.
    buffer : int
        Places of the buffer that it puts a line into.
    terminated : bool
        Whether it puts a NUL behind the line, which needs a place too.
    rest : {"given", "dropped"}
        Whether what has no place of a line is given as the next one, or dropped.
    """

    tag: ClassVar[str] = "lines"

    kind: Literal["lines"]
    every_s: Period
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    terminator: str = "0A"
    buffer: Size = 80
    terminated: StrictBool = True
    rest: Literal["given", "dropped"] = "given"

    @field_validator("terminator")
    @classmethod
    def _terminator_is_hex(cls, text: str) -> str:
        try:
            data = bytes.fromhex(text)
        except ValueError:
            data = b""
        if not 1 <= len(data) <= 4:
            raise PydanticCustomError("wanted", 'must be 1 to 4 bytes in hexadecimal, as in "0D 0A".')
        return data.hex(" ").upper()

    @model_validator(mode="after")
    def _has_room(self) -> LineApplication:
        if not self.room:
            raise PydanticCustomError("wanted", "has a buffer of 1, which the NUL takes.")
        return self

    @property
    def room(self) -> int:
        """How many characters of a line have a place."""
        return self.buffer - self.terminated


class BlockingApplication(_Part, frozen=True):
    """The application waits in a read for so many characters, or for so long.

    Parameters
    ----------
    kind : {"blocking"}
    length : int
        How many characters a read asks for.
    limit_s : float, optional
        How long it waits at most, in seconds from its call; for ever unless said.
    partial : {"given", "dropped"}
        What becomes of what is there when the time is up.
    whole : bool
        Whether it leaves the characters in the ring until all are there.
    busy_s, first_s : float
        What the application does between two reads, and when it first reads, on the clock of the capture, in seconds.
    buffer : int, optional
        Places of the buffer that it reads into; `length` unless said.
    terminated : bool
        Whether it puts a NUL behind what was read, which needs a place too.
    """

    tag: ClassVar[str] = "blocking"

    kind: Literal["blocking"]
    length: Size
    limit_s: Period | None = None
    partial: Literal["given", "dropped"] = "given"
    whole: StrictBool = False
    busy_s: Seconds = 0.0
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    buffer: Size | None = None
    terminated: StrictBool = False


class Deaf(_Part, frozen=True):
    """A stretch without service.

    Parameters
    ----------
    for_s : float
        How long it is, in seconds.
    first_s : float
        When the first begins, on the clock of the capture.
    every_s : float, optional
        From one to the next; there is one alone unless said.
    stops : {"service", "everything"}
        Whether the application goes on, as with interrupts off, or stands still too, as in a debugger's halt.
    note : str
        Why.
    """

    for_s: Period
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    every_s: Period | None = None
    stops: Literal["service", "everything"] = "service"
    note: str = ""

    @model_validator(mode="after")
    def _ends(self) -> Deaf:
        if self.every_s is not None and self.every_s <= self.for_s:
            raise PydanticCustomError("wanted", "every_s must be more than for_s, or there is never any service.")
        return self


class Pause(_Part, frozen=True):
    """How the receiver asks the sender to pause, and what the sender does.

    Parameters
    ----------
    at, resume_at : int
        At how many characters it asks for a pause, and at how few it lets the sender go on.
    watches : {"ring", "fifo"}
        Where they are counted.
    delay_s : float
        From there until the signal is out, in seconds; for a pause character, how long it waits behind others. The time
        that the character itself takes is added.
    reaction_characters : int
        How many characters the sender still begins when it has seen the signal.
    sender_holds : int, optional
        How many characters the sender can hold back before it loses some; any number unless said.
    """

    at: Size
    resume_at: StrictInt = Field(ge=0)
    watches: Literal["ring", "fifo"] = "ring"
    delay_s: Seconds = 0.0
    reaction_characters: StrictInt = Field(default=0, ge=0, le=1 << 20)
    sender_holds: Size | None = None

    @model_validator(mode="after")
    def _marks_lie_apart(self) -> Pause:
        if self.resume_at >= self.at:
            raise PydanticCustomError("wanted", "resume_at must be less than at.")
        return self


Service = Annotated[InterruptService | PollingService | DmaService | SoftwareReceiver, Field(discriminator="kind")]
Application = Annotated[PeriodicApplication | LineApplication | BlockingApplication, Field(discriminator="kind")]


class ReceivePath(_Part, frozen=True):
    """The receive path of one wire.

    Parameters
    ----------
    key : str
        The wire.
    fifo : Fifo
        The hardware's memory.
    service : InterruptService, PollingService, DmaService or SoftwareReceiver
        What fetches from there.
    ring : Ring, optional
        The software's buffer. Without one, what is fetched is with the application at once.
    application : PeriodicApplication, LineApplication or BlockingApplication, optional
        What takes out of the ring.
    deaf : tuple of Deaf
        Stretches without service.
    pause : Pause, optional
        What it does to pause the sender, on a line with flow control.
    seed : int
        Of the latencies' jitter.
    """

    key: str = "path"
    fifo: Input[Fifo, Fifo | Table] = default(Fifo())
    service: Input[Service, Service | Table] = default(InterruptService())
    ring: Input[Ring | None, Ring | Table | None] = default(None)
    application: Input[Application | None, Application | Table | None] = default(None)
    deaf: Input[tuple[Deaf, ...], Sequence[Deaf | Table]] = default(())
    pause: Input[Pause | None, Pause | Table | None] = default(None)
    seed: StrictInt = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _parts_fit(self) -> ReceivePath:
        mistakes = []
        if sum(one.for_s / one.every_s for one in self.deaf if one.every_s is not None) >= 1:
            mistakes.append(Mistake("deaf", "", "leave no time for any service: together they take all of it"))
        if (self.ring is None) != (self.application is None):
            missing, other = ("ring", "application") if self.ring is None else ("application", "ring")
            mistakes.append(Mistake(missing, "", f"is missing: {other} needs it"))
        if isinstance(self.service, SoftwareReceiver) and self.fifo != Fifo():
            mistakes.append(Mistake("fifo", "", "is of a UART in hardware, and this one is in software"))
        if self.pause is not None:
            if self.pause.watches == "ring" and self.ring is None:
                mistakes.append(Mistake("pause.watches", '"ring"', "is not there"))
            holds = self.fifo.size if self.pause.watches == "fifo" else self.ring.capacity if self.ring else 0
            if holds and self.pause.at > holds:
                told = f"must be at most {holds}, which is all that the {self.pause.watches} can hold"
                mistakes.append(Mistake("pause.at", f"{self.pause.at}", told))
            if self.ring is not None and self.ring.full == "wrap" and self.pause.watches == "ring":
                mistakes.append(Mistake("ring.full", '"wrap"', "does not go with a pause: who pauses, looks"))
        raise_mistakes(mistakes)
        return self
