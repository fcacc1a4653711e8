"""The tables of a sheet: a row for each, from which loader, writer, schema and documentation are made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Literal, NamedTuple

from pydantic import BaseModel

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

from .wire import Wire

NO_REFERENCES: Mapping[str, str] = MappingProxyType({})


class Row(NamedTuple):
    """One table of a sheet.

    Parameters
    ----------
    table : str
        Its key.
    model : type
        What is made of it.
    form : {"one", "named", "list"}
        Whether there is one, ``[line]``, one by name, ``[wire.NAME]``, or a list, ``[[step]]``.
    refers : mapping of str to str
        Its keys that hold names of parts of another table, and that table.
    names : str
        The table whose parts its own names are.
    field : str
        The field of `Sheet` that holds it, where that has another name.
    """

    table: str
    model: type[BaseModel]
    form: Literal["one", "named", "list"]
    refers: Mapping[str, str] = NO_REFERENCES
    names: str = ""
    field: str = ""

    @property
    def attribute(self) -> str:
        """The field of `Sheet` that holds it."""
        return self.field or self.table


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
    Row("joint", Joint, "list"),
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
)


def tables_of(form: Literal["one", "named", "list"]) -> list[Row]:
    """Return the tables of one form, in the order of a sheet."""
    return [row for row in TABLES if row.form == form]
