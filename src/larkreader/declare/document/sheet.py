"""The sheet: what a TOML file declares of a link."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

from pydantic import AliasChoices, BaseModel, Field

from larkreader.declare.common.given import Input, Table, default
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.baud_generator import BaudGenerator
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.end import End, Traffic
from larkreader.declare.link.event import EventSignal
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Meanings, Register
from larkreader.declare.link.steps import Rule, Step
from larkreader.declare.link.wiring import Connection
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.declare.run.exchange import Exchange
from larkreader.declare.run.loopback import LoopbackMatrix
from larkreader.declare.run.pairing import Pairing, WireTiming
from larkreader.declare.run.policy import Policy
from larkreader.declare.run.port import DeclaredPort
from larkreader.errors import RequestError, nearest
from larkreader.shown import Shown

from .parts import ReadFile, make_parts
from .table_row import Row
from .wire import Wire

# In the order in which a sheet is written; each can be checked against those before it.
TABLES: Sequence[Row] = (
    Row("line", LineSettings, "one"),
    Row("wire", Wire, "named"),
    Row("frame", FrameLayout, "named"),
    Row("port", DeclaredPort, "named", {"wire": "wire", "receive": "receive", "send": "send"}),
    Row("event", EventSignal, "named"),
    Row("clock", Clock, "named"),
    Row("generator", BaudGenerator, "named"),
    Row("end", End, "named", {"sends": "wire", "receives": "wire", "clock": "clock", "generator": "generator"}),
    Row("register", Register, "named", {"end": "end"}, field="registers"),
    Row("meaning", Meanings, "named", names="end"),
    Row("rule", Rule, "named", {"end": "end"}),
    Row("receive", ReceivePath, "named", names="wire"),
    Row("send", SendPath, "named", names="wire"),
    Row("pair", Pairing, "named"),
    Row("step", Step, "list", {"end": "end"}),
    Row("joint", Connection, "list"),
    Row("traffic", Traffic, "list", {"wire": "wire", "frame": "frame"}),
    Row(
        "exchange",
        Exchange,
        "list",
        {"at": "port", "expect_at": "port", "send_frame": "frame", "expect_frame": "frame"},
    ),
    Row("capture", CaptureForm, "one"),
    Row("loopback", LoopbackMatrix, "one", {"frame": "frame"}),
    Row("timing", WireTiming, "one", {"shared": "wire"}),
    Row("policy", Policy, "one"),
)


class Sheet(Shown, BaseModel, frozen=True, extra="forbid"):
    """A declared link.

    Parameters
    ----------
    sheet : {1}
        Version of the format.
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
    joint : tuple of Connection
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
    policy : Policy
        Which findings fail a capture on a build server.
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
    joint: Input[tuple[Connection, ...], Sequence[Connection | Table]] = default(())
    traffic: Input[tuple[Traffic, ...], Sequence[Traffic | Table]] = default(())
    receive: Input[Mapping[str, ReceivePath], Mapping[str, ReceivePath | Table]] = default({})
    send: Input[Mapping[str, SendPath], Mapping[str, SendPath | Table]] = default({})
    loopback: Input[LoopbackMatrix, LoopbackMatrix | Table] = default(LoopbackMatrix())
    exchange: Input[tuple[Exchange, ...], Sequence[Exchange | Table]] = default(())
    pair: Input[Mapping[str, Pairing], Mapping[str, Pairing | Table]] = default({})
    timing: Input[WireTiming, WireTiming | Table] = default(WireTiming())
    policy: Input[Policy, Policy | Table] = default(Policy())

    if not TYPE_CHECKING:  # type checkers make the constructor of the fields

        def __init__(self, **given: Any) -> None:
            """Make a sheet; the defaults and the checks are those of a sheet in a file.

            Raises
            ------
            SheetError
                If a part cannot be used, or refers to a part that is not there; `mistakes` lists all of them.
            """
            super().__init__(**make_parts(TABLES, given, "the sheet"))

    @classmethod
    def of_document(cls, document: Mapping[str, Any], name: str, read_file: ReadFile) -> Sheet:
        """Make a sheet of a TOML document.

        Parameters
        ----------
        document : mapping of str to object
            What the file holds.
        name : str
            The sheet's name in messages.
        read_file : callable
            Returns the content of a file that the sheet names.

        Returns
        -------
        Sheet

        Raises
        ------
        SheetError
            As of the constructor.
        """
        return cls.model_construct(**make_parts(TABLES, document, name, read_file, is_document=True))

    def __repr__(self) -> str:
        tables = {"wires": self.wire, "frames": self.frame, "ports": self.port, "ends": self.end}
        parts = [f"{name} {', '.join(table)}" for name, table in tables.items() if table]
        return f'<Sheet "{self.title}": {"; ".join(parts)}>'

    __str__ = __repr__

    def line_of(self, port: str) -> LineSettings:
        """Return the line settings of a port of the sheet, or those of ``[line]`` for another.

        Parameters
        ----------
        port : str
            The port, by its name on the sheet or in the system.
        """
        wire = self.port[port].wire if port in self.port else None
        return self.line if wire is None else self.wire[wire].line

    def wires_named(self, wire: str | None) -> list[str]:
        """Return the wire that is named, or all of them for None.

        Parameters
        ----------
        wire : str or None
            The wire.

        Raises
        ------
        RequestError
            If the sheet has no such wire.
        """
        if wire is None:
            return list(self.wire)
        if wire not in self.wire:
            raise RequestError(f'wire "{wire}"', "is not a wire of the sheet", advice=nearest(wire, list(self.wire)))
        return [wire]

    def wires_of(self, names: tuple[str, ...]) -> tuple[str, ...]:
        """Return the wires on which what is named travels: layouts, or wires themselves.

        Parameters
        ----------
        names : tuple of str
            Names of layouts and of wires.
        """
        found = [(self.frame[name].wire or next(iter(self.wire))) if name in self.frame else name for name in names]
        return tuple(dict.fromkeys(found))

    def layouts_of(self, wire: str) -> tuple[FrameLayout, ...]:
        """Return the layouts of the frames that travel on `wire`.

        Parameters
        ----------
        wire : str
            The wire.
        """
        return tuple(layout for layout in self.frame.values() if layout.wire == wire)


def tables_of(form: Literal["one", "named", "list"]) -> list[Row]:
    """Return the tables of one form, in the order of a sheet."""
    return [row for row in TABLES if row.form == form]
