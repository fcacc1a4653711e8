import shutil
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.hex_text import is_hex, read_hex
from larkreader.capture.files.open import open_capture

DATA = bytes(range(0, 256, 3)) + bytes(64) + b"flow 12.5 mL/min"


def dumped(data, offset, group, text):
    """Write a dump as a program might: an offset, groups of bytes, and the same as text."""
    rows = []
    for low in range(0, len(data), 16):
        part = data[low : low + 16]
        groups = [part[place : place + group].hex() for place in range(0, len(part), group)]
        halves = "  ".join(" ".join(groups[at : at + 8 // group]) for at in range(0, len(groups), 8 // group))
        shown = "".join(chr(one) if 0x20 <= one < 0x7F else "." for one in part)
        rows.append(f"{low:{offset}} {halves:<50}{text.format(shown)}".rstrip())
    return "\n".join(rows) + "\n"


@given(
    st.binary(min_size=1, max_size=100),
    st.sampled_from(["08x", "06X", "07o", "08d"]),
    st.sampled_from([1, 2]),
    st.sampled_from(["", "|{}|", "  {}"]),
)
def test_dumps_with_offsets_and_text_columns_read_back(data, offset, group, text):
    assert read_hex(dumped(data, offset, group, text), "dump") == data


@pytest.mark.skipif(shutil.which("od") is None, reason="there is no od here")
@pytest.mark.parametrize("options", ["-A x -t x1", "-t x1", "-A d -t x1", "-b", "-A x -t x1z"])
def test_what_od_writes_reads_back(tmp_path, options):
    """As POSIX has it, with * for lines that repeat; the name of the file says nothing."""
    path = tmp_path / "data"
    path.write_bytes(DATA)
    written = subprocess.run(["od", *options.split(), str(path)], capture_output=True, text=True, check=True).stdout
    assert "*" in written
    pasted = tmp_path / "pasted.txt"
    pasted.write_text(written)
    with CaptureFile(pasted) as file:
        assert file.kind == "hex"
    assert bytes(open_capture(pasted, {"tx": "tx"})["tx"].value.astype("u1")) == DATA


@pytest.mark.parametrize(
    "text",
    [
        "D7 4B 21 00\n",
        "d7:4b:21:00",
        "0xD7, 0x4B,\n0x21, 0x00,",
        "static const uint8_t frame[4] = {\n  0xD7, 0x4B, /* marker */\n  0x21, 0x0 // kind\n};",
        "D74B2100",
        "D74B\n2100",
        "D74B 2100",
        "\\xd7\\x4b\\x21\\x00",
        "# from the bench\nD7-4B\n21-00\n",
        "0x20000100 <ring>:\t0xd7\t0x4b\n0x20000102 <ring+2>:\t0x21\t0x00\n",
        "0x20000100:\t0xd7\t0x4b\t0x21\n0x20000103:\t0x0\n",
    ],
)
def test_bare_hexadecimal_reads_with_anything_usual_between(text):
    assert read_hex(text, "text").hex() == "d74b2100"
    assert is_hex(text)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("D7 4B\nhello\n", 'line 2 has "hello". It must be pairs of hexadecimal digits.'),
        ("D7 4\n", 'line 1 has "D7 4".'),
        ("00000000  D7 4B\n00000010  21 00\n", "line 2 has the offset 00000010. It must be 2 in base 16"),
    ],
)
def test_damage_is_told_with_its_line(text, message):
    with pytest.raises(lr.CaptureError) as caught:
        read_hex(text, "paste")
    assert message in str(caught.value)


def test_other_text_is_not_taken_for_hexadecimal():
    sheet = 'sheet = 1\n[frame.a]\nboundary = { kind = "marker", marker = "D7" }\nfields = [{ name = "a", equals = 0x21 }]\n'
    for text in (sheet, "hello world\n", "time_s,tx\n0,1\n", "flow 12.5\n", ""):
        assert not is_hex(text)
