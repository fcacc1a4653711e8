"""What no serial device of an operating system can be set to."""

from __future__ import annotations

from larkreader.declare.link.line import LineSettings
from larkreader.errors import PortError


def refuse_impossible(name: str, line: LineSettings) -> None:
    """Raise `PortError` if `line` asks for what no serial device can do."""
    impossible = {
        "9 data bits": line.data_bits == 9,
        "an inverted line": line.idle == "low",
        "the highest bit first": line.first_bit == "msb",
        "1.5 stop bits with more than 5 data bits": line.stop_bits == 1.5 and line.data_bits > 5,
    }
    for what, asked in impossible.items():
        if asked:
            raise PortError(f"port {name}", f"cannot do {what}, as {line} asks", "No serial device of this system can")
