import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_crc, slow_number
from strategies import layouts, values_of

import larkreader as lr
from larkreader.declare.checks.crc_catalogue import CATALOGUE
from larkreader.decode.check.checksums import crc_of_rows

STATUS_BYTES = "D7 4B 21 07 7D 00 19 FE A2 00 00 C0 3F 4A"
STATUS_VALUES = {
    "count": 7,
    "flow": 12.5,  # 125 = 0x07D
    "pressure": 100,  # 400 = 0x190
    "temperature": -3.5,  # -350 = 0xFEA2
    "dosed": 1.5,  # 0x3FC00000
    "state": "purging",  # 2
    "valve": [1, 0, 0, 1],
}


def test_a_frame_worked_out_on_paper(rig):
    """0x07D and 0x190 packed from the low end give 7D 00 19; 2 | 1 << 3 | 1 << 6 gives 4A; the rest is plain."""
    body = bytes.fromhex(STATUS_BYTES)
    crc = slow_crc(body[2:], 16, 0x1021, 0xFFFF, False, False, 0)
    frame = rig.sheet.frame["status"].encode(STATUS_VALUES)
    assert frame == body + crc.to_bytes(2, "big")
    read = lr.read_frames(frame, rig.sheet.frame["status"])
    assert read.faults.tolist() == [0]
    for name, value in STATUS_VALUES.items():
        got = read.labels(name)[0] if name == "state" else read[name][0]
        assert np.all(got == pytest.approx(value) if name != "state" else got == value)


@pytest.mark.parametrize("name", CATALOGUE)
def test_each_catalogued_crc_gives_its_published_check_value(name):
    """The CRC of "123456789" is what the catalogue publishes, by our way and by division bit by bit."""
    crc = CATALOGUE[name]
    parts = (crc.width, crc.poly, crc.init, crc.reflect_in, crc.reflect_out, crc.final_xor)
    assert crc.of(b"123456789") == slow_crc(b"123456789", *parts) == crc.check


@given(st.data(), st.integers(3, 64), st.booleans(), st.booleans(), st.integers(0, 70))
def test_any_crc_over_many_messages_equals_division_bit_by_bit(data, width, reflect_in, reflect_out, length):
    number = st.integers(0, (1 << width) - 1)
    poly, init, final_xor = data.draw(number) | 1, data.draw(number), data.draw(number)
    crc = lr.declare.CrcAlgorithm(
        width=width, poly=poly, init=init, reflect_in=reflect_in, reflect_out=reflect_out, final_xor=final_xor
    )
    seed, margin = data.draw(st.integers(0, 99)), data.draw(st.integers(0, 3))
    rows = np.random.default_rng(seed).integers(0, 256, (3, length + 2 * margin)).astype(np.uint8)
    wanted = [
        slow_crc(row[margin : margin + length], width, poly, init, reflect_in, reflect_out, final_xor)
        for row in rows.tolist()
    ]
    assert crc_of_rows(rows, crc, margin, margin + length).tolist() == wanted
    assert [crc.of(row[margin : margin + length].tobytes()) for row in rows] == wanted


@given(st.data())
def test_fields_lie_where_the_packing_says(data):
    """Each field of a random frame is the bits that its place in the bit string names, by both ways to read it."""
    layout = data.draw(layouts())
    values = data.draw(values_of(layout))
    frame = layout.encode(values)
    assert frame.startswith(layout.marker)
    assert len(frame) == layout.length
    read = lr.read_frames(frame, layout)
    assert read.faults.tolist() == [0]
    for name, slot in layout.slot.items():
        items = [slow_number(frame, slot, place, layout.packing) for place in range(slot.count)]
        assert layout.peek(frame, name) == items
        column = read[name]
        assert column.shape == ((1,) if slot.count == 1 else (1, slot.count))
        if slot.kind == "float":
            assert column.view(f"u{slot.bits // 8}").reshape(-1).tolist() == items
        else:
            assert column.reshape(-1).tolist() == items
        if name in values:
            assert np.array_equal(column.reshape(-1), np.asarray(values[name], dtype=column.dtype).reshape(-1))


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"flwo": 1}, 'flwo is not a field of status. Did you mean "flow"?'),
        ({"flow": 409.6}, "flow 409.6 does not fit into its 12 bits. It must be 0 to 409.5 mL/min."),
        ({"state": "asleep"}, 'state "asleep" is none of its names. It must be one of'),
        ({"valve": [1, 0]}, "valve has 2 items. It must have 4."),
        ({"count": 1.5}, "count 1.5 has a fraction. It must be a whole number for a uint8."),
        ({"flow": float("nan")}, "flow nan is not finite."),
        ({"dosed": 1e300}, "dosed 1e+300 does not fit into a float32."),
    ],
)
def test_a_value_that_cannot_be_sent_is_refused(rig, values, message):
    with pytest.raises(lr.RequestError) as caught:
        rig.sheet.frame["status"].encode(values)
    assert str(caught.value).startswith(message)


def test_codings_orders_digits_and_invalid_values_by_hand():
    """-5 in each coding; 0x12345678 in each order; 1234 in digits; 0xFFFF for no value."""
    layout = lr.FrameLayout(
        boundary={"kind": "marker", "marker": "D7"},
        fields=[
            {"name": "twos", "type": "int8"},
            {"name": "sign", "type": "int8", "coding": "sign-magnitude"},
            {"name": "biased", "type": "int8", "coding": "offset-binary"},
            {"name": "one", "type": "uint32", "order": "big-low-word-first"},
            {"name": "two", "type": "uint32", "order": "little-high-word-first"},
            {"name": "digits", "type": "bcd16", "order": "big", "scale": 0.1},
            {"name": "flow", "type": "uint16", "scale": 0.1, "range": [0, 300], "invalid": [0xFFFF, 0xFFFE]},
        ],
    )
    values = {"twos": -5, "sign": -5, "biased": -5, "one": 0x12345678, "two": 0x12345678, "digits": 123.4, "flow": 12.5}
    frame = layout.encode(values)
    assert frame.hex(" ") == "d7 fb 85 7b 56 78 12 34 34 12 78 56 12 34 7d 00"
    missing = layout.encode({**values, "flow": float("nan")})
    strange = missing[:12] + b"\x1a" + missing[13:]
    read = lr.read_frames(frame + missing + strange, layout)
    assert {name: read[name][0] for name in values} == values
    assert np.isnan(read["flow"]).tolist() == [False, True, True]
    assert (read.raw("flow")[1], read.faults.tolist()) == (0xFFFF, [0, 0, lr.FrameFault.UNKNOWN_VALUE])
    for wrong, message in [
        ({"type": "uint8", "coding": "sign-magnitude"}, "only an int has"),
        ({"type": "uint16", "order": "big-low-word-first"}, "needs 32 or 64 bits"),
        ({"type": "float32", "invalid": [1]}, "of which no value means"),
        ({"type": "uint8", "invalid": [256]}, r"has 256 for invalid\[0\]"),
        ({"type": "bcd8", "equals": 100}, "has 100 for equals, but a bcd8 holds 0 to 99"),
        ({"type": "bcd6"}, "bcd4 to bcd64"),
    ]:
        with pytest.raises(ValueError, match=message):
            lr.FrameLayout(boundary={"kind": "fixed"}, fields=[{"name": "x", **wrong}, {"reserved": 2}])


@pytest.mark.parametrize(
    ("encoding", "pad", "text"),
    [
        ("ascii", "nul", "PH-7"),
        ("utf-8", "space", "21 \u00b0C"),
        ("latin-1", "nul", "21 \u00b0C"),
        ("ascii", "space", ""),
    ],
)
def test_text_and_bytes_of_a_fixed_length(encoding, pad, text):
    layout = lr.FrameLayout(
        boundary={"kind": "marker", "marker": "D7"},
        fields=[
            {"name": "serial", "type": "text", "repeat": 8, "encoding": encoding, "pad": pad},
            {"name": "key", "type": "bytes", "repeat": 3},
            {"name": "crc", "type": "checksum"},
        ],
        checksum={"algorithm": "xor-8"},
    )
    frame = layout.encode({"serial": text, "key": b"\x01\xff\x00"})
    filled = text.encode(encoding).ljust(8, b"\0" if pad == "nul" else b" ")
    assert frame[1:12] == filled + b"\x01\xff\x00"
    read = lr.read_frames(frame * 3, layout)
    assert (read["serial"].tolist(), read["key"].tolist()) == ([text] * 3, [[1, 255, 0]] * 3)
    assert read.to_pandas()["serial"].tolist() == [text] * 3
    assert not read.faults.any()
    if encoding != "latin-1":
        hurt = bytearray(frame)
        hurt[1], hurt[-1] = 0xFF, frame[-1] ^ frame[1] ^ 0xFF
        assert lr.read_frames(bytes(hurt), layout).faults.tolist() == [lr.FrameFault.UNKNOWN_VALUE]
    for wrong in ("longer than eight", "\u20ac"):
        if encoding != "utf-8" or len(wrong) > 8:
            with pytest.raises(lr.RequestError, match="serial"):
                layout.encode({"serial": wrong})
