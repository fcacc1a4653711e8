"""Messages of five open standards, each on the wire as its standard says, read by the sheet that declares it."""

from pathlib import Path

import numpy as np

import larkreader as lr

SHEETS = Path(__file__).parent / "sheets"


def on_the_wire(
    line: lr.LineSettings, messages: list[bytes], gap: float = 0.0, *, break_first: bool = False
) -> lr.Trace:
    """Send messages with a gap of some bit times before each, and a break too where one begins them."""
    values: list[int] = []
    gaps: list[float] = []
    faults: list[int] = []
    for message in messages:
        sent = ([0] if break_first else []) + list(message)
        values += sent
        gaps += [gap] + [0.0] * (len(sent) - 1)
        faults += ([int(lr.Fault.BREAK)] if break_first else []) + [0] * len(message)
    return lr.transmit(np.array(values), line, gaps=gaps, faults=faults)


def written(frames: lr.Frames, name: str, row: int) -> str:
    """Write what a field holds: its name where it has one, bytes in hexadecimal."""
    held = frames.labels(name)[row]
    kind = frames.layout.slot[name].kind
    if kind == "bytes":
        return bytes(frames[name][row]).hex(" ")
    if kind == "text":
        return repr(held)
    return " ".join(held) if isinstance(held, np.ndarray) else str(held)


def show(title: str, reading: lr.Reading) -> None:
    """Print what a capture holds."""
    print(f"{title}: {reading.verdict}")
    for key, frames in reading.frames.items():
        for row in range(len(frames)):
            print(f"  {key}:", ", ".join(f"{name} {written(frames, name, row)}" for name in frames.layout.slot))


sheet = lr.open_sheet(SHEETS / "modbus_rtu.toml")
line = sheet.line
asked = bytes.fromhex("01 03 00 00 00 0A C5 CD")  # ten registers of server 1
replies = [bytes.fromhex("01 03 06 02 2B 00 00 00 64 05 7A"), bytes.fromhex("01 83 02 C0 F1")]
wires = {
    "to_server": on_the_wire(line, [asked], gap=45),
    "from_server": on_the_wire(line, replies, gap=3.5 * line.bits_per_character),
}
show("Modbus RTU", lr.read(sheet, wires))

sheet = lr.open_sheet(SHEETS / "lin.toml")
wires = {"bus": on_the_wire(sheet.line, [bytes.fromhex("55 61 4A 55 93 E5 E6")], gap=20, break_first=True)}
show("LIN", lr.read(sheet, wires))

sheet = lr.open_sheet(SHEETS / "meter_readout.toml")
text = b"1.8.0(00123.4*L)\r\n!\r\n\x03"
check = int(np.bitwise_xor.reduce(np.frombuffer(text, np.uint8)))
wires = {"from_meter": on_the_wire(sheet.line, [b"/LRK5NUTRIENT\r\n\r\n", b"\x02" + text + bytes([check])])}
show("IEC 62056-21", lr.read(sheet, wires))

sheet = lr.open_sheet(SHEETS / "dmx512.toml")
levels = bytes([0, 255, 128, 0, 64, 17, 3])
wires = {"to_lights": on_the_wire(sheet.line, [levels] * 2, gap=8, break_first=True)}
show("DMX512", lr.read(sheet, wires))

sheet = lr.open_sheet(SHEETS / "ppp.toml")
wires = {"to_modem": on_the_wire(sheet.line, [bytes.fromhex("7E FF 03 C0 21 01 01 00 04 D1 B5 7E")])}
show("PPP, RFC 1662", lr.read(sheet, wires))
