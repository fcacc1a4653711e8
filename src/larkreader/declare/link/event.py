"""Another digital signal of the capture, whose changes have to do with a wire: a pin toggled on sending, RTS, CTS."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field


class EventSignal(BaseModel, frozen=True, extra="forbid"):
    """A signal whose changes are followed by a character or a frame.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    signal : str, optional
        What it is called in a capture; `key` where it is left out.
    wire : str
        The wire on which something follows.
    edge : {"rise", "fall", "both"}
        Which of its changes count.
    to : {"character", "frame"}
        What follows: the next character, or the first of the next frame.
    within_s : float, optional
        The longest delay of what belongs to a change, in seconds; no limit by default.
    note : str
        Anything worth telling the reader.
    """

    key: str = ""
    signal: str | None = None
    wire: str = ""
    edge: Literal["rise", "fall", "both"] = "rise"
    to: Literal["character", "frame"] = "character"
    within_s: float | None = Field(default=None, gt=0, allow_inf_nan=False)
    note: str = ""

    @property
    def source(self) -> str:
        """What the signal is called in a capture."""
        return self.signal or self.key
