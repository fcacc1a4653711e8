"""A program as a port: what it sends and takes, how it ends, and what is left of it."""

import os
import shlex
import subprocess
import sys
import time
from pathlib import Path

import pytest

import larkreader as lr

POSIX = pytest.mark.skipif(os.name == "nt", reason="signals and pseudo terminals are of POSIX")
ECHO = "import os\nwhile data := os.read(0, 4096): os.write(1, data)"


def program(code, *words, kind="exec"):
    """Return the name of a port that runs some Python."""
    quoted = [sys.executable, "-c", code, *words]
    return f"{kind}:{subprocess.list2cmdline(quoted) if os.name == 'nt' else shlex.join(quoted)}"


@pytest.mark.parametrize("kind", ["exec", pytest.param("exec-pty", marks=POSIX)])
def test_every_byte_goes_there_and_back(kind):
    every = bytes(range(256)) * 2000
    with lr.open_port(program(ECHO, kind=kind)) as port:
        received = bytearray()
        for low in range(0, len(every), 1000):
            port.write(every[low : low + 1000], 5.0)
            received += port.read(1000, 5.0).data
    assert bytes(received) == every
    assert port.notes == ("a program has no wire: baud and parity mean nothing, and no character has a fault",)


@pytest.mark.parametrize(
    ("code", "found"),
    [
        ("print(end='flow'); raise SystemExit(0)", "ended with status 0"),
        (
            "print(end='flow'); import sys; sys.exit('valve stuck')",
            "status 1. Its standard error ends with: valve stuck",
        ),
        pytest.param(
            "print(end='flow', flush=True); import os; os.kill(os.getpid(), 11)", "crashed with SIGSEGV", marks=POSIX
        ),
        pytest.param(
            "print(end='flow', flush=True); import os; os.kill(os.getpid(), 9)", "ended by SIGKILL", marks=POSIX
        ),
    ],
)
def test_what_a_program_sent_is_read_before_its_end_is_reported(code, found):
    with lr.open_port(program(code)) as port:
        assert port.read(4, 5.0).data == b"flow"
        with pytest.raises(lr.PortError) as caught:
            port.read(1, 5.0)
    assert found in str(caught.value)


def test_a_program_that_does_not_read_takes_no_more_than_its_pipe_holds():
    with lr.open_port(program("import time; time.sleep(60)")) as port:
        with pytest.raises(lr.PortError, match=r"took .* of 4000000 bytes within 0.2 s"):
            port.write(bytes(4_000_000), 0.2)
        began_s = time.perf_counter()
    assert time.perf_counter() - began_s < 10
    assert "ran on when its input was closed" in port.notes[-1]


def test_writing_to_a_program_that_is_over_gives_its_end():
    with lr.open_port(program("raise SystemExit(7)")) as port:
        time.sleep(0.5)  # until it is over, but on a machine that is very busy
        with pytest.raises(lr.PortError, match="status 7"):
            port.write(bytes(1_000_000), 5.0)


def test_a_fault_at_the_end_is_a_note():
    with lr.open_port(program(ECHO + "\nraise SystemExit('5 bytes leaked')")) as port:
        port.write(b"x", 1.0)
        assert port.read(1, 5.0).data == b"x"
    assert port.notes[-1] == "the program ended with status 1. Its standard error ends with: 5 bytes leaked"


def test_a_crash_that_no_reading_reported_is_a_note():
    with lr.open_port(program("raise SystemExit('valve stuck')")) as port:
        time.sleep(0.5)
    assert port.notes[-1].endswith("valve stuck")


@POSIX
@pytest.mark.parametrize("kind", ["exec", "exec-pty"])
def test_what_a_program_has_started_ends_with_the_port(kind, tmp_path):
    code = (
        "import subprocess, sys, signal, time; signal.signal(signal.SIGTERM, signal.SIG_IGN); "
        "signal.signal(signal.SIGHUP, signal.SIG_IGN); "
        "child = subprocess.Popen(['sleep', '100']); print(child.pid, flush=True); time.sleep(100)"
    )
    with lr.open_port(program(code, kind=kind)) as port:
        child = int(port.read(3, 5.0).data + port.read_some(9, 0.2).data)
        os.kill(child, 0)
    for _ in range(100):
        if not _runs(child):
            break
        time.sleep(0.02)
    assert not _runs(child)
    port.close()  # once more does nothing


def _runs(number):
    """Return whether a process runs; one that is over and not waited for does not."""
    try:
        return Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except FileNotFoundError:
        return False


@pytest.mark.parametrize(
    ("name", "found"),
    [
        ("exec:", "names no program"),
        ("exec:./no_such_program", "cannot be started"),
        pytest.param("exec:'pump", "cannot be parted into words", marks=POSIX),
        pytest.param(
            f"exec:{__file__}", "cannot be started: Permission denied. Make it executable: chmod +x", marks=POSIX
        ),
    ],
)
def test_what_cannot_be_started_is_refused_with_the_reason(name, found):
    with pytest.raises(lr.PortError) as caught:
        lr.open_port(name)
    assert found in str(caught.value)


def test_no_shell_runs():
    with lr.open_port(program("import sys; print(sys.argv[1:], end='')", "$HOME; ls", "*")) as port:
        assert port.read_some(99, 5.0).data == b"['$HOME; ls', '*']"


def test_a_port_of_the_sheet_can_be_a_program(tmp_path, shell):
    sheet = tmp_path / "link.toml"
    code = "import os\nwhile data := os.read(0, 99): os.write(1, b'flow is ' + data)"
    exchange = '[[exchange]]\nat = "pump"\nsend = "7\\n"\nexpect = "flow is {flow}\\n"\nwithin_s = 5\n'
    at = program(code).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    sheet.write_text(f'sheet = 1\n[wire.tx]\n[port.pump]\nat = "{at}"\n{exchange}')
    status, out, _ = shell("dialogue", sheet)
    assert status == 0, out
    assert "Verdict: pass" in out
