"""Opening a port by its name."""

from __future__ import annotations

from larkreader.declare.line import LineSettings
from larkreader.errors import PortError, nearest
from larkreader.exercise.devices import STAND_INS

from .port import Port
from .simulated import SimulatedPort

STAND_IN = "stand-in:"


def open_port(name: str, line: LineSettings | None = None) -> Port:
    """Open a port.

    Parameters
    ----------
    name : str
        ``stand-in:NAME``, a simulated device that ships with us; ``stand-in:echo`` sends back what it receives.
    line : LineSettings, optional
        Its settings; 115200 8N1 unless said.

    Returns
    -------
    Port

    Raises
    ------
    PortError
        If there is no such port.
    """
    known = [STAND_IN + device for device in STAND_INS]
    if not name.startswith(STAND_IN):
        advice = "Another device can be used from Python: run_loopback takes any object with read and write"
        raise PortError(
            f'port "{name}"',
            "is of no kind that can be opened",
            f"Ports that can be opened: {', '.join(known)}",
            advice,
        )
    device = STAND_INS.get(name.removeprefix(STAND_IN))
    if device is None:
        raise PortError(f'port "{name}"', "is no stand-in that ships with us", advice=nearest(name, known))
    return SimulatedPort(line or LineSettings(), device)
