import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from contextlib import contextmanager

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.open import open_every_wire
from larkreader.capture.files.recording import RecordingWriter
from larkreader.exercise.payload.typed_input import frame_of, hex_of, text_of
from larkreader.present.text.dump import DumpForm
from larkreader.present.text.notation import visible

COMMAND = [sys.executable, "-m", "larkreader"]
BEGAN = "2026-05-01T08:30:00.000Z"


@contextmanager
def program(*arguments):
    """Run a command that names a pseudo terminal on standard error; give it and the path."""
    with subprocess.Popen(
        [*COMMAND, *arguments],
        stderr=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONIOENCODING": "utf-8"},
    ) as running:
        try:
            path = next(match[0] for line in running.stderr if (match := re.search(r"/dev/pts/\d+", line)))
            yield running, path
        finally:
            running.kill()


def test_what_is_sent_and_what_comes_back_stand_on_one_timeline(shell, tmp_path, monkeypatch):
    """Three numbered lines, 50 ms apart, to a device that answers lines; shown and recorded."""
    monkeypatch.setenv("COLUMNS", "100")
    record = tmp_path / "talk.jsonl"
    with program("serve", "line-answerer", "pty") as (_, path):
        options = ["--ending", "lf", "--times", 3, "--every", 50, "--record", record]
        status, out, err = shell("send", path, "flow {n}?", *options)
    assert status == 0
    assert "out 24 characters\nin 39 characters\ntimes of in are those of arrival" in err
    heading, *lines = out.splitlines()
    assert heading.split() == ["seconds", "who", "number", "text", "hexadecimal"]
    rows = [line.split(maxsplit=3) for line in lines]
    rows = [row for row in rows if row[1] != ":"]  # the rest of a row that was too long for the screen
    assert rows[0][1] == "out"  # on a busy machine the next question may come before an answer
    assert next(row[3] for row in rows if row[1] == "in").startswith("got: flow 1?")
    read = open_every_wire(record, kind="recording")
    assert bytes(read["out"].value.astype("u1")) == b"flow 1?\nflow 2?\nflow 3?\n"
    assert bytes(read["in"].value.astype("u1")) == b"got: flow 1?\ngot: flow 2?\ngot: flow 3?\n"
    asked, answered = read["out"].begin_s[[0, 8, 16]], read["in"].begin_s[[0, 13, 26]]
    assert (asked < answered).all()
    assert asked[2] >= 0.1  # on a busy machine it may be later


def test_a_frame_is_sent_by_its_fields_and_its_recording_decoded(shell, tmp_path, rig_files, rig):
    record = tmp_path / "frames.jsonl"
    arguments = ["--frame", "setpoint", "flow=12.5", "valve=1,0,0,1", "--sheet", rig_files["sheet"], "--times", 5]
    status, out, _ = shell("send", "stand-in:echo", *arguments, "--record", record)
    assert status == 0
    assert out.splitlines()[1].split()[1] == "to_pump"
    reading = lr.read(rig.sheet, record)
    assert [one.kind for one in reading.findings] == ["no-good-frame", "resynchronised"]  # the echo is no status frame
    assert reading.frames["setpoint"]["count"].tolist() == [0, 1, 2, 3, 4]
    assert reading.frames["setpoint"]["flow"].tolist() == [12.5] * 5
    assert reading.characters["to_pump"].begin_s[0] >= 0


def test_lines_typed_in_are_sent_one_by_one(shell, monkeypatch):
    """The last one without an ending; what is no text is refused."""
    for typed, status in ((b"flow\r\nstate", 0), (b"flow\n\xff\n", 2)):
        end, begin = os.pipe()
        os.write(begin, typed)
        os.close(begin)
        with os.fdopen(end, encoding="utf-8") as stdin:
            monkeypatch.setattr("sys.stdin", stdin)
            ended, out, err = shell("send", "stand-in:line-answerer", "--wait", 0.05)
        assert ended == status
        if status:
            assert "line 2 is no utf-8: FF. Send bytes with --hex or --file." in err
        else:
            assert "out 11 characters\nin 21 characters\n" in err
            assert out.index("got: flow") < out.index("state␊")


def test_what_comes_while_nothing_is_typed_is_shown(rig_files):
    """The pump speaks unasked; its frames are shown though no line has been typed yet."""
    with subprocess.Popen(
        [*COMMAND, "send", "stand-in:pump", "--line", "57600 8E1"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONUNBUFFERED": "1", "PYTHONIOENCODING": "utf-8"},
    ) as running:
        assert b"seconds who" in running.stdout.readline()
        assert b"D7 4B 21 00" in running.stdout.readline()
        running.communicate(timeout=10)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--hex", "D7 4"], 'hex is "D7 4". It must be pairs of hexadecimal digits'),
        (["a\\q"], 'text has "\\q". It must be one of'),
        (["--frame", "status"], "names status, but there is no sheet. Add --sheet SHEET."),
        (["--frame", "staus", "--sheet", "{sheet}"], 'Did you mean "status"?'),
        (["--frame", "status", "flwo=1", "--sheet", "{sheet}"], 'Did you mean "flow"?'),
        (["--frame", "status", "flow=999", "--sheet", "{sheet}"], "must be 0 to 409.5 mL/min"),
        (["x", "--record", "{sheet}"], "exists and is not a recording. Name another file."),
        (["--hex", "--file", "{sheet}"], "--hex and --file exclude each other."),
        (["--hex"], "--hex has nothing to send."),
        (["x", "--file", "{sheet}"], "--file leaves nothing else to send. Leave out WHAT."),
        (["--hex", "00", "--ending", "lf"], "--ending is put behind text, not used with --hex."),
        (["x", "--wire", "to_pump"], "--wire names a wire of a recording. It must go with --replay FILE."),
        (["--replay", "{sheet}", "--times", "2"], "--replay goes at its own pace, once."),
    ],
)
def test_what_cannot_be_sent_is_told(shell, rig_files, arguments, message):
    before = rig_files["sheet"].read_text()
    status, _, err = shell("send", "stand-in:echo", *(one.format(**rig_files) for one in arguments))
    assert status == 2
    assert message in err
    assert rig_files["sheet"].read_text() == before


def test_two_ports_are_watched_and_forwarded(shell, tmp_path):
    """What a sender says at the first is recorded and handed on to the second, where an echo answers."""
    record = tmp_path / "both.jsonl"
    with program("serve", "altered-echo", "pty") as (_, device):
        running = subprocess.Popen(
            [
                *COMMAND,
                "listen",
                "pty",
                device,
                "--forward",
                "--record",
                record,
                "--show",
                "nothing",
                "--line",
                "9600 8N1",
            ],
            stderr=subprocess.PIPE,
            text=True,
        )
        with running:
            path = next(match[0] for line in running.stderr if (match := re.search(r"first is (/dev/pts/\d+)", line)))
            path = path.split()[-1]
            next(line for line in running.stderr if "second is" in line)
            status, out, _ = shell("send", path, "--hex", "00 0F", "--wait", 1)
            running.send_signal(signal.SIGINT)
            rest = running.stderr.read()
            assert running.wait(10) == 0
    assert (status, "FF F0" in out) == (0, True)
    assert "first 2 characters\nsecond 2 characters\n" in rest
    read = open_every_wire(record, kind="recording")
    assert {wire: bytes(one.value.astype("u1")) for wire, one in read.items()} == {
        "first": b"\0\x0f",
        "second": b"\xff\xf0",
    }


def test_a_live_pump_is_recorded_and_then_judged(shell, tmp_path, rig_files):
    record = tmp_path / "pump.jsonl"
    options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--seconds", 6, "--record", record]
    status, out, err = shell("listen", "stand-in:pump", *options)
    assert (status, out.splitlines()[1].split()[1]) == (1, "from_pump")
    assert err.endswith(f"now try: larkreader decode {rig_files['sheet']} {record}\n")
    status, out, _ = shell("decode", rig_files["sheet"], record, "--json")
    document = json.loads(out)
    assert (status, document["frames"]["status"]["faults"]) == (1, {"checksum-mismatch": 2})
    assert document["frames"]["status"]["count"] in (119, 120)
    assert shell("listen", "stand-in:pump", "--sheet", rig_files["sheet"], "--wire", "from_pmp")[0] == 2


def test_a_killed_recording_is_readable_up_to_its_last_tenth_of_a_second(tmp_path):
    """A numbered line every 10 ms; after kill -9 at most the last tenth of a second is missing."""
    record = tmp_path / "killed.jsonl"
    with program("listen", "pty", "--record", record, "--show", "nothing") as (running, path):
        sent, stop = [], threading.Event()

        def talk():
            with lr.open_port(path) as port:
                number = 0
                while not stop.is_set():
                    port.write(b"%06d\n" % number)
                    sent.append((time.monotonic(), number))
                    number += 1
                    stop.wait(0.01)

        talker = threading.Thread(target=talk)
        talker.start()
        for _ in range(2000):  # sixty lines take 0.6 s, or longer where the machine is busy
            if len(sent) >= 60:
                break
            time.sleep(0.005)
        for _ in range(500):  # until it has caught up with what a busy machine held back
            found = record.read_bytes().rsplit(b'"hex": "', 1)[-1].split(b'"')[0]
            if (
                sent
                and bytes.fromhex(found.decode())[:6].isdigit()
                and len(sent) - int(bytes.fromhex(found.decode())[:6]) < 4
            ):
                break
            time.sleep(0.005)
        running.send_signal(signal.SIGKILL)
        killed = time.monotonic()
        stop.set()
        talker.join(5)
    text = bytes(open_every_wire(record, kind="recording")["first"].value.astype("u1"))
    numbers = [int(one) for one in text.split(b"\n")[:-1]]
    due = [number for at, number in sent if at < killed - 0.1]
    assert len(due) > 40
    assert numbers[: len(due)] == due


@given(
    st.lists(
        st.tuples(
            st.floats(0, 1e4), st.sampled_from(["a", "b"]), st.binary(min_size=1, max_size=9), st.integers(0, 31)
        ),
        max_size=12,
    ),
    st.integers(0, 60),
)
def test_a_recording_reads_back_even_when_its_end_is_torn_off(tmp_path_factory, entries, torn):
    path = tmp_path_factory.mktemp("recording") / "r.jsonl"
    with RecordingWriter(path, BEGAN, {"a": {"port": "x"}, "b": {"port": "y"}}) as writer:
        for at_s, wire, data, fault in entries:
            writer.add(at_s, wire, data, bytes([fault] * len(data)))
    whole = path.read_bytes()
    lines = whole.split(b"\n")
    path.write_bytes(whole[: max(len(whole) - torn, len(lines[0]) + 1)])
    kept = entries[: path.read_bytes().count(b"\n") - 1]
    read = open_every_wire(path, kind="recording")
    for wire in ("a", "b"):
        mine = [entry for entry in kept if entry[1] == wire]
        got = bytes(read[wire].value.astype("u1"))
        wanted = b"".join(data for _, _, data, _ in mine)
        assert got.startswith(wanted)  # an entry that lacks only its line ending is whole
        assert read[wire].faults.tolist()[: len(wanted)] == [fault for _, _, data, fault in mine for _ in data]
    with RecordingWriter(path, "2026-05-01T08:31:00.000Z", {"a": {"port": "x"}}) as writer:
        writer.add(1.5, "a", b"later")
    again = open_every_wire(path, kind="recording")["a"]
    assert bytes(again.value.astype("u1")).endswith(b"later")
    assert again.begin_s[-1] == pytest.approx(61.5)


def test_a_long_file_is_sent_in_pieces_while_its_echo_comes_back(shell, tmp_path):
    """At 9600 baud twenty thousand characters take twenty seconds of line time; none of them is lost."""
    path, record = tmp_path / "long.bin", tmp_path / "long.jsonl"
    path.write_bytes(bytes(range(256)) * 80)
    status, _, err = shell(
        "send", "stand-in:echo", "--file", path, "--line", "9600 8N1", "--record", record, "--wait", 1
    )
    assert (status, "out 20,480 characters\nin 20,480 characters\n" in err) == (0, True)
    assert open_every_wire(record, kind="recording")["in"].begin_s[-1] == pytest.approx(20480 * 10 / 9600, rel=0.01)


def test_a_port_that_vanishes_ends_listening_with_2(shell):
    far = lr.open_port("pty")
    threading.Timer(0.3, far.close).start()
    status, _, err = shell("listen", far.name, "--seconds", 10)
    assert (status, "first 0 characters" in err) == (2, True)
    assert re.search(r"is gone|closed by the other end", err)


def test_a_port_that_vanishes_leaves_the_verdict_on_what_arrived_before(shell, rig_files, tmp_path):
    far, frame = lr.open_port("pty"), lr.open_sheet(rig_files["sheet"]).frame["status"]
    threading.Timer(0.3, lambda: (far.write(frame.encode({"count": 1}) * 2), time.sleep(0.3), far.close())).start()
    written = ["--reading", tmp_path / "reading.json", "--record", tmp_path / "all.jsonl"]
    options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--seconds", 10]
    status, out, err = shell("listen", far.name, *options, *written)
    assert (status, "warning  counter-repeat on from_pump" in out) == (2, True)
    assert re.search(r"is gone|closed by the other end", err)
    assert json.loads((tmp_path / "reading.json").read_text())["wires"]["from_pump"]["characters"] == 32
    assert lr.read(rig_files["sheet"], tmp_path / "all.jsonl").bytes_of("from_pump")["good"] == 32


def test_a_damaged_recording_is_told(tmp_path):
    path = tmp_path / "r.jsonl"
    head = json.dumps({"recording": 1, "began": BEGAN, "wires": {"a": {}}})
    for line, message in (("nonsense", "line 2 holds"), ('{"s": 1, "wire": "b", "hex": "00"}', "line 2 holds")):
        path.write_text(f'{head}\n{line}\n{{"s": 2, "wire": "a", "hex": "00"}}\n')
        with pytest.raises(lr.CaptureError, match=message):
            open_every_wire(path, kind="recording")
    path.write_text(head.replace('"recording": 1', '"recording": 9') + "\n")
    with pytest.raises(lr.CaptureError, match=r"version 9\. It must be 1"):
        open_every_wire(path, kind="recording")


def test_text_hex_and_frames_become_bytes(rig):
    assert text_of("a{n}\\r\\x7F\\\\é", 7, "crlf") == b"a7\r\x7f\\\xc3\xa9\r\n"
    assert hex_of("D7 4B,0x01:ff") == b"\xd7\x4b\x01\xff"
    layout = rig.sheet.frame["status"]
    assert frame_of(layout, ["flow=12.5", "state=purging", "valve=1,0,0,1"], 260) == layout.encode(
        {"count": 4, "flow": 12.5, "state": "purging", "valve": [1, 0, 0, 1]}
    )


def test_a_dump_shows_what_is_invisible_and_fits_the_terminal():
    """Every byte is one column; rows never exceed the width; faults stand under their row."""
    assert visible(b"A\r\n\0\x7f\xe9") == "A␍␊␀␡·"
    assert visible(b"A\r\n\0\x7f\xe9", ascii_only=True) == "A....."
    for width in (80, 100, 120, 200):
        for notation in ("hex", "decimal", "octal", "binary"):
            form = DumpForm(width=width, notation=notation)
            rows = list(form.rows(1.5, "in", 1000, bytes(range(256))))
            assert max(map(len, rows)) <= width
            assert len(rows) == -(-256 // form.each)
    rows = list(DumpForm().rows(0.25, "in", 10, b"abc", bytes([0, lr.Fault.PARITY, 0])))
    assert rows[0].split() == ["0.250000", "in", "10", "abc", "61", "62", "63"]
    assert rows[1].strip() == "faults at 11: parity"


def test_an_interrupt_before_the_first_entry_leaves_no_empty_recording(tmp_path, monkeypatch):
    def interrupted(writer, entry):
        raise KeyboardInterrupt

    monkeypatch.setattr(RecordingWriter, "_put", interrupted)
    (tmp_path / "there.jsonl").touch()
    for name in ("new.jsonl", "there.jsonl"):
        with pytest.raises(KeyboardInterrupt):
            RecordingWriter(tmp_path / name, BEGAN, {"a": {}})
    assert [path.name for path in tmp_path.iterdir()] == ["there.jsonl"]
