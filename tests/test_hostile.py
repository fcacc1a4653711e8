"""Damaged input: a result or a `LarkReaderError`, whatever reads it."""

import random
import zlib
from pathlib import Path

import pytest
from hostile import attempt, damaged, entries, repacked
from hypothesis import given, settings
from hypothesis import strategies as st

import larkreader as lr
from larkreader.errors import CaptureError, LarkReaderError, RequestError, SheetError

ENTRIES = entries()
FOUND = sorted((Path(__file__).parent / "found").iterdir())
DEEP = 100_000


@pytest.mark.parametrize("name", list(ENTRIES))
def test_sound_samples_are_read(name, tmp_path):
    entry = ENTRIES[name]
    assert all(attempt(entry, sample, tmp_path) for sample in entry.samples)


@pytest.mark.parametrize("name", list(ENTRIES))
@settings(max_examples=12)
@given(st.integers(0, 1 << 32))
def test_damaged_input_gives_a_result_or_a_typed_error(name, tmp_path_factory, seed):
    generator, entry = random.Random(seed), ENTRIES[name]
    data = damaged(generator, entry)
    if entry.samples[0].startswith(b"PK") and seed % 2:
        data = repacked(generator.choice(entry.samples), generator)
    attempt(entry, data, tmp_path_factory.mktemp("hostile"))


@pytest.mark.parametrize("path", FOUND, ids=[path.name for path in FOUND])
def test_what_was_found_once_is_read_or_refused(path, tmp_path):
    """Inputs that once gave another error than `LarkReaderError`, by the entry that read them."""
    name = next(key for key in ENTRIES if path.name.startswith(key.replace(" ", "-") + "-"))
    attempt(ENTRIES[name], path.read_bytes(), tmp_path)


@pytest.mark.parametrize(
    ("name", "data", "error"),
    [
        ("sheet", b"a = " + b"[" * DEEP, SheetError),
        ("sheet", b"a = " + b"{b = " * DEEP, SheetError),
        ("sheet", b"sheet = " + b"9" * DEEP, SheetError),
        ("registers", b"[" * DEEP, CaptureError),
        ("registers", b'{"a": ' + b"9" * DEEP + b"}", CaptureError),
        ("recording", b'{"recording": 1, "a": ' + b"[" * DEEP, CaptureError),
        ("log", b'{"data": ' + b"[" * DEEP, CaptureError),
        ("log", b"time,w" + b'{"a":' * 30_000 + b"0,hex\n2026-03-01T12:00:00,w0,66\n" * 9, CaptureError),
        ("levels in a table", b"time_s,tx\n0,0\n1e300,1\n", CaptureError),
        ("levels in a table", b"time_s,tx\n0,0\n1e10,1\n", CaptureError),
        ("registers", b"register,value\n" + b"A" * 200_000 + b",1\n", CaptureError),
        ("typed frame", b"flow=" + b"9" * 400, RequestError),
        ("typed frame", b"dosed=" + b"9" * 400, RequestError),
        ("pattern of paths", b"{1}/{2}", RequestError),
        ("SVD", b"<!DOCTYPE a [<!ENTITY b 'b'>]><device>&b;</device>", SheetError),
        ("SVD", b"<a>" * DEEP, SheetError),
    ],
)
def test_what_is_deep_long_or_far_is_refused(name, data, error, tmp_path):
    with pytest.raises(LarkReaderError) as raised:
        ENTRIES[name].read(data, tmp_path)
    assert isinstance(raised.value, error)


def test_ticks_that_make_a_character_too_long_are_refused():
    with pytest.raises(CaptureError, match="must have longer ticks"):
        lr.receive(lr.Trace([10, 20], 1e-300, 1, end=100), lr.LineSettings.parse("9600 8N1"))


def test_a_packed_capture_that_is_damaged_anywhere_is_reported(tmp_path):
    """Not silently: either everything that was packed is read, or an error or `truncated` says otherwise."""
    entry = ENTRIES["vcd, packed"]
    whole = zlib.decompress(entry.samples[0], wbits=31)
    path = tmp_path / "a.vcd.gz"
    (tmp_path / "b.vcd").write_bytes(whole)
    sound = lr.open_trace(tmp_path / "b.vcd", "rig.tx").edges.tolist()
    for at in range(10, len(entry.samples[0]), 3):
        data = bytearray(entry.samples[0])
        data[at] ^= 0x10
        path.write_bytes(data)
        try:
            trace = lr.open_trace(path, "rig.tx")
        except LarkReaderError:
            continue
        assert trace.truncated or trace.edges.tolist() == sound, at
