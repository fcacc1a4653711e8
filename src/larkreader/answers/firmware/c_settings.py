"""The settings of a link as constants of C: its lines, and what an end writes into its baud generator and registers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from larkreader.declare.common.percent import change_text
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.clock import hertz_text
from larkreader.declare.link.line import LineSettings

from .c_names import Names, c_word

if TYPE_CHECKING:
    from larkreader.answers.end_clock import EndClock
    from larkreader.answers.planning import Plan

PARITIES = {"N": "none", "E": "even", "O": "odd", "M": "mark", "S": "space"}


def settings_lines(sheet: Sheet, end: str | None, upper: str) -> Iterator[str]:
    """Yield the lines of C that hold the settings.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    end : str, optional
        The end whose registers are written too.
    upper : str
        What the names of constants begin with.
    """
    wires = sheet.wire if end is None else {key: sheet.wire[key] for key in sheet.end[end].wires}
    names = Names()
    for key, wire in wires.items():
        yield f"/* Wire {c_word(key)}: {wire.line} */"
        yield from _line(wire.line, names.give(f"{upper}_{c_word(key).upper()}", behind=("_BAUD",)))
    if end is not None:
        yield from _end(sheet, end, upper, names)


def _line(line: LineSettings, name: str) -> Iterator[str]:
    yield f"#define {name}_BAUD {_whole(line.baud)}"
    yield f"#define {name}_DATA_BITS {line.data_bits}"
    yield f"#define {name}_PARITY '{line.parity}' /* {PARITIES[line.parity]} */"
    yield f"#define {name}_HALF_STOP_BITS {round(2 * line.stop_bits)} /* stop bits: {line.stop_bits:g} */"
    yield f"#define {name}_IDLE_LEVEL {1 if line.idle == 'high' else 0}"
    yield f"#define {name}_FIRST_BIT_IS_LOWEST {1 if line.first_bit == 'lsb' else 0}"


def _whole(baud: float) -> str:
    """Return a baud as a constant: a whole number where it is one."""
    if baud != int(baud):
        return f"{baud!r}"
    return f"{int(baud)}u" if baud < 1 << 16 else f"UINT32_C({int(baud)})"


def _end(sheet: Sheet, key: str, upper: str, names: Names) -> Iterator[str]:
    """Yield what an end writes into its registers, with the margin that results."""
    from larkreader.answers.planning import plan

    planned = plan(sheet)
    end = sheet.end[key]
    for clock in planned.clocks:
        if clock.end.key == key:
            yield from _generator(clock, planned, upper, names)
    for name, value in end.registers.items():
        called = f"{upper}_REGISTER_{c_word(name).upper()}"
        if called not in names:
            yield f"#define {names.give(called)} 0x{value:02X}u /* as the sheet states it */"


def _generator(clock: EndClock, planned: Plan, upper: str, names: Names) -> Iterator[str]:
    """Yield the words of a baud generator, behind a comment on what they make."""
    best = next(iter(clock.alternatives), None)
    setting = clock.setting or best
    if setting is None:
        yield f"/* {clock.line.baud:g} baud: no divisor makes it. */"
        return
    made = f"{float(setting.baud):.2f} baud from {hertz_text(setting.clock.hertz)}, {change_text(setting.error)}"
    yield f"/* {clock.line.baud:g} baud: {made}."
    for wire, margins in planned.margins.items():
        for margin in margins:
            if clock.end.key in (margin.sender.name, margin.receiver.name):
                low, high = margin.left
                left = f"{100 * low:.2f} % slower or {100 * high:.2f} % faster"
                yield f"   {c_word(wire)}: with both clocks at their worst {margin.sender.name} may still be {left}."
    yield "*/"
    for name, value, bits in setting.words:
        called = f"{upper}_REGISTER_{c_word(name or 'divisor').upper()}"
        if called not in names:
            yield f"#define {names.give(called)} 0x{value:0{-(-bits // 4)}X}u"
