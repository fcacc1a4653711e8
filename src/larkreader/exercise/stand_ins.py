"""The stand-ins that ship with us, by name."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from .devices import AlteredEcho, Device, LineAnswerer, LossyEcho, NoisyEcho
from .pump import DosingPump

STAND_INS: Mapping[str, Callable[[], Device]] = {
    "echo": Device,
    "altered-echo": AlteredEcho,
    "line-answerer": LineAnswerer,
    "lossy-echo": LossyEcho,
    "noisy-echo": NoisyEcho,
    "pump": DosingPump,
}
