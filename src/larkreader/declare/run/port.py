"""A port as the sheet names it: where it is, and what must happen before it can be talked to."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field, StrictBool, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.paths.impairments import Impairments

STAND_IN = "stand-in:"
ControlLine = Literal["rts", "dtr"]


class ResetPulse(BaseModel, frozen=True, extra="forbid"):
    """A pulse on a control line that is wired to the device's reset.

    Parameters
    ----------
    line : {"dtr", "rts"}
        Which control line.
    hold_s : float
        How long it is asserted, in seconds.
    """

    line: ControlLine = "dtr"
    hold_s: float = Field(default=0.1, gt=0, le=60)


class DeclaredPort(BaseModel, frozen=True, extra="forbid"):
    r"""A port of the sheet.

    Parameters
    ----------
    key : str
        Its name on the sheet.
    at : str
        What to open: a device path, ``HOST:PORT``, ``accept:HOST:PORT``, ``pty``, ``exec:COMMAND`` or
        ``stand-in:NAME``.
    wire : str, optional
        The wire whose line settings it has; those of ``[line]`` by default.
    rts, dtr : bool, optional
        Whether to assert or release the control line on opening; left alone by default.
    reset : ResetPulse, optional
        A pulse that restarts the device after opening.
    settle_s : float
        How long what arrives after opening is taken for start-up noise, in seconds.
    ready : str, optional
        The text with which the device says that it is ready, with ``\r \n \xHH`` for single bytes.
    ready_within_s : float
        How long to wait for it, in seconds.
    impaired : Impairments, optional
        What is wrong with the simulated line to a stand-in.
    receive, send : str, optional
        Of a stand-in: the wire whose receive path, and the wire whose send path, it has.
    note : str
        Anything worth telling the reader.
    """

    key: str = ""
    at: str
    wire: str | None = None
    rts: StrictBool | None = None
    dtr: StrictBool | None = None
    reset: Input[ResetPulse | None, ResetPulse | Table | None] = default(None)
    settle_s: float = Field(default=0.0, ge=0, le=60)
    ready: str | None = Field(default=None, min_length=1)
    ready_within_s: float = Field(default=2.0, gt=0, le=600)
    impaired: Input[Impairments | None, Impairments | Table | None] = default(None)
    receive: str | None = None
    send: str | None = None
    note: str = ""

    @model_validator(mode="after")
    def _is_simulated(self) -> DeclaredPort:
        if not self.at.startswith(STAND_IN) and (self.impaired or self.receive or self.send):
            found = f"has {'impaired' if self.impaired else 'receive' if self.receive else 'send'}, "
            raise PydanticCustomError("wanted", "{found}which is of a stand-in: at = {at}.",
                                      {"found": found, "at": f'"{STAND_IN}echo"'})  # fmt: skip
        return self
