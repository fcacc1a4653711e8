"""What a wire does before its first idle time: a finding of its own, and no fault of the message behind it."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import larkreader as lr

WIRE = 'sheet = 1\n[line]\nbaud = 9600\nformat = "{}"\n[wire.from_pump]\n'
IDLE = """
[frame.flow]
boundary = { kind = "idle", characters = 3.5 }
fields = [{ name = "pump", type = "uint8", equals = 3 }, { name = "flow", type = "uint16" }, { name = "crc", type = "checksum" }]
checksum = { algorithm = "CRC-16/MODBUS" }
"""
MARKER = """
[frame.flow]
boundary = { kind = "marker", marker = "A5" }
fields = [{ name = "pump", type = "uint8", equals = 3 }, { name = "flow", type = "uint16" }, { name = "crc", type = "checksum" }]
checksum = { algorithm = "CRC-16/MODBUS" }
"""
LINES = """
[frame.flow]
boundary = { kind = "terminator", terminator = "\\r\\n" }
pattern = "flow={flow}"
fields = [{ name = "flow", type = "decimal" }]
"""
TEXT = b"flow 12.5 mL/min\r\n"


def sheet_of(frame, line_format="8N1"):
    return lr.parse_sheet(WIRE.format(line_format) + frame)


def messages_of(sheet, count=6):
    if not sheet.frame:
        return [TEXT] * count
    layout = sheet.frame["flow"]
    return [layout.as_sent(layout.encode({"flow": 100 + n})) for n in range(count)]


def wire_of(messages, line, levels, *, low=0.0, lead=25.0, gap=60.0):
    """Return the trace of a wire, and when the first message begins, in seconds; all times are in bits.

    The wire is low from the beginning, if at all, then idle for a lead; then it is low, high, low and so on, idle for a
    gap, and carries the messages 300 bits apart.
    """
    bit = 1e9 / line.baud  # in ticks of a nanosecond
    early = low + lead + np.cumsum([0.0, *levels]) if levels else np.empty(0)
    begin = low + lead + sum(levels) + (gap if levels else 0)
    gaps = np.concatenate([[300.0] + [0.0] * (len(one) - 1) for one in messages])
    gaps[0] = 0
    sent = lr.transmit(b"".join(messages), line, gaps=gaps)
    later = begin * bit + (sent.edges - sent.edges[0])
    edges = np.concatenate([[low * bit] if low else [], early * bit, later])
    return lr.Trace(
        np.rint(edges).astype(np.int64), 1e-9, 0 if low else 1, end=int(edges[-1] + 20 * bit)
    ), begin / line.baud


def read(sheet, trace):
    reading = lr.read(sheet, {"from_pump": trace})
    return reading, [one.kind for one in reading.findings]


PULSES = st.lists(st.sampled_from([0.3, 1.0, 2.0, 3.0]), min_size=1, max_size=5).filter(lambda levels: sum(levels) <= 9)


@given(
    st.sampled_from(["", IDLE, MARKER, LINES]),
    st.sampled_from(["8N1", "8E1"]),
    PULSES.map(lambda levels: levels[: len(levels) - 1 + len(levels) % 2]),
    st.sampled_from([0.0, 30.0, 400.0]),
)
def test_half_a_character_or_a_line_that_rises_late_spoils_nothing(frame, line_format, levels, low):
    sheet = sheet_of(frame, line_format)
    trace, begin_s = wire_of(messages_of(sheet), sheet.line, levels, low=low)
    characters = lr.receive(trace, sheet.line)
    early = characters.value[characters.begin_s < begin_s - 1e-6].astype(np.uint8).tobytes()
    assume(frame or not any(0x20 <= one < 0x7F for one in early))  # a letter that stands alone may have been sent
    reading, kinds = read(sheet, trace)
    assert (kinds, reading.verdict) == (["startup-character"], "warnings")
    for frames in reading.frames.values():
        assert (frames["flow"].tolist(), int(frames.faults.max())) == ([100 + n for n in range(6)], 0)
        assert frames.offset[0] == len(early)
        assert frames.length.sum() + frames.skipped.length.sum() == len(characters)


@pytest.mark.parametrize("frame", ["", IDLE, MARKER, LINES])
@pytest.mark.parametrize(
    ("levels", "low", "text"),
    [
        (
            [2, 1, 1],
            0,
            "Read as 0xFA.",
        ),  # low, high, low: nothing but what stands around it shows that it is no message
        ([30], 0, "Read as 0x00."),
        ([1, 15, 1], 0, "Read as 0xFF, 0xFF."),
        ([1, 60, 1], 0, "Read as 0xFF, 0xFF."),
        ([0.3, 15, 0.3], 0, "2 pulses of less than half a bit."),
        ([12, 1, 2], 0, "Read as 0x00, 0xFE."),
        ([], 960, "The line was at start level for 100 ms from the beginning of the capture."),
    ],
)
def test_it_is_one_finding_with_what_was_seen(frame, levels, low, text):
    sheet = sheet_of(frame)
    reading, kinds = read(sheet, wire_of(messages_of(sheet), sheet.line, levels, low=low)[0])
    assert (kinds, reading.verdict) == (["startup-character"], "warnings")
    assert text in reading.findings[0].text
    assert all((frames.faults == 0).sum() == 6 for frames in reading.frames.values())


def test_a_break_right_before_a_text_is_no_line_ending():
    sheet = sheet_of("")
    assert read(sheet, wire_of([TEXT] * 3, sheet.line, [30], gap=2)[0])[1] == ["startup-character"]


@pytest.mark.parametrize("frame", [IDLE, MARKER, LINES])
def test_messages_are_not_taken_for_it(frame):
    """A whole first message, a damaged first message, and messages of one byte that looks like a late rise."""
    sheet = sheet_of(frame)
    messages = messages_of(sheet)
    assert read(sheet, wire_of(messages, sheet.line, [])[0])[1] == []
    damaged = bytearray(messages[0])
    damaged[3] ^= 0x40
    assert "startup-character" not in read(sheet, wire_of([bytes(damaged), *messages], sheet.line, [])[0])[1]
    single = sheet_of(
        '[frame.ready]\nboundary = { kind = "fixed" }\nfields = [{ name = "ready", type = "uint8", equals = 255 }]\n'
    )
    assert read(single, wire_of([b"\xff"] * 4, single.line, [])[0])[1] == []
    slow = lr.transmit(b"\xfe\xf0" + TEXT, sheet.line, gaps=40)  # each character stands alone
    assert "startup-character" not in read(sheet_of(""), slow)[1]
