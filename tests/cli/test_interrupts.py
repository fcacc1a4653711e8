"""Interrupted at any moment, a command leaves port, files and terminal in order."""

import os
import random
import signal
import subprocess
import sys
import threading
import time
from contextlib import ExitStack

import pytest

import larkreader as lr
from larkreader.capture.files.open import open_every_wire

termios = pytest.importorskip("termios", reason="there are no POSIX terminals here")

# the command, with the handlers undone that whoever runs the tests has set, as for a program that must survive a hang-up;
# not by code between fork and exec, which can lock up where threads run
START = """import runpy, signal
for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
    signal.signal(number, signal.SIG_DFL)
runpy.run_module("larkreader", run_name="__main__", alter_sys=True)"""
COMMANDS = {
    "listen": (["listen", "{device}", "--record", "{record}"], 0),
    "lines": (["listen", "{device}", "--show", "lines", "--record", "{record}"], 0),
    "send": (["send", "{device}", "flow {{n}}?", "--times", "100000", "--every", "1", "--record", "{record}"], 130),
    "typed": (["send", "{device}", "--record", "{record}"], 130),
    "serve": (["serve", "altered-echo", "{device}"], 0),
    "loopback": (["loopback", "{device}", "--characters", "100000000"], 130),
    "forward": (["listen", "{device}", "stand-in:echo", "--forward", "--record", "{record}"], 0),
}


@pytest.mark.parametrize(
    ("name", "ending"),
    [*((name, signal.SIGINT) for name in COMMANDS), ("send", signal.SIGTERM), ("listen", signal.SIGHUP)],
)
def test_an_interrupt_leaves_everything_in_order(name, ending, tmp_path):
    """While an echo answers; the moment is another each time, from before the port is open to well after."""
    arguments, status = COMMANDS[name]
    record = tmp_path / "talk.jsonl"
    stop = threading.Event()
    with ExitStack() as stack:
        far = stack.enter_context(lr.open_port("pty"))
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        stack.callback(os.close, looker)
        found = termios.tcgetattr(looker)

        def echo():
            while not stop.is_set():
                far.write(far.read_some(4096, 0.01).data, 1.0)

        thread = threading.Thread(target=echo)
        thread.start()
        stack.callback(thread.join)
        stack.callback(stop.set)
        shown = [one.format(device=far.name, record=record) for one in arguments]
        pipes = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.PIPE)
        command = [sys.executable, "-c", START, *shown]
        running = stack.enter_context(subprocess.Popen(command, **pipes, text=True))
        stack.callback(running.kill)  # one that hangs fails, and does not stop the run
        until = time.monotonic() + 20
        while termios.tcgetattr(looker) == found and time.monotonic() < until:
            time.sleep(0.005)
        time.sleep(random.random() * 0.3)
        running.send_signal(ending)
        time.sleep(0.01)
        running.send_signal(ending)  # impatience changes nothing
        _, result = running.communicate(timeout=20)
        assert "Traceback" not in result
        is_early = not record.exists() or record.read_bytes().count(b"\n") < 2  # before anything was received or sent
        assert running.returncode == status or (is_early and running.returncode == 130), result
        assert termios.tcgetattr(looker) == found
        with lr.open_port(far.name):  # nobody holds it any more
            pass
    if record.exists():
        sent = open_every_wire(record, kind="recording")
        assert all(not one.faults.any() for one in sent.values())
        assert record.read_bytes().endswith(b"\n")


SWALLOWS = """import signal
try:
    signal.raise_signal(signal.SIGINT)
    for _ in range(1000):
        pass
except KeyboardInterrupt:
    pass"""


def test_an_interrupt_that_an_import_would_swallow_is_repeated_after_it(tmp_path):
    """As the start of a compiled module may swallow it; in a program that would wait for a minute."""
    (tmp_path / "swallows.py").write_text(SWALLOWS)
    program = "from larkreader.cli.interrupts import Interrupts\nInterrupts().install()\nimport swallows, time\n"
    ended = subprocess.run(
        [sys.executable, "-c", program + "time.sleep(60)"], cwd=tmp_path, capture_output=True, text=True, timeout=30
    )
    assert ended.stderr.endswith("KeyboardInterrupt\n")
    assert "swallows.py" not in ended.stderr


def test_a_second_interrupt_counts_when_the_first_did_not_end_the_command(monkeypatch):
    from larkreader.cli import interrupts

    monkeypatch.setattr(interrupts, "PATIENCE_S", 0.05)
    before = {number: signal.getsignal(number) for number in interrupts.ENDING_SIGNALS}
    try:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        interrupts.Interrupts().install()
        with pytest.raises(KeyboardInterrupt):
            signal.raise_signal(signal.SIGINT)
        signal.raise_signal(signal.SIGINT)
        time.sleep(0.06)
        with pytest.raises(KeyboardInterrupt):
            signal.raise_signal(signal.SIGINT)
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
