import json

import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_receive
from strategies import examples

import larkreader as lr
from larkreader.cli import run

TEXT = b"flow 12.5 mL/min pressure 101.3 kPa\r\nstate dosing\r\n"
LINE = lr.LineSettings.parse("9600 8N1")


@pytest.mark.parametrize(
    ("format", "seen"),
    [
        # "2 mL" is 32 20 6D 4C; with a parity bit on top of seven bits: three, one, five and three ones
        ("7E1", bytes([0xB2, 0xA0, 0xED, 0xCC])),
        ("7O1", bytes([0x32, 0x20, 0x6D, 0x4C])),
        ("8E1", b"2 mL"),  # the receiver takes the parity bit for a stop bit
    ],
)
def test_what_a_message_looks_like_under_a_wrong_format(format, seen):  # noqa: A002  # it is one
    (row,) = [one for one in lr.judge.calculate_garbles(b"2 mL", LINE) if one.sender.format == format]
    assert row.received == seen


def test_what_a_message_looks_like_with_the_highest_bit_first():
    (row,) = [one for one in lr.judge.calculate_garbles(b"2 mL", LINE) if one.mistake == "highest bit first"]
    assert row.received == bytes([0x4C, 0x04, 0xB6, 0x32])


@examples(0.2)
@given(st.binary(min_size=1, max_size=6))
def test_the_table_is_what_a_slow_receiver_makes_of_the_wire(message):
    """Both ends, by the sender that faults are made with and a receiver that samples bit by bit."""
    for row in lr.judge.calculate_garbles(message, LINE):
        if row.sender.idle == "high" and row.sender.format in ("8N1", "8E1", "8N2", "9N1"):
            end_s = 14 * (len(message) + 3) / min(9600, row.sender.baud)
            trace = lr.transmit(message, row.sender, tick_s=1 / max(9600, row.sender.baud) / 48, end_s=end_s)
            assert bytes(one[1] & 0xFF for one in slow_receive(trace, LINE)[0]) == row.received


def test_every_mistake_is_found_again_from_what_was_sent():
    for row in lr.judge.calculate_garbles(TEXT, LINE):
        if row.received:
            best = lr.find_garble(row.received, LINE, TEXT)[0]
            assert best.likeness == 1
            assert best.received == row.received  # mistakes that look the same cannot be told apart


@pytest.mark.parametrize("mistake", ["7 data bits, even parity", "7 data bits, odd parity", "highest bit first"])
def test_text_is_recovered_where_a_mistake_can_be_undone(mistake):
    (row,) = [one for one in lr.judge.calculate_garbles(TEXT, LINE) if one.mistake == mistake]
    best = lr.find_garble(row.received, LINE)[0]
    assert (best.mistake, best.recovered) == (mistake, TEXT)


def test_text_that_is_whole_has_no_mistake_and_noise_none_that_explains_it():
    assert lr.find_garble(TEXT, LINE)[0].mistake == "none"
    assert lr.find_garble(bytes(range(0, 256, 3)) * 3, LINE) == []
    assert lr.find_garble(bytes(range(128, 256)), LINE, expect="counter")[0].mistake == "none"
    with pytest.raises(lr.RequestError, match="received is nothing"):
        lr.find_garble(b"", LINE)


def test_the_command_explains_bytes(tmp_path, capsys):
    sheet, capture = tmp_path / "link.toml", tmp_path / "came.bin"
    sheet.write_text("sheet = 1\n[line]\nbaud = 9600\n[wire.tx]\n")
    (row,) = [one for one in lr.judge.calculate_garbles(TEXT, LINE) if one.sender.format == "7E1"]
    capture.write_bytes(row.received)
    assert run(["diagnose", str(capture), str(sheet)]) == 1
    out = capsys.readouterr().out
    assert "7 data bits, even parity" in out
    assert "flow 12.5 mL/min" in out
    assert run(["diagnose", str(capture), str(sheet), "--sent", TEXT.decode().replace("\r\n", "\\r\\n"), "--json"]) == 1
    document = json.loads(capsys.readouterr().out)
    assert document["wires"]["tx"]["explanations"][0]["sender"] == "9600 7E1"
    capture.write_bytes(TEXT)
    assert run(["diagnose", str(capture), str(sheet)]) == 0


def test_frames_are_known_by_their_checksums(rig, rig_files, tmp_path, capsys):
    """What came is no text; whole frames are no mistake, and the opposite bit order is undone."""
    status = rig.sheet.frame["status"]
    data = b"".join(status.encode({"count": n, "flow": 3.1 * n}) for n in range(20))
    line, layouts = lr.LineSettings.parse("57600 8N1"), rig.sheet.layouts_of("from_pump")
    assert lr.find_garble(data, line, layouts=layouts)[0].mistake == "none"
    mirrored = bytes(int(f"{one:08b}"[::-1], 2) for one in data)
    best = lr.find_garble(mirrored, line, layouts=layouts)[0]
    assert (best.mistake, best.recovered, best.likeness) == ("highest bit first", data, 1)
    (tmp_path / "whole.bin").write_bytes(data)
    assert run(["diagnose", str(tmp_path / "whole.bin"), str(rig_files["sheet"]), "--wire", "from_pump"]) == 0
    assert "100 % of what was received makes sense as declared" in capsys.readouterr().out
