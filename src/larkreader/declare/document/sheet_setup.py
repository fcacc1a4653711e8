"""The tables of a sheet that say how its ends are set up: dividers of clocks, ends, registers, rules, steps, joints."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from pydantic import ValidationError

from larkreader.declare.common.mistakes import mistakes_of, show
from larkreader.declare.link.baud_generator import BaudGenerator, check_words
from larkreader.declare.link.end import End
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Meanings, Register
from larkreader.declare.link.steps import Rule, Step, check_states
from larkreader.declare.link.wiring import Joint
from larkreader.errors import Mistake, nearest

from .sheet import Wire
from .sheet_tables import TableReader


class SetupTables(TableReader):
    """Makes models of the tables about set-up, and notes what in them refers to nothing."""

    mistakes: list[Mistake]

    def _generator(self, key: str, table: Mapping[str, Any]) -> BaudGenerator | None:
        return self._model(BaudGenerator, {**table, "key": key}, f"generator.{key}")

    def _end(
        self,
        key: str,
        table: Mapping[str, Any],
        wires: Mapping[str, Wire],
        generators: Mapping[str, BaudGenerator],
    ) -> End | None:
        for name, other in (("sends", "wire"), ("receives", "wire"), ("clock", "clock"), ("generator", "generator")):
            self._refer(f"end.{key}.{name}", table.get(name, []), other)
        end = self._model(End, {**table, "key": key}, f"end.{key}")
        if end is None:
            return None
        if end.words and end.generator is not None and end.generator in generators:
            wrong = check_words(generators[end.generator], end.words)
            self.mistakes += [replace(one, where=f"end.{key}.{one.where}") for one in wrong]
        for wire in end.wires:
            if wire in wires:
                try:
                    end.line_on(wires[wire].line)
                except ValidationError as error:
                    self.mistakes += mistakes_of(error, LineSettings, f"end.{key}.line")
                    break
        return end

    def _meaning(self, key: str, table: Mapping[str, Any], registers: Mapping[str, Register]) -> Meanings | None:
        self._refer(f"meaning.{key}", key, "end")
        meanings = self._model(Meanings, {**table, "key": key}, f"meaning.{key}")
        for setting, meaning in (meanings.said if meanings is not None else {}).items():
            for place in meaning.of:
                self._check_field(f"meaning.{key}.{setting}.of", place, registers)
                register = registers.get(place.partition(".")[0])
                if register is not None and register.end not in (None, key):
                    told = f"is of {register.end}, and this is what the registers of {key} mean"
                    self.mistakes.append(Mistake(f"meaning.{key}.{setting}.of", show(place), told))
        return meanings

    def _check_field(self, where: str, place: str, registers: Mapping[str, Register]) -> None:
        """Note a field, as in ``CTRL.parity``, that is of no register."""
        register, _, name = place.partition(".")
        if register not in registers and register in self._table("register"):
            return  # what is wrong with it has been told
        fields = registers[register].field if register in registers else {}
        if name not in fields:
            known = [f"{key}.{field}" for key, one in registers.items() for field in one.field]
            told = "must be a field of a register of this sheet, as in CTRL.parity"
            self.mistakes.append(Mistake(where, show(place), told, nearest(place, known)))

    def _rule(self, key: str, table: Mapping[str, Any], registers: Mapping[str, Register]) -> Rule | None:
        self._refer(f"rule.{key}.end", table.get("end", []), "end")
        rule = self._model(Rule, {**table, "key": key}, f"rule.{key}")
        if rule is not None and rule.write is not None and "." in rule.write:
            self._check_field(f"rule.{key}.write", rule.write, registers)
        return rule

    def _check_states(self, rules: Mapping[str, Rule]) -> None:
        for key, state in check_states(rules):
            told = "is a state that no rule sets or clears"
            self.mistakes.append(Mistake(f"rule.{key}", show(state), told))

    def _step(self, where: str, table: Mapping[str, Any]) -> Step | None:
        self._refer(f"{where}.end", table.get("end", []), "end")
        ends = self._table("end")
        if "end" not in table and len(ends) > 1:
            self.mistakes.append(Mistake(f"{where}.end", "", f"is missing: say whose it is ({', '.join(ends)})"))
        return self._model(Step, table, where)

    def _joint(self, where: str, table: Mapping[str, Any], ends: Mapping[str, End]) -> Joint | None:
        joint = self._model(Joint, table, where)
        known = [f"{end.key}.{name}" for end in ends.values() for name in end.pin]
        for number, name in enumerate(joint.joins if joint is not None else ()):
            end = name.partition(".")[0]
            if name not in known and (end in ends or end not in self._table("end")):  # others have been told already
                told = "must be a pin of an end of this sheet, as in controller.tx"
                self.mistakes.append(Mistake(f"{where}.joins[{number}]", show(name), told, nearest(name, known)))
        return joint
