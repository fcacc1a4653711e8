"""What a wire can carry, and what it is asked to.

A wire sends one character after the other, in the order of asking. If all that it is to carry is asked for at the same
moment, the last waits for all the rest; while the sum of what is asked for over time stays below what the wire carries,
nothing ever waits longer than that.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import ceil
from typing import Any

from larkreader.declare.boundary import BreakBoundary, EscapeBoundary, HdlcBoundary, IdleBoundary, SlipBoundary
from larkreader.declare.end import Traffic
from larkreader.declare.layout import FrameLayout
from larkreader.declare.line import LineSettings
from larkreader.declare.sheet import Sheet

from .divisors import STANDARD_BAUDS
from .findings import Finding, make_finding

ROOM = 0.8  # of what a wire carries, that planned traffic may take: the rest is for repeats and pauses


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
        How many of them a second the wire could carry beside all other traffic.
    """

    traffic: Traffic
    characters: float
    time_s: float
    share: float
    delay_s: float | None
    highest_rate: float

    @property
    def highest_sample_rate(self) -> float | None:
        """How many samples a second can be taken and sent; None where it carries none."""
        if not self.traffic.samples:
            return None
        sent = self.highest_rate * self.traffic.samples
        return sent if self.traffic.converter_rate is None else min(sent, self.traffic.converter_rate)

    @property
    def limited_by(self) -> str:
        """What limits the rate of samples: ``"line"`` or ``"converter"``; nothing where it carries none."""
        if not self.traffic.samples:
            return ""
        return "line" if self.highest_sample_rate != self.traffic.converter_rate else "converter"


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
    """

    wire: str
    line: LineSettings
    loads: tuple[Load, ...]

    @property
    def share(self) -> float:
        """Which share of its time it is busy; more than 1 where it is asked for more than it can carry."""
        return sum(load.share for load in self.loads)

    @property
    def baud_needed(self) -> float:
        """The lowest standard baud at which `ROOM` of its time is enough, or the lowest baud of all beyond those."""
        needed = self.line.baud * self.share / ROOM
        return next((float(baud) for baud in STANDARD_BAUDS if baud >= needed), float(ceil(needed)))

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


def find_load(sheet: Sheet) -> Mapping[str, WireLoad]:
    """Tell what each wire of a sheet is to carry.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[[traffic]]`` counts.

    Returns
    -------
    mapping of str to WireLoad
        By wire.
    """
    told = {}
    for key, wire in sheet.wire.items():
        declared = [one for one in sheet.traffic if one.wire == key]
        told[key] = WireLoad(key, wire.line, _loads(declared, wire.line, sheet.frame))
    return told


def judge_load(load: WireLoad) -> list[Finding]:
    """Return what is wrong with what a wire is to carry.

    Parameters
    ----------
    load : WireLoad
        As `find_load` tells it.

    Returns
    -------
    list of Finding
    """
    findings = []
    line = load.line
    if load.share > 1:
        needed = {"baud_needed": load.baud_needed, "spare": 1 - ROOM}
        findings.append(make_finding("overloaded", load.wire, share=load.share, line=str(line), **needed))
    for one in load.loads:
        traffic = one.traffic
        deadline_s = traffic.deadline_s or traffic.every_s
        if one.delay_s is not None and one.delay_s > deadline_s:
            found = make_finding(
                "missed-deadline",
                load.wire,
                message=traffic.name or "a message",
                deadline_s=deadline_s,
                burst=f"the last of {traffic.burst:,}" if traffic.burst > 1 else "it",
                delay_s=one.delay_s,
            )
            findings.append(found)
        asked = traffic.samples * traffic.burst / traffic.every_s
        if traffic.converter_rate is not None and asked > traffic.converter_rate:
            rates = {"asked": asked, "rate": traffic.converter_rate}
            findings.append(make_finding("converter-too-slow", load.wire, message=traffic.name or "a message", **rates))
    return findings


def _loads(declared: list[Traffic], line: LineSettings, frames: Mapping[str, FrameLayout]) -> tuple[Load, ...]:
    sizes = [_size(one, frames.get(one.frame or ""), line) for one in declared]
    shares = [time_s * one.burst / one.every_s for one, (_, time_s) in zip(declared, sizes, strict=True)]
    at_once_s = sum(time_s * one.burst for one, (_, time_s) in zip(declared, sizes, strict=True))
    delay_s = at_once_s if sum(shares) <= 1 else None
    return tuple(
        Load(one, characters, time_s, share, delay_s, max(0.0, 1 - (sum(shares) - share)) / time_s)
        for one, (characters, time_s), share in zip(declared, sizes, shares, strict=True)
    )


def frame_size(layout: FrameLayout, line: LineSettings, length: int | None = None) -> tuple[float, float]:
    """Tell what a frame takes of a line.

    Parameters
    ----------
    layout : FrameLayout
        What it is.
    line : LineSettings
        The line.
    length : int, optional
        Its bytes, of one that varies; those of `FrameLayout.length` unless said.

    Returns
    -------
    tuple of float
        How many characters, with delimiters, and with stuffing of bytes that are all equally likely; and how long it
        takes with its break, or the rest of the line behind it, in seconds.
    """
    count = layout.length if length is None else length
    boundary, rest_s = layout.boundary, 0.0
    characters = float(len(layout.as_sent(b"\x41" * count)))
    if isinstance(boundary, (SlipBoundary, HdlcBoundary, EscapeBoundary)):
        characters += count * sum(len(sent) - 1 for sent in boundary.stuffing.sent.values()) / 256
    elif isinstance(boundary, IdleBoundary):
        rest_s = boundary.seconds or (boundary.characters or 0.0) * line.character_time_s
    elif isinstance(boundary, BreakBoundary):
        rest_s = line.character_time_s + line.bit_time_s
    return characters, characters * line.character_time_s + rest_s


def _size(traffic: Traffic, layout: FrameLayout | None, line: LineSettings) -> tuple[float, float]:
    assert traffic.length is not None
    if layout is not None:
        return frame_size(layout, line, traffic.length)
    return float(traffic.length), traffic.length * line.character_time_s
