import json

import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_bits
from strategies import layouts, values_of

import larkreader as lr
from larkreader.present.tables.frame_explained import parts_of


@given(st.data())
def test_every_field_shows_the_bits_that_it_was_cut_from(data):
    """Against bits taken out one by one; places of all fields together cover the frame once."""
    layout = data.draw(layouts())
    frame = layout.encode(data.draw(values_of(layout)))
    parts = list(parts_of(lr.read_frames(frame, layout), 0))
    covered = []
    slots = [(slot, item) for slot in layout.slots for item in range(slot.count)]
    for part, (slot, item) in zip(parts[1:], slots, strict=True):
        first = slot.first_bit + item * slot.bits
        if set(part.bits) <= {"0", "1"} and len(part.bits) == slot.bits:
            assert int(part.bits, 2) == slow_bits(frame, first, slot.bits, layout.packing)
        else:
            assert bytes.fromhex(part.bits) == frame[first // 8 : -(-(first + slot.bits) // 8)]
        ends = []
        for text in part.place.split("-"):
            byte, _, bit = text.partition(".")
            within = int(bit) if bit else None
            ends.append((int(byte), within if within is None or layout.packing == "lsb" else 7 - within))
        low, high = ends[0], ends[-1]
        begin = 8 * low[0] + (low[1] or 0)
        behind = 8 * high[0] + (8 if high[1] is None else high[1] + 1)
        assert (begin, behind) == (first, first + slot.bits)
        covered += range(begin, behind)
        assert not part.check.startswith("WRONG")
    assert covered == list(range(8 * len(layout.marker), 8 * layout.length))


def test_the_command_takes_a_frame_apart_and_shows_what_is_wrong(shell, rig_files):
    status, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--explain", "25")
    assert "status frame of 16 bytes from character 352 on, at 1.120000 s: no fault" in " ".join(out.split())
    line = next(line for line in out.splitlines() if line.startswith("flow"))
    assert line.split() == [
        "flow",
        "4.0-5.3",
        "011011010011",
        "1747",
        "174.7",
        "mL/min",
        "within",
        "0",
        "to",
        "300",
    ]
    found = {}
    for number in range(46, 53):
        _, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--explain", number, "--json")
        checks = {part["name"]: part["check"] for part in json.loads(out)["fields"]}
        found |= {name: check for name, check in checks.items() if check.startswith("WRONG")}
    assert found["crc"].startswith("WRONG: CRC-16/IBM-3740 of 2-13 is 0x")
    status, _, err = shell("decode", rig_files["sheet"], rig_files["capture"], "--explain", "999")
    assert (status, "must be 0 to 216" in err) == (2, True)
    status, _, err = shell("decode", rig_files["sheet"], rig_files["capture"], "--explain", "1", "--statistics")
    assert (status, "--explain and --statistics exclude each other" in err) == (2, True)


@pytest.mark.parametrize(
    ("change", "name", "check"),
    [
        ((3, 0x1A), "digits", "WRONG: a digit beyond 9"),
        ((4, 0xFF), "serial", "WRONG: no ascii text"),
        ((1, 0x22), "kind", "WRONG: must be 33"),
        ((2, 0xC8), "flow", "WRONG: not within 0 to 15"),
        ((6, 0x07), "state", "WRONG: has no name"),
        ((7, 0x01), "", "WRONG: must be 0"),
    ],
)
def test_each_check_that_fails_is_named(change, name, check):
    layout = lr.FrameLayout(
        boundary={"kind": "marker", "marker": "D7"},
        fields=[
            {"name": "kind", "type": "uint8", "equals": 0x21},
            {"name": "flow", "type": "uint8", "scale": 0.1, "range": [0, 15]},
            {"name": "digits", "type": "bcd8"},
            {"name": "serial", "type": "text", "repeat": 2},
            {"name": "state", "type": "uint8", "names": {"resting": 0, "dosing": 1}},
            {"reserved": 8},
        ],
    )
    frame = bytearray(layout.encode({"serial": "P7", "digits": 12}))
    frame[change[0]] = change[1]
    frames = lr.read_frames(bytes(frame), layout)
    assert {part.name: part.check for part in parts_of(frames, 0)}[name] == check
