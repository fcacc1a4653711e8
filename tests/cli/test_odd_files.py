"""Files that are not what they seem: empty, sparse, cut off, in motion, forbidden, or with names that do harm."""

import csv
import gzip
import os
import re
import subprocess
import sys
import threading
import time
import tracemalloc
from contextlib import nullcontext
from pathlib import Path

import numpy as np
import pytest

import larkreader as lr
from larkreader.answers.reading import read
from larkreader.capture.files.recording import write_recording

LINE = lr.LineSettings.parse("57600 8E1")
WITH_LINE = ("--line", "57600 8E1")
EVIL = "\x1b[31mX\x07\u202eY\x9b"
HARMFUL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
needs_posix = pytest.mark.skipif(os.name == "nt", reason="files are other things on Windows")


@pytest.fixture
def trace():
    return lr.transmit(b"flow 12.5\r\n" * 5, LINE, tick_s=1e-7)


def test_names_that_would_control_a_terminal_are_shown_as_escapes(shell, trace, tmp_path, monkeypatch):
    """In what is printed, in errors, and in each file that is written."""
    monkeypatch.chdir(tmp_path)
    lr.capture.write_levels("evil.csv", {"tx": trace})
    Path("evil.csv").write_text(Path("evil.csv").read_text().replace("tx", EVIL), encoding="utf-8")
    lr.write_vcd("evil.vcd", {"tx": trace})
    Path("evil.vcd").write_text(Path("evil.vcd").read_text().replace(" tx ", f" {EVIL} "), encoding="utf-8")
    Path("evil.toml").write_text(
        '\n'.join(["sheet = 1", r'[wire."\u001b[2J"]', "[frame.status]", 'boundary = { kind = "fixed", length = 1 }',
                   r'fields = [{ name = "flow", type = "uint8", unit = "mL\u0007", note = "\u202e" }]']))  # fmt: skip
    commands = [
        ("decode", *WITH_LINE, "evil.csv"), ("decode", *WITH_LINE, "evil.vcd", "--junit", "a.xml"), ("diagnose", "evil.vcd"),
        ("decode", *WITH_LINE, "evil.vcd", "--json"), ("report", *WITH_LINE, "evil.vcd", "-o", "a.html"), ("decode", *WITH_LINE, f"no{EVIL}"),
        ("report", *WITH_LINE, "evil.vcd", "-o", "a.md"), ("convert", "evil.vcd", "a.csv"), ("listen", EVIL), ("plan", EVIL), ("plan", "evil.toml"),
        ("draw", *WITH_LINE, "evil.vcd", "waveform", "-o", "a.svg"),
    ]  # fmt: skip
    for command in commands:
        status, out, err = shell(*command)
        assert status in (0, 1, 2)
        assert not HARMFUL.search(out + err), command
        assert status != 2 or r"\x1b[" in err, command
    written = sorted(path.name for path in tmp_path.glob("a.*"))
    assert written == ["a.csv", "a.html", "a.md", "a.svg", "a.xml"]
    for name in written:
        assert not HARMFUL.search(Path(name).read_text(encoding="utf-8").replace("\r\n", "\n")), name
    mistakes = shell("plan", "evil.toml")[2]
    assert mistakes.count("must be without control characters") == 3
    with lr.capture.CaptureFile("evil.csv") as file:  # by the name that is shown, the signal is found
        (signal,) = file.signals()
        assert signal == r"\x1b[31mX\x07\u202eY\x9b"
        assert file.traces({"tx": signal})["tx"].edges.tolist() == lr.open_trace("evil.csv", signal).edges.tolist()


def test_text_from_a_wire_is_not_a_formula_in_a_table(tmp_path):
    sheet = lr.parse_sheet(
        'sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]\n[frame.line]\nboundary = { kind = "terminator", terminator = "\\n" }\n'
        'pattern = "{text}"\nfields = [{ name = "text", type = "text" }]\n'
    )
    sent = ["=1+1", "-5", "+5 V", "@flow", "flow", "1=1", "'x"]
    reading = read(sheet, {"tx": lr.transmit("".join(f"{text}\n" for text in sent).encode(), LINE)})
    lr.write_frames(tmp_path / "frames.csv", reading)
    rows = list(csv.DictReader((tmp_path / "frames.csv").read_text().splitlines()))
    assert [row["text"] for row in rows] == ["'=1+1", "-5", "'+5 V", "'@flow", "flow", "1=1", "'x"]


def written(kind, path, trace):
    """Write a capture of a kind."""
    characters = {"w": lr.receive(trace, LINE)}
    log = "time,wire,hex\n" + "".join(f"2026-03-01T12:00:00.{n:03d},w,66 6C 6F 77\n" for n in range(12))
    {
        "vcd": lambda: lr.write_vcd(path, {"w": trace}),
        "levels": lambda: lr.capture.write_levels(path, {"w": trace}),
        "characters": lambda: lr.capture.write_characters(path, characters),
        "recording": lambda: write_recording(path, characters),
        "log": lambda: path.write_text(log),
    }[kind]()


KINDS = {"vcd": ".vcd", "levels": ".csv", "characters": ".csv", "recording": ".jsonl", "log": ".log"}


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_file_whose_end_is_filled_with_zero_bytes_is_said_to_break_off(kind, shell, trace, tmp_path):
    """As a crash of the machine leaves it: the size of the file was kept, but not its content."""
    path = tmp_path / f"capture{KINDS[kind]}"
    written(kind, path, trace)
    for count in (5, 3_000_000):
        with path.open("ab") as file:
            file.write(bytes(count))
        status, out, _ = shell("decode", *WITH_LINE, path)
        assert (status, "cut-capture" in out, "Verdict: clean" in out) == (0, True, False)


def test_zero_bytes_within_a_vcd_file_are_refused(shell, trace, tmp_path):
    path = tmp_path / "capture.vcd"
    written("vcd", path, trace)
    whole = path.read_bytes()
    path.write_bytes(whole[:-50] + bytes(3) + whole[-50:])
    status, _, err = shell("decode", *WITH_LINE, path)
    assert (status, "has zero bytes, and text behind them" in err) == (2, True)
    path.write_bytes(whole + b"x" * (20 << 20))
    status, _, err = shell("decode", *WITH_LINE, path)
    assert (status, "has a word of more than 16,777,216 bytes" in err) == (2, True)


@needs_posix
def test_what_is_no_file_or_an_empty_one_is_named(shell, trace, tmp_path):
    (tmp_path / "folder.vcd").mkdir()
    (tmp_path / "loop.vcd").symlink_to("loop.vcd")
    (tmp_path / "dangling.vcd").symlink_to("nowhere")
    (tmp_path / "empty.vcd").touch()
    lr.write_vcd(tmp_path / "real.vcd", {"tx": trace})
    (tmp_path / "link.vcd").symlink_to("real.vcd")
    expected = {
        "folder.vcd": "is a folder, not a file", "loop.vcd": "Too many levels of symbolic links", "dangling.vcd": "does not exist",
        "empty.vcd": "is empty", "link.vcd": "",
    }  # fmt: skip
    for name, why in expected.items():
        status, _, err = shell("decode", *WITH_LINE, tmp_path / name)
        assert (status, why in err) == (2 if why else 0, True), name
    os.mkfifo(tmp_path / "pipe.vcd")
    content = (tmp_path / "real.vcd").read_bytes()
    thread = threading.Thread(target=lambda: (tmp_path / "pipe.vcd").write_bytes(content))
    thread.start()
    status, out, _ = shell("decode", *WITH_LINE, tmp_path / "pipe.vcd")
    thread.join()
    assert (status, "55" in out) == (0, True)


@needs_posix
def test_a_sparse_file_of_4_gb_is_refused_at_once_or_takes_little_memory(tmp_path):
    for name in ("a.vcd", "a.csv", "a.jsonl", "a.npz", "a.wav"):
        with (tmp_path / name).open("wb") as file:
            file.truncate(4 << 30)
        limited = "import resource, runpy; resource.setrlimit(resource.RLIMIT_AS, (2 << 30, 2 << 30)); "
        limited += "runpy.run_module('larkreader', run_name='__main__', alter_sys=True)"
        command = [sys.executable, "-c", limited, "decode", *WITH_LINE, name]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=120, check=False)
        assert (done.returncode, "it begins with" in done.stderr) == (2, True), done.stderr
    with (tmp_path / "b.jsonl").open("wb") as file:  # what must be held whole, and does not fit
        file.write(b'{"recording": 1, "began": "2026-03-01T12:00:00Z", "wires": {"w": {}}}\n')
        file.truncate(4 << 30)
    done = subprocess.run(
        [*command[:-1], "b.jsonl"], cwd=tmp_path, capture_output=True, text=True, timeout=300, check=False
    )
    assert (done.returncode, "needs more memory than there is" in done.stderr) == (2, True), done.stderr[-500:]


@needs_posix
@pytest.mark.parametrize("kind", list(KINDS))
def test_a_file_that_grows_or_vanishes_while_it_is_read_is_read_as_far_as_it_goes(kind, trace, tmp_path):
    """A whole prefix of what is in it at the end, or an error of ours; never anything else."""
    path, grown = tmp_path / f"capture{KINDS[kind]}", tmp_path / f"grown{KINDS[kind]}"
    written(kind, grown, lr.transmit(b"flow 12.5\r\n" * 2000, LINE, tick_s=1e-7))
    whole, stop = grown.read_bytes(), threading.Event()
    path.write_bytes(whole[: len(whole) // 2])

    growing = path.open("ab")  # before the thread starts, which may be late and would make the file anew

    def grow():
        at = len(whole) // 2
        with growing as file:
            while at < len(whole) and not stop.is_set():
                file.write(whole[at : at + 1777])
                file.flush()
                at += 1777
                time.sleep(0.001)

    def values(file):
        if kind in ("vcd", "levels"):
            return lr.receive(lr.open_trace(file, "w"), LINE).value
        with lr.capture.CaptureFile(file) as opened:
            return next(iter(opened.every_wire().values())).value

    expected = values(grown)
    thread = threading.Thread(target=grow)
    thread.start()
    try:
        for _ in range(5):
            found = values(path)
            assert np.array_equal(found[:-1], expected[: len(found) - 1])
        with lr.capture.CaptureFile(path) as opened:
            path.unlink()
            assert opened.kind
    finally:
        stop.set()
        thread.join()
    with pytest.raises(lr.CaptureError, match="does not exist"):
        values(path)


WITHOUT_RIGHTS = """
import ctypes, os, sys
if os.geteuid() == 0:  # root may do everything, unless it gives up its capabilities (capset(2), version 3)
    header, none = (ctypes.c_uint32 * 2)(0x20080522, 0), (ctypes.c_uint32 * 6)()
    assert ctypes.CDLL(None).capset(header, none) == 0
import larkreader.cli
sys.exit(larkreader.cli.run(sys.argv[1:]))
"""


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="capabilities are of Linux")
def test_what_may_not_be_read_or_written_is_named(trace, tmp_path):
    closed = tmp_path / "closed"
    closed.mkdir()
    lr.write_vcd(tmp_path / "a.vcd", {"tx": trace})
    (closed / "secret.vcd").touch(0)
    closed.chmod(0o555)
    for words in (
        ["convert", "a.vcd", "closed/copy.csv"], ["decode", *WITH_LINE, "closed/secret.vcd"], ["report", *WITH_LINE, "a.vcd", "-o", "closed/a.html"],
        ["listen", "stand-in:pump", "--record", "closed/talk.jsonl", "--seconds", "1"], ["new", "closed/new.toml"],
    ):  # fmt: skip
        command = [sys.executable, "-c", WITHOUT_RIGHTS, *words]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=60)
        reason = "Permission denied" in done.stderr or "is not readable" in done.stderr
        assert (done.returncode, reason, "Traceback" in done.stderr) == (2, True, False), done.stderr
    closed.chmod(0o755)
    assert [path.name for path in closed.iterdir()] == ["secret.vcd"]


def test_a_capture_of_ten_thousand_wires_takes_time_in_proportion(shell, tmp_path):
    """And is described in a few lines."""
    for count in (1_000, 10_000):
        names = "".join(f"$var wire 1 w{number} wire{number} $end\n" for number in range(count))
        header = f"$timescale 1 us $end\n$scope module top $end\n{names}$upscope $end\n$enddefinitions $end\n"
        (tmp_path / "many.vcd").write_text(header + "#0\n1w0\n#100\n0w0\n#1000\n")
        status, out, err = shell("decode", *WITH_LINE, tmp_path / "many.vcd")
        assert (status, f"and {count - 13:,} more" in err, len(out + err) < 3000) == (0, True, True)
    (tmp_path / "many.csv").write_text("time_s," + ",".join(f"wire{number}" for number in range(10_000)) + "\n0,1\n")
    status, _, err = shell("decode", *WITH_LINE, tmp_path / "many.csv")
    assert (status, "begins with a line of more than 65,536 bytes" in err) == (2, True)


@pytest.mark.parametrize("filling", [b"\n", b"0"])
def test_a_packed_capture_that_unpacks_to_a_thousand_times_its_size_takes_little_memory(filling, trace, tmp_path):
    lr.write_vcd(tmp_path / "a.vcd", {"tx": trace})
    with gzip.open(tmp_path / "a.vcd.gz", "wb", 9) as file:
        file.write((tmp_path / "a.vcd").read_bytes())
        for _ in range(64):
            file.write(filling * (1 << 20))
    tracemalloc.start()
    refused = pytest.raises(lr.CaptureError, match="has a word of more than 16,777,216 bytes")
    with refused if filling == b"0" else nullcontext():
        assert lr.open_trace(tmp_path / "a.vcd.gz", "tx").edges.tolist() == trace.edges.tolist()
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 50_000_000
