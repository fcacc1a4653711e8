"""What a wire can carry, and what it is asked to.

A wire sends one character after the other, in the order of asking. If all that it is to carry is asked for at the same
moment, the last waits for all the rest; while the sum of what is asked for over time stays below what the wire carries,
nothing ever waits longer than that.

All sums are of exact fractions of the declared decimals, so that neither exactly all of a wire's time nor exactly the
deadline is exceeded by a rounding.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import ceil
from typing import Any

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.bauds import STANDARD_BAUDS
from larkreader.declare.link.end import Traffic
from larkreader.declare.link.line import LineSettings
from larkreader.judge.findings.finding import Finding, make_finding

from .baud_setting import fraction_of

ROOM = Fraction(4, 5)  # of what a wire carries, that planned traffic may take: the rest is for repeats and pauses


@dataclass(frozen=True)
class Load:
    """One kind of message on a wire.

    Parameters
    ----------
    traffic : Traffic
        What was declared.
    characters : float
        How many characters one of them takes, delimiters and stuffing of random bytes included.
    time_s : float
        How long one of them takes, with the rest of the line that it needs, in seconds.
    share : float
        Which share of the wire's time it takes.
    delay_s : float or None
        How long after it was to be sent the last of a burst has arrived at worst, in seconds; None where it waits
        longer and longer.
    highest_rate : float
        How many of them a second can be sent: as many as the wire could carry beside all other traffic, and no more
        than the converter has samples for.
    highest_sample_rate : float or None
        How many samples a second can be taken and sent; None where it carries none.
    limited_by : {"line", "converter", ""}
        What limits the rate of samples; nothing where it carries none.
    """

    traffic: Traffic
    characters: float
    time_s: float
    share: float
    delay_s: float | None
    highest_rate: float
    highest_sample_rate: float | None
    limited_by: str


@dataclass(frozen=True)
class WireLoad:
    """What one wire is to carry.

    Parameters
    ----------
    wire : str
        The wire.
    line : LineSettings
        Its settings.
    loads : tuple of Load
        What is sent on it.
    share : float
        Which share of its time it is busy; more than 1 where it is asked for more than it can carry.
    baud_needed : float
        The lowest standard baud at which `ROOM` of its time is enough, or the lowest whole baud where none is.
    """

    wire: str
    line: LineSettings
    loads: tuple[Load, ...]
    share: float
    baud_needed: float

    def to_dict(self) -> dict[str, Any]:
        """Return the load as JSON has it."""
        return {
            "line": str(self.line),
            "characters_per_second": self.line.characters_per_second,
            "share": self.share,
            "baud_needed": self.baud_needed,
            "traffic": [
                {
                    "name": load.traffic.name,
                    "characters": load.characters,
                    "time_s": load.time_s,
                    "per_second": load.traffic.burst / load.traffic.every_s,
                    "share": load.share,
                    "delay_s": load.delay_s,
                    "highest_rate": load.highest_rate,
                    "highest_sample_rate": load.highest_sample_rate,
                    "limited_by": load.limited_by,
                }
                for load in self.loads
            ],
        }


def calculate_load(sheet: Sheet) -> Mapping[str, WireLoad]:
    """Return what each wire of a sheet is to carry.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[[traffic]]`` counts.

    Returns
    -------
    mapping of str to WireLoad
        By wire.

    Examples
    --------
    Forty-eight characters of ten bits take 50 ms at 9600 baud, of every 100 ms:

    >>> traffic = [{"wire": "from_pump", "length": 48, "every_s": 0.1}]
    >>> sheet = lr.Sheet(wire={"from_pump": {"line": {"baud": 9600}}}, traffic=traffic)
    >>> lr.calculate_load(sheet)["from_pump"].share
    0.5
    """
    loads = {}
    for key, wire in sheet.wire.items():
        declared = [item for item in sheet.traffic if item.wire == key]
        loads[key] = _load_of(key, declared, wire.line, sheet.frame)
    return loads


def judge_load(load: WireLoad) -> list[Finding]:
    """Return what is wrong with what a wire is to carry.

    Parameters
    ----------
    load : WireLoad
        As of `calculate_load`.

    Returns
    -------
    list of Finding
    """
    findings = []
    line = load.line
    if load.share > 1:
        needed = {"baud_needed": load.baud_needed, "spare": float(1 - ROOM)}
        findings.append(make_finding("overloaded", load.wire, share=load.share, line=str(line), **needed))
    for item in load.loads:
        traffic = item.traffic
        deadline_s = traffic.deadline_s or traffic.every_s
        if item.delay_s is not None and item.delay_s > deadline_s:
            found = make_finding(
                "missed-deadline",
                load.wire,
                message=traffic.name or "a message",
                deadline_s=deadline_s,
                burst=f"the last of {traffic.burst:,}" if traffic.burst > 1 else "it",
                delay_s=item.delay_s,
            )
            findings.append(found)
        asked = traffic.samples * traffic.burst / fraction_of(traffic.every_s)
        if traffic.converter_rate is not None and asked > fraction_of(traffic.converter_rate):
            rates = {"asked": float(asked), "rate": traffic.converter_rate}
            findings.append(make_finding("converter-too-slow", load.wire, message=traffic.name or "a message", **rates))
    return findings


def _load_of(wire: str, declared: list[Traffic], line: LineSettings, frames: Mapping[str, FrameLayout]) -> WireLoad:
    sizes = [_size(item, frames.get(item.frame or ""), line) for item in declared]
    shares = [
        time_s * item.burst / fraction_of(item.every_s) for item, (_, time_s) in zip(declared, sizes, strict=True)
    ]
    share = sum(shares, Fraction(0))
    at_once_s = sum(time_s * item.burst for item, (_, time_s) in zip(declared, sizes, strict=True))
    loads = []
    for traffic, (characters, time_s), own in zip(declared, sizes, shares, strict=True):
        rate, limited_by = max(Fraction(0), 1 - (share - own)) / time_s, "line" if traffic.samples else ""
        if traffic.converter_rate is not None and fraction_of(traffic.converter_rate) <= rate * traffic.samples:
            rate, limited_by = fraction_of(traffic.converter_rate) / traffic.samples, "converter"
        load = Load(
            traffic,
            characters=float(characters),
            time_s=float(time_s),
            share=float(own),
            delay_s=float(at_once_s) if share <= 1 else None,
            highest_rate=float(rate),
            highest_sample_rate=float(rate * traffic.samples) if traffic.samples else None,
            limited_by=limited_by,
        )
        loads.append(load)
    needed = fraction_of(line.baud) * share / ROOM
    baud_needed = next((float(baud) for baud in STANDARD_BAUDS if baud >= needed), float(ceil(needed)))
    return WireLoad(wire, line, tuple(loads), float(share), baud_needed)


def frame_size(layout: FrameLayout, line: LineSettings, length: int | None = None) -> tuple[float, float]:
    """Return what a frame takes of a line.

    Parameters
    ----------
    layout : FrameLayout
        What it is.
    line : LineSettings
        The line.
    length : int, optional
        Its bytes, of one that varies; those of `FrameLayout.length` by default.

    Returns
    -------
    tuple of float
        How many characters, with delimiters, and with stuffing of bytes that are all equally likely; and how long it
        takes with its break, or the rest of the line behind it, in seconds.
    """
    characters, time_s = _frame_size(layout, line, length)
    return float(characters), float(time_s)


def _frame_size(layout: FrameLayout, line: LineSettings, length: int | None) -> tuple[Fraction, Fraction]:
    count = layout.length if length is None else length
    boundary, character_s = layout.boundary, _character_time(line)
    characters = Fraction(len(layout.as_sent(b"\x41" * count)))
    if boundary.stuffing is not None:
        characters += Fraction(count * sum(len(sent) - 1 for sent in boundary.stuffing.sent.values()), 256)
    rest_characters, rest_seconds = boundary.rest
    rest_s = fraction_of(rest_seconds) + fraction_of(rest_characters) * character_s
    if boundary.opened_by == "break":
        rest_s += character_s + 1 / fraction_of(line.baud)
    return characters, characters * character_s + rest_s


def _size(traffic: Traffic, layout: FrameLayout | None, line: LineSettings) -> tuple[Fraction, Fraction]:
    """Return how many characters a message takes, and how many seconds."""
    if layout is not None:
        return _frame_size(layout, line, traffic.length)
    assert traffic.length is not None
    return Fraction(traffic.length), traffic.length * _character_time(line)


def _character_time(line: LineSettings) -> Fraction:
    return Fraction(line.bits_per_character) / fraction_of(line.baud)
