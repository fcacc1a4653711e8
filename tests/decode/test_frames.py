import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_bits, slow_crc, slow_frames
from strategies import damaged_streams, layouts

import larkreader as lr
from larkreader.demo.rig import rig_sheet

STATUS = rig_sheet().frame["status"]


def stream_of(count, layout=STATUS):
    return [layout.encode({"count": number % 256, "flow": number % 300, "state": "dosing"}) for number in range(count)]


def checks_of(layout):
    """Slow ways to tell whether a frame holds its fixed values, and whether its CRC is right."""

    def is_genuine(frame):
        for slot in layout.slots:
            wanted = slot.value if slot.field is None else slot.field.equals
            if wanted is not None and slow_bits(frame, slot.first_bit, slot.bits, layout.packing) != wanted:
                return False
        return True

    def is_right(frame):
        slot, crc = layout.checksum_slot, layout.checksum.method
        begin, end = layout.covered
        parts = (crc.width, crc.poly, crc.init, crc.reflect_in, crc.reflect_out, crc.final_xor)
        return layout.peek(frame, slot.name) == [slow_crc(frame[begin:end], *parts)]

    return is_genuine, is_right


def account(frames, stream):
    """Check that every byte lies in one frame or one skipped stretch, in order."""
    pieces = [(offset, frames.layout.length) for offset in frames.offset.tolist()]
    pieces += list(zip(frames.skipped.offset.tolist(), frames.skipped.length.tolist(), strict=True))
    here = 0
    for offset, length in sorted(pieces):
        assert offset == here
        here += length
    assert here == len(stream)


@given(st.data())
def test_damaged_streams_are_cut_as_the_rules_say_one_by_one(data):
    """Frames and stretches are those of a search from candidate to candidate, and account for every byte."""
    layout = data.draw(layouts())
    stream = data.draw(damaged_streams(layout))
    frames = lr.read_frames(stream, layout)
    account(frames, stream)
    offsets, stretches = slow_frames(stream, layout, *checks_of(layout))
    assert frames.offset.tolist() == offsets
    merged = []
    for offset, length in zip(frames.skipped.offset.tolist(), frames.skipped.length.tolist(), strict=True):
        if merged and sum(merged[-1]) == offset:
            merged[-1] = (merged[-1][0], merged[-1][1] + length)
        else:
            merged.append((offset, length))
    assert merged == stretches
    _, is_right = checks_of(layout)
    for row, faults in zip(frames.data, frames.faults.tolist(), strict=True):
        if layout.checksum:
            assert bool(faults & lr.FrameFault.CHECKSUM_MISMATCH) != is_right(row.tobytes())


@pytest.mark.parametrize("place", range(16))
def test_one_damaged_byte_costs_one_frame_alone(place):
    """Changed, lost or doubled, wherever in the frame it lies: the frames before and behind are all there."""
    frames = stream_of(20)
    for kind in ("changed", "lost", "doubled"):
        hurt = bytearray(frames[9])
        if kind == "changed":
            hurt[place] ^= 0x10
        elif kind == "lost":
            del hurt[place]
        else:
            hurt.insert(place, hurt[place])
        read = lr.read_frames(b"".join([*frames[:9], bytes(hurt), *frames[10:]]), STATUS)
        good = read[read.faults == 0]
        # a doubled first byte leaves the frame whole behind a stray byte; so does a doubled last one
        spared = kind == "doubled" and (place == 0 or (place == 15) or hurt[:16] == frames[9] or hurt[1:] == frames[9])
        assert good["count"].tolist() == [number for number in range(20) if spared or number != 9]
        account(read, b"".join([*frames[:9], bytes(hurt), *frames[10:]]))


def test_a_flipped_bit_is_never_delivered_as_good():
    frame = stream_of(8)[7]
    for bit in range(8 * len(frame)):
        hurt = bytearray(frame)
        hurt[bit // 8] ^= 1 << bit % 8
        assert not (lr.read_frames(bytes(hurt), STATUS).faults == 0).any()


def test_a_marker_in_the_payload_is_passed_over():
    """The float 0x4BD7.... puts the marker's bytes into the middle of each frame."""
    dosed = float(np.array([0x41204BD7], "<u4").view("<f4")[0])
    stream = b"".join(STATUS.encode({"count": number, "dosed": dosed}) for number in range(50))
    assert stream.count(STATUS.marker) == 100
    read = lr.read_frames(stream[5:], STATUS)
    assert read["count"].tolist() == list(range(1, 50))
    assert read.skipped.length.sum() == 11


def test_stretches_say_why_they_belong_to_no_frame():
    one, two, three, four = stream_of(4)
    stream = b"\x00\x01" + one + two[:10] + three + four + b"\xd7\x4b" + b"\x55" * 20 + one + two[:5]
    read = lr.read_frames(stream, STATUS)
    found = [
        (offset, length, lr.decode.Skip(reason).name)
        for offset, length, reason in zip(read.skipped.offset, read.skipped.length, read.skipped.reason, strict=True)
    ]
    assert found == [
        (0, 2, "NO_MARKER"),
        (18, 10, "TRUNCATED_FRAME"),
        (60, 22, "LENGTH_MISMATCH"),
        (98, 5, "UNFINISHED"),
    ]


def test_a_begun_marker_at_the_end_is_the_beginning_of_a_frame():
    read = lr.read_frames(stream_of(1)[0] + b"\xd7", STATUS)
    assert (read.skipped.length.tolist(), read.skipped.reason.tolist()) == ([1], [lr.decode.Skip.UNFINISHED])
    read = lr.read_frames(stream_of(1)[0] + b"\x4b", STATUS)
    assert read.skipped.reason.tolist() == [lr.decode.Skip.NO_MARKER]


def test_layouts_that_share_a_wire_are_told_apart(rig):
    status, alarm = rig.sheet.frame["status"], rig.sheet.frame["alarm"]
    parts = [status.encode({"count": 1}), alarm.encode({"cause": "leak", "at": 5}), status.encode({"count": 2})]
    read = lr.read_layouts(b"".join(parts), [status, alarm])
    assert read["status"]["count"].tolist() == [1, 2]
    assert (read["alarm"].labels("cause").tolist(), read["alarm"].offset.tolist()) == (["leak"], [16])
    assert not len(read["status"].skipped)


def test_frames_of_fixed_length_follow_each_other_from_the_start():
    layout = lr.FrameLayout(
        boundary={"kind": "fixed", "length": 3},
        packing="msb",
        fields=[{"name": "channel", "type": "uint4", "range": (0, 7)}, {"name": "counts", "type": "int20"}],
    )
    read = lr.read_frames(bytes.fromhex("1FFFFF 280000 9000 01 12"), layout)
    assert read["channel"].tolist() == [1, 2, 9]
    assert read["counts"].tolist() == [-1, -(2**19), 1]
    assert read.faults.tolist() == [0, 0, lr.FrameFault.OUT_OF_RANGE]
    assert (read.skipped.length.tolist(), read.skipped.reason.tolist()) == ([1], [lr.decode.Skip.UNFINISHED])


def test_values_out_of_place_are_held_against_the_frame(rig):
    good = {"count": 1, "flow": 10.0}
    rows = [good, {**good, "flow": 321.0}, {**good, "state": 5}, {**good, "kind": 0x22}, {**good, "flow": 300.0}]
    read = lr.read_frames(b"".join(STATUS.encode(row) for row in rows), STATUS)
    assert read.faults.tolist() == [
        0,
        lr.FrameFault.OUT_OF_RANGE,
        lr.FrameFault.UNKNOWN_VALUE,
        lr.FrameFault.UNKNOWN_VALUE,
        0,
    ]
    table = read.to_pandas()
    assert table["faults"].tolist() == ["", "out-of-range", "unknown-value", "unknown-value", ""]
    assert table["state"].tolist() == ["resting", "resting", "5", "resting", "resting"]


def test_a_fault_of_a_character_is_held_against_its_frame():
    data = b"".join(stream_of(3))
    line = lr.LineSettings.parse("57600 8E1")
    faults = np.zeros(len(data), int)
    faults[20] = lr.Fault.PARITY
    read = lr.read_frames(lr.receive(lr.transmit(data, line, faults=faults), line), STATUS)
    assert read.faults.tolist() == [0, lr.FrameFault.CHARACTER_FAULT, 0]
    assert read.begin_s == pytest.approx(np.array([1, 17, 33]) * line.character_time_s, abs=1e-8)


@pytest.mark.parametrize("data", [b"", b"\xd7", b"\xd7\x4b", bytes(100), b"\xd7\x4b" * 7])
def test_bytes_without_a_frame_are_all_skipped(data):
    read = lr.read_frames(data, STATUS)
    assert len(read) == 0
    assert read["flow"].shape == (0,)
    assert read["valve"].shape == (0, 4)
    assert read.skipped.length.sum() == len(data)


def test_what_are_no_bytes_is_refused():
    with pytest.raises(lr.RequestError, match=r"data is int64 of shape \(3,\). It must be bytes, a uint8 array"):
        lr.read_frames(np.arange(3), STATUS)
    nine = lr.receive(lr.transmit([0x1FF], lr.LineSettings.parse("9600 9N1")), lr.LineSettings.parse("9600 9N1"))
    with pytest.raises(lr.RequestError, match=r"character 0 is 0x1FF\. Frames are cut from bytes"):
        lr.read_frames(nine, STATUS)
