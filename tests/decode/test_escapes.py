import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr

# ECMA-48: 8.3.117 SGR, 8.3.39 ED, 8.3.21 CUP, 8.3.104 RI, 8.3.105 RIS, 8.3.89 OSC, 5.6 control strings; ECMA-35: 14.3
KNOWN = [
    (b"\x1b[1;31m", "control-sequence", "SGR"),
    (b"\x1b[2J", "control-sequence", "ED"),
    (b"\x1b[12;40H", "control-sequence", "CUP"),
    (b"\x1b[m", "control-sequence", "SGR"),
    (b"\x1b[?25l", "control-sequence", ""),  # a private parameter: nothing of the standard's
    (b"\x1b[2 q", "control-sequence", ""),  # an intermediate byte: another table
    (b"\x1bM", "control-function", "RI"),
    (b"\x1bc", "control-function", "RIS"),
    (b"\x1b]0;pump\x1b\\", "control-string", "OSC"),
    (b"\x1b]0;pump\x07", "control-string", "OSC"),
    (b"\x1bPdata\x1b\\", "control-string", "DCS"),
    (b"\x1b(B", "designation", ""),
    (b"\x1b7", "private", ""),
]


@pytest.mark.parametrize(("sequence", "kind", "name"), KNOWN)
def test_a_sequence_is_known_by_kind_and_name(sequence, kind, name):
    (found,) = lr.find_escapes(b"flow" + sequence + b"12.5")
    assert (found.offset, found.data, found.kind, found.name) == (4, sequence, kind, name)


@given(st.lists(st.tuples(st.text("flow 12.5;[mJ\r\n").map(str.encode), st.sampled_from([one for one, _, _ in KNOWN]))))
def test_stripping_leaves_the_text_alone(parts):
    data = b"".join(text + sequence for text, sequence in parts)
    assert lr.strip_escapes(data) == b"".join(text for text, _ in parts)
    assert [one.data for one in lr.find_escapes(data)] == [sequence for _, sequence in parts]


@given(st.binary())
def test_any_bytes_are_gone_through_and_each_esc_accounted_for(data):
    found = lr.find_escapes(data)
    assert all(data[one.offset :].startswith(one.data) for one in found)
    inside = sum(one.data.count(b"\x1b") for one in found)
    assert inside == data.count(b"\x1b")
    assert len(lr.strip_escapes(data)) == len(data) - sum(len(one.data) for one in found if one.kind != "unfinished")


def test_an_esc_that_begins_nothing_stays():
    assert [one.kind for one in lr.find_escapes(b"\x1b\x1b[\x00\x1b")] == ["unfinished"] * 3
    assert lr.strip_escapes(b"a\x1b") == b"a\x1b"
