"""One direction of a link."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.link.line import LineSettings


class Wire(BaseModel, frozen=True, extra="forbid"):
    """One direction of the link.

    Parameters
    ----------
    key : str
        Its name in every output.
    signal : str, optional
        The signal in a VCD file or the column in a CSV file; `key` where it is left out.
    line : LineSettings
        Its settings: those of ``[line]``, but for what the wire declares itself.
    clear_to_send : str, optional
        The signal of a capture that lets the sender send, for flow control by RTS and CTS.
    clear_level : {"low", "high"}
        The level at which it may send; the default is low, as on the pins of a controller.
    pause_allowance : float
        Character times within which characters may still begin after a pause was requested, as the hardware sends what
        it has taken already; 2 is the default.
    silence_s : float, optional
        How long it may rest between two messages, in seconds; longer is worth a finding.
    note : str
        Anything worth telling the reader.
    """

    key: str = ""
    signal: str | None = None
    line: Input[LineSettings, LineSettings | Table] = default(LineSettings())
    clear_to_send: str | None = None
    clear_level: Literal["low", "high"] = "low"
    pause_allowance: float = Field(default=2.0, ge=0, le=1_000_000)
    silence_s: float | None = Field(default=None, gt=0, le=86_400)
    note: str = ""

    @property
    def source(self) -> str:
        """What the wire is called in a capture."""
        return self.signal or self.key
