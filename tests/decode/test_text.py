"""Lines of text: commands, replies, named values, checksums in text, and what goes wrong with them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr

ANY_END = {"kind": "terminator", "terminator": ["\r\n", "\n", "\r"], "longest": 80}
REPORT = lr.FrameLayout(
    key="report",
    boundary={**ANY_END, "longest": 300},
    pattern="n={n} temp={temperature} flow={flow} {state}",
    backspace="apply",
    fields=[
        {"name": "n", "type": "integer", "counter": True, "wraps": 100},
        {"name": "temperature", "type": "decimal", "unit": "degC", "range": (-20, 60)},
        {"name": "flow", "type": "decimal", "scale": 0.5, "decimals": 1},
        {"name": "state", "type": "word"},
    ],
)
SAMPLES = lr.FrameLayout(
    key="samples",
    boundary={**ANY_END, "longest": 300},
    pattern="$S,{id},{counts}*{sum}",
    fields=[
        {"name": "id", "type": "hex"},
        {"name": "counts", "type": "integer", "repeat": "rest"},
        {"name": "sum", "type": "checksum"},
    ],
    checksum={"algorithm": "xor-8", "from": "id"},
)
OK = lr.FrameLayout(key="ok", boundary={**ANY_END, "longest": 300}, pattern="OK")


def test_lines_of_several_kinds_on_one_wire():
    """By hand: the exclusive or of "1F,1,-2,300" is 46; flow is written as the half of what it counts."""
    check = 0
    for byte in b"1F,1,-2,300":
        check ^= byte
    text = b"n=98 temp=20 flow=3 dosing\r\n\r\nOK\n$S,1f,1,-2,300*%02X\rn=99  temp=2\x0861.5\tflow=-.5e1 res\x7fsting\n"
    read = lr.read_layouts(
        text.replace(b"1f,", b"1F,") % check + b"temp=\nOKAY\r\n" + b"x" * 301 + b"\nn=0 te", [REPORT, SAMPLES, OK]
    )
    report, samples = read["report"], read["samples"]
    assert report["n"].tolist() == [98, 99]
    assert report["temperature"].tolist() == [20, 61.5]
    assert report["flow"].tolist() == [1.5, -2.5]
    assert report["state"].tolist() == ["dosing", "resting"]
    assert report.faults.tolist() == [0, lr.FrameFault.OUT_OF_RANGE]
    assert (samples["id"].tolist(), samples["counts"].tolist(), samples.faults.tolist()) == ([31], [[1, -2, 300]], [0])
    assert len(read["ok"]) == 1
    assert [lr.decode.Skip(reason).name for reason in report.skipped.reason] == [
        "FILL",  # the empty line
        "UNDECLARED",
        "UNDECLARED",
        "TOO_LONG",  # no terminator in 301 bytes
        "UNFINISHED",
    ]


@given(st.lists(st.integers(-(10**15), 10**15), min_size=1, max_size=9), st.integers(0, 2**64 - 1), st.data())
def test_lines_come_back_as_they_were_written_and_a_changed_character_shows(counts, number, data):
    line = SAMPLES.as_sent(SAMPLES.encode({"id": number, "counts": counts}))
    read = lr.read_frames(line, SAMPLES)
    assert (read["id"].tolist(), read["counts"].tolist(), read.faults.tolist()) == ([number], [counts], [0])
    place = data.draw(st.integers(3, len(line) - 6))
    other = data.draw(st.sampled_from(b"0123456789ABCDEF,-"))
    hurt = line[:place] + bytes([other]) + line[place + 1 :]
    assert hurt == line or not (lr.read_frames(hurt, SAMPLES).faults == 0).any()


@given(st.floats(-1e6, 1e6), st.integers(0, 99), st.sampled_from(["dosing", "=?", "a\u00e9"]))
def test_decimals_come_back_exactly(temperature, number, state):
    line = REPORT.encode({"n": number, "temperature": temperature, "flow": 12.25, "state": state})
    read = lr.read_frames(line + b"\n", REPORT)
    assert (read["n"][0], read["temperature"][0], read["flow"][0]) == (number, temperature, 12.25)
    assert read["state"][0] == state


def test_lines_in_other_encodings():
    """A degree sign is one byte in one encoding and two in another; bytes that are none in it match nothing."""
    declared = {
        "boundary": {"kind": "terminator"},
        "fields": [{"name": "t", "type": "decimal"}, {"name": "w", "type": "text"}],
    }
    for encoding, degree in (("latin-1", b"\xb0"), ("utf-8", b"\xc2\xb0")):
        layout = lr.FrameLayout(pattern="{t}°C {w}", encoding=encoding, **declared)
        line = layout.encode({"t": 21.5, "w": "für"})
        assert line.startswith(b"21.5" + degree + b"C f")
        read = lr.read_frames(line + b"\n1\xb0C f\xfc\n", layout)
        assert read["w"].tolist() == (["für", "fü"] if encoding == "latin-1" else ["für"])
    with pytest.raises(lr.RequestError, match="which is not in ascii"):
        lr.FrameLayout(pattern="{t}°C {w}", encoding="ascii", **declared).encode({"t": 1, "w": ""})


def test_a_counter_in_text_wraps_where_it_is_said_to():
    sheet = lr.parse_sheet(
        'sheet = 1\n[wire.tx]\n[frame.tick]\nboundary = { kind = "terminator", terminator = "\\n" }\npattern = "tick {n}"\n'
        'fields = [{ name = "n", type = "integer", counter = true, wraps = 10 }]\n'
    )
    lines = [b"tick %d\n" % (number % 10) for number in range(25)]
    assert lr.read(sheet, {"tx": b"".join(lines)}).findings == ()
    findings = lr.read(sheet, {"tx": b"".join(lines[:7] + lines[9:])}).findings
    assert [(one.kind, one.offset) for one in findings] == [("overflow", 49)]
    assert "At least 12 bytes are missing, of 2 frames." in findings[0].text


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"state": "two words"}, 'state "two words" has a blank, a comma, or nothing. It must be one word.'),
        ({"n": 1.5, "state": "x"}, "n 1.5 cannot be written as integer. It must be a whole number."),
        ({"sate": "x"}, 'sate is not a field of this pattern. Did you mean "state"?'),
    ],
)
def test_a_value_that_cannot_be_written_is_refused(values, message):
    with pytest.raises(lr.RequestError) as caught:
        REPORT.encode(values)
    assert str(caught.value) == message


@pytest.mark.parametrize(
    ("changed", "message"),
    [
        ({"pattern": "{n} {m}"}, 'pattern: "{m}" is not a field of this frame.'),
        ({"pattern": "{n} {n}"}, 'pattern: "{n}" stands there more than once.'),
        ({"pattern": "{n} }"}, "has an unpaired brace"),
        ({"pattern": "tick"}, 'fields[0].name: "n" is not in the pattern.'),
        ({"fields": [{"name": "n", "type": "uint8"}]}, 'fields[0].type: "uint8" cannot be written in text'),
        ({"pattern": None}, 'fields[0].type: "integer" is written in text; give the frame a pattern = "..." too.'),
        ({"boundary": {"kind": "fixed", "length": 4}}, "does not go with a pattern"),
        ({"pattern": None, "fields": []}, "must have at least one entry"),
    ],
)
def test_what_is_wrong_with_a_pattern_is_told(changed, message):
    good = {"boundary": ANY_END, "pattern": "{n}", "fields": [{"name": "n", "type": "integer"}]}
    lr.FrameLayout(**good)
    with pytest.raises(ValueError, match="validation error") as caught:
        lr.FrameLayout(**good | changed)
    assert message in str(caught.value)


def test_text_between_markers_and_pieces_of_lines():
    layout = lr.FrameLayout(
        boundary={"kind": "marker", "marker": "3C", "end": "3E"},
        pattern="{value}",
        fields=[{"name": "value", "type": "decimal", "repeat": 2}],
    )
    stream = b"".join(b"<%d,%d>" % (number, -number) for number in range(4)) + b"<1,>" + b"noise<7,8>"
    reader = lr.FrameReader(layout)
    parts = [reader.feed(stream[place : place + 1]) for place in range(len(stream))] + [reader.close()]
    assert np.concatenate([part["value"] for part in parts]).tolist() == [[0, 0], [1, -1], [2, -2], [3, -3], [7, 8]]
    assert layout.encode({"value": [1, 2.5]}) == b"<1,2.5>"
