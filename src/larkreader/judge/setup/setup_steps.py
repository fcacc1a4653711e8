"""Whether an end is set up in an order that works.

The steps are gone through one after the other, with the states that hold and what the registers hold. A step that is
locked, or not in the state that it wants, changes nothing: neither registers nor states.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.registers import Register
from larkreader.declare.link.steps import Rule, Step
from larkreader.judge.findings.finding import Finding, make_finding


@dataclass
class _Progress:
    """How far the setting up of an end has come."""

    registers: dict[str, int] = field(default_factory=dict)
    states: set[str] = field(default_factory=set)
    done: dict[str, int] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)


def judge_steps(sheet: Sheet) -> list[Finding]:
    """Return which steps are missing, misplaced or ignored.

    Parameters
    ----------
    sheet : Sheet
        What was declared: its ``[[step]]`` and ``[rule.*]`` count.

    Returns
    -------
    list of Finding
        Nothing is asked of an end that has no steps.
    """
    return [finding for end in sheet.end if _steps_of(sheet, end) for finding in _go(sheet, end).findings]


def written(sheet: Sheet, end: str) -> dict[str, int]:
    """Return what the steps of an end leave in its registers, those left out that none writes."""
    return _go(sheet, end).registers


def _steps_of(sheet: Sheet, end: str) -> list[Step]:
    return [step for step in sheet.step if step.end in (None, end)]


def _go(sheet: Sheet, end: str) -> _Progress:
    """Go through the steps of an end."""
    steps = _steps_of(sheet, end)
    rules = [rule for rule in sheet.rule.values() if rule.end in (None, end)]
    registers = {key: register for key, register in sheet.registers.items() if register.end in (None, end)}
    progress = _Progress()
    where = f"end.{end}"
    for number, step in enumerate(steps, 1):
        met = [rule for rule in rules if _is(rule, step, progress.registers, registers)]
        text = _text(number, step)
        held = [rule for rule in met if _is_ignored(rule, progress.states)]
        for rule in held:
            locks = sorted(set(rule.locked_while) & progress.states)
            why = {"locks": " and ".join(locks)} if locks else {"needs": " or ".join(rule.only_while)}
            progress.findings.append(make_finding("step-ignored", where, step=text, why=_why(rule), **why))
        if held:
            continue
        for rule in met:
            lacking = [name for name in rule.needs if name not in progress.done]
            later = [name for name in lacking if _comes(rules, name, steps[number:], registers)]
            for name in later:
                progress.findings.append(make_finding("step-order", where, step=text, needed=name, why=_why(rule)))
            for name in lacking:
                if name not in later and not any(other.key == name and other.must for other in rules):
                    missing = make_finding("step-missing", where, step=text, needed=name, why=_why(rule))
                    progress.findings.append(missing)
            progress.states |= set(rule.sets)
            progress.states -= set(rule.clears)
            progress.done.setdefault(rule.key, number)
        if step.do is not None:
            progress.done.setdefault(step.do, number)
        elif step.write is not None and step.value is not None:
            progress.registers[step.write] = step.value
    for rule in rules:
        if rule.must and rule.key not in progress.done:
            in_vain = _comes(rules, rule.key, steps, registers)
            progress.findings.append(
                make_finding("step-missing", where, rule=rule.key, in_vain=in_vain, why=_why(rule))
            )
    return progress


def _is(rule: Rule, step: Step, held: dict[str, int], registers: dict[str, Register]) -> bool:
    """Return whether a step is one of which a rule speaks; of a value, whether it sets it anew."""
    if rule.write is None:
        return step.do == rule.key
    name, _, part = rule.write.partition(".")
    if step.write != name or step.value is None:
        return False
    if rule.value is None:
        return not part or _value(part, registers.get(name), step.value) != _value(
            part, registers.get(name), held.get(name)
        )
    return _value(part, registers.get(name), step.value) == rule.value


def _value(part: str, register: Register | None, word: int | None) -> int | None:
    if register is not None and word is None:
        word = register.reset
    if word is None or not part or register is None:
        return word
    return register.read(part, word)


def _is_ignored(rule: Rule, states: set[str]) -> bool:
    return bool(set(rule.locked_while) & states) or bool(rule.only_while and not set(rule.only_while) & states)


def _comes(rules: Sequence[Rule], name: str, steps: Sequence[Step], registers: dict[str, Register]) -> bool:
    """Return whether a step of this name is among some steps."""
    named = [rule for rule in rules if rule.key == name]
    return any(step.do == name or any(_is(rule, step, {}, registers) for rule in named) for step in steps)


def _text(number: int, step: Step) -> str:
    what = step.do if step.do is not None else f"{step.write} = 0x{step.value:X}"
    return f"Step {number}, {what}{f' ({step.note})' if step.note else ''},"


def _why(rule: Rule) -> str | None:
    return rule.note.rstrip(".") or None
