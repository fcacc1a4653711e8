"""The stand-ins that ship with us, by name."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from larkreader.declare.link.line import LineSettings

from .device import AlteredEcho, Device, LineAnswerer, LossyEcho, NoisyEcho
from .pump import DosingPump, TalkingPump

STAND_INS: Mapping[str, Callable[[], Device]] = {
    "echo": Device,
    "altered-echo": AlteredEcho,
    "line-answerer": LineAnswerer,
    "lossy-echo": LossyEcho,
    "noisy-echo": NoisyEcho,
    "pump": DosingPump,
    "talking-pump": TalkingPump,
}
# Settings of stand-ins that have some of their own, whatever those of the port are.
OWN_LINES: Mapping[str, LineSettings] = {"talking-pump": LineSettings.parse("38400 7E1")}
