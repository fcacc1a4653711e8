"""What a plan says, topic by topic, as text for a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Group
from rich.text import Text

from larkreader.answers.end_clock import EndClock
from larkreader.answers.generator_plan import GeneratorPlan
from larkreader.answers.planning import Plan, numbers_text
from larkreader.declare.common.percent import change_text, percent_text
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.clock import hertz_text, share_text
from larkreader.declare.link.line import PARITY_NAMES, LineSettings
from larkreader.judge.calculate.baud_setting import BaudSetting
from larkreader.judge.calculate.budget import frame_size
from larkreader.judge.findings.wording import duration
from larkreader.judge.setup.ends import SETTINGS, SHEET
from larkreader.present.text.terminal import heading, kept_whole, new_table

from .path_views import receive_paths, send_paths

MOST_ALTERNATIVES = 8
MOST_STANDARD_BAUDS = 21
READ = 0.5  # of a bit: a boundary that is farther off is on the wrong side of a sample
PARITY_MEANS = {
    "E": ": an even number of ones, parity bit included",
    "O": ": an odd number of ones, parity bit included",
    "M": ": the parity bit is always 1",
    "S": ": the parity bit is always 0",
}


def topics(plan: Plan) -> dict[str, Group]:
    """Return what there is to show of a plan, by topic."""
    shown = {
        "ends": _ends(plan) if plan.settings else None,
        "clocks": _clocks(plan.clocks) if plan.clocks else None,
        "registers": _registers(plan) if plan.implied else None,
        "margins": Group(heading("Margins"), margins(plan)) if plan.margins else None,
        "steps": _steps(plan.sheet) if plan.sheet.step else None,
        "wiring": _wiring(plan.sheet) if plan.sheet.joint else None,
        "load": _loads(plan),
        "receive": Group(heading("What gets lost, and where"), receive_paths(plan.paths)) if plan.paths else None,
        "send": Group(heading("What goes out, and when"), send_paths(plan.sends)) if plan.sends else None,
    }
    return {name: group for name, group in shown.items() if group is not None}


def _ends(plan: Plan) -> Group:
    """Show the settings of all ends of each wire side by side; an arrow marks what differs."""
    parts: list[Any] = [heading("Ends")]
    for wire, rows in plan.settings.items():
        table = new_table(wire, *(f"{row.end} {row.role}".strip() for row in rows), "")
        for name, title in SETTINGS.items():
            texts = [row.text_of(name) for row in rows]
            table.add_row(title, *texts, "<- differs" if len(set(texts)) > 1 else "")
        if any(row.stated_in for row in rows):
            table.add_row("stated in", *(row.stated_in or ("" if row.end == SHEET else "-") for row in rows), "")
        parts += [table, ""]
    return Group(*parts[:-1])


def _clocks(clocks: Sequence[EndClock]) -> Group:
    """Show of each end what is in its baud generator, where that puts the bits, and what else it could hold."""
    parts: list[Any] = [heading("Clocks and divisors")]
    for clock in clocks:
        parts += [*clock_view(clock), *([] if clock.setting is None else ["", _reachable_line(clock)]), ""]
    return Group(*parts[:-1])


def clock_view(end_clock: EndClock) -> list[Any]:
    """Show how one end makes a baud."""
    head = Text.assemble((end_clock.end.key, "bold"), f": {end_clock.line}")
    if end_clock.setting is None:
        return [head, f"No divisor makes it. {end_clock.problem}".strip()]
    setting = end_clock.setting
    spread = f" and up to {share_text(setting.clock.spread)} uncertain" if setting.clock.spread else ""
    result = (
        f"{setting.clock.key}, {hertz_text(setting.clock.hertz)}{spread}: write {numbers_text(setting)}. "
        f"That makes {setting.baud:,.2f} baud, {error_text(setting)}."
    )
    parts: list[Any] = [head, result, "", bit_rows(setting, end_clock.line)]
    if len(end_clock.alternatives) > 1:
        parts += ["", alternatives(end_clock.alternatives, end_clock.setting)]
    return parts


def _reachable_line(end_clock: EndClock) -> str:
    """Name the standard bauds that a clock makes well."""
    names = ", ".join(f"{setting.wanted:,.0f}" for setting in end_clock.reachable)
    return f"Standard bauds within 1 % of this clock: {names or 'none'}."


def bit_rows(setting: BaudSetting, line: LineSettings) -> Group:
    """Show where each bit begins when this end sends, and where within each it looks when it receives."""
    table = new_table("bit", ">begins at tick", ">late by", ">looks from", ">to")
    names = ["start", *map(str, range(line.data_bits)), *["parity"] * line.has_parity, "stop", "end"]
    looks = [[percent_text(within, ".0f") for within in bit] for bit in setting.samples_within] + [["", ""]]
    for name, tick, late, look in zip(names, setting.boundary_ticks, setting.deviations, looks, strict=True):
        table.add_row(name, f"{tick:,}", percent_text(late, "+.1f") if late else "0", *look)
    return Group(table)


def alternatives(settings: Sequence[BaudSetting], used: BaudSetting | None = None) -> Group:
    """Show settings, the best first, with what distinguishes them."""
    table = new_table("what could be written", ">baud", ">error", ">worst bit", "")
    varied = [
        name
        for name in ("clock", "oversampling", "prescaler")
        if len({str(getattr(setting, name)) for setting in settings}) > 1
    ]
    near = [setting for setting in settings if setting.worst_deviation < READ or setting == used] or settings[:1]
    for item in near[:MOST_ALTERNATIVES]:
        numbers = numbers_text(item)
        result = [str(item.clock) if name == "clock" else f"{name} {getattr(item, name)}" for name in varied]
        result = [*(part for part in result if part not in numbers), *(["in use"] if item == used else [])]
        table.add_row(
            numbers,
            f"{item.baud:,.2f}",
            error_text(item),
            percent_text(item.worst_deviation, ".1f"),
            ", ".join(result),
        )
    more, far = max(0, len(near) - MOST_ALTERNATIVES), len(settings) - len(near)
    result = [f"{more} more"] * bool(more) + [f"{far} that are half a bit off or more"] * bool(far)
    return Group(table, *([f"and {', and '.join(result)}"] if result else []))


def error_text(setting: BaudSetting) -> str:
    """Write how far a baud is off."""
    return percent_text(setting.error, "+.3f") if abs(setting.error) >= 5e-6 else "exact"


def standard_bauds(settings: Sequence[BaudSetting]) -> Group:
    """Show the standard bauds that a clock makes."""
    table = new_table(">standard baud", "write", ">baud", ">error")
    for setting in settings[:MOST_STANDARD_BAUDS]:
        table.add_row(f"{setting.wanted:,.0f}", numbers_text(setting), f"{setting.baud:,.2f}", error_text(setting))
    return Group(table)


def generators(plan: GeneratorPlan) -> Group:
    """Show what a clock makes with the usual kinds of baud generator, a verdict, and what would do better."""
    table = new_table("oversampling, divisor", "write", ">baud", ">error", ">left", "fit")
    for choice in plan.choices:
        if choice.setting is None:
            table.add_row(choice.name, "no divisor makes it", "-", "-", "-", choice.fit)
            continue
        setting = choice.setting
        left = percent_text(choice.left) if choice.left >= 0 else "none"
        table.add_row(choice.name, numbers_text(setting), f"{setting.baud:,.2f}", error_text(setting), left, choice.fit)
    best, clock = plan.best, hertz_text(plan.clock.hertz)
    verdict = {
        "good": f"good: {clock} makes {plan.line} with {best.name}",
        "tight": f"tight: at best, {best.name}, the other end may be {percent_text(max(best.left, 0))} off; "
        f"two ideal ends have {percent_text(best.room)}",
        "fails": f"fails: no usual generator makes {plan.line} from {clock}",
    }[best.fit]
    parts: list[Any] = [
        Text.assemble((clock, "bold"), f" to {plan.line}, with the usual kinds of baud generator"), "", table, "",
        "16x: 16 samples a bit. left: how far the other end may be off, at least.", "",
        Text.assemble(("Verdict", "bold"), f": {verdict}"),
    ]  # fmt: skip
    if plan.choices[0].fit != "good" and plan.other_clocks:
        names = ", ".join(hertz_text(hertz) for hertz in plan.other_clocks)
        parts.append(f"Clocks that make it exactly with 16 samples a bit: {names}")
    return Group(*parts)


def margins(plan: Plan) -> Group:
    """Show each pair of ends in a column."""
    every = [(wire, pair) for wire, pairs in plan.margins.items() for pair in pairs]
    table = new_table("", *(f"{item.sender.name} to {item.receiver.name}" for _, item in every))
    rows: dict[str, Sequence[str]] = {
        "wire": [wire for wire, _ in every],
        "the receiver tolerates": [" to ".join(map(change_text, item.tolerance)) for _, item in every],
        "the sender is off by": [change_text(item.sender.baud / item.line.baud - 1) for _, item in every],
        "the clocks may add": [share_text(item.sender.spread + item.receiver.spread) for _, item in every],
        "left at the worst": [f"{percent_text(item.tightest)}, {item.tightest * 1e6:,.0f} ppm" for _, item in every],
        "dominant end": [item.dominant_end.name for _, item in every],
    }
    for name, cells in rows.items():
        table.add_row(name, *cells)
    result = "What is tolerated, and what the sender is off by, is against the declared baud."
    return Group(table, "", result)


def _registers(plan: Plan) -> Group:
    """Show what the fields of registers hold that mean something, and its source."""
    parts: list[Any] = [heading("Registers")]
    for end, item in plan.implied.items():
        if item.values:
            table = new_table(end, "field", "bits", ">value", "from")
            for key, fields in item.values.items():
                for name, value in fields.items():
                    bits = " ".join(plan.sheet.registers[key].field[name])
                    table.add_row(key, name, bits, f"{value}", "reset" if key in item.relied else item.end.stated_in)
            parts += [table, ""]
        if item.passed_over:
            parts += [f"Of {', '.join(item.passed_over)} the sheet declares nothing.", ""]
    return Group(*parts[:-1])


def _steps(sheet: Sheet) -> Group:
    """Show the steps of each end in their order."""
    parts: list[Any] = [heading("Steps")]
    for end in sheet.end:
        steps = [step for step in sheet.step if step.end in (None, end)]
        if steps:
            table = new_table(">", end, "note")
            for number, step in enumerate(steps, 1):
                table.add_row(str(number), step.do or f"{step.write} = 0x{step.value:X}", step.note)
            parts += [table, ""]
    return Group(*parts[:-1])


def _wiring(sheet: Sheet) -> Group:
    """Show what is joined to what, with the pads, and what lies between."""
    table = new_table("pin", "joined to", "through")
    for joint in sheet.joint:
        first, *others = (_pin_text(sheet, name) for name in joint.joins)
        through = [f"{joint.length_m:g} m"] if joint.length_m else []
        through += [f"pull-up of {joint.pull_up_ohms:,.0f} ohms"] if joint.pull_up_ohms else []
        marks = {"translates": "level converter", "inverts": "inverter", "isolates": "isolator"}
        through += [text for name, text in marks.items() if getattr(joint, name)]
        table.add_row(first, ", ".join(others), ", ".join(through))
    return Group(heading("Wiring"), table)


def _pin_text(sheet: Sheet, name: str) -> str:
    """Name a pin with its pad and its levels, or with its current."""
    end_name, _, pin_name = name.partition(".")
    end = sheet.end[end_name]
    pin = end.pin[pin_name]
    supplied = pin.volts is not None or pin_name in ("gnd", "ground")
    result = [pin.pad, "" if supplied else pin.levels or end.levels or "", f"{pin.volts:g} V" if pin.volts else ""]
    result += [f"{amperes * 1e3:g} mA" for amperes in (pin.gives_a, pin.draws_a) if amperes is not None]
    inside = ", ".join(part for part in result if part)
    return f"{name} ({inside})" if inside else name


def _loads(plan: Plan) -> Group:
    wires = new_table("wire", "line", ">bit", ">char/s", ">bytes/s", ">busy", ">delay at worst")
    for key, load in plan.loads.items():
        line, delays = load.line, [item.delay_s for item in load.loads]
        wires.add_row(
            key,
            str(line),
            duration(line.bit_time_s),
            f"{line.characters_per_second:,.1f}",
            f"{line.characters_per_second * line.data_bits / 8:,.1f}",
            percent_text(load.share, ".1f") if load.loads else "-",
            "-"
            if not delays
            else "without end"
            if None in delays
            else duration(max(delay for delay in delays if delay)),
        )
    parts: list[Any] = [heading("What the wires carry"), wires]
    if any(load.loads for load in plan.loads.values()):
        parts += ["", _traffic(plan.loads.values())]
    return Group(*parts, *_frames(plan.sheet))


def _traffic(loads: Any) -> Group:
    headings = ("traffic", "wire", ">chars", ">takes", ">per s", ">busy", ">at most per s", ">samples/s", "limit")
    table = new_table(*headings)
    for load in loads:
        for item in load.loads:
            rate = item.highest_sample_rate
            table.add_row(
                item.traffic.name or "-",
                load.wire,
                f"{item.characters:.4g}",
                duration(item.time_s),
                f"{item.traffic.burst / item.traffic.every_s:,.4g}",
                percent_text(item.share, ".1f"),
                f"{item.highest_rate:,.1f}",
                "-" if rate is None else f"{rate:,.0f}",
                item.limited_by or "-",
            )
    return Group(kept_whole(table, 2))


def _frames(sheet: Sheet) -> list[Any]:
    """Show how long a frame of each layout takes, and how many fit into a second; nothing where there is none."""
    table = new_table("frame", "wire", ">bytes", ">takes", ">at most per s")
    for key, layout in sheet.frame.items():
        line = sheet.wire[layout.wire or ""].line
        _, takes_s = frame_size(layout, line)
        size = str(layout.length) if layout.is_fixed else f"{layout.length} of {layout.shortest} to {layout.longest}"
        table.add_row(key, layout.wire, size, duration(takes_s), f"{1 / takes_s:,.1f}")
    return ["", table] if sheet.frame else []


def card(wire: str, line: LineSettings) -> Group:
    """Show what to set at another end, in the notations that people meet."""
    table = new_table(f"Set the other end of {wire} to", "")
    word = line.data_bits + line.has_parity
    rows = {
        "in short": str(line),
        "baud": f"{line.baud:,.10g} bits a second ({duration(line.bit_time_s)} a bit)",
        "data bits": f"{line.data_bits}, without the parity bit",
        "word length": f"{word}, where the parity bit is counted" if line.has_parity else f"{word}, there is no parity",
        "parity": PARITY_NAMES[line.parity] + PARITY_MEANS.get(line.parity, ""),
        "stop bits": f"{line.stop_bits:g}",
        "first bit": "least significant" if line.first_bit == "lsb" else "most significant",
        "idle level": f"{line.idle}{'' if line.idle == 'high' else ' (inverted)'}",
        "ninth bit": "marks addresses" if line.has_address_mark else "data" if line.data_bits == 9 else "none",
        "flow control": {
            "none": "none",
            "xon-xoff": "XON/XOFF, 0x11 and 0x13",
            "rts-cts": "RTS and CTS, low when ready",
        }[line.flow_control],
        "on the wire": f"{line.bits_per_character:g} bit times a character, {duration(line.character_time_s)}",
    }
    for name, text in rows.items():
        table.add_row(name, text)
    return Group(kept_whole(table, 1))
