"""The parts of a sheet, made of its tables and checked against each other, with all mistakes reported at once.

A part is a table of a document, a mapping in Python, or a model; defaults and checks are the same. What one table alone
requires is in its model; what it requires of others is here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from pydantic import BaseModel, ValidationError

from larkreader.declare.common.mistakes import mistakes_of, show
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.baud_generator import check_words
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Register
from larkreader.declare.link.steps import check_states
from larkreader.errors import Mistake, SheetError, nearest

from .controlling import controlling_mistakes, refuse_large_numbers
from .table_row import Row

ReadFile = Callable[[str], bytes]


def make_parts(
    tables: Sequence[Row],
    given: Mapping[str, Any],
    name: str,
    read_file: ReadFile | None = None,
    *,
    is_document: bool = False,
) -> dict[str, Any]:
    """Make the parts of a sheet.

    Parameters
    ----------
    tables : sequence of Row
        The tables that a sheet can have.
    given : mapping of str to object
        Those that it has.
    name : str
        The sheet's name in messages.
    read_file : callable, optional
        Returns the content of a file that the sheet names.
    is_document : bool
        Whether `given` is a document, which states the version of its format.

    Returns
    -------
    dict
        The title and, by the fields of `Sheet`, the models.

    Raises
    ------
    SheetError
        If a part cannot be used, or refers to a part that is not there.
    """
    refuse_large_numbers(given, name)
    parts = _Parts(tables, given, read_file)
    parts.check_top(is_document=is_document)
    for row in tables:
        parts.add(row)
    if parts.mistakes:
        raise SheetError(name, parts.mistakes)
    return {"title": given.get("title", ""), **{row.attribute: parts.made[row.table] for row in tables}}


class _Parts:
    """The parts that were made so far, and what was found wrong."""

    def __init__(self, tables: Sequence[Row], given: Mapping[str, Any], read_file: ReadFile | None) -> None:
        self._tables, self._read_file = tables, read_file
        self._given = {row.table: given[row.attribute] for row in tables if row.attribute in given} | dict(given)
        self._described: dict[str, Mapping[str, Register]] = {}
        self.made: dict[str, Any] = {}
        self.mistakes: list[Mistake] = []

    def check_top(self, *, is_document: bool) -> None:
        """Check all but tables: the version of the format, the title, keys that a sheet does not have."""
        known = ["sheet", "title", *(row.table for row in self._tables)]
        fields = [] if is_document else [row.attribute for row in self._tables]
        for key in (key for key in self._given if key not in known + fields):
            self._add(key, "", "is not a key of a sheet", nearest(key, known))
        version = self._given.get("sheet", None if is_document else 1)
        if version != 1:
            found = "" if version is None else show(version)
            self._add("sheet", found, "must be 1, the version of the format", "Write sheet = 1")
        if not isinstance(self._given.get("title", ""), str):
            self._add("title", show(self._given["title"]), "must be text in quotes")
        self.mistakes += controlling_mistakes(self._given)
        if not self._given.get("wire"):
            advice = 'Write for instance [wire.from_pump] with signal = "pump_tx".'
            self._add("wire", "", "is missing: a sheet declares at least one wire", advice)

    def add(self, row: Row) -> None:
        """Make the models of a table."""
        if row.form == "one":
            self.made[row.table] = self._one(row)
        elif row.form == "named":
            self.made[row.table] = dict(self._named(row))
        else:
            self.made[row.table] = tuple(self._listed(row))
        if check := _CHECKS_OF_ALL.get(row.table):
            check(self)

    def _one(self, row: Row) -> BaseModel:
        part = self._given.get(row.table, {})
        table = _table_of(part)
        if table is None:
            self._add(row.table, show(part), f"must be a table, [{row.table}]")
        return self._part(row, row.table, "", part, table or {}) or row.model()

    def _named(self, row: Row) -> Iterator[tuple[str, BaseModel]]:
        given = self._given.get(row.table, {})
        if not isinstance(given, Mapping):
            self._add(row.table, show(given), f"must be a table, [{row.table}]")
            return
        for name, part in given.items():
            where, table = f"{row.table}.{name}", _table_of(part)
            if table is None:
                self._add(where, show(part), f"must be a table, [{where}]")
            elif "key" in table:
                self._add(f"{where}.key", "", f"is not a key of [{where}]")
            else:
                self._refer(where, name if row.names else [], row.names)
                if (model := self._part(row, where, name, part, table)) is not None:
                    yield name, model

    def _listed(self, row: Row) -> Iterator[BaseModel]:
        given = self._given.get(row.table, [])
        tables = [_table_of(part) for part in given] if isinstance(given, (list, tuple)) else [None]
        for number, table in enumerate(tables):
            if table is None:
                self._add(row.table, show(given), f"must be tables, each begun with [[{row.table}]]")
                return
            where = f"{row.table}[{number}]"
            if (model := self._part(row, where, "", given[number], table)) is not None:
                yield model

    def _part(self, row: Row, where: str, key: str, part: Any, table: Mapping[str, Any]) -> BaseModel | None:
        """Make one model: complete its table, check its references, and the model against others."""
        for field, other in row.refers.items():
            self._refer(f"{where}.{field}", table.get(field), other)
        if complete := _COMPLETED.get(row.table):
            completed = complete(self, where, key, table)
            if completed is None:
                return None
            table = completed
        if row.form == "named":
            table = {**table, "key": key}
        model = part if isinstance(part, row.model) and _holds(part, table) else self._model(row.model, table, where)
        if model is not None and (check := _CHECKS.get(row.table)):
            check(self, where, key, model)
        return model

    def _model(self, model: type[BaseModel], table: Mapping[str, Any], where: str) -> BaseModel | None:
        try:
            return model.model_validate(table)
        except ValidationError as error:
            self.mistakes += mistakes_of(error, model, where)
            return None

    def _refer(self, where: str, names: Any, table: str) -> None:
        """Report the names, one or several, that are not of a table of the sheet."""
        known = self._names(table)
        article = "an" if table[:1] in tuple("aeiou") else "a"
        for name in names if isinstance(names, (list, tuple)) else [names]:
            if isinstance(name, str) and name not in known:
                wanted = f"is not {article} {table} of this sheet"
                if not known:
                    wanted = f"is not on this sheet, which has no [{table}.*]"
                self._add(where, show(name), wanted, nearest(name, known))

    def _names(self, table: str) -> list[str]:
        """Return the names in a table, also of parts that could not be made."""
        given = self._given.get(table, {})
        return list(given) if isinstance(given, Mapping) else []

    def _add(self, where: str, found: str, wanted: str, advice: str = "") -> None:
        self.mistakes.append(Mistake(where, found, wanted, advice))

    # what tables leave out, filled in from others; None where there is a mistake that was reported

    def _wire(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any] | None:
        """Give a wire the settings of ``[line]``, but for those that it declares; a whole `LineSettings` is its own."""
        own = table.get("line", {})
        if isinstance(own, LineSettings):
            return table
        if not isinstance(own, Mapping):
            self._add(f"{where}.line", show(own), "must be a table of what differs from [line]")
            return None
        before = len(self.mistakes)
        self._model(LineSettings, own, f"{where}.line")
        line = self._sound_line() | dict(own) if before == len(self.mistakes) else {}
        return {**table, "line": line}

    def _sound_line(self) -> dict[str, Any]:
        """Return the keys of ``[line]`` that are right, as the others were reported already."""
        table = _table_of(self._given.get("line", {})) or {}
        try:
            LineSettings.model_validate(table)
        except ValidationError as error:
            wrong = {detail["loc"][0] for detail in error.errors() if detail["loc"]}
            return {key: value for key, value in table.items() if key not in wrong}
        return dict(table)

    def _frame(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any]:
        declared = self._names("wire")
        wire = table.get("wire")
        if wire is None and len(declared) > 1:
            wanted = f"is missing: name the wire on which the frame travels ({', '.join(declared)})"
            self._add(f"{where}.wire", "", wanted)
        self._refer(f"{where}.wire", wire, "wire")
        wire = wire if wire is not None else next(iter(declared), None)
        line = self.made["wire"][wire].line if isinstance(wire, str) and wire in self.made["wire"] else None
        if line is not None and line.data_bits > 8 and not line.has_address_mark:
            wanted = "carries 9 data bits; frames are cut from bytes, so the ninth must be an address-mark"
            self._add(f"{where}.wire", show(wire), wanted)
        return {**table, "wire": wire}

    def _event(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any] | None:
        declared = self._names("wire")
        wire = table.get("wire", declared[0] if len(declared) == 1 else None)
        if wire is None:
            if declared:
                wanted = f"is missing: name the wire on which something follows ({', '.join(declared)})"
                self._add(f"{where}.wire", "", wanted)
            return None
        self._refer(f"{where}.wire", wire, "wire")
        is_known = isinstance(wire, str) and wire in declared
        with_frames = {layout.wire for layout in self.made["frame"].values()}
        if is_known and table.get("to") == "frame" and wire not in with_frames:
            self._add(f"{where}.to", '"frame"', f"needs a frame on {show(wire)}")
        return {**table, "wire": wire}

    def _register(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any]:
        if not isinstance(table.get("svd"), str) or "mapped" in table:
            return table
        mapped = self._register_of_svd(where, table["svd"], str(table.get("named", "")))
        found = {} if mapped is None else {"bits": mapped.bits, "reset": mapped.reset, "mapped": mapped.fields}
        return {**found, **table}

    def _register_of_svd(self, where: str, file: str, named: str) -> Register | None:
        from larkreader.declare.link.svd import read_svd

        if file not in self._described:
            self._described[file] = {}
            try:
                if self._read_file is None:
                    self._add(f"{where}.svd", show(file), "is read for a sheet in a file alone; use read_svd")
                else:
                    self._described[file] = read_svd(self._read_file(file), file)
            except OSError as error:
                self._add(f"{where}.svd", show(file), f"cannot be read: {error.strerror}")
            except SheetError as error:
                self.mistakes += [replace(mistake, where=f"{where}.svd, {mistake.where}") for mistake in error.mistakes]
        known = self._described[file]
        if known and named not in known:
            self._add(f"{where}.named", show(named), f"is not a register of {file}", nearest(named, list(known)))
        return known.get(named)

    def _traffic(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any]:
        frame = self.made["frame"].get(str(table.get("frame")))
        if frame is None:
            return table
        if not frame.is_fixed and "length" not in table:
            self._add(f"{where}.length", "", f"is missing: {frame.key} has {frame.shortest} to {frame.longest} bytes")
        return {"wire": frame.wire, "name": frame.key, "length": frame.length, **table}

    def _step(self, where: str, key: str, table: Mapping[str, Any]) -> Mapping[str, Any]:
        ends = self._names("end")
        if "end" not in table and len(ends) > 1:
            self._add(f"{where}.end", "", f"is missing: name the end that does it ({', '.join(ends)})")
        return table

    # models checked against others

    def _check_end(self, where: str, key: str, end: Any) -> None:
        generators, wires = self.made["generator"], self.made["wire"]
        if end.words and end.generator in generators:
            wrong = check_words(generators[end.generator], end.words)
            self.mistakes += [replace(item, where=f"{where}.{item.where}") for item in wrong]
        for wire in end.wires:
            if wire in wires:
                try:
                    end.line_on(wires[wire].line)
                except ValidationError as error:
                    self.mistakes += mistakes_of(error, LineSettings, f"{where}.line")
                    break

    def _check_meaning(self, where: str, key: str, meanings: Any) -> None:
        for setting, meaning in meanings.declared.items():
            for place in meaning.of:
                self._check_field(f"{where}.{setting}.of", place)
                register = self.made["register"].get(place.partition(".")[0])
                if register is not None and register.end not in (None, key):
                    wanted = f"is of {register.end}, and this is what the registers of {key} mean"
                    self._add(f"{where}.{setting}.of", show(place), wanted)

    def _check_field(self, where: str, place: str) -> None:
        """Report a field, as in ``CTRL.parity``, that is of no register."""
        registers: Mapping[str, Register] = self.made["register"]
        register, _, name = place.partition(".")
        if register not in registers and register in self._names("register"):
            return  # what is wrong with the register was reported
        fields = registers[register].field if register in registers else {}
        if name not in fields:
            known = [f"{key}.{field}" for key, item in registers.items() for field in item.field]
            wanted = "must be a field of a register of this sheet, as in CTRL.parity"
            self._add(where, show(place), wanted, nearest(place, known))

    def _check_rule(self, where: str, key: str, rule: Any) -> None:
        if rule.write is not None and "." in rule.write:
            self._check_field(f"{where}.write", rule.write)

    def _check_joint(self, where: str, key: str, joint: Any) -> None:
        ends = self.made["end"]
        known = [f"{end.key}.{name}" for end in ends.values() for name in end.pin]
        for number, name in enumerate(joint.joins):
            end = name.partition(".")[0]
            if name not in known and (end in ends or end not in self._names("end")):  # others were reported already
                wanted = "must be a pin of an end of this sheet, as in controller.tx"
                self._add(f"{where}.joins[{number}]", show(name), wanted, nearest(name, known))

    def _check_pair(self, where: str, key: str, pairing: Any) -> None:
        frames = self.made["frame"]
        known = [*self._names("frame"), *self._names("wire")]
        for side, fields in (("request", pairing.match.keys()), ("reply", pairing.match.values())):
            names = getattr(pairing, side)
            for name in names:
                if name not in known:
                    wanted = "is neither a frame nor a wire of this sheet"
                    self._add(f"{where}.{side}", show(name), wanted, nearest(name, known))
            for name, field in ((name, field) for name in names for field in fields if name in known):
                if name not in self._names("frame"):
                    self._add(f"{where}.match", show(field), f"needs layouts as {side}, and {name} is a wire")
                elif name in frames and field not in frames[name].slot:
                    advice = nearest(field, list(frames[name].slot))
                    self._add(f"{where}.match", show(field), f"is not a field of {name}", advice)

    # tables checked as a whole

    def _check_frames(self) -> None:
        """Layouts on one wire have one kind of boundary, one length if that is fixed, and the same delimiters."""
        first: dict[str | None, FrameLayout] = {}
        for key, layout in self.made["frame"].items():
            other = first.setdefault(layout.wire, layout)
            kind, shared = layout.boundary.kind, "which travels on the same wire"
            wire = self.made["wire"].get(layout.wire)
            if kind != other.boundary.kind:
                wanted = f"must be as that of {other.key}, {show(other.boundary.kind)}, {shared}"
                self._add(f"frame.{key}.boundary.kind", show(kind), wanted)
            elif layout.boundary.is_back_to_back and layout.longest != other.longest:
                wanted = f"must be {other.longest}, as that of {other.key}, {shared}"
                self._add(f"frame.{key}.boundary.length", f"{layout.longest}", wanted)
            elif layout.boundary.is_delimited and layout.boundary != other.boundary:
                self._add(f"frame.{key}.boundary", "", f"must be as that of {other.key}, {shared}")
            if layout.boundary.opened_by == "address-mark" and wire is not None and not wire.line.has_address_mark:
                wanted = 'needs a line of nine data bits, as in 9N1, with ninth_bit = "address-mark"'
                self._add(f"frame.{key}.boundary.kind", show(kind), wanted)

    def _check_rules(self) -> None:
        for key, state in check_states(self.made["rule"]):
            self._add(f"rule.{key}", show(state), "is a state that no rule sets or clears")


_Complete = Callable[[_Parts, str, str, Mapping[str, Any]], Mapping[str, Any] | None]
_COMPLETED: Mapping[str, _Complete] = {
    "wire": _Parts._wire,
    "frame": _Parts._frame,
    "event": _Parts._event,
    "register": _Parts._register,
    "traffic": _Parts._traffic,
    "step": _Parts._step,
}
_CHECKS: Mapping[str, Callable[[_Parts, str, str, Any], None]] = {
    "end": _Parts._check_end,
    "meaning": _Parts._check_meaning,
    "rule": _Parts._check_rule,
    "joint": _Parts._check_joint,
    "pair": _Parts._check_pair,
}
_CHECKS_OF_ALL: Mapping[str, Callable[[_Parts], None]] = {"frame": _Parts._check_frames, "rule": _Parts._check_rules}


def _table_of(part: Any) -> Mapping[str, Any] | None:
    """Return a part as a table: of a model what it was given, its name left out; None if it is neither."""
    if isinstance(part, BaseModel):
        given = part.model_fields_set - {"key"}
        return {name: getattr(part, name) for name in type(part).model_fields if name in given}
    return part if isinstance(part, Mapping) else None


def _holds(model: BaseModel, table: Mapping[str, Any]) -> bool:
    """Return whether a model holds all values of a table."""
    return all(getattr(model, name, None) == value for name, value in table.items())
