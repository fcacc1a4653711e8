"""Interrupted at any moment, a command leaves port, files and terminal in order."""

import json
import os
import random
import select
import signal
import subprocess
import sys
import threading
import time
from contextlib import ExitStack, suppress
from pathlib import Path

import pytest

import larkreader as lr
from larkreader.capture.files.open import open_every_wire

termios = pytest.importorskip("termios", reason="there are no POSIX terminals here")

IS_DEEP = os.environ.get("LARKREADER_TESTS") == "deep"
ENDS = 500 if IS_DEEP else 5  # of a command
FRESH = 25  # of these one is a fresh start, so that its imports are interrupted too
LONGEST_S = 0.5  # after its port has been opened
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
# the command, with the handlers undone that whoever runs the tests has set, as for a program that must survive a hang-up;
# not by code between fork and exec, which can lock up where threads run
START = """import runpy, signal
for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
    signal.signal(number, signal.SIG_DFL)
runpy.run_module("larkreader", run_name="__main__", alter_sys=True)"""
ECHO = "exec:sh -c 'echo $$ > {folder}/child; exec cat'"
COMMANDS = {  # the words, and the status when it is interrupted
    "listen": (["listen", "{device}", "--record", "{record}"], 0),
    "lines": (["listen", "{device}", "--show", "lines", "--record", "{record}"], 0),
    "judged": (["listen", "{device}", "--sheet", "{sheet}", "--wire", "from_pump", "--record", "{record}"], 1),
    "send": (["send", "{device}", "flow {{n}}?", "--times", "100000", "--every", "1", "--record", "{record}"], 130),
    "typed": (["send", "{device}", "--record", "{record}"], 130),
    "serve": (["serve", "altered-echo", "{device}"], 0),
    "loopback": (["loopback", "{device}", "--characters", "100000000"], 130),
    "forward": (["listen", "{device}", "stand-in:echo", "--forward", "--record", "{record}"], 0),
    "dialogue": (["dialogue", "{sheet}", "pump={device}"], 130),
    "program": (["send", ECHO, "flow {{n}}?", "--times", "100000", "--every", "1", "--record", "{record}"], 130),
}


AT_TERMINAL = ("listen", "judged", "typed")  # where what is drawn again and again is shown
HIDDEN, SHOWN = b"\x1b[?25l", b"\x1b[?25h"  # the cursor
GONE = ("is gone", "was closed by the other end", "is over: its program was ended by SIGKILL")


class Terminal:
    """A pseudo terminal at which the command is started, whose output is kept."""

    def __init__(self):
        self.ours, theirs = os.openpty()
        self.name, self.held = os.ttyname(theirs), theirs
        self.kept = bytearray()
        self.thread = threading.Thread(target=self._keep, daemon=True)
        self.thread.start()

    def _keep(self):
        with suppress(OSError):
            while data := os.read(self.ours, 65536):
                self.kept += data

    def settings(self):
        return termios.tcgetattr(self.held)

    def close(self):
        os.close(self.held)
        self.thread.join(10)
        os.close(self.ours)


class Forker:
    """Starts the command by a fork, see `forked.py`."""

    def __init__(self):
        program = Path(__file__).parents[1] / "forked.py"
        self._process = subprocess.Popen(
            [sys.executable, str(program)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def start(self, words, into):
        self._process.stdin.write(json.dumps({"words": words, "into": [str(path) for path in into]}) + "\n")
        self._process.stdin.flush()
        return self.wait()

    def wait(self):
        readable, _, _ = select.select([self._process.stdout], [], [], 30)
        return int(self._process.stdout.readline()) if readable else None

    def close(self):
        self._process.kill()
        self._process.communicate()


@pytest.fixture(scope="module")
def forker():
    made = Forker()
    yield made
    made.close()


class Fresh:
    """Starts the command as a program of its own."""

    def start(self, words, into):
        streams = [
            os.open(into[0], os.O_RDONLY),
            *(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND) for path in into[1:]),
        ]
        command = [sys.executable, "-c", START, *words]
        self._process = subprocess.Popen(
            command, stdin=streams[0], stdout=streams[1], stderr=streams[2], start_new_session=True
        )
        for stream in streams:
            os.close(stream)
        return self._process.pid

    def wait(self):
        return self._process.wait(30)


@pytest.mark.parametrize("name", list(COMMANDS))
def test_whatever_ends_a_command_everything_is_in_order(name, forker, rig_files, tmp_path):
    """While an echo answers: signals, or the device unplugged, at any moment from its start to well after."""
    generator = random.Random(name)
    for number in range(ENDS):
        ending = generator.choice([*SIGNALS, "unplugged"]) if number >= 4 else [*SIGNALS, "unplugged"][number]
        folder = tmp_path / str(number)
        folder.mkdir()
        starter = Fresh() if number % FRESH == 0 else forker
        end_once(name, ending, starter, folder, rig_files["sheet"], generator)


def end_once(name, ending, starter, folder, sheet, generator):
    """Start a command, end it, and look at what it leaves."""
    words, status = COMMANDS[name]
    record, errors, child, stop = folder / "talk.jsonl", folder / "errors", folder / "child", threading.Event()
    with ExitStack() as stack:
        terminal = Terminal()
        stack.callback(terminal.close)
        far = stack.enter_context(lr.open_port("pty"))
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        unplugged = stack.enter_context(ExitStack())
        unplugged.callback(os.close, looker)
        found, at_start = termios.tcgetattr(looker), terminal.settings()

        def echo():
            while not stop.is_set():
                far.write(far.read_some(4096, 0.01).data, 1.0)

        thread = threading.Thread(target=echo)
        thread.start()
        unplugged.callback(thread.join)
        unplugged.callback(stop.set)
        words = [word.format(device=far.name, record=record, sheet=sheet, folder=folder) for word in words]
        into = [terminal.name, terminal.name if name in AT_TERMINAL else folder / "out", errors]
        running = starter.start(words, into)
        is_open = (lambda: child.exists()) if name == "program" else (lambda: termios.tcgetattr(looker) != found)
        if ending == "unplugged" or generator.random() < 0.8:  # else it is ended before, too
            assert within(20, is_open), errors.read_text()
        time.sleep(generator.uniform(0, LONGEST_S))
        if ending == "unplugged" and name == "program":
            assert within(5, lambda: bool(child.read_text().strip()))
            os.kill(int(child.read_text()), signal.SIGKILL)
        elif ending == "unplugged":
            unplugged.close()
            far.close()
        else:
            os.kill(running, ending)
            time.sleep(0.01)
            os.kill(running, ending)  # impatience changes nothing; it has not been waited for, so that it is there
        ended = starter.wait()
        why = f"{ending!r}, status {ended}: {errors.read_text()}"
        if ending == "unplugged" or ended != -ending:
            assert "Traceback" not in why
        else:  # Python itself was still starting
            assert errors.read_text().rstrip().endswith("KeyboardInterrupt") or not errors.read_text()
            assert not record.exists()
        assert terminal.settings() == at_start, why
        if ending == "unplugged":
            assert ended in (1, 2) or (name, ended) == ("serve", 0), why
            assert ended != 2 or any(reason in why for reason in GONE), why
        else:
            is_early = not record.exists() or record.read_bytes().count(b"\n") < 2  # nothing was sent or received yet
            before_it_listens = (130, -ending) if not record.exists() else (130,)
            assert ended == status or (is_early and ended in before_it_listens), why
            assert termios.tcgetattr(looker) == found, why
            with lr.open_port(far.name):  # the command has closed it
                pass
        cursor = bytes(terminal.kept)
        assert cursor.rfind(SHOWN) >= cursor.rfind(HIDDEN), why
        if child.exists():
            assert within(2, lambda: not Path(f"/proc/{child.read_text().strip() or 0}").exists()), why
    if record.exists() and record.stat().st_size:
        assert all(not held.faults.any() for held in open_every_wire(record, kind="recording").values())
        assert record.read_bytes().endswith(b"\n")


def within(limit_s, happens):
    """Wait until something happens; return whether it did."""
    until = time.monotonic() + limit_s
    while not (did := happens()) and time.monotonic() < until:
        time.sleep(0.002)
    return did


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


def test_an_interrupt_falls_behind_a_block_that_is_not_to_be_disturbed(monkeypatch):
    """Unless the block itself waits for something, as for the reader of a pipe."""
    from larkreader.cli import interrupts

    before = {number: signal.getsignal(number) for number in interrupts.ENDING_SIGNALS}
    done = []
    try:
        for lasts_s, expected in ((0.05, ["begun", "ended"]), (20, ["begun"])):
            done.clear()
            monkeypatch.setattr(interrupts, "PUT_OFF_S", 5.0 if lasts_s < 1 else 0.1)
            signal.signal(signal.SIGINT, signal.default_int_handler)
            interrupts.Interrupts().install()
            with pytest.raises(KeyboardInterrupt):  # noqa: PT012
                with interrupts.undisturbed():
                    done.append("begun")
                    signal.raise_signal(signal.SIGINT)
                    time.sleep(lasts_s)
                    done.append("ended")
                time.sleep(20)
            assert done == expected
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
