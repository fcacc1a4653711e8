"""The sheet: what one TOML file declares of a link."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

from pydantic import AliasChoices, BaseModel, Field, ValidationError

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.common.mistakes import mistakes_of
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.baud_generator import BaudGenerator
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.end import End, Traffic
from larkreader.declare.link.event import EventSignal
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Meanings, Register
from larkreader.declare.link.steps import Rule, Step
from larkreader.declare.link.wiring import Joint
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.declare.run.exchange import Exchange
from larkreader.declare.run.loopback import LoopbackMatrix
from larkreader.declare.run.pairing import Pairing, WireTiming
from larkreader.declare.run.port import DeclaredPort
from larkreader.errors import SheetError
from larkreader.shown import Shown

from .references import reference_mistakes

# The tables whose parts know their own name, in the order in which a sheet has them.
NAMED = (
    "wire",
    "frame",
    "port",
    "event",
    "clock",
    "generator",
    "end",
    "register",
    "meaning",
    "rule",
    "receive",
    "send",
    "pair",
)


class Wire(BaseModel, frozen=True, extra="forbid"):
    """One direction of the link.

    Parameters
    ----------
    key : str
        Its name in every output.
    signal : str, optional
        The signal in a VCD file or the column in a CSV file; `key` where it is left out.
    line : LineSettings
        Its settings: those of ``[line]`` with what the wire says otherwise.
    clear_to_send : str, optional
        The signal of a capture that lets the sender send, for flow control by RTS and CTS.
    clear_level : {"low", "high"}
        The level at which it may send; low, as on the pins of a controller, unless said.
    pause_allowance : float
        Character times within which characters may still begin after a pause was requested, as the hardware sends what
        it has taken already; 2 is the default.
    silence_s : float, optional
        How long it may rest between two messages, in seconds; longer is worth a finding.
    note : str
        Anything worth telling the reader.
    """

    key: str
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


class Sheet(Shown, BaseModel, frozen=True, extra="forbid"):
    """A declared link.

    Parameters
    ----------
    title : str
        What the link is.
    line : LineSettings
        The settings of every wire that does not say otherwise.
    wire : mapping of str to Wire
        The directions of the link, by name.
    frame : mapping of str to FrameLayout
        The layouts of its frames, by name.
    port : mapping of str to DeclaredPort
        The ports at which it can be reached, by name.
    capture : CaptureForm
        What the files of its captures do not say of themselves.
    event : mapping of str to EventSignal
        Other signals of its captures, whose changes something on a wire follows, by name.
    clock : mapping of str to Clock
        The clocks of which its ends make their bauds, by name.
    generator : mapping of str to BaudGenerator
        What divides them, by name.
    end : mapping of str to End
        The ends of the link, as each states it, by name.
    registers : mapping of str to Register
        The registers of its ends, by name; ``[register.*]`` on the sheet.
    meaning : mapping of str to Meanings
        What they mean for the settings of a line, by end.
    rule : mapping of str to Rule
        What holds of the steps by which its ends are set up, by name.
    step : tuple of Step
        Those steps, in their order.
    joint : tuple of Joint
        What joins the pins of its ends.
    traffic : tuple of Traffic
        What its wires are to carry.
    receive : mapping of str to ReceivePath
        What receives from them, by wire.
    send : mapping of str to SendPath
        What sends on them, by wire.
    loopback : LoopbackMatrix
        The runs of a loopback.
    exchange : tuple of Exchange
        The steps of a dialogue, in their order.
    pair : mapping of str to Pairing
        Which messages answer which, by name.
    timing : WireTiming
        What holds of the times of several wires together.
    """

    sheet: Literal[1] = 1
    title: str = ""
    line: Input[LineSettings, LineSettings | Table] = default(LineSettings())
    wire: Input[Mapping[str, Wire], Mapping[str, Wire | Table]]
    frame: Input[Mapping[str, FrameLayout], Mapping[str, FrameLayout | Table]] = default({})
    port: Input[Mapping[str, DeclaredPort], Mapping[str, DeclaredPort | Table]] = default({})
    capture: Input[CaptureForm, CaptureForm | Table] = default(CaptureForm())
    event: Input[Mapping[str, EventSignal], Mapping[str, EventSignal | Table]] = default({})
    clock: Input[Mapping[str, Clock], Mapping[str, Clock | Table]] = default({})
    generator: Input[Mapping[str, BaudGenerator], Mapping[str, BaudGenerator | Table]] = default({})
    end: Input[Mapping[str, End], Mapping[str, End | Table]] = default({})
    registers: Input[Mapping[str, Register], Mapping[str, Register | Table]] = Field(
        default=default({}), validation_alias=AliasChoices("register", "registers"), serialization_alias="register"
    )
    meaning: Input[Mapping[str, Meanings], Mapping[str, Meanings | Table]] = default({})
    rule: Input[Mapping[str, Rule], Mapping[str, Rule | Table]] = default({})
    step: Input[tuple[Step, ...], Sequence[Step | Table]] = default(())
    joint: Input[tuple[Joint, ...], Sequence[Joint | Table]] = default(())
    traffic: Input[tuple[Traffic, ...], Sequence[Traffic | Table]] = default(())
    receive: Input[Mapping[str, ReceivePath], Mapping[str, ReceivePath | Table]] = default({})
    send: Input[Mapping[str, SendPath], Mapping[str, SendPath | Table]] = default({})
    loopback: Input[LoopbackMatrix, LoopbackMatrix | Table] = default(LoopbackMatrix())
    exchange: Input[tuple[Exchange, ...], Sequence[Exchange | Table]] = default(())
    pair: Input[Mapping[str, Pairing], Mapping[str, Pairing | Table]] = default({})
    timing: Input[WireTiming, WireTiming | Table] = default(WireTiming())

    def __init__(self, **data: Any) -> None:
        """Make a sheet; a part takes its name from its table, and a frame the only wire there is.

        Raises
        ------
        SheetError
            If a part cannot be used, or refers to another one that is not there; `mistakes` lists all of them.
        """
        try:
            super().__init__(**_named(data))
        except ValidationError as error:
            raise SheetError("the sheet", mistakes_of(error, type(self), "")) from None
        if mistakes := list(reference_mistakes(self)):
            raise SheetError("the sheet", mistakes)

    def __repr__(self) -> str:
        tables = {"wires": self.wire, "frames": self.frame, "ports": self.port, "ends": self.end}
        parts = [f"{name} {', '.join(table)}" for name, table in tables.items() if table]
        return f'<Sheet "{self.title}": {"; ".join(parts)}>'

    __str__ = __repr__

    def line_of(self, port: str) -> LineSettings:
        """Return the line settings of a port of the sheet, or those of ``[line]`` for another."""
        wire = self.port[port].wire if port in self.port else None
        return self.line if wire is None else self.wire[wire].line

    def wires_of(self, names: tuple[str, ...]) -> tuple[str, ...]:
        """Return the wires on which what is named travels: layouts, or wires themselves."""
        found = [(self.frame[name].wire or next(iter(self.wire))) if name in self.frame else name for name in names]
        return tuple(dict.fromkeys(found))

    def layouts_of(self, wire: str) -> tuple[FrameLayout, ...]:
        """Return the layouts of the frames that travel on `wire`."""
        return tuple(layout for layout in self.frame.values() if layout.wire == wire)


def _named(data: Mapping[str, Any]) -> dict[str, Any]:
    """Return the tables of a sheet, each part with the name that it has in its table."""
    named = dict(data)
    for table, parts in data.items():
        if table in NAMED and isinstance(parts, Mapping):
            named[table] = {name: _with(part, "key", name) for name, part in parts.items()}
    wires, frames = named.get("wire"), named.get("frame")
    if isinstance(wires, Mapping) and len(wires) == 1 and isinstance(frames, Mapping):
        only = next(iter(wires))
        named["frame"] = {
            name: part if _get(part, "wire") is not None else _with(part, "wire", only) for name, part in frames.items()
        }
    return named


def _get(part: Any, name: str) -> Any:
    return part.get(name) if isinstance(part, Mapping) else getattr(part, name, None)


def _with(part: Any, name: str, value: str) -> Any:
    """Return a part, a model or a mapping, with a value; as it is if it has that already, or is neither."""
    if isinstance(part, Mapping):
        return {**part, name: value}
    if isinstance(part, BaseModel) and getattr(part, name) != value:
        return part.model_copy(update={name: value})
    return part
