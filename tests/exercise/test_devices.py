import os
import signal
import subprocess
import sys

import numpy as np
import pytest

import larkreader as lr
from larkreader.cli import run
from larkreader.exercise.devices.device import AlteredEcho, LineAnswerer, LossyEcho, NoisyEcho

EVERY = bytes(range(256))


def test_an_altered_echo_passes_only_where_it_is_expected():
    port = lr.SimulatedPort(lr.LineSettings(), AlteredEcho())
    assert lr.run_loopback(port, lr.LoopbackPlan(characters=500, expect="altered")).verdict == "pass"
    same = lr.run_loopback(lr.SimulatedPort(lr.LineSettings(), AlteredEcho()), lr.LoopbackPlan(characters=500))
    assert (same.verdict, same.changed) == ("fail", 500)


@pytest.mark.parametrize("cut", range(12))
def test_a_line_answerer_waits_for_the_end_of_the_line(cut):
    device = LineAnswerer(prefix=b"> ")
    assert device.react(b"flow\nstate\nx"[:cut], 0) + device.react(b"flow\nstate\nx"[cut:], 0) == b"> flow\n> state\n"


def test_a_line_that_never_ends_is_thrown_away():
    device = LineAnswerer(longest=10)
    assert device.react(b"x" * 11, 0) == b""
    assert device.react(b"ok\n", 0) == b"got: ok\n"


def test_lossy_and_noisy_echoes_count_what_they_do():
    lossy, noisy = LossyEcho(0.1), NoisyEcho(0.1)
    sent = np.frombuffer(EVERY * 40, np.uint8)
    assert len(lossy.react(EVERY * 40, 0)) == len(sent) - lossy.lost
    back = np.frombuffer(noisy.react(EVERY * 40, 0), np.uint8)
    assert np.count_nonzero(back != sent) == noisy.changed
    assert set(np.bitwise_count(back ^ sent).tolist()) == {0, 1}
    assert 800 < lossy.lost < 1250
    assert 800 < noisy.changed < 1250


@pytest.mark.parametrize(("device", "expect"), [("echo", "same"), ("altered-echo", "altered")])
def test_serve_in_one_program_and_loopback_in_another(device, expect):
    """A stand-in on a pseudo terminal; the loopback opens its path; an interrupt ends it in order."""
    command = [sys.executable, "-m", "larkreader"]
    with subprocess.Popen([*command, "serve", device, "pty"], stderr=subprocess.PIPE, text=True) as server:
        try:
            line = next(line for line in server.stderr if "serves on" in line)
            path = line.split("serves on ")[1].split(";")[0]
            assert os.path.exists(path)
            options = ["--characters", "20000", "--expect", expect, "--line", "115200 8N1"]
            done = subprocess.run([*command, "loopback", path, *options], capture_output=True, text=True, check=False)
            assert (done.returncode, "pass: returned" in done.stdout) == (0, True), done.stdout + done.stderr
        finally:
            server.send_signal(signal.SIGINT)
            rest = server.stderr.read()
            assert server.wait(10) == 0
    assert rest.endswith("20,000 characters received\n")


def test_the_pump_reports_answers_and_halts_when_nobody_speaks_to_it(rig):
    """Twenty frames a second; a set-point is answered within its time and obeyed; two seconds of silence halt it."""
    sheet = rig.sheet
    with lr.open_port("stand-in:pump", sheet.line) as port:
        before = port.read(10_000, 1.0).data
        port.write(sheet.frame["setpoint"].encode({"flow": 120.0}))
        spoken_s = port.now_s()
        after = port.read(10_000, 4.0).data
    frames = lr.read_frames(before, sheet.frame["status"])
    assert 18 <= len(frames) <= 20
    assert set(frames.labels("state")) == {"halted"}
    frames = lr.read_frames(after, sheet.frame["status"])
    wrong = int((frames.faults != 0).sum())
    good = frames[frames.faults == 0]
    assert 1 <= wrong <= 2
    dosing = good.labels("state") == "dosing"
    assert 1.9 <= dosing.sum() * 0.05 <= 2.1
    assert good["flow"][dosing].tolist() == [120.0] * dosing.sum()
    assert good["dosed"][-1] == pytest.approx(120.0 / 60 * 2, rel=0.05)
    assert spoken_s >= 1.0


def test_the_pump_is_read_by_its_sheet_from_a_recording(tmp_path, rig_files, capsys):
    record = tmp_path / "pump.jsonl"
    options = ["--sheet", str(rig_files["sheet"]), "--record", str(record), "--wait", "0.5"]
    assert (
        run(["send", "stand-in:pump", "--frame", "setpoint", "flow=90", "--times", "3", "--every", "900", *options])
        == 0
    )
    capsys.readouterr()
    reading = lr.read(rig_files["sheet"], record)
    assert reading.frames["setpoint"]["count"].tolist() == [0, 1, 2]
    assert reading.bytes_of("from_pump")["skipped"] < 16  # of a frame that the end cuts off
    assert {one.kind for one in reading.findings} <= {"checksum-mismatch", "cut-frame"}
