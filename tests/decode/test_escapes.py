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
    (
        b"\x1b[2 @",
        "control-sequence",
        "SL",
    ),  # with a space: ECMA-48, table 4; 8.3.121, 8.3.135, 8.3.53, 8.3.111, 8.3.144
    (b"\x1b[2 A", "control-sequence", "SR"),
    (b"\x1b[0;1 D", "control-sequence", "FNT"),
    (b"\x1b[1 k", "control-sequence", "SCP"),
    (b"\x1b[4 Y", "control-sequence", "SEF"),
    (b"\x1b[2 q", "control-sequence", ""),  # private use
    (b"\x1b[2$@", "control-sequence", ""),  # an intermediate byte that the standard does not use
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
    (found,) = lr.decode.find_escapes(b"flow" + sequence + b"12.5")
    assert (found.offset, found.data, found.kind, found.name) == (4, sequence, kind, name)


@given(st.lists(st.tuples(st.text("flow 12.5;[mJ\r\n").map(str.encode), st.sampled_from([one for one, _, _ in KNOWN]))))
def test_stripping_leaves_the_text_alone(parts):
    data = b"".join(text + sequence for text, sequence in parts)
    assert lr.decode.strip_escapes(data) == b"".join(text for text, _ in parts)
    assert [one.data for one in lr.decode.find_escapes(data)] == [sequence for _, sequence in parts]


@pytest.mark.parametrize("encoding", ["latin-1", "iso8859-15", "utf-8"])
@given(parts=st.lists(st.tuples(st.text("flow é12.5;[mJ\r\n"), st.sampled_from(KNOWN))))
def test_the_8_bit_form_is_known_where_the_encoding_has_it(encoding, parts):
    """ECMA-48, 5.3: the control functions of ESC and 40 to 5F are those of 80 to 9F."""

    def in_8_bits(sequence):
        text = sequence.decode("ascii").replace("\x1b\\", "\x9c")
        second = ord(text[1])
        return (chr(second + 0x40) + text[2:] if 0x40 <= second < 0x60 else text).encode(encoding)

    data = b"".join(text.encode(encoding) + in_8_bits(sequence) for text, (sequence, _, _) in parts)
    found = lr.decode.find_escapes(data, encoding)
    assert [(one.kind, one.name) for one in found] == [(kind, name) for _, (_, kind, name) in parts]
    assert lr.decode.strip_escapes(data, encoding) == "".join(text for text, _ in parts).encode(encoding)
    others = lr.decode.find_escapes(data, "cp1252") + lr.decode.find_escapes(data)
    assert all(one.data[0] == 0x1B for one in others)


@given(st.binary(), st.sampled_from(["ascii", "latin-1", "utf-8", "cp1252", "utf-16"]))
def test_nothing_is_lost_in_any_encoding(data, encoding):
    found = lr.decode.find_escapes(data, encoding)
    assert all(data[one.offset :].startswith(one.data) for one in found)
    assert len(lr.decode.strip_escapes(data, encoding)) == len(data) - sum(
        len(one.data) for one in found if one.kind != "unfinished"
    )


@given(st.binary())
def test_any_bytes_are_gone_through_and_each_esc_accounted_for(data):
    found = lr.decode.find_escapes(data)
    assert all(data[one.offset :].startswith(one.data) for one in found)
    inside = sum(one.data.count(b"\x1b") for one in found)
    assert inside == data.count(b"\x1b")
    assert len(lr.decode.strip_escapes(data)) == len(data) - sum(
        len(one.data) for one in found if one.kind != "unfinished"
    )


def test_an_esc_that_begins_nothing_stays():
    assert [one.kind for one in lr.decode.find_escapes(b"\x1b\x1b[\x00\x1b")] == ["unfinished"] * 3
    assert lr.decode.strip_escapes(b"a\x1b") == b"a\x1b"
