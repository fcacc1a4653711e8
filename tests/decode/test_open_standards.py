"""Sheets of open standards against messages that their standards, or arithmetic on paper, give."""

from pathlib import Path

import numpy as np
import pytest
from reference import slow_crc

import larkreader as lr

SHEETS = Path(__file__).parents[2] / "examples" / "sheets"


def captured(line, messages, *, gap=0.0, breaks=False):
    """Put messages on a wire and receive them: idle for `gap` character times, then a break if asked, before each."""
    faults = [[int(lr.Fault.BREAK)] * breaks + [0] * len(one) for one in messages]
    rests = [gap * line.bits_per_character if not place else 0.0 for one in faults for place in range(len(one))]
    sent = b"".join(b"\0" * breaks + one for one in messages)
    return lr.receive(lr.transmit(sent, line, gaps=rests, faults=np.concatenate(faults)), line)


def test_modbus_rtu():
    """Examples of the protocol's description; 3.5 character times part frames, and 1.5 do not."""
    sheet = lr.open_sheet(SHEETS / "modbus_rtu.toml")
    request, reply, exception = sheet.frame["read_request"], sheet.frame["read_reply"], sheet.frame["exception"]
    asked, found = bytes.fromhex("01 03 00 00 00 0A C5 CD"), bytes.fromhex("01 03 06 02 2B 00 00 00 64 05 7A")
    assert request.encode({"server": 1, "first": 0, "number": 10}) == asked
    assert reply.encode({"server": 1, "register": [555, 0, 100]}) == found
    frames = lr.read_frames(captured(sheet.line, [asked] * 3, gap=3.5), request)
    assert (frames["number"].tolist(), frames.faults.tolist()) == ([10] * 3, [0] * 3)
    read = lr.read_layouts(captured(sheet.line, [found, bytes.fromhex("01 83 02 C0 F1")], gap=4), [reply, exception])
    assert read["read_reply"]["register"].tolist() == [[555, 0, 100]]
    assert read["exception"].labels("cause").tolist() == ["illegal_address"]
    halves = [asked[:4], asked[4:]]
    assert lr.read_frames(captured(sheet.line, halves, gap=1.5), request).faults.tolist() == [0]
    parted = lr.read_frames(captured(sheet.line, halves, gap=4), request)
    assert (len(parted), parted.skipped.length.tolist()) == (0, [4, 4])
    joined = lr.read_frames(captured(sheet.line, [asked] * 2, gap=1.5), request)
    assert joined["number"].tolist() == [10, 10]  # told apart by their checksums


def test_lin():
    """The checksum example of LIN 2.1, 2.8.3: 4A + 55 + 93 + E5 with carries is 19, inverted E6; 21 travels as 61."""
    sheet = lr.open_sheet(SHEETS / "lin.toml")
    layout = sheet.frame["valves"]
    message = bytes.fromhex("55 61 4A 55 93 E5 E6")
    assert layout.encode({"id": 0x21, "parity": 1, "data": [0x4A, 0x55, 0x93, 0xE5]}) == message
    frames = lr.read_frames(captured(sheet.line, [message, message[:-1] + b"\xe5"], gap=3, breaks=True), layout)
    assert (frames["id"].tolist(), frames["data"].tolist()) == ([0x21] * 2, [[0x4A, 0x55, 0x93, 0xE5]] * 2)
    assert frames.faults.tolist() == [0, lr.FrameFault.CHECKSUM_MISMATCH]
    assert frames.length.tolist() == [8, 8]  # with the break


def test_iec_62056_21():
    """The block check character is the exclusive or of all from behind STX to ETX, itself included."""
    sheet = lr.open_sheet(SHEETS / "meter_readout.toml")
    text = "1.8.0(00123.4*L)\r\n2.8.0(00017.0*L)\r\n!\r\n"
    check = 0
    for byte in text.encode() + b"\x03":
        check ^= byte
    message = b"\x02" + text.encode() + b"\x03" + bytes([check])
    assert sheet.frame["readout"].encode({"data": text}) == message
    sent = [b"/LRK5NUTRIENT\r\n\r\n" + message, message.replace(b"17.0", b"17.1"), message]
    frames = lr.read_frames(captured(sheet.line, sent, gap=20), sheet.frame["readout"])
    assert frames.faults.tolist() == [0, lr.FrameFault.CHECKSUM_MISMATCH, 0]
    assert frames["data"][0] == text
    assert frames.skipped.length.tolist() == [17]


def test_dmx512():
    """A whole universe of 512 slots, and a short packet; a start code that is not 0 is not declared."""
    sheet = lr.open_sheet(SHEETS / "dmx512.toml")
    slots = bytes(number % 251 for number in range(512))
    packets = [b"\0" + slots, b"\0" + slots[:24], b"\xcc" + slots[:24]]
    frames = lr.read_frames(captured(sheet.line, packets, gap=1, breaks=True), sheet.frame["levels"])
    assert [bytes(row) for row in frames["slot"]] == [slots, slots[:24], slots[:24]]
    assert frames.faults.tolist() == [0, 0, lr.FrameFault.UNKNOWN_VALUE]


def test_rfc_1662():
    """A configure request of RFC 1661 5.1, whose frame check sequence is that of RFC 1662 C.2, low byte first."""
    sheet = lr.open_sheet(SHEETS / "ppp.toml")
    layout = sheet.frame["packet"]
    content = bytes.fromhex("FF 03 C0 21 01 7E 00 04")
    content += slow_crc(content, 16, 0x1021, 0xFFFF, True, True, 0xFFFF).to_bytes(2, "little")
    assert layout.encode({"protocol": "link_control", "data": [1, 0x7E, 0, 4]}) == content
    wire = layout.as_sent(content)
    assert wire.startswith(bytes.fromhex("7E FF 03 C0 21 01 7D 5E 00 04"))
    aborted = wire[:6] + b"\x7d\x7e"
    frames = lr.read_frames(captured(sheet.line, [wire, aborted, wire]), layout)
    assert frames.labels("protocol").tolist() == ["link_control"] * 2
    assert [row.tobytes() for row in frames["data"]] == [b"\x01\x7e\x00\x04"] * 2
    assert lr.decode.Skip.BAD_STUFFING in frames.skipped.reason


@pytest.mark.parametrize("sheet", sorted(SHEETS.glob("*.toml")), ids=lambda path: path.stem)
def test_a_sheet_of_a_standard_says_which_one(sheet):
    assert sheet.read_text(encoding="utf-8").startswith("# ")
    assert lr.open_sheet(sheet).title.startswith("Dosing rig")
