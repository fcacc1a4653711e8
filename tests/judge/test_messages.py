"""The messages that are seen most, whole: text and advice as a reader gets them. Figures come from arithmetic on paper."""

import pytest

import larkreader as lr

SENT = b"flow 12.5 mL/min; pressure 101.3 kPa\r\n" * 12  # 456 characters

PLAN = """
sheet = 1
[line]
baud = 57_600
[wire.to_pump]
[wire.from_pump]
line = { baud = 19_200 }
[clock.oscillator]
hertz = 8_000_000
accuracy = "1 %"
[generator.whole]
divisor_bits = 8
[end.controller]
sends = "to_pump"
receives = "from_pump"
accuracy = "100 ppm"
line = { format = "8E1" }
[end.pump_head]
sends = "from_pump"
receives = "to_pump"
clock = "oscillator"
generator = "whole"
[[traffic]]
wire = "to_pump"
length = 4000
every_s = 0.5
"""

READ = {
    "parity-error": (
        "4 parity errors in 3,185 characters (0.126 %), first at 1.021337 s, character 327. The first is 0x08; even parity "
        "is declared. A bit of the character changed on the way, or the two ends use different parities.",
        "If few: look for noise, a missing ground or a weak driver. If most: compare the parity at both ends.",
    ),
    "framing-error": (
        "1 framing error in 3,185 characters (0.0314 %), at 1.671719 s, character 537. The line was not at idle level where "
        "the stop bit should be.",
        "Compare baud and character format at both ends; then look for a receiver that began inside a character.",
    ),
    "break": (  # 11 bits at 57600 baud are 191 µs
        "1 break in 3,185 characters (0.0314 %), at 6.345000 s, character 2,038. The longest lasts 191 µs, 1 x a "
        "character's time. The line stayed at start level for a whole character: a break, or a loose wire.",
        "If no device sends breaks, check the wire, the sender's supply, and whether its pin is an output.",
    ),
    "false-start": (
        "2 false starts, first at 4.645000 s. The line left idle level and was back half a bit later; nothing was received.",
        "Look for spikes: crosstalk, a missing ground, a pin that changes its function while the line is idle.",
    ),
    "checksum-mismatch": (
        "2 checksum mismatches in 195 status frames (1.03 %), first at 2.270000 s, character 720. The first holds 0x7311, "
        "calculated is 0x9C89 (CRC-16/IBM-3740). The frame has its length, but its content changed on the way, or the two "
        "ends calculate the checksum differently.",
        "If few: look for line faults at the same places. If all: compare algorithm, covered bytes and byte order.",
    ),
    "counter-gap": (
        "1 gap in the sequence, at 5.520000 s, character 1,768. 2 bytes are missing, of 1 frame. Bytes are missing where the "
        "line shows a fault or a gap: they were lost on the line.",
        "Remove the line faults there first.",
    ),
    "counter-repeat": (
        "1 repeated frame in 195 status frames (0.513 %), at 4.820000 s, character 1,544. The sequence counter has the same "
        "value in two frames in a row.",
        "Check whether the sender repeats after a missing reply, or forgets to count.",
    ),
    "overflow": (
        "2 overflows, first at 6.520000 s, character 2,102. 45 bytes are missing, of 4 frames. The line shows no fault there "
        "and no gap as long as the missing bytes: they never reached the wire.",
        "Look at the sender's transmit buffer, and at code that writes into it without waiting for room; a sender that "
        "counts without sending looks the same.",
    ),
    "out-of-range": (
        "1 frame with a value out of range in 195 status frames (0.513 %), at 3.520000 s, character 1,128. The first has "
        "flow = 321 mL/min; 0 to 300 is declared. The frame is whole, but a value lies outside its declared limits.",
        "Check the sensor, and whether the sender uses the same scale, sign and byte order.",
    ),
    "unknown-value": (
        "1 frame with an unknown value in 195 status frames (0.513 %), at 4.220000 s, character 1,352. The first has state = "
        "5, which has no name. The frame is whole, but a field has a value that the layout does not allow.",
        "Compare the layout with the sender's code: a new message kind or state may be missing on the sheet.",
    ),
    "truncated-frame": (
        "1 truncated frame, at 5.520000 s, character 1,768. 14 bytes of 3,185 lie there. The next frame begins before this "
        "frame is complete: bytes are missing, or its length was corrupted.",
        "Look for line faults at the place; if there are none, a buffer before the line may have lost the bytes.",
    ),
    "resynchronised": (
        "1 stretch without a marker, at 6.345000 s, character 2,038. 16 bytes of 3,185 lie there. Bytes that belong to no "
        "frame were skipped until the next marker.",
        "Look for line faults in the marker, or for messages that the sheet does not declare.",
    ),
}

DIAGNOSED = {
    "baud-mismatch": (
        ("57600 8E1", "28800 8E1"),
        "Declared 28800 baud, measured 57600 baud ±1 ppm (+100 %). The wire is 2 times as fast. A divisor for 16 times "
        "oversampling where 8 is set, or the reverse, does so. The two ends run at different bauds, so bits are read in the "
        "wrong place.",
        "Set the same baud at both ends; check divisor, oversampling and the clock that the divisor is calculated from.",
    ),
    "parity-mismatch": (
        ("57600 8E1", "57600 8N1"),
        "Declared no parity, sent even parity. Read as 8E1, 456 of 456 characters have no fault. The two ends use different "
        "parities.",
        "Set the same parity at both ends.",
    ),
    "polarity-mismatch": (
        ("57600 8N1 idle-low", "57600 8N1"),
        "Declared idle high, measured idle low. Read as 8N1 idle-low, 456 of 456 characters have no fault. The wire rests at "
        "the other level than declared.",
        "Look for an inverting level converter that is there or missing, an inverted pin, or a tap on the wrong side of the "
        "line driver; or declare the idle level as it is.",
    ),
    "best-settings": (
        ("57600 8E1", None),
        "57600 8E1: Measured 57600 baud ±1 ppm. 456 of 456 characters have no fault. The next best, 9N1, is more than a "
        "million times less likely. Under these settings the wire reads best.",
        "Set the other end to this.",
    ),
}

PLANNED = {
    "setting-mismatch": (
        "Parity of to_pump and from_pump: none at the sheet and pump_head; even at controller. The two ends use different "
        "characters.",
        "Set parity to none at every end, or declare another value.",
    ),
    "beyond-tolerance": (  # 8 MHz / 16 / 9 is 55,556 baud, 3.55 % below 57,600
        "pump_head tolerates 8N1 from 8.63 % slower to 0.86 % faster than 57600 baud. controller is no faster; the clocks "
        "may add 1.01 % to either side. pump_head has the larger error: it is 3.55 % slower and 1.00 % uncertain. The timing "
        "of the two ends differs by more than the receiver tolerates, so bits are read in the wrong place. Nominal clocks "
        "work; both clocks at their worst do not.",
        "The clock of pump_head makes 19200, 31250, 38400 baud well. A clock of 8.2944 MHz makes 57600 baud exactly.",
    ),
    "overloaded": (  # 8,000 characters a second on a line of 5,760
        "The traffic of to_pump is 139 % of the capacity of 57600 8N1. Messages wait longer and longer, until a buffer is "
        "full and values are lost.",
        "115,200 baud is enough, with 20 % to spare; or send less, or less often.",
    ),
}


@pytest.fixture(scope="module")
def reading(rig_files):
    return lr.read(str(rig_files["sheet"]), str(rig_files["capture"]))


@pytest.mark.parametrize("kind", READ)
def test_what_a_reading_finds(kind, reading):
    finding = next(one for one in reading.findings if one.kind == kind)
    assert (finding.text, finding.advice) == READ[kind]


@pytest.mark.parametrize("kind", DIAGNOSED)
def test_what_a_diagnosis_finds(kind):
    (sent, declared), text, advice = DIAGNOSED[kind]
    trace = lr.transmit(SENT, lr.LineSettings.parse(sent))
    found = lr.diagnose(trace, None if declared is None else lr.LineSettings.parse(declared), wire="rx").findings[0]
    assert (found.kind, found.text, found.advice) == (kind, text, advice)


@pytest.mark.parametrize("kind", PLANNED)
def test_what_a_plan_finds(kind):
    finding = next(one for one in lr.plan(lr.parse_sheet(PLAN)).findings if one.kind == kind)
    assert (finding.text, finding.advice) == PLANNED[kind]


def test_a_wire_on_which_nothing_happens():
    line = lr.LineSettings.parse("9600 8N1")
    (finding,) = lr.diagnose(lr.transmit(b"", line), line, wire="rx").findings
    assert finding.text == "The level was 1 all the time. The wire kept the same level in the whole capture."
