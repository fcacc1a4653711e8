"""The send path: all that a character goes through from the code that sends it to the wire."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field, StrictBool, StrictInt, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default

from .receive_services import Period, Seconds, Size


class Call(BaseModel, frozen=True, extra="forbid"):
    """The call with which the application sends a message.

    Parameters
    ----------
    kind : {"register", "blocking", "queued"}
        Whether code writes each character into the data register; a call waits until all of them are handed on; or a
        call puts them into the buffer and returns.
    checks : bool
        Of writes to the register: whether they wait until it is empty.
    every_s : float
        Of writes to the register: time from one to the next, in seconds.
    limit_s : float, optional
        Of calls that wait: for how long at most, in seconds; what has not been handed on by then is not sent.
    returns : {"handed", "sent"}
        Of calls that wait: whether they return when the last character is handed on, or when it is on the wire.
    length : int, optional
        How many characters a call sends at most, where its length argument is fixed.
    counts_nul : bool
        Whether the length counts the NUL that ends the text, which is then sent too.
    """

    kind: Literal["register", "blocking", "queued"] = "blocking"
    checks: StrictBool = True
    every_s: Seconds = 0.0
    limit_s: Period | None = None
    returns: Literal["handed", "sent"] = "handed"
    length: Size | None = None
    counts_nul: StrictBool = False

    @model_validator(mode="after")
    def _goes_together(self) -> Call:
        wrong = ""
        if self.kind != "register" and (not self.checks or self.every_s):
            wrong = "checks and every_s are of writes to the register."
        if self.kind != "blocking" and (self.limit_s is not None or self.returns != "handed"):
            wrong = "limit_s and returns are of calls that wait."
        if wrong:
            raise PydanticCustomError("wanted", "{wrong}", {"wrong": wrong})
        return self


class Direction(BaseModel, frozen=True, extra="forbid"):
    """How a sender takes hold of a shared wire, and lets it go.

    Parameters
    ----------
    before_s : float
        From taking the wire to the first start bit, in seconds.
    released : {"register-empty", "complete", "after"}
        Upon what it lets go: the data register, FIFO and buffer are empty, with the last character still on the wire;
        the last character is complete; or a time after the message was handed on.
    after_s : float
        That time, or from the event until it has let go, in seconds.
    latency_s : float
        By up to how much later, in seconds.
    reply_after_s : float, optional
        How soon after the last stop bit the other end may answer, in seconds.
    """

    before_s: Seconds = 0.0
    released: Literal["register-empty", "complete", "after"] = "complete"
    after_s: Seconds = 0.0
    latency_s: Seconds = 0.0
    reply_after_s: Seconds | None = None


class SendPath(BaseModel, frozen=True, extra="forbid"):
    """The send path of one wire.

    Parameters
    ----------
    key : str
        The wire.
    fifo : int
        How many characters wait in hardware beside the character in the shift register; 1 is a data register.
    buffer : int
        How many characters wait in software; 0 for none.
    full : {"wait", "drop-new"}
        What a call that only puts them there does when there is no room: it waits, or drops what has none.
    call : Call
        How the application sends.
    direction : Direction, optional
        Of a wire that several ends drive.
    """

    key: str = "path"
    fifo: StrictInt = Field(default=1, ge=1, le=65_536)
    buffer: StrictInt = Field(default=0, ge=0, le=1 << 24)
    full: Literal["wait", "drop-new"] = "wait"
    call: Input[Call, Call | Table] = default(Call())
    direction: Input[Direction | None, Direction | Table | None] = default(None)

    @model_validator(mode="after")
    def _goes_together(self) -> SendPath:
        if self.call.kind == "queued" and not self.buffer:
            raise PydanticCustomError("wanted", "buffer is missing: the call puts characters there.")
        if self.call.kind == "register" and self.buffer:
            raise PydanticCustomError("wanted", "has a buffer, which writes to the register pass by.")
        if self.full != "wait" and self.call.kind != "queued":
            raise PydanticCustomError("wanted", 'full is of a call that is "queued".')
        return self
