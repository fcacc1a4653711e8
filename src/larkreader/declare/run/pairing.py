"""Which messages answer which, how soon they must, and which wires cannot both be driven at once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pydantic import BaseModel, Field, StrictBool, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default
from larkreader.declare.common.several import Names


class Pairing(BaseModel, frozen=True, extra="forbid"):
    """Requests and the replies that answer them: ``[pair.NAME]`` on the sheet.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    request : tuple of str
        The layouts of the requests, or a wire, on which every message is one.
    reply : tuple of str
        The layouts of what answers them, or a wire, on which any message does.
    match : mapping of str to str
        Fields that a request and its reply hold alike, such as a sequence number: those of the request, each with that
        of the reply. Without any, the next reply answers the last request before it.
    within_s : float, optional
        How long a reply may take, in seconds, from the end of the request to the beginning of the reply; a later reply
        is late.
    gone_after_s : float, optional
        How long it may take at most; what arrives later answers nothing. No limit by default.
    only_when_asked : bool
        Whether a reply to nothing is worth a finding.
    note : str
        Anything worth telling the reader.
    """

    key: str = ""
    request: Input[Names, str | Sequence[str]]
    reply: Input[Names, str | Sequence[str]]
    match: Mapping[str, str] = {}
    within_s: float | None = Field(default=None, gt=0, le=86_400)
    gone_after_s: float | None = Field(default=None, gt=0, le=86_400)
    only_when_asked: StrictBool = False
    note: str = ""

    @model_validator(mode="after")
    def _goes_together(self) -> Pairing:
        wrong = ""
        if not self.request or not self.reply:
            wrong = "must name what asks and what answers."
        elif both := set(self.request) & set(self.reply):
            wrong = f"has {', '.join(sorted(both))} both as request and as reply."
        elif self.within_s is not None and self.gone_after_s is not None and self.gone_after_s < self.within_s:
            wrong = "has gone_after_s below within_s; a reply is late before it is gone."
        if wrong:
            raise PydanticCustomError("wanted", "{wrong}", {"wrong": wrong})
        return self


class WireTiming(BaseModel, frozen=True, extra="forbid"):
    """What holds of the times of several wires together: ``[timing]`` on the sheet.

    Parameters
    ----------
    shared : tuple of str
        Wires that are one medium, as on a two-wire bus: only one end may drive it at a time.
    turnaround_s : float, optional
        How long it must rest, in seconds, from the end of what one end sends to the beginning of what another
        end sends.
    """

    shared: Input[tuple[str, ...], Sequence[str]] = default(())
    turnaround_s: float | None = Field(default=None, gt=0, le=3600)

    @model_validator(mode="after")
    def _goes_together(self) -> WireTiming:
        wrong = ""
        if len(set(self.shared)) != len(self.shared) or len(self.shared) == 1:
            wrong = "shared must name two wires or more, each once."
        elif self.turnaround_s is not None and not self.shared:
            wrong = "has turnaround_s, which is of shared wires."
        if wrong:
            raise PydanticCustomError("wanted", "{wrong}", {"wrong": wrong})
        return self
