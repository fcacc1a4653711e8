"""Everything that the sheet alone determines about a link, before anything is sent."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.common.percent import percent_text
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.baud_generator import BaudGenerator, words_text
from larkreader.declare.link.clock import Clock, hertz_text, share_of, share_text
from larkreader.declare.link.end import End
from larkreader.declare.link.line import LineSettings
from larkreader.errors import RequestError
from larkreader.judge.calculate.baud_setting import BaudSetting
from larkreader.judge.calculate.budget import WireLoad, calculate_load, judge_load
from larkreader.judge.calculate.divisors import calculate_bauds, calculate_setting, find_divisors, of_formula
from larkreader.judge.calculate.margins import Margin, Timing, calculate_margin
from larkreader.judge.findings.finding import SEVERITIES, Finding, Verdict, make_finding, verdict_of
from larkreader.judge.setup.ends import StatedSettings, judge_ends, stated_settings
from larkreader.judge.setup.messages import Messages
from larkreader.judge.setup.path_report import SEARCHED, PathReport, judge_declared_path, judge_receive_path
from larkreader.judge.setup.registers import ImpliedSettings, compare_maps, with_registers
from larkreader.judge.setup.send_findings import judge_send_path
from larkreader.judge.setup.setup_steps import judge_steps
from larkreader.judge.setup.wiring import judge_wiring
from larkreader.judge.wire.payload import judge_payload
from larkreader.shown import Shown
from larkreader.simulate.buffers import make_burst
from larkreader.simulate.send_path import SendReplay, replay_send
from larkreader.simulate.traffic import traffic_characters, traffic_messages

from .end_clock import EndClock

THIN = 0.005  # of the baud: what should be left for slow edges, noise and unequal delays
WORSE = 0.005  # of a bit at the end of a character, by which a divisor must be worse than the best to be reported


@dataclass(frozen=True, repr=False)
class Plan(Shown):
    """What a sheet says of a link, worked out.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    implied : mapping of str to ImpliedSettings
        What registers say, by end, of those of which something is known.
    settings : mapping of str to sequence of StatedSettings
        Who states what of each wire.
    clocks : sequence of EndClock
        How each end that has a baud generator makes its bauds.
    margins : mapping of str to sequence of Margin
        What is left between the sender and each receiver of a wire.
    loads : mapping of str to WireLoad
        What each wire is to carry.
    paths : mapping of str to PathReport
        What the receive path of each wire that has one makes of its traffic.
    sends : mapping of str to SendReplay
        What the send path of each wire that has one makes of it.
    findings : tuple of Finding
        What is wrong or worth knowing, the worst first.
    """

    sheet: Sheet
    implied: Mapping[str, ImpliedSettings]
    settings: Mapping[str, Sequence[StatedSettings]]
    clocks: Sequence[EndClock]
    margins: Mapping[str, Sequence[Margin]]
    loads: Mapping[str, WireLoad]
    paths: Mapping[str, PathReport]
    sends: Mapping[str, SendReplay]
    findings: tuple[Finding, ...]

    def __repr__(self) -> str:
        ends = ", ".join(dict.fromkeys(clock.end.key for clock in self.clocks)) or "none with a clock"
        kinds = ", ".join(dict.fromkeys(finding.kind for finding in self.findings)) or "none"
        return f'<Plan of "{self.sheet.title}": {self.verdict}; ends {ends}; findings {kinds}>'

    @property
    def verdict(self) -> Verdict:
        """``"clean"``, ``"warnings"`` or ``"faults"``."""
        return verdict_of(self.findings)

    def to_dict(self) -> dict[str, Any]:
        """Return the plan as JSON has it."""
        return {
            "title": self.sheet.title,
            "verdict": self.verdict,
            "ends": {wire: [row.to_dict() for row in rows] for wire, rows in self.settings.items()},
            "registers": {
                end: {"values": item.values, "relied": list(item.relied), "passed_over": list(item.passed_over)}
                for end, item in self.implied.items()
            },
            "clocks": [clock.to_dict() for clock in self.clocks],
            "margins": {wire: [margin.to_dict() for margin in margins] for wire, margins in self.margins.items()},
            "loads": {wire: load.to_dict() for wire, load in self.loads.items()},
            "receive": {wire: path.to_dict() for wire, path in self.paths.items()},
            "send": {wire: send.to_dict() for wire, send in self.sends.items()},
            "findings": [finding.to_dict() for finding in self.findings],
        }


def plan(sheet: Sheet, *, burst: int | None = None) -> Plan:
    r"""Work out what a sheet says of a link, and what is wrong with it.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    burst : int, optional
        Run so many characters without a gap through the receive paths; the declared traffic by default.

    Returns
    -------
    Plan
        A setup that cannot work never raises; that is a finding.

    Examples
    --------
    >>> sheet = lr.parse_sheet('sheet = 1\n[wire.tx]\n[[traffic]]\nwire = "tx"\nlength = 20_000\nevery_s = 1')
    >>> [finding.kind for finding in lr.plan(sheet).findings]
    ['overloaded']
    """
    declared = sheet
    sheet, implied = with_registers(declared)
    clocks = [item for end in sheet.end.values() for item in _clocks_of(end, sheet)]
    margins = _every_margin(sheet, clocks)
    loads = calculate_load(sheet)
    paths = {
        wire: judge_receive_path(sheet, wire, characters, messages, search=len(characters) <= SEARCHED)
        for wire in sheet.receive
        for characters, messages in [_arrivals(sheet, wire, burst)]
        if len(characters)
    }
    sends = {
        wire: replay_send(*traffic_messages(sheet, wire), sheet.send[wire], sheet.wire[wire].line)
        for wire in sheet.send
        if any(item.wire == wire for item in sheet.traffic)
    }
    findings = [
        *judge_ends(sheet),
        *(finding for clock in clocks for finding in _judge_clock(clock)),
        *(
            finding
            for wire, every in margins.items()
            for item in every
            for finding in _judge_margin(wire, item, clocks)
        ),
        *(finding for item in implied.values() for finding in item.findings),
        *compare_maps(sheet),
        *judge_steps(sheet),
        *judge_wiring(sheet),
        *(finding for load in loads.values() for finding in judge_load(load)),
        *(
            finding
            for wire, path in sheet.receive.items()
            for finding in judge_declared_path(wire, path, sheet.wire[wire].line)
        ),
        *(finding for item in paths.values() for finding in item.findings),
        *(
            finding
            for wire, result in sends.items()
            for finding in judge_send_path(wire, result, sheet.wire[wire].line)
        ),
        *judge_payload(sheet),
    ]
    findings.sort(key=lambda finding: SEVERITIES.index(finding.severity))
    return Plan(declared, implied, stated_settings(sheet), clocks, margins, loads, paths, sends, tuple(findings))


def calculate_margins(sheet: Sheet) -> dict[str, list[Margin]]:
    """Return the margin of each receiver, by wire; none of a wire whose ends are not declared.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    """
    sheet, _ = with_registers(sheet)
    return _every_margin(sheet, [item for end in sheet.end.values() for item in _clocks_of(end, sheet)])


def _every_margin(sheet: Sheet, clocks: Sequence[EndClock]) -> dict[str, list[Margin]]:
    return {wire: margins for wire in sheet.wire if (margins := _margins_of(wire, sheet, clocks))}


def _arrivals(sheet: Sheet, wire: str, burst: int | None) -> tuple[Characters, Messages]:
    """Return the characters that arrive on a wire, and which of them make a message.

    The traffic goes on after the last message that is played, so a read that waits for more is not stuck.
    """
    if burst is not None:
        return make_burst(burst, sheet.wire[wire].line), Messages(is_whole=False)
    characters, starts = traffic_characters(sheet, wire)
    is_usual = len(starts) > 1 and bool(np.ptp(np.diff(starts, append=len(characters))) == 0)
    return characters, Messages(starts, is_whole=None if is_usual else False)


def _lines_of(end: End, sheet: Sheet) -> dict[str, LineSettings]:
    return {wire: end.line_on(sheet.wire[wire].line) for wire in end.wires}


def _clocks_of(end: End, sheet: Sheet) -> Iterator[EndClock]:
    """Yield how an end makes each of its bauds."""
    if end.generator is None:
        return
    generator = sheet.generator[end.generator]
    clocks = [sheet.clock[name] for name in end.clock]
    by_baud = {(line.baud, line.stop_position): line for line in _lines_of(end, sheet).values()}
    for line in by_baud.values():
        bits = line.stop_position + 1
        alternatives = find_divisors(line.baud, clocks, generator, bits=bits)
        try:
            setting, problem = _setting_in_use(end, line, clocks[0], generator, alternatives), ""
        except RequestError as error:
            setting, problem = None, str(error)
        yield EndClock(end, line, setting, alternatives, problem)


def _setting_in_use(
    end: End, line: LineSettings, clock: Clock, generator: BaudGenerator, alternatives: Sequence[BaudSetting]
) -> BaudSetting | None:
    bits = line.stop_position + 1
    if end.words:
        return calculate_setting(end.words, line.baud, clock, generator, bits=bits)
    if end.formula is not None:
        is_rounded = end.formula == "rounded"
        return of_formula(line.baud, clock, generator, rounded=is_rounded, believed=end.believed_hertz, bits=bits)
    if end.believed_hertz is not None:
        believed = clock.model_copy(update={"hertz": end.believed_hertz})
        meant = find_divisors(line.baud, believed, generator, bits=bits)
        return _on_clock(meant[0], clock) if meant else None
    return next((alternative for alternative in alternatives if alternative.clock == clock), None)


def _on_clock(setting: BaudSetting, clock: Clock) -> BaudSetting:
    """Return the same numbers with another clock."""
    return replace(setting, clock=clock)


def _judge_clock(end_clock: EndClock) -> Iterator[Finding]:
    """Yield what is wrong with how an end makes a baud."""
    end, setting = end_clock.end, end_clock.setting
    where = f"end.{end.key}"
    hertz = setting.clock.hertz if setting is not None else None
    if setting is None:
        remedy = _better_setting(end_clock, [best for best in end_clock.alternatives if abs(best.error) < 0.02])
        named = {"baud": end_clock.line.baud, "problem": end_clock.problem or None, "remedy": bool(remedy), **remedy}
        yield make_finding("no-divisor", where, end=end.key, **named)
        return
    if end.believed_hertz is not None and hertz is not None and end.believed_hertz != hertz:
        ratio = hertz / end.believed_hertz
        clocks = {"assumed": hertz_text(end.believed_hertz), "clock": hertz_text(hertz)}
        yield make_finding("clock-mismatch", where, severity="error", end=end.key, times=ratio, **clocks)
    best = next((other for other in end_clock.alternatives if other.clock == setting.clock), setting)
    if setting.worst_deviation - best.worst_deviation > WORSE and end.believed_hertz in (None, hertz):
        yield make_finding(
            "divisor-not-best",
            where,
            formula=end.formula or None,
            end=end.key,
            numbers=numbers_text(setting),
            error=setting.error,
            best=numbers_text(best),
            best_error=best.error,
        )


def _margins_of(wire: str, sheet: Sheet, clocks: Sequence[EndClock]) -> list[Margin]:
    """Return the margin of each receiver of a wire; in the sheet's format where it does not have its sender's."""
    declared = sheet.wire[wire].line
    margins = []
    for sender in (end for end in sheet.end.values() if wire in end.sends):
        for receiver in (end for end in sheet.end.values() if wire in end.receives):
            lines = [end.line_on(declared) for end in (sender, receiver)]
            is_one_format = lines[0].stop_position == lines[1].stop_position
            line = declared.model_copy(update={"format": lines[0].format if is_one_format else declared.format})
            sent = _timing(sender, lines[0], line, sheet, clocks)
            taken = _timing(receiver, lines[1], line, sheet, clocks)
            if sent is not None and taken is not None:
                margins.append(calculate_margin(line, sent, taken, samples=receiver.samples))
    return margins


def _timing(
    end: End, line: LineSettings, shared: LineSettings, sheet: Sheet, clocks: Sequence[EndClock]
) -> Timing | None:
    """Return how an end keeps time in characters of a shared format; None where it cannot make its baud."""
    if end.generator is not None:
        wanted = line.baud, line.stop_position
        made = next(
            clock for clock in clocks if clock.end is end and (clock.line.baud, clock.line.stop_position) == wanted
        )
        if made.setting is None:
            return None
        return Timing.of_setting(replace(made.setting, bits=shared.stop_position + 1), end.key)
    spread = sheet.clock[end.clock[0]].spread if end.clock else share_of(end.accuracy)[0]
    return Timing.even(line.baud, shared, spread=spread, oversampling=end.oversampling, name=end.key)


def _judge_margin(wire: str, margin: Margin, clocks: Sequence[EndClock]) -> Iterator[Finding]:
    """Yield what is wrong with a margin."""
    blamed = margin.dominant_end
    baud = margin.line.baud
    slower, faster = margin.tolerance
    if margin.tightest >= THIN:
        return
    made = next(
        (clock for clock in clocks if clock.end.key == blamed.name and clock.line.baud == margin.line.baud), None
    )
    evidence: dict[str, Any] = {
        "receiver": margin.receiver.name,
        "format": margin.line.format,
        "sender": margin.sender.name,
        "slowest": _faster(slower),
        "fastest": _faster(faster),
        "baud": baud,
        "actual": _faster(margin.sender.baud / baud - 1),
        "spread": share_text(margin.sender.spread + margin.receiver.spread),
        "larger": blamed.name,
        "larger_error": _faster(blamed.baud / baud - 1),
        "larger_spread": share_text(blamed.spread),
        "remedy": bool(remedy := _remedy(margin, made)),
        **remedy,
    }
    if margin.tightest < 0:
        yield make_finding("beyond-tolerance", wire, **evidence, worst_only=min(margin.left_nominal) >= 0)
    else:
        yield make_finding("thin-margin", wire, **evidence, left=margin.tightest, left_ppm=margin.tightest * 1e6)


def _remedy(margin: Margin, made: EndClock | None) -> dict[str, Any]:
    """Return as evidence what brings the end with the larger error within the tolerance."""
    if made is None or made.setting is None:
        return {}
    blamed = margin.dominant_end
    better = []
    for alternative in made.alternatives:
        timing = Timing.of_setting(replace(alternative, bits=margin.line.stop_position + 1), blamed.name)
        ends = (timing, margin.receiver) if blamed is margin.sender else (margin.sender, timing)
        if calculate_margin(margin.line, *ends, samples=margin.samples).tightest >= THIN:
            better.append(alternative)
    return _better_setting(made, better)


def _better_setting(made: EndClock, better: Sequence[BaudSetting]) -> dict[str, Any]:
    """Return as evidence the first of better settings; without any, what this clock makes, or which clock would do."""
    if better:
        return {"write": numbers_text(better[0]), "write_end": made.end.key, "write_error": better[0].error}
    setting = made.setting or (made.alternatives[0] if made.alternatives else None)
    if setting is None:
        return {}
    evidence: dict[str, Any] = {}
    hits = [
        baud for baud in calculate_bauds(setting.clock, setting.generator, within=THIN) if baud.wanted != made.line.baud
    ]
    if hits:
        nearest_hits = sorted(hits, key=lambda hit: abs(hit.wanted / made.line.baud - 1))[:3]
        bauds = [
            f"{nearest_hit.wanted:.0f}"
            for nearest_hit in sorted(nearest_hits, key=lambda nearest_hit: nearest_hit.wanted)
        ]
        evidence |= {"makes": bauds, "makes_end": made.end.key}
    ticks = setting.oversampling * setting.prescaler * made.line.baud
    exact = max(1, round(setting.clock.hertz / ticks)) * ticks
    if exact != setting.clock.hertz:
        return evidence | {"exact_clock": hertz_text(exact), "exact_baud": made.line.baud}
    return evidence | {"accuracy": share_text(setting.clock.spread), "accuracy_end": made.end.key}


def numbers_text(setting: BaudSetting) -> str:
    """Write the numbers of a setting as they are to be written into registers."""
    generator = setting.generator
    stored = {part.of for word in generator.words for part in word.holds}
    result = [words_text(setting.words)] if setting.words else []
    if "divisor" not in stored:
        less = f" (divisor {setting.divisor})" * (generator.holds == "N-1")
        result.append(f"{setting.registers['divisor']}{less}")
    fraction_bits = generator.fraction_bits_of(setting.oversampling)
    if fraction_bits and "fraction" not in stored:
        result.append(f"fraction {setting.fraction}/{1 << fraction_bits}")
    if generator.patterns and "extra" not in stored:
        result.append(f"pattern {setting.extra}")
    elif generator.pattern_bits and "extra" not in stored:
        result.append(f"pattern 0x{setting.extra:0{-(-generator.pattern_bits // 4)}X}")
    result += [
        f"{name} {getattr(setting, name)}"
        for name in ("prescaler", "oversampling")
        if len(getattr(generator, name)) > 1 and name not in stored
    ]
    return ", ".join(result)


def _faster(share: float) -> str:
    return "no faster" if abs(share) < 5e-7 else f"{percent_text(abs(share))} {'faster' if share > 0 else 'slower'}"
