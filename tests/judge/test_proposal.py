"""Layouts proposed from bytes alone: what was sent is read by what was proposed."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from strategies import examples

import larkreader as lr

NAMES = ["CRC-16/MODBUS", "CRC-16/XMODEM", "CRC-8/SMBUS", "CRC-32/ISO-HDLC", "sum-8", "xor-8", None]


@given(
    st.binary(min_size=2, max_size=3),
    st.integers(2, 14),
    st.sampled_from(NAMES),
    st.booleans(),
    st.sampled_from(["marker", "count"]),
    st.integers(0, 2**32),
)
def test_a_proposed_layout_reads_the_frames_that_were_sent(marker, size, name, timed, begin, seed):
    """A marker, a counter, values that seldom, slowly or always change, a checksum; some damage, some junk at the start."""
    rng = np.random.default_rng(seed)
    fields = [{"name": "count", "type": "uint8", "counter": True}]
    fields += [{"name": f"v{n}", "type": "uint8"} for n in range(size)]
    checksum = None
    if name:
        fields.append({"name": "check", "type": "checksum"})
        checksum = {"algorithm": name, "from": begin} | (
            {"order": "big"} if name[-1] != "8" and "CRC-8" not in name else {}
        )
    sent = lr.FrameLayout(boundary={"kind": "marker", "marker": marker.hex()}, fields=fields, checksum=checksum)
    kinds = rng.integers(0, 3, size)
    columns = [
        np.full(80, rng.integers(256))
        if kind == 0
        else np.arange(80) // 9 + rng.integers(200)
        if kind == 1
        else rng.integers(0, 256, 80)
        for kind in kinds
    ]
    frames = [
        bytearray(sent.encode({"count": n, **{f"v{k}": int(c[n]) for k, c in enumerate(columns)}})) for n in range(80)
    ]
    frames[40][-1] ^= 0x55
    junk = rng.bytes(3)
    data = junk + b"".join(map(bytes, frames))
    assume(sum(0x20 <= one < 0x7F for one in data) < 0.8 * len(data))  # else they are taken for lines of text
    source = data
    line = lr.LineSettings.parse("57600 8N1")
    if timed:
        gaps = np.zeros(len(data))
        gaps[len(junk) :: sent.length] = 100.0
        source = lr.receive(lr.transmit(data, line, gaps=gaps), line)
    found = lr.propose_layout(source)
    if found is None:  # so few bytes repeat themselves that nothing tells frames from noise
        assert np.count_nonzero(kinds == 2) > 0.7 * (sent.length - len(marker)) or sent.length - len(marker) < 5
        return
    assert found.layout.length == sent.length
    assert found.good >= 76
    if name and timed:
        assert found.layout.checksum is not None
        assert found.layout.marker.startswith(marker[: len(found.layout.marker)])


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"abc",
        b"flow 12.5 mL/min\r\n" * 99,
        bytes(5000),
        bytes(range(256)) * 20,
        bytes(np.random.default_rng(1).integers(0, 256, 9000, dtype=np.uint8)),
    ],
)
def test_nothing_is_proposed_for_what_are_no_frames(data):
    assert lr.propose_layout(data) is None


def test_a_starter_sheet_of_an_unknown_capture_decodes_its_frames(shell, rig_files, tmp_path):
    """The demo's capture without its sheet: marker, length, counter and checksum of both wires are found."""
    sheet = tmp_path / "new.toml"
    assert shell("new", sheet, "--from", rig_files["capture"])[0] == 0
    made, declared = lr.open_sheet(sheet), lr.open_sheet(rig_files["sheet"])
    for mine, theirs in (("pump_tx_message", "status"), ("controller_tx_message", "setpoint")):
        one, other = made.frame[mine], declared.frame[theirs]
        assert (one.marker, one.length, one.covered) == (other.marker, other.length, other.covered)
        assert (one.checksum.algorithm, one.checksum.order) == (other.checksum.algorithm, other.checksum.order)
        assert one.counter.first_bit == other.counter.first_bit
    reading = lr.read(made, rig_files["capture"])
    assert np.count_nonzero(reading.frames["pump_tx_message"].faults == 0) >= 187


@examples(0.15)
@given(
    boundary=st.sampled_from(
        [{"kind": "cobs"}, {"kind": "slip"}, {"kind": "marker", "marker": "D7 4B", "end": "0D 0A"}, {"kind": "hdlc"}]
    ),
    algorithm=st.sampled_from(["CRC-16/MODBUS", "CRC-16/XMODEM", "CRC-32/ISO-HDLC", "fletcher-16", "sum-16", None]),
    order=st.sampled_from(["little", "big"]),
    seed=st.integers(0, 10**6),
    is_fixed=st.booleans(),
)
def test_fields_of_packets_are_found_where_the_boundary_alone_is_known(boundary, algorithm, order, seed, is_fixed):
    """A kind, a counter, a length, noise of any length, a checksum: all are there again, and every frame is right."""
    fields = [
        {"name": "kind", "type": "uint8", "equals": 0x21},
        {"name": "n", "type": "uint8", "counter": True},
        {"name": "size", "type": "uint8"},
        {"name": "x", "type": "uint8", "repeat": "size - 3"},
    ]
    extra = {}
    if algorithm:
        fields.append({"name": "crc", "type": "checksum"})
        extra = {"checksum": {"algorithm": algorithm, "order": order}}
    secret = lr.FrameLayout(boundary=boundary, fields=fields, **extra)
    rng = np.random.default_rng(seed)
    lengths = np.full(60, 9) if is_fixed else rng.integers(1, 40, 60)
    sent = secret.encode_all({"x": [rng.integers(0, 256, size).tolist() for size in lengths]}, first_count=200)
    stream = b"".join(secret.as_sent(frame) for frame in sent)
    found = lr.judge.propose_fields(lr.read_frames(stream, lr.FrameLayout(boundary=boundary)))
    read = lr.read_frames(stream, found)
    assert found.slot[f"constant_{len(secret.marker)}"].field.equals == 0x21
    assert found.counter is not None
    assert ("size" in found.slot) is not is_fixed
    if algorithm:
        assert found.checksum.algorithm == algorithm
        assert found.checksum.order == order
    if "end" not in boundary:  # noise may hold an end followed by a marker's first byte
        assert [row.tobytes() for row in read.data] == sent
        assert not read.faults.any()


def test_too_few_frames_and_noise_propose_no_checksum():
    plain = lr.FrameLayout(boundary={"kind": "slip"})
    assert lr.judge.propose_fields(lr.read_frames(b"abc\xc0" * 100, plain)) is None
    rng = np.random.default_rng(1)
    stream = b"".join(plain.as_sent(rng.integers(0, 256, size).astype(np.uint8).tobytes()) for size in range(8, 200))
    found = lr.judge.propose_fields(lr.read_frames(stream, plain))
    assert found.checksum is None
    assert list(found.slot) == ["data"]


def test_what_lies_between_pauses_is_a_frame_however_it_repeats():
    """Requests that ask for four things in turn look most alike four frames behind; they are frames of five bytes."""
    line = lr.LineSettings.parse("19200 8N1")
    asks = [bytes([0x01, 0x03, 0x10 + number % 4, number]) for number in range(40)]
    data = b"".join(one + bytes([sum(one) & 0xFF]) for one in asks)
    gaps = np.tile([100.0, 0.0, 0.0, 0.0, 0.0], len(asks))
    found = lr.propose_layout(lr.receive(lr.transmit(data, line, gaps=gaps, begin_s=0.0), line))
    assert (found.layout.length, found.layout.checksum.algorithm, found.good) == (5, "sum-8", 40)
