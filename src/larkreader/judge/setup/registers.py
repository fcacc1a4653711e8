"""What the registers of an end say of its line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.bauds import STANDARD_BAUDS
from larkreader.declare.link.end import End
from larkreader.declare.link.line import LineSettings
from larkreader.declare.link.registers import Register, spans_of
from larkreader.errors import RequestError
from larkreader.judge.calculate.divisors import calculate_setting
from larkreader.judge.findings.finding import Finding, make_finding

from .setup_steps import written

NEAR = 0.05  # how far a baud may be from the one that is meant


@dataclass(frozen=True)
class ImpliedSettings:
    """What registers say of an end.

    Parameters
    ----------
    end : End
        The end, with what they say instead of what it stated.
    values : mapping of str to mapping of str to int
        The value of each field that means something, by register.
    relied : tuple of str
        Registers that mean something and were never written, so that their reset values count.
    passed_over : tuple of str
        Registers that were given and of which the sheet says nothing.
    findings : tuple of Finding
        What is wrong with them.
    """

    end: End
    values: Mapping[str, Mapping[str, int]]
    relied: tuple[str, ...]
    passed_over: tuple[str, ...]
    findings: tuple[Finding, ...]


def registers_of(end: End, sheet: Sheet) -> dict[str, Register]:
    """Return the registers of an end, by name."""
    return {key: register for key, register in sheet.registers.items() if register.end in (None, end.key)}


def read_registers(sheet: Sheet, end: str, registers: Mapping[str, int]) -> ImpliedSettings:
    """Return what registers say of an end.

    Parameters
    ----------
    sheet : Sheet
        What was declared: its ``[register.*]`` and ``[meaning.*]`` count.
    end : str
        The end.
    registers : mapping of str to int
        What they hold, by name, as a dump or a log of writes has it.

    Returns
    -------
    ImpliedSettings
        The settings that the registers make, and what is wrong with them.

    Raises
    ------
    RequestError
        If the sheet has no such end, or a value does not fit its register.

    Examples
    --------
    >>> sheet = lr.Sheet(
    ...     wire={"from_pump": {}},
    ...     end={"pump": {"sends": "from_pump"}},
    ...     registers={"FORMAT": {"end": "pump", "bits": 8, "fields": {"parity": "1:0"}}},
    ...     meaning={"pump": {"parity": {"of": "FORMAT.parity", "values": {"0": "N", "1": "O", "2": "E"}}}},
    ... )
    >>> lr.read_registers(sheet, "pump", {"FORMAT": 2}).end.line
    {'format': '8E1'}
    """
    if end not in sheet.end:
        raise RequestError(f'end "{end}"', "is not on the sheet", f"there is {', '.join(sheet.end) or 'none'}")
    declared = sheet.end[end]
    known = registers_of(declared, sheet)
    for name, value in registers.items():
        if name in known and not 0 <= value < 1 << known[name].bits:
            raise RequestError(name, f"holds {value}", f"must fit into its {known[name].bits} bits")
    findings: list[Finding] = []
    stated: dict[str, Any] = {}
    values: dict[str, dict[str, int]] = {}
    relied: dict[str, None] = {}
    parity_counted = False
    meanings = sheet.meaning.get(end)
    for setting, meaning in (meanings.declared if meanings is not None else {}).items():
        numbers = []
        for place in meaning.of:
            register, _, field = place.partition(".")
            if register not in registers:
                relied[register] = None
            word = registers.get(register, known[register].reset)
            if word is None:
                break
            numbers.append(known[register].read(field, word))
            values.setdefault(register, {})[field] = numbers[-1]
        if len(numbers) < len(meaning.of):
            findings.append(_unknown(end, problem=f"{register} was not given, and its reset value is not declared."))
            continue
        result = meaning.of_values(tuple(numbers))
        shown = [f"{place} = {number}" for place, number in zip(meaning.of, numbers, strict=True)]
        if result is None:
            findings.append(_unknown(end, values=shown, setting=setting.replace("_", " ")))
        else:
            stated[setting] = result
            parity_counted |= setting == "data_bits" and meaning.parity_counted
    changes, problems = _changes(declared, sheet, stated, registers, parity_counted=parity_counted)
    findings += [*problems, *_not_enabled(declared, stated)]
    if relied:
        findings.append(make_finding("reset-relied-on", f"end.{end}", registers=relied, end=end, number=len(relied)))
    is_word = {word.name for word in sheet.generator[declared.generator].words} if declared.generator else set()
    passed_over = tuple(name for name in registers if name not in known and name not in is_word)
    return ImpliedSettings(declared.model_copy(update=changes), values, tuple(relied), passed_over, tuple(findings))


def with_registers(sheet: Sheet) -> tuple[Sheet, dict[str, ImpliedSettings]]:
    """Return a sheet whose ends state what their registers say; an end without any, what its steps write."""
    implied = {}
    for key, end in sheet.end.items():
        registers = end.registers or written(sheet, key)
        if registers and (key in sheet.meaning or end.generator is not None):
            try:
                implied[key] = read_registers(sheet, key, registers)
            except RequestError as error:
                implied[key] = ImpliedSettings(end, {}, (), (), (_unknown(key, problem=str(error)),))
    if not implied:
        return sheet, {}
    return sheet.model_copy(update={"end": {**sheet.end, **{key: item.end for key, item in implied.items()}}}), implied


def compare_maps(sheet: Sheet) -> list[Finding]:
    """Return which fields lie elsewhere by the file of a register than the sheet says."""
    findings = []
    for key, register in sheet.registers.items():
        for name in sorted(set(register.fields) & set(register.mapped)):
            ours, theirs = register.fields[name], register.mapped[name]
            if spans_of(ours) != spans_of(theirs):
                found = make_finding(
                    "map-mismatch",
                    f"register.{key}",
                    field=name,
                    register=key,
                    declared=_bits(ours),
                    found=_bits(theirs),
                    file=register.svd,
                )
                findings.append(found)
    return findings


def _changes(
    end: End, sheet: Sheet, declared: Mapping[str, Any], registers: Mapping[str, int], *, parity_counted: bool
) -> tuple[dict[str, Any], list[Finding]]:
    """Return what registers change of an end, and what is wrong with them."""
    wire = sheet.wire[end.wires[0]].line
    findings: list[Finding] = []
    line: dict[str, Any] = dict(end.line)
    stated_line = LineSettings.model_validate(wire.model_dump() | line)
    bits, parity = stated_line.data_bits, stated_line.parity
    if "data_bits" in declared:
        bits = int(declared["data_bits"])
    parity = declared.get("parity", parity)
    stops = declared.get("stop_bits", stated_line.stop_bits)
    if declared.keys() & {"data_bits", "parity", "stop_bits"}:
        line["format"] = f"{bits}{parity}{float(stops):g}"
    line |= {name: declared[name] for name in ("idle", "first_bit", "ninth_bit", "flow_control") if name in declared}
    changes: dict[str, Any] = {}
    if "data_bits" in declared:
        changes["parity_counted"] = parity_counted
    generator = sheet.generator[end.generator] if end.generator is not None else None
    if generator is not None and generator.words and all(word.name in registers for word in generator.words):
        words = tuple(registers[word.name] for word in generator.words)
        changes["words"] = words
        try:
            made = calculate_setting(words, wire.baud, sheet.clock[end.clock[0]], generator)
            line["baud"] = _meant(made.baud, wire.baud)
        except RequestError as error:
            findings.append(_unknown(end.key, problem=str(error)))
            changes.pop("words")
    try:
        LineSettings.model_validate(wire.model_dump() | line)
        changes |= {"line": line, "stated_in": end.stated_in or "its registers"} if line != end.line else {}
    except ValueError:
        findings.append(_unknown(end.key, format=str(line.get("format"))))
    return changes, findings


def _meant(baud: float, declared: float) -> float:
    """Return the baud that is meant by one that a generator makes: the declared or a standard baud, if near."""
    for item in (declared, *sorted(STANDARD_BAUDS, key=lambda other: abs(other / baud - 1))):
        if abs(baud / item - 1) <= NEAR:
            return float(item)
    return baud


def _not_enabled(end: End, declared: Mapping[str, Any]) -> list[Finding]:
    what = {"sends": "transmitter", "receives": "receiver"}
    return [
        make_finding("not-enabled", f"end.{end.key}", half=title, end=end.key)
        for role, title in what.items()
        if getattr(end, role) and declared.get(role) is False
    ]


def _unknown(end: str, **evidence: Any) -> Finding:
    return make_finding("unknown-setting", f"end.{end}", **evidence)


def _bits(bits: tuple[str, ...]) -> str:
    return f"bits {' and '.join(bits)}"
