"""What `listen`, `send` and `decode` show, on stand-ins and on two ends of a pseudo terminal."""

import json
import os
import re
import select
import struct
import subprocess
import sys
import threading
import time
from contextlib import ExitStack, contextmanager

import numpy as np
import pytest

import larkreader as lr
from larkreader.capture.files.recording import RecordingWriter
from larkreader.cli.screen import Screen
from larkreader.exercise.talk.forwarder import Forwarder

termios = pytest.importorskip("termios", reason="there are no POSIX terminals here")
pty = pytest.importorskip("pty")
ioctl = pytest.importorskip("fcntl").ioctl

COMMAND = [sys.executable, "-m", "larkreader"]


@contextmanager
def says(parts, pause_s=0.1):
    """Give a port at whose far end some bytes are said one after the other, with a pause between them."""
    with lr.open_port("pty") as far:

        def talk():
            time.sleep(0.4)
            for part in parts:
                far.write(part)
                time.sleep(pause_s)

        thread = threading.Thread(target=talk)
        thread.start()
        yield far.name
        thread.join()


def frames_of(sheet, *values):
    return [sheet.frame["status"].encode({"state": "dosing", **one}) for one in values]


def test_frames_are_shown_as_they_come_with_what_changed_marked(shell, rig, rig_files):
    """Cut in the middle of a frame; a damaged one, and stray bytes, are told and change nothing."""
    values = [{"count": 1, "flow": 10.5}, {"count": 2, "flow": 10.5}, {"count": 4, "flow": 11, "state": "halted"}]
    one, two, four = frames_of(rig.sheet, *values)
    damaged = bytearray(two)
    damaged[4] ^= 0x40
    with says([one + two[:5], two[5:] + bytes(damaged) + two, b"\x00\x01\x02" + four]) as path:
        options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--fields", "count,flow,state"]
        status, out, err = shell("listen", path, *options, "--seconds", 1)
    rows = [line.split(maxsplit=2) for line in out.splitlines() if not line.startswith(("error", "warning", "note"))]
    assert rows[1][2] == "0 status count=1 flow=10.5 state=dosing"
    assert rows[2][2] == "16 status count=2' flow=10.5 state=dosing"
    assert re.fullmatch(r"32 status count=2 flow=\S+' state=dosing", rows[3][2])
    assert " ".join(rows[4]) == "faults: checksum-mismatch"
    assert rows[5][2] == "48 status count=2 flow=10.5 state=dosing"
    assert " ".join(rows[6]) == "from_pump 64 3 bytes of no frame: no-marker"
    assert rows[7][2] == "67 status count=4' flow=11' state=halted'"
    assert (status, " error  checksum-mismatch on from_pump, frame status" in out) == (1, True)
    assert "from_pump 83 characters; 5 status (1 faulty), 3 bytes of no frame\n" in err


def test_a_display_that_is_slow_thins_out_and_no_character_is_lost(shell, rig, rig_files, monkeypatch, tmp_path):
    """Fifteen frames in 1.5 s, and a display that takes 0.4 s a row."""
    rows = Screen.rows
    monkeypatch.setattr(Screen, "rows", lambda screen, texts: (time.sleep(0.4), rows(screen, texts)))
    with says(frames_of(rig.sheet, *({"count": number} for number in range(15)))) as path:
        options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--fields", "count", "--until", "240"]
        written = ["--record", tmp_path / "all.jsonl", "--reading", tmp_path / "reading.json", "--timing"]
        status, out, err = shell("listen", path, *options, *written)
    reading = json.loads((tmp_path / "reading.json").read_text())
    assert (status, reading["frames"]["status"]["good"]) == (0, 15)
    assert lr.read(rig_files["sheet"], tmp_path / "all.jsonl").bytes_of("from_pump")["good"] == 240
    shown = [line.split() for line in out.splitlines() if " status count=" in line]
    assert 0 < len(shown) < 15
    assert all(int(words[2]) == 16 * int(words[4].strip("count='")) for words in shown)
    left_out = reading["timing"]["not_shown"]
    assert left_out >= 16
    assert f"{left_out} characters were not shown, for want of time; all of them are judged" in err
    assert 0.25 < reading["timing"]["most_behind_s"] < 5
    assert re.search(
        r"of the time: record \d+\.\d %, judge \d+\.\d %, show \d+\.\d %, draw \d+\.\d %; at most \d+ ms behind", err
    )


def test_bytes_of_frames_are_shown_with_what_changed_marked(shell, rig, rig_files):
    with says(frames_of(rig.sheet, {"count": 0x41}, {"count": 0x42})) as path:
        options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--show", "bytes"]
        _, out, _ = shell("listen", path, *options, "--seconds", 1.5)
    assert "status D7 4B 21 41 00" in out
    assert "status D7 4B 21 42' 00" in out


def test_frames_that_differ_and_lines_of_text_are_shown_live(shell, tmp_path):
    """What is not in a frame is absent; what a list holds counts towards its range, words do not."""
    (tmp_path / "tank.toml").write_text(
        """sheet = 1
[wire.tx]
[frame.level]
boundary = { kind = "terminator", terminator = "\\n" }
pattern = "{state} {levels}"
fields = [{ name = "state", type = "word" }, { name = "levels", type = "decimal", repeat = "rest" }]
""",
        encoding="utf-8",
    )
    (tmp_path / "leak.toml").write_text(
        """sheet = 1
[wire.tx]
[frame.leak]
boundary = { kind = "cobs" }
fields = [
  { name = "n", type = "uint8" }, { name = "place", type = "uint8", when = { n = 2 } },
  { name = "drop", type = "uint8", repeat = "n" },
]
""",
        encoding="utf-8",
    )
    with says([b"full 9,8.5\n", b"empty .5\n"]) as path:
        _, out, _ = shell("listen", path, "--sheet", tmp_path / "tank.toml", "--show", "values", "--seconds", 1)
    rows = [line.split() for line in out.split("Verdict")[0].splitlines()]
    assert any(row[:3] == ["level", "state", '"empty"'] for row in rows)
    levels = next(row[1:] for row in rows if "levels" in row)
    assert (levels[:2], levels[-2:]) == (["levels", "0.5"], ["0.5", "9"])
    with says([b"\x03\x01\x05\x00", b"\x05\x02\x07\x08\x09\x00", b"\x02\x02\x00"]) as path:
        _, out, _ = shell("listen", path, "--sheet", tmp_path / "leak.toml", "--seconds", 1)
    shown = [line.split(maxsplit=3)[3] for line in out.split("\n\nVerdict")[0].splitlines()[1:] if line[0] == " "]
    assert shown == [
        "leak n=1 place=absent drop=5",
        "leak n=2' place=7' drop=8,9'",
        "bytes of no frame: length-mismatch",
    ]


def test_a_value_that_moves_is_drawn_and_an_old_or_substitute_value_is_marked(shell, rig, rig_files, tmp_path):
    """A minute that rises from 0 to 59 mL/min, then 5 s of nothing: of 24 cells, each 1.25 s, 19 have a value."""
    recording = tmp_path / "minute.jsonl"
    with RecordingWriter(recording, "2026-05-01T08:30:00.000Z", {"from_pump": {}, "to_pump": {}}) as writer:
        for number in range(1200):
            (frame,) = frames_of(rig.sheet, {"count": number % 256, "flow": number // 20})
            writer.add(0.05 * number, "from_pump", frame)
        writer.add(65.0, "to_pump", b"\0")
    for encoding, strip in (("utf-8", "\u2581\u2582\u2583\u2584\u2585\u2586\u2587\u2588"), ("ascii", "123456789")):
        options = [*COMMAND, "listen", "--replay", recording, "--sheet", rig_files["sheet"], "--speed", "1e6"]
        environment = {**os.environ, "COLUMNS": "120", "PYTHONIOENCODING": encoding}
        found = subprocess.run([*options, "--show", "values"], capture_output=True, env=environment, check=False)
        lines = found.stdout.decode(encoding).replace("|", " ").splitlines()
        (flow,) = (line for line in lines if " flow " in line and " 59 " in line)
        drawn = [sign for sign in flow if sign in strip and sign not in "0123456789"]
        assert flow.split()[-3:] == ["0", "59", "stale"]
        assert drawn == sorted(drawn)
        assert encoding == "ascii" or (drawn[0], drawn[-1], len(drawn)) == (strip[0], strip[-1], 19)


def test_the_last_values_their_range_and_rate_make_a_table(shell, rig, rig_files):
    values = [{"count": number, "flow": flow, "temperature": 21.5} for number, flow in enumerate([12, 310.5, 7.5, 301])]
    with says(frames_of(rig.sheet, *values)) as path:
        options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--show", "values", "--seconds", 1.2]
        status, out, _ = shell("listen", path, *options, "--fail-on", "nothing")
    table = out[out.index("frame  ") :].split("\n\n")[0].splitlines()
    rows = {line[12:24].strip(): line[24:].split() for line in table[2:]}
    heads = [line[:11].strip() for line in table[2:5]]
    assert status == 0
    assert rows["flow"] == ["301", "mL/min", "out", "of", "range", "7.5", "310.5"]
    assert (rows["temperature"][:2], rows["temperature"][-2:]) == (["21.5", "degC"], ["21.5", "21.5"])
    assert rows["state"][0] == "dosing"
    assert 3 < float(heads[1].removesuffix("/s")) < 40  # ten frames a second, the last some hundred milliseconds ago
    assert re.fullmatch(r"status,[\d.]+/s,\d+ ms ago", ",".join(heads))


def test_lines_are_shown_whole_with_their_endings(shell):
    """However they arrive; one that never ends, one with escape sequences, and an ending that stands out."""
    parts = [b"fl", b"ow 12.5\r", b"\nstate\r\n\x1b[1mhot\x1b[0m\r\nodd\n", b"and then"]
    with says(parts, 0.05) as path:
        _, out, err = shell("listen", path, "--show", "lines", "--strip-escapes", "--seconds", 1.2)
    rows = [line.split(maxsplit=2)[2] for line in out.splitlines()[1:]]
    assert rows[:3] == ["0 flow 12.5␍␊", "11 state␍␊", "18 hot␍␊"]
    assert out.splitlines()[4].strip() == "2 escape sequences left out"
    assert rows[4:6] == ["31 odd␊", "35 and then"]
    assert out.splitlines()[7].strip() == "no ending yet"
    assert "first 43 characters; 5 lines\n" in err
    assert "warning undeclared-ending on first: 1 unexpected line ending in 4 endings (25 %)" in err
    assert "note escape-sequence on first: 2 escape sequences" in err


def test_lines_of_what_is_no_text_are_told(shell):
    _, _, err = shell("listen", "stand-in:pump", "--show", "lines", "--seconds", 0.5)
    assert "warning no-text on first: 1 wire without text, at 0.0" in err
    assert "It begins with D7 4B 21 00 00 50 19 08 and " in err


def test_two_ports_stand_side_by_side_and_doubt_about_their_order_is_marked(shell):
    """Both say something within one look; the order of the two cannot be known."""
    with ExitStack() as stack:
        first, second = (stack.enter_context(lr.open_port("pty")) for _ in range(2))

        def talk():
            time.sleep(0.6)
            for _ in range(20):
                first.write(b"left")
                second.write(b"right")
                time.sleep(0.03)

        thread = threading.Thread(target=talk)
        thread.start()
        _, out, err = shell("listen", first.name, second.name, "--side-by-side", "--seconds", 1.6)
        thread.join()
    heading, columns, *rows = out.splitlines()
    assert re.fullmatch(r"first +\| second", heading)
    assert columns.count("hexadecimal") == 2
    left, right = zip(*((row[:49], row[49:]) for row in rows), strict=True)
    assert all(("left" in one) != ("righ" in other or "t" in other) for one, other in zip(left, right, strict=True))
    assert any("~0." in row or "~1." in row for row in rows)
    assert "times of first are those of arrival, known to " in err


def test_numbers_and_encodings_are_chosen(shell, tmp_path, rig_files):
    _, out, _ = shell("send", "stand-in:echo", "A\\r", "--numbers", "all", "--wait", 0.01)
    assert [line[16:].split() for line in out.splitlines()[1:3]] == [
        ["0", "A", "65", "41", "101", "01000001"],
        ["1", "␍", "13", "0D", "015", "00001101", "CR", "carriage", "return"],
    ]
    _, out, _ = shell("send", "stand-in:echo", "21 °C", "--encoding", "utf-8", "--numbers", "decimal", "--wait", 0.01)
    assert "21 °·C" in out
    assert "050 049 032 194 176 067" in out
    assert shell("send", "stand-in:echo", "x", "--encoding", "uft-8")[0] == 2


def test_the_ninth_data_bit_is_shown(shell, tmp_path):
    """A nine bit value is written with all its digits, not cut to eight bits."""
    line = lr.LineSettings.parse("9600 9N1")
    sheet, capture = tmp_path / "bus.toml", tmp_path / "bus.vcd"
    sheet.write_text('sheet = 1\n[line]\nbaud = 9600\nformat = "9N1"\n[wire.bus]\n')
    lr.write_vcd(capture, {"bus": lr.transmit([0x141, 0x042], line)})
    _, out, _ = shell("decode", sheet, capture, "--dump")
    assert out.splitlines()[1].endswith("·B        141 042")


def test_a_ring_buffer_is_shown_as_it_lies_and_read_in_the_order_of_writing(shell, rig, rig_files, tmp_path):
    """64 bytes of memory, written round one and a half times; the oldest frame is half overwritten."""
    stream = b"".join(rig.sheet.frame["status"].encode({"count": number}) for number in range(6))
    memory = bytearray(64)
    for place, one in enumerate(stream):
        memory[place % 64] = one
    path = tmp_path / "ram.bin"
    path.write_bytes(memory)
    where = ["--wire", "from_pump", "--write-index", len(stream) % 64]
    status, out, _ = shell("decode", rig_files["sheet"], path, *where, "--dump")
    assert (status, out.splitlines()[0].split(";")[0]) == (0, "Ring buffer of 64 characters, 64 of them count")
    assert "In order of arrival:" in out
    status, out, _ = shell("decode", rig_files["sheet"], path, *where, "--frames", tmp_path / "f.csv")
    table = np.genfromtxt(tmp_path / "f.csv", delimiter=",", names=True, dtype=None, encoding="utf-8")
    assert table["count"].tolist() == [2, 3, 4, 5]
    assert shell("decode", rig_files["sheet"], path, *where[:2], "--filled", 3)[2].startswith("larkreader: --filled")
    assert shell("decode", rig_files["sheet"], path, "--write-index", 1)[2].count("Name the wire with --wire") == 1
    assert "must be 0 to 63" in shell("decode", rig_files["sheet"], path, *where[:3], 64)[2]
    dump = tmp_path / "ram.txt"
    rows = (f"0x{0x20000100 + at:08x}: {memory[at : at + 16].hex(' ')}\n" for at in range(0, 64, 16))
    dump.write_text("".join(rows))
    shown = [shell("decode", rig_files["sheet"], one, *where, "--dump")[1] for one in (path, dump)]
    assert shown[0] == shown[1]


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (
            ["--show", "frames"],
            "--show frames has no layouts. It must go with a sheet that declares frames. Add --sheet",
        ),
        (["--strip-escapes"], "--strip-escapes goes with --show characters. It must go with --show lines."),
        (["--fields", "flow"], "--fields goes with --show characters."),
        (["--side-by-side"], "--side-by-side has one port. It must have two."),
        (["--sheet", "{sheet}", "--wire", "from_pump", "--fields", "flwo"], 'Did you mean "flow"?'),
    ],
)
def test_what_cannot_be_shown_is_told(shell, rig_files, arguments, message):
    arguments = [one.format(sheet=rig_files["sheet"]) for one in arguments]
    status, _, err = shell("listen", "stand-in:echo", *arguments, "--seconds", 0.1)
    assert (status, message in err) == (2, True), err


def test_a_forwarder_joins_two_ports():
    with ExitStack() as stack:
        fars = [stack.enter_context(lr.open_port("pty")) for _ in range(2)]
        ends = [stack.enter_context(lr.open_port(far.name)) for far in fars]
        forwarder = Forwarder(*ends)
        fars[0].write(bytes(range(256)))
        fars[1].write(b"back")
        while sum(forwarder.counts) < 260:
            forwarder.look(0.1)
        assert fars[1].read(256, 1.0).data == bytes(range(256))
        assert fars[0].read(4, 1.0).data == b"back"
        assert forwarder.counts == [256, 4]


def test_serve_offers_a_forwarder_with_two_ends(shell):
    with subprocess.Popen([*COMMAND, "serve", "forwarder", "pty", "pty"], stderr=subprocess.PIPE, text=True) as running:
        paths = next(found for line in running.stderr if len(found := re.findall(r"/dev/pts/\d+", line)) == 2)
        with lr.open_port(paths[0]) as one, lr.open_port(paths[1]) as other:
            one.write(b"flow?")
            assert other.read(5, 5.0).data == b"flow?"
        running.terminate()
        assert running.stderr.read().endswith("5 and 0 characters received\n")
    assert running.returncode == 0
    assert shell("serve", "forwarder", "pty")[2] == (
        "larkreader: arguments name 1 ports. It must name 2 for forwarder.\n"
    )


def test_what_the_driver_counts_while_the_port_is_open_is_said(shell, monkeypatch):
    counts = iter([{"overruns": 3, "breaks": 1}, {"overruns": 5, "breaks": 1}])
    monkeypatch.setattr(lr.SimulatedPort, "error_counters", lambda _: next(counts))
    _, _, err = shell("send", "stand-in:echo", "x", "--wait", 0)
    assert "the driver of stand-in:echo counted 2 overruns\n" in err


def on_a_terminal(columns, *arguments, seconds=1.5):
    """Run a command on a terminal of so many columns and return all that it wrote there."""
    around = {name: value for name, value in os.environ.items() if name not in ("COLUMNS", "LINES")}
    child, screen = pty.fork()
    if not child:
        os.execvpe(sys.executable, [*COMMAND, *map(str, arguments)], {**around, "TERM": "xterm"})
    ioctl(screen, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
    written, until = b"", time.monotonic() + seconds + 20
    while time.monotonic() < until:
        try:
            if select.select([screen], [], [], 0.1)[0]:
                written += os.read(screen, 65536)
        except OSError:  # it has ended
            break
    os.close(screen)
    assert os.waitpid(child, 0)[1] == 0
    return written.decode()


@pytest.mark.parametrize("columns", [80, 120])
def test_a_terminal_shows_the_status_under_the_rows_and_is_left_in_order(rig_files, columns):
    options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--seconds", 3, "--fail-on", "nothing"]
    written = on_a_terminal(columns, "listen", "stand-in:pump", *options)
    assert re.search(r"from_pump [\d,]+ \(\d+/s, \d+ % of the line\); \d+ status", written)
    assert written.rindex("\x1b[?25h") > written.rindex("\x1b[?25l")  # the cursor is shown again
    plain = lr.decode.strip_escapes(written.encode()).decode()
    assert max(len(row) for row in re.split(r"[\r\n]+", plain) if "status" in row) <= columns
