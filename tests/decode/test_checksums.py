"""Checksums against published values, plain definitions, and each other."""

import zlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_crc
from strategies import examples

import larkreader as lr
from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.declare.checks.crc_catalogue import CATALOGUE
from larkreader.declare.checks.sums import SUMS
from larkreader.decode.check.checksums import checksums_of_rows

PUBLISHED = [
    ("fletcher-16", b"abcde", 0xC8F0),
    ("fletcher-16", b"abcdef", 0x2057),
    ("fletcher-16", b"abcdefgh", 0x0627),
    ("fletcher-32", b"abcde", 0xF04FC729),
    ("fletcher-32", b"abcdef", 0x56502D2A),
    ("fletcher-32", b"abcdefgh", 0xEBE19591),
    ("adler-32", b"Wikipedia", 0x11E60398),
    ("carry-sum-16-words-ones", bytes.fromhex("0001f203f4f5f6f7"), 0xFFFF ^ 0xDDF2),  # RFC 1071, section 3
    ("carry-sum-8-ones", bytes.fromhex("4A 55 93 E5"), 0xE6),  # LIN 2.1, the example of its section 2.8.3
    ("sum-8-twos", bytes.fromhex("0300300002337A"), 0x1E),  # a line of Intel's hexadecimal object format
    ("xor-8", b"GPGLL,5057.970,N,00146.110,E,142451,A", 0x27),
]


@pytest.mark.parametrize(("name", "data", "wanted"), PUBLISHED)
def test_sums_give_their_published_values(name, data, wanted):
    assert SUMS[name].of(data) == wanted
    assert lr.calculate_checksum(data, name.upper()) == wanted


def test_every_catalogued_crc_gives_its_check_value_in_every_way():
    """Bit by bit by the definition, byte by byte, a row at a time, and as a long buffer."""
    assert len(CATALOGUE) >= 110
    message = b"123456789"
    for name, crc in CATALOGUE.items():
        parameters = (crc.width, crc.poly, crc.init, crc.reflect_in, crc.reflect_out, crc.final_xor)
        assert slow_crc(message, *parameters) == crc.of(message) == lr.calculate_checksum(message, name) == crc.check, (
            name
        )
        assert checksums_of_rows(np.frombuffer(message, np.uint8)[None], crc).tolist() == [crc.check]


@given(st.binary(max_size=300), st.sampled_from(sorted(ALGORITHMS)), st.integers(1, 4))
def test_rows_and_buffers_give_what_the_plain_way_gives(data, name, count):
    algorithm = ALGORITHMS[name]
    assert lr.calculate_checksum(data, algorithm) == algorithm.of(data)
    rows = np.frombuffer(data[: len(data) // count * count], np.uint8).reshape(count, -1)
    assert checksums_of_rows(rows, algorithm).tolist() == [algorithm.of(row.tobytes()) for row in rows]


@pytest.mark.parametrize(
    "name",
    [
        "CRC-8/SMBUS",
        "CRC-16/MODBUS",
        "CRC-16/XMODEM",
        "CRC-32/ISCSI",
        "CRC-64/XZ",
        "adler-32",
        "fletcher-32",
        "sum-16-words",
        "carry-sum-8",
        "xor-16-words",
    ],
)
@pytest.mark.parametrize("size", [(1 << 22) + 12_345, 900_001])
def test_a_long_buffer_is_folded_without_changing_the_result(name, size):
    """Against the register going byte by byte, and for two of them against zlib."""
    data = np.random.default_rng(size).integers(0, 256, size, dtype=np.uint8)
    whole = lr.calculate_checksum(data, name)
    cut = size // 3
    if name.startswith("CRC"):
        crc = CATALOGUE[name]
        first = lr.calculate_checksum(data[:cut], crc)
        start = first ^ crc.final_xor
        if crc.reflect_out != crc.reflect_in:
            return
        start = int(f"{start:0{crc.width}b}"[::-1], 2) if crc.reflect_in else start
        assert lr.calculate_checksum(data[cut:], crc.model_copy(update={"init": start, "check": None})) == whole
    else:
        short = data[:20_001]
        assert lr.calculate_checksum(short, name) == ALGORITHMS[name].of(short.tobytes())
    raw = data.tobytes()
    assert lr.calculate_checksum(raw, "CRC-32/ISO-HDLC") == zlib.crc32(raw)
    assert lr.calculate_checksum(raw, "adler-32") == zlib.adler32(raw)


def test_a_name_that_is_none_is_told():
    with pytest.raises(lr.RequestError, match="CRC-16/MODBUS"):
        lr.calculate_checksum(b"", "CRC-16/MODBUSS")
    with pytest.raises(lr.SheetError, match='Did you mean "xor-8"'):
        lr.parse_sheet(
            'sheet = 1\n[wire.a]\n[frame.f]\nboundary = { kind = "marker", marker = "D7" }\n'
            'fields = [{ name = "v", type = "uint8" }, { name = "c", type = "checksum" }]\nchecksum = { algorithm = "xor-9" }'
        )


def frame_of(algorithm, **checksum):
    return lr.FrameLayout(
        key="status",
        wire="pump",
        boundary={"kind": "marker", "marker": "D7 4B"},
        fields=[
            {"name": "count", "type": "uint8", "counter": True},
            {"name": "flow", "type": "uint16"},
            {"name": "dosed", "type": "uint32"},
            {"name": "check", "type": "checksum"},
        ],
        checksum={"algorithm": algorithm, **checksum},
    )


@pytest.mark.parametrize(
    "name", ["sum-8", "carry-sum-8-ones", "xor-8", "fletcher-16", "adler-32", "CRC-24/BLE", "CRC-64/WE", "CRC-16/CMS"]
)
def test_a_frame_may_carry_any_of_them(name):
    layout = frame_of(name, **{"from": "count", "order": "big"} if ALGORITHMS[name].width > 8 else {"from": "count"})
    data = b"".join(layout.encode({"count": n, "flow": 40 * n, "dosed": n**3}) for n in range(40))
    frames = lr.read_frames(data, layout)
    assert (len(frames), frames.faults.any()) == (40, False)
    hurt = bytearray(data)
    hurt[layout.length + 4] ^= 0x10
    assert np.flatnonzero(lr.read_frames(bytes(hurt), layout).faults).tolist() == [1]


@examples(0.4)
@given(
    st.sampled_from([name for name, one in ALGORITHMS.items() if one.width == 16]),
    st.sampled_from([{"from": "marker"}, {"from": "count"}, {"from": "flow"}, {"from": "count", "to": "flow"}]),
    st.sampled_from(["little", "big"]),
    st.integers(0, 2**32),
)
def test_a_checksum_declared_wrongly_is_found(name, span, order, seed):
    """What the sender computes fits, over the same bytes and in the same order, or something that cannot be told from it."""
    if span.get("to") and order == "big":
        return
    rng = np.random.default_rng(seed)
    sender = frame_of(name, **span, order=order)
    declared = frame_of("CRC-16/GENIBUS" if name != "CRC-16/GENIBUS" else "CRC-16/ARC", **{"from": "count"})
    values = [{"count": n, "flow": int(rng.integers(65536)), "dosed": int(rng.integers(2**32))} for n in range(12)]
    data = b"".join(sender.encode(one) for one in values)
    sheet = lr.Sheet(wire={"pump": lr.declare.Wire(key="pump")}, frame={"status": declared})
    found = next(one for one in lr.read(sheet, {"pump": data}).findings if one.kind == "checksum-mismatch")
    rows = np.frombuffer(data, np.uint8).reshape(12, -1)
    fits = lr.find_checksums(rows, 9, 2)
    begin, end = sender.covered
    right = [one for one in fits if (one.algorithm, one.begin, one.end, one.order) == (name, begin, end, order)]
    assert right or (span.get("to") and end < 9 - 2)
    if right:
        assert "different frames are right: no coincidence" in found.text
        assert "Declare checksum = { algorithm =" in found.advice


@given(st.integers(0, 2**32), st.sampled_from([1, 2, 4]), st.integers(1, 40), st.booleans())
def test_no_checksum_is_found_where_there_is_none(seed, size, count, alike):
    """Random bytes, or frames of which most bytes never change."""
    rng = np.random.default_rng(seed)
    rows = rng.integers(0, 256, (count, 12), dtype=np.uint8)
    if alike:
        rows[:, 1:10] = rows[0, 1:10]
    assert not lr.find_checksums(rows, 12 - size, size)
