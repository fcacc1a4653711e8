"""A commented sheet to begin with: of simulated wires, or those of a capture and the settings it reads best under."""

from __future__ import annotations

import re
import textwrap
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.capture_form import CaptureForm

from .sheet_text import frame_text, toml_value

WIDTH = 108  # of a remark
_BOUNDARIES = """\
# How the beginning of a frame is found, in place of "idle", a rest of the line before it:
# boundary = { kind = "marker", marker = "D7 4B" }     # the bytes with which it begins, which are then not a field
# boundary = { kind = "cobs" }                         # stuffed; also "slip" and "hdlc"
# boundary = { kind = "fixed" }                        # one frame directly behind the other
"""
_HEAD = """\
# The link as intended. All keys: docs/reference/sheet.md
sheet = 1
title = "{title}"

[line]                                   # default settings of every wire
baud = {baud}
format = "{format}"                           # data bits 5-9, parity N E O M S, stop bits 1 1.5 2
{idle}idle = "low"                             # for an inverted line
{first_bit}first_bit = "msb"
# flow_control = "xon-xoff"              # or "rts-cts"
"""
_FRAME = """
# One table for each kind of message:
# [frame.status]
# wire = "{wire}"
# boundary = {{ kind = "marker", marker = "D7 4B" }}   # the bytes with which it begins
# packing = "lsb"                          # which end of a byte the fields fill first
# fields = [
#   {{ name = "count", type = "uint8", counter = true }},
#   {{ name = "flow",  type = "uint16", scale = 0.1, unit = "mL/min", range = [0, 300] }},
#   {{ name = "crc",   type = "checksum" }},
# ]
# checksum = {{ algorithm = "CRC-16/IBM-3740", from = "count" }}

# What larkreader plan works out before anything is sent; all keys: docs/reference/plan.md
# [clock.crystal]
# hertz = 16_000_000
# accuracy = "50 ppm"
# [generator.divider]                      # what makes the baud of it
# divisor_bits = 16
# holds = "N-1"                            # what its register holds of the divisor N
# [end.board]
# sends = "{wire}"
# clock = "crystal"
# generator = "divider"
# [end.host]
# receives = "{wire}"
# accuracy = "500 ppm"
# [[traffic]]
# frame = "status"
# every_s = 0.05

# What it runs through, character by character; all keys: docs/reference/paths.md
# [receive.{wire}]
# fifo = {{ size = 16, trigger = 8, idle_characters = 4 }}
# service = {{ kind = "interrupt", latency_s = 20e-6 }}
# ring = {{ size = 256 }}
# application = {{ kind = "periodic", every_s = 0.01 }}

# What loopbacks and dialogues do; all keys: docs/reference/exercise.md
# [port.board]
# at = "/dev/ttyUSB0"                      # or "stand-in:echo", to try it without hardware
# [loopback]
# patterns = ["counting", "prbs-15"]
# bauds = [57_600, 115_200]
# [[exchange]]
# send = 'flow?\\n'
# expect = 'flow {{flow:number}}\\n'
# where = {{ flow = [0, 300] }}
"""


@dataclass(frozen=True)
class StarterWire:
    """One wire of a sheet to begin with.

    Parameters
    ----------
    signal : str
        What it is called in a capture.
    line : LineSettings or None
        Its settings; None where unknown.
    remark : str
        Anything worth telling.
    layout : FrameLayout, optional
        The frames that it carries.
    is_certain : bool
        Whether a capture leaves no doubt about the settings.
    """

    signal: str
    line: LineSettings | None = None
    remark: str = ""
    layout: FrameLayout | None = None
    is_certain: bool = True


MADE_UP = (StarterWire("tx", remark="to the device"), StarterWire("rx", remark="from the device"))


def starter_sheet(
    wires: Sequence[StarterWire] = MADE_UP,
    title: str = "My link",
    form: CaptureForm | None = None,
    layouts: Mapping[str, FrameLayout] | None = None,
) -> str:
    """Write a commented sheet to begin with.

    Parameters
    ----------
    wires : sequence of StarterWire
        What wires there are; the settings that most of them have become those of the line.
    title : str
        What the link is called.
    form : CaptureForm, optional
        What the files of its captures do not contain.
    layouts : mapping of str to FrameLayout, optional
        Frames of the last wire, by name.

    Returns
    -------
    str
        TOML that `parse_sheet` takes.

    Examples
    --------
    >>> sheet = lr.parse_sheet(lr.starter_sheet(title="Dosing rig"))
    >>> sheet.title, list(sheet.wire)
    ('Dosing rig', ['tx', 'rx'])
    """
    known = Counter(wire.line for wire in wires if wire.line is not None)
    line = known.most_common(1)[0][0] if known else LineSettings()
    text = _HEAD.format(
        title=title.replace("\\", "/").replace('"', "'"),
        baud=_number(line.baud),
        format=line.format,
        idle="" if line.idle == "low" else "# ",
        first_bit="" if line.first_bit == "msb" else "# ",
    )
    if form is not None and (declared := form.model_dump(exclude_unset=True, exclude={"word"})):
        text += "\n[capture]                                # what the file does not contain\n"
        text += "".join(f"{key} = {toml_value(value)}\n" for key, value in declared.items())
    keys = _keys_of([wire.signal for wire in wires])
    for key, wire in zip(keys, wires, strict=True):
        text += f"\n[wire.{key}]\n"
        text += "".join(f"# {part}\n" for part in textwrap.wrap(wire.remark, WIDTH))
        text += f'signal = "{wire.signal}"\n'
        other = _difference(line, wire.line or line)
        text += f"line = {{ {other} }}\n" if other else ""
    carrying = [(key, wire.layout) for key, wire in zip(keys, wires, strict=True) if wire.layout is not None]
    for key, layout in carrying:
        result = layout.model_copy(update={"wire": key})
        text += frame_text(f"{key}_message" if len(carrying) > 1 else "message", result)
    if layouts:
        text += f"\n{_BOUNDARIES}"
        for name, layout in layouts.items():
            text += frame_text(name, layout.model_copy(update={"key": name, "wire": keys[-1]}))
        return text
    return text if carrying else text + _FRAME.format(wire=keys[-1] if keys else "rx")


def _keys_of(signals: Sequence[str]) -> list[str]:
    """Return names for wires: the ends of their signals' names, as far as they differ."""
    ends = [re.sub(r"\W+", "_", signal.rsplit(".", 1)[-1]).strip("_").lower() or "wire" for signal in signals]
    whole = [re.sub(r"\W+", "_", signal).strip("_").lower() or "wire" for signal in signals]
    keys: list[str] = []
    for end, all_of_it in zip(ends, whole, strict=True):
        key = end if ends.count(end) == 1 else all_of_it
        keys.append(key if key not in keys else f"{key}_{len(keys)}")
    return keys


def _difference(line: LineSettings, other: LineSettings) -> str:
    result: Mapping[str, str] = {
        "baud": _number(other.baud),
        "format": f'"{other.format}"',
        "idle": f'"{other.idle}"',
        "first_bit": f'"{other.first_bit}"',
    }
    return ", ".join(f"{key} = {text}" for key, text in result.items() if getattr(other, key) != getattr(line, key))


def _number(baud: float) -> str:
    return f"{baud:_.0f}" if baud == int(baud) else f"{baud:_}"
