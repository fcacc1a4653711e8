"""The receive path: all that a character goes through from the wire to the code that wants it.

A character is complete in the middle of its first stop bit. It then goes into the FIFO, or the data register, which is
a FIFO of one; a service fetches it from there and stores it in a ring; the application takes it out of the ring.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import Field, StrictBool, StrictInt, field_validator, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import raise_mistakes
from larkreader.errors import Mistake

from .receive_services import (
    DmaService,
    Fifo,
    InterruptService,
    PathPart,
    Period,
    PollingService,
    Seconds,
    Size,
    SoftwareReceiver,
)


class Ring(PathPart, frozen=True):
    """The software buffer between service and application.

    Parameters
    ----------
    size : int
        How many places it has.
    full : {"drop-new", "overwrite-oldest", "wrap", "stop"}
        What happens to a character for which there is no room: it is dropped; the oldest is given up for it; without
        a check the indices meet, and all that the ring holds is lost; or the service fetches nothing until there is
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
            raise PydanticCustomError("wanted", "holds nothing: its only place stays free.")
        if self.keeps_one_free and self.full == "wrap":
            raise PydanticCustomError("wanted", "keeps_one_free is of a ring that looks whether it is full.")
        return self


class PeriodicApplication(PathPart, frozen=True):
    """The application looks every so often.

    Parameters
    ----------
    kind : {"periodic"}
    every_s, first_s : float
        The period, and when it first looks, on the clock of the capture, in seconds.
    most : int
        How many characters it takes at a time; all by default.
    """

    tag: ClassVar[str] = "periodic"

    kind: Literal["periodic"] = "periodic"
    every_s: Period
    first_s: float = Field(default=0.0, allow_inf_nan=False)
    most: StrictInt = Field(default=0, ge=0)


class LineApplication(PathPart, frozen=True):
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
        Whether what has no place of a line is given as the next line, or dropped.
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


class BlockingApplication(PathPart, frozen=True):
    """The application waits in a read for so many characters, or for so long.

    Parameters
    ----------
    kind : {"blocking"}
    length : int
        How many characters a read asks for.
    limit_s : float, optional
        How long it waits at most, in seconds from its call; for ever by default.
    partial : {"given", "dropped"}
        What becomes of what is there when the time is up.
    whole : bool
        Whether it leaves the characters in the ring until all are there.
    busy_s, first_s : float
        What the application does between two reads, and when it first reads, on the clock of the capture, in seconds.
    buffer : int, optional
        Places of the buffer that it reads into; `length` by default.
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


class ServiceBlackout(PathPart, frozen=True):
    """A stretch without service.

    Parameters
    ----------
    for_s : float
        How long it is, in seconds.
    first_s : float
        When the first begins, on the clock of the capture.
    every_s : float, optional
        From one to the next; there is one alone by default.
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
    def _ends(self) -> ServiceBlackout:
        if self.every_s is not None and self.every_s <= self.for_s:
            raise PydanticCustomError("wanted", "every_s must be more than for_s, or there is never any service.")
        return self


class Pause(PathPart, frozen=True):
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
        How many characters the sender can hold back before it loses some; any number by default.
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


class ReceivePath(PathPart, frozen=True):
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
    deaf : tuple of ServiceBlackout
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
    deaf: Input[tuple[ServiceBlackout, ...], Sequence[ServiceBlackout | Table]] = default(())
    pause: Input[Pause | None, Pause | Table | None] = default(None)
    seed: StrictInt = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _parts_fit(self) -> ReceivePath:
        mistakes = []
        if sum(item.for_s / item.every_s for item in self.deaf if item.every_s is not None) >= 1:
            mistakes.append(Mistake("deaf", "", "leave no time for any service: together they take all of it"))
        if (self.ring is None) != (self.application is None):
            missing, other = ("ring", "application") if self.ring is None else ("application", "ring")
            mistakes.append(Mistake(missing, "", f"is missing: {other} needs it"))
        if isinstance(self.service, SoftwareReceiver) and self.fifo != Fifo():
            mistakes.append(Mistake("fifo", "", "is of a UART in hardware, and this receiver is in software"))
        if self.pause is not None:
            if self.pause.watches == "ring" and self.ring is None:
                mistakes.append(Mistake("pause.watches", '"ring"', "is not there"))
            holds = self.fifo.size if self.pause.watches == "fifo" else self.ring.capacity if self.ring else 0
            if holds and self.pause.at > holds:
                result = f"must be at most {holds}, which is all that the {self.pause.watches} can hold"
                mistakes.append(Mistake("pause.at", f"{self.pause.at}", result))
            if self.ring is not None and self.ring.full == "wrap" and self.pause.watches == "ring":
                mistakes.append(Mistake("ring.full", '"wrap"', "does not go with a pause: who pauses, looks"))
        raise_mistakes(mistakes)
        return self
