import numpy as np
import pytest

import larkreader as lr
from larkreader.judge.wire.text_checks import judge_exchanges, judge_text

LINE = lr.LineSettings.parse("57600 8E1")
TEXT = lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]')


def shown(data, ending=None):
    return {one.kind: one for one in judge_text("tx", lr.Characters.from_bytes(data), ending)}


@pytest.mark.parametrize(
    ("data", "ending", "text"),
    [
        (b"flow 1\r\nflow 2\rflow 3\r\n", None, "Found: 1 CR; the other lines end with CR LF."),
        (b"flow 1\n\rflow 2\n\r\n\rflow 3\n\r", None, "Found: 4 LF CR."),
        (b"flow 1\rflow 2\r", None, "Found: 2 CR."),
        (b"flow 1\r\n\0flow 2\r\n\0", None, "Found: 2 CR LF NUL."),
        (b"flow 1\nflow 2\n", "CR LF", "Found: 2 LF; CR LF is declared."),
        (b"flow 1\r\r\nflow 2\r\r\n", None, "Found: 2 CR CR LF."),
    ],
)
def test_an_ending_that_nobody_declared_is_told(data, ending, text):
    (finding,) = shown(data, ending).values()
    assert finding.kind == "undeclared-ending"
    assert text in finding.text


@pytest.mark.parametrize(
    ("data", "ending"),
    [
        (b"flow 1\r\n\r\nflow 2\r\n", None),
        (b"flow 1\n\n\nflow 2\n", None),
        (b"flow 1\rflow 2\r", "CR"),
        (b"flow", None),
    ],
)
def test_usual_endings_empty_lines_and_declared_ones_are_passed_over(data, ending):
    assert not shown(data, ending)


def test_binary_is_not_taken_for_text(rig):
    """Neither frames, nor random bytes, nor silence have odd endings; a false alarm would hide the true ones."""
    random = np.random.default_rng(5)
    frames = b"".join(rig.sheet.frame["status"].encode({"count": n % 256, "flow": n % 300}) for n in range(300))
    for data in (frames, bytes(4000), *(random.integers(0, 256, 500, np.uint8).tobytes() for _ in range(200))):
        assert not shown(data)


def test_characters_that_all_come_twice_are_told():
    (finding,) = shown(b"ffllooww  11\r\r\n\n", "CR CR LF").values()
    assert (finding.kind, finding.count) == ("doubled-characters", 8)
    assert "doubled-characters" not in shown(b"aaaaaaaaaaaaaaaa\n\n")


def test_escape_sequences_are_counted_and_no_noise():
    found = shown(b"\x1b[1;31mflow\x1b[0m 12.5\r\n" * 3)
    assert list(found) == ["escape-sequence"]
    assert (found["escape-sequence"].count, found["escape-sequence"].severity) == (6, "note")
    assert "6 SGR (select graphic rendition)" in found["escape-sequence"].text


@pytest.mark.parametrize(
    ("sent", "received", "kind"),
    [
        (b"flow?\r\n", b"flow?\r\n12.5\r\n", "echo"),
        (b"\x12", b"18\r\n", "digits-for-value"),
        (b"\x12\x34", b"12 34", "digits-for-value"),
        (b"18\n", b"\x12", "value-for-digits"),
        (b"on", b"oonn", "doubled-characters"),
        (b"on", b"onon", "doubled-characters"),
    ],
)
def test_what_came_back_is_held_against_what_was_sent(sent, received, kind):
    (finding,) = judge_exchanges("in", [(sent, received), (b"x", b"x"), (b"y", b""), (b"12", b"34")])
    assert (finding.kind, finding.count) == (kind, 1)
    assert f"1 of 3 answers. Sent {sent[:8].hex(' ').upper()}, " in finding.text


@pytest.mark.parametrize("value", [0x00, 0xFF, 0xF8])
def test_a_character_at_start_up_that_nobody_sent_is_told(value, rig):
    """Alone, some milliseconds before everything else; with frames and with text."""
    line = rig.sheet.wire["from_pump"].line
    frames = b"".join(rig.sheet.frame["status"].encode({"count": n}) for n in range(20))
    gaps = np.zeros(321)
    gaps[1] = 500  # bit times
    trace = lr.transmit(bytes([value]) + frames, line, gaps=gaps)
    (finding,) = lr.read(rig.sheet, {"from_pump": trace}).findings
    assert (finding.kind, finding.offset, finding.severity) == ("startup-character", 0, "warning")
    assert f"Read as 0x{value:02X}." in finding.text
    text = lr.transmit(bytes([value]) + b"flow 12.5\r\n", LINE, gaps=gaps[:12])
    assert [one.kind for one in lr.read(TEXT, {"tx": text}).findings] == ["startup-character"]
    together = lr.transmit(bytes([value]) + b"flow 12.5\r\n", LINE)
    assert "startup-character" not in {one.kind for one in lr.read(TEXT, {"tx": together}).findings}


def test_digits_where_frames_were_declared_are_told(rig):
    reading = lr.read(rig.sheet, {"from_pump": b"12.5, 101.25, 21.9\r\n" * 4})
    (finding,) = [one for one in reading.findings if one.kind == "digits-for-value"]
    assert 'They begin with "12.5, 101.25, 21.9 12.5"' in finding.text
