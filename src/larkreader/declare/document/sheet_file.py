"""A sheet's TOML document, read. The one module of this stage that opens a file.

Each table is validated by itself, so that all the mistakes of a sheet are reported at once.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from larkreader.declare.common.mistakes import show
from larkreader.declare.frame.boundary import DelimitedBoundary
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.clock import Clock
from larkreader.declare.link.end import Traffic
from larkreader.declare.link.event import EventSignal
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Register
from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.send_path import SendPath
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.declare.run.exchange import Exchange
from larkreader.declare.run.loopback import LoopbackMatrix
from larkreader.declare.run.pairing import Pairing, WireTiming
from larkreader.declare.run.port import DeclaredPort
from larkreader.errors import Mistake, SheetError, nearest
from larkreader.sources import Source, SpooledPath, path_of

from .sheet import Sheet, Wire
from .sheet_setup import SetupTables

SHIPPED = Path(__file__).parents[2] / "data"
_Model = TypeVar("_Model", bound=BaseModel)
_TABLES = tuple(field.serialization_alias or name for name, field in Sheet.model_fields.items())


def open_sheet(path: Source) -> Sheet:
    """Load a sheet.

    Parameters
    ----------
    path : str, pathlib.Path or binary file
        The TOML file. What the sheet names lies in its folder, or in the current one for an open file.

    Returns
    -------
    Sheet
        The declared link.

    Raises
    ------
    SheetError
        If it cannot be read or used; `mistakes` lists everything that is wrong with it.
    """
    path = path_of(path)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise SheetError(str(path), [Mistake(str(path), "", "does not exist")]) from None
    except UnicodeDecodeError as error:
        raise SheetError(str(path), [Mistake(f"byte {error.start}", "", "is not UTF-8 text, which TOML is")]) from None
    except OSError as error:
        raise SheetError(str(path), [Mistake(str(path), "", f"cannot be read: {error.strerror}")]) from None
    folder = Path() if isinstance(path, SpooledPath) else path.parent
    return parse_sheet(text, name=str(path), folder=folder)


def open_shipped_sheet(name: str) -> Sheet:
    """Load one of the sheets that ship with us.

    Parameters
    ----------
    name : str
        ``rig``, the dosing rig's.

    Returns
    -------
    Sheet
    """
    return open_sheet(SHIPPED / f"{name}.toml")


def parse_sheet(text: str, *, name: str = "sheet", folder: str | Path = ".") -> Sheet:
    """Read a sheet from the text of its TOML document.

    Parameters
    ----------
    text : str
        The document.
    name : str
        What to call it in messages.
    folder : str or pathlib.Path
        Where the files that it names lie.

    Returns
    -------
    Sheet
        The declared link.

    Raises
    ------
    SheetError
        If it cannot be used; `mistakes` lists everything that is wrong with it.
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        what, _, place = str(error).rpartition(" (at ")
        where = place.rstrip(")") if what else "the document"
        raise SheetError(name, [Mistake(where, "", f"is not TOML: {what or error}")]) from None
    return _SheetBuilder(document, name, Path(folder)).build()


class _SheetBuilder(SetupTables):
    """Builds a sheet table by table and gathers the mistakes of all of them."""

    def __init__(self, document: Mapping[str, Any], name: str, folder: Path) -> None:
        super().__init__(document)
        self.name = name
        self.folder = folder
        self.described: dict[str, Mapping[str, Register]] = {}

    def build(self) -> Sheet:
        self._top()
        common = self._table("line")
        line = self._model(LineSettings, common, "line") or LineSettings()
        wires = self._each("wire", lambda key, table: self._wire(key, table, common))
        frames = self._each("frame", lambda key, table: self._frame(key, table, wires))
        self._check_shared_wires(frames, wires)
        ports = self._each("port", self._port)
        events = self._each("event", lambda key, table: self._event(key, table, frames))
        form = self._model(CaptureForm, self._table("capture"), "capture") or CaptureForm()
        clocks = self._each("clock", lambda key, table: self._model(Clock, {**table, "key": key}, f"clock.{key}"))
        generators = self._each("generator", self._generator)
        ends = self._each("end", lambda key, table: self._end(key, table, wires, generators))
        registers = self._each("register", self._register)
        meanings = self._each("meaning", lambda key, table: self._meaning(key, table, registers))
        rules = self._each("rule", lambda key, table: self._rule(key, table, registers))
        self._check_states(rules)
        steps = self._list("step", self._step)
        joints = self._list("joint", lambda where, table: self._joint(where, table, ends))
        traffic = self._list("traffic", lambda where, table: self._traffic(where, table, frames))
        receive = self._each("receive", lambda key, table: self._path("receive", ReceivePath, key, table))
        send = self._each("send", lambda key, table: self._path("send", SendPath, key, table))
        loopback = self._loopback(self._table("loopback"))
        exchanges = self._list("exchange", self._exchange)
        pairs = self._each("pair", lambda key, table: self._pairing(key, table, frames))
        timing = self._timing(self._table("timing"))
        if self.mistakes:
            raise SheetError(self.name, self.mistakes)
        return Sheet(
            title=self.document.get("title", ""),
            line=line,
            wire=wires,
            frame=frames,
            port=ports,
            capture=form,
            event=events,
            clock=clocks,
            generator=generators,
            end=ends,
            register=registers,
            meaning=meanings,
            rule=rules,
            step=steps,
            joint=joints,
            traffic=traffic,
            receive=receive,
            send=send,
            loopback=loopback or LoopbackMatrix(),
            exchange=exchanges,
            pair=pairs,
            timing=timing or WireTiming(),
        )

    def _top(self) -> None:
        for key in self.document:
            if key not in _TABLES:
                self.mistakes.append(Mistake(key, "", "is not a key of a sheet", nearest(key, _TABLES)))
        version = self.document.get("sheet")
        if version != 1:
            found = "" if version is None else show(version)
            self.mistakes.append(Mistake("sheet", found, "must be 1, the version of the format", "Write sheet = 1"))
        if not isinstance(self.document.get("title", ""), str):
            self.mistakes.append(Mistake("title", show(self.document["title"]), "must be text in quotes"))
        if not self.document.get("wire"):
            advice = 'Write for instance [wire.from_pump] with signal = "pump_tx".'
            self.mistakes.append(Mistake("wire", "", "is missing: a sheet declares one wire at least", advice))

    def _wire(self, key: str, table: Mapping[str, Any], common: Mapping[str, Any]) -> Wire | None:
        own = table.get("line", {})
        if not isinstance(own, Mapping):
            self.mistakes.append(Mistake(f"wire.{key}.line", show(own), "must be a table of what differs from [line]"))
            return None
        before = len(self.mistakes)
        self._model(LineSettings, own, f"wire.{key}.line")
        line = self._valid_part(common) | dict(own) if before == len(self.mistakes) else {}
        return self._model(Wire, {**table, "key": key, "line": line}, f"wire.{key}")

    def _frame(self, key: str, table: Mapping[str, Any], wires: Mapping[str, Wire]) -> FrameLayout | None:
        declared = self._table("wire")
        wire = table.get("wire")
        if wire is None and len(declared) > 1:
            wanted = f"is missing: say on which wire the frame travels ({', '.join(declared)})"
            self.mistakes.append(Mistake(f"frame.{key}.wire", "", wanted))
        if isinstance(wire, str) and wire not in declared:
            advice = nearest(wire, list(declared))
            self.mistakes.append(Mistake(f"frame.{key}.wire", show(wire), "is not a wire of this sheet", advice))
        wire = wire if wire is not None else next(iter(declared), None)
        if isinstance(wire, str) and wire in wires and _carries_no_bytes(wires[wire].line):
            wanted = "carries 9 data bits; frames are cut from bytes, so that the ninth must be an address-mark"
            self.mistakes.append(Mistake(f"frame.{key}.wire", show(wire), wanted))
        return self._model(FrameLayout, {**table, "key": key, "wire": wire}, f"frame.{key}")

    def _check_shared_wires(self, frames: Mapping[str, FrameLayout], wires: Mapping[str, Wire]) -> None:
        """Layouts on one wire have one kind of boundary, one length if that is fixed, and the same delimiters."""
        first: dict[str | None, FrameLayout] = {}
        for key, layout in frames.items():
            other = first.setdefault(layout.wire, layout)
            kind, wanted = layout.boundary.kind, other.boundary.kind
            if kind != wanted:
                told = f"must be as that of {other.key}, {show(wanted)}, which travels on the same wire"
                self.mistakes.append(Mistake(f"frame.{key}.boundary.kind", show(kind), told))
            elif kind == "fixed" and layout.longest != other.longest:
                told = f"must be {other.longest}, as that of {other.key}, which travels on the same wire"
                self.mistakes.append(Mistake(f"frame.{key}.boundary.length", f"{layout.longest}", told))
            elif isinstance(layout.boundary, DelimitedBoundary) and layout.boundary != other.boundary:
                told = f"must be as that of {other.key}, which travels on the same wire"
                self.mistakes.append(Mistake(f"frame.{key}.boundary", "", told))
            wire = wires.get(layout.wire or "")
            if kind == "address-mark" and wire is not None and not wire.line.has_address_mark:
                told = 'needs a line of nine data bits, as in 9N1, with ninth_bit = "address-mark"'
                self.mistakes.append(Mistake(f"frame.{key}.boundary.kind", show(kind), told))

    def _port(self, key: str, table: Mapping[str, Any]) -> DeclaredPort | None:
        for name, other in (("wire", "wire"), ("receive", "receive"), ("send", "send")):
            self._refer(f"port.{key}.{name}", table.get(name), other)
        return self._model(DeclaredPort, {**table, "key": key}, f"port.{key}")

    def _register(self, key: str, table: Mapping[str, Any]) -> Register | None:
        self._refer(f"register.{key}.end", table.get("end", []), "end")
        found: dict[str, Any] = {}
        if isinstance(table.get("svd"), str) and "mapped" not in table:
            mapped = self._of_svd(key, table["svd"], str(table.get("named", "")))
            if mapped is not None:
                found = {"bits": mapped.bits, "reset": mapped.reset, "mapped": mapped.fields}
        return self._model(Register, {**found, **table, "key": key}, f"register.{key}")

    def _of_svd(self, key: str, file: str, named: str) -> Register | None:
        """Return a register as a file describes it; note it if it does not."""
        from larkreader.declare.link.svd import read_svd

        if file not in self.described:
            try:
                self.described[file] = read_svd((self.folder / file).read_bytes(), file)
            except OSError as error:
                told = f"cannot be read: {error.strerror}"
                self.mistakes.append(Mistake(f"register.{key}.svd", show(file), told))
                self.described[file] = {}
            except SheetError as error:
                self.mistakes += [replace(one, where=f"register.{key}.svd, {one.where}") for one in error.mistakes]
                self.described[file] = {}
        known = self.described[file]
        if known and named not in known:
            told = f"is not a register of {file}"
            self.mistakes.append(Mistake(f"register.{key}.named", show(named), told, nearest(named, list(known))))
        return known.get(named)

    def _traffic(self, where: str, table: Mapping[str, Any], frames: Mapping[str, FrameLayout]) -> Traffic | None:
        self._refer(f"{where}.wire", table.get("wire", []), "wire")
        self._refer(f"{where}.frame", table.get("frame", []), "frame")
        frame = frames.get(str(table.get("frame")))
        if frame is not None and not frame.is_fixed and "length" not in table:
            told = f"is missing: {frame.key} has {frame.shortest} to {frame.longest} bytes"
            self.mistakes.append(Mistake(f"{where}.length", "", told))
        found = {"wire": frame.wire, "name": frame.key, "length": frame.length} if frame is not None else {}
        return self._model(Traffic, {**found, **table}, where)

    def _path(self, table: str, model: type[_Model], key: str, said: Mapping[str, Any]) -> _Model | None:
        self._refer(f"{table}.{key}", key, "wire")
        return self._model(model, {**said, "key": key}, f"{table}.{key}")

    def _loopback(self, table: Mapping[str, Any]) -> LoopbackMatrix | None:
        self._refer("loopback.frame", table.get("frame"), "frame")
        return self._model(LoopbackMatrix, table, "loopback")

    def _exchange(self, where: str, table: Mapping[str, Any]) -> Exchange | None:
        for name, other in (("at", "port"), ("expect_at", "port"), ("send_frame", "frame"), ("expect_frame", "frame")):
            self._refer(f"{where}.{name}", table.get(name), other)
        return self._model(Exchange, table, where)

    def _pairing(self, key: str, table: Mapping[str, Any], frames: Mapping[str, FrameLayout]) -> Pairing | None:
        known = [*self._table("frame"), *self._table("wire")]
        pairing = self._model(Pairing, {**table, "key": key}, f"pair.{key}")
        if pairing is None:
            return None
        for side in ("request", "reply"):
            names = getattr(pairing, side)
            for name in names:
                if name not in known:
                    told = "is neither a frame nor a wire of this sheet"
                    self.mistakes.append(Mistake(f"pair.{key}.{side}", show(name), told, nearest(name, known)))
            fields = pairing.match.keys() if side == "request" else pairing.match.values()
            for name, field in ((name, field) for name in names for field in fields if name in known):
                where = f"pair.{key}.match"
                if name not in self._table("frame"):
                    self.mistakes.append(Mistake(where, show(field), f"needs layouts as {side}, and {name} is a wire"))
                elif name in frames and field not in frames[name].slot:
                    told = f"is not a field of {name}"
                    self.mistakes.append(Mistake(where, show(field), told, nearest(field, list(frames[name].slot))))
        return pairing

    def _timing(self, table: Mapping[str, Any]) -> WireTiming | None:
        if isinstance(table.get("shared"), list):
            self._refer("timing.shared", table["shared"], "wire")
        return self._model(WireTiming, table, "timing")

    def _event(self, key: str, table: Mapping[str, Any], frames: Mapping[str, FrameLayout]) -> EventSignal | None:
        declared = self._table("wire")
        wire = table.get("wire", next(iter(declared), None) if len(declared) == 1 else None)
        if wire is None and declared:
            wanted = f"is missing: say on which wire something follows ({', '.join(declared)})"
            self.mistakes.append(Mistake(f"event.{key}.wire", "", wanted))
            return None
        if isinstance(wire, str) and wire not in declared:
            advice = nearest(wire, list(declared))
            self.mistakes.append(Mistake(f"event.{key}.wire", show(wire), "is not a wire of this sheet", advice))
        elif table.get("to") == "frame" and not any(layout.wire == wire for layout in frames.values()):
            self.mistakes.append(Mistake(f"event.{key}.to", '"frame"', f"needs a frame on {show(wire)}"))
        return self._model(EventSignal, {**table, "key": key, "wire": wire}, f"event.{key}")

    def _valid_part(self, common: Mapping[str, Any]) -> dict[str, Any]:
        """Leave out of ``[line]`` what has been reported already, so that it is reported once."""
        try:
            LineSettings.model_validate(common)
        except ValidationError as error:
            wrong = {detail["loc"][0] for detail in error.errors() if detail["loc"]}
            return {key: value for key, value in common.items() if key not in wrong}
        return dict(common)


def _carries_no_bytes(line: LineSettings) -> bool:
    return line.data_bits > 8 and not line.has_address_mark
