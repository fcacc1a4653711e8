"""On a system without POSIX terminals and signals every command works that needs none, and the others say so."""

import contextlib
import json
import socket
import subprocess
import sys
import threading

# Runs commands in one process in which modules, signals and calls of POSIX alone are missing, as on Windows.
PROGRAM = """
import importlib.abc, io, json, os, select, signal, sys
from contextlib import redirect_stderr, redirect_stdout

MISSING = {"termios", "tty", "pty", "fcntl", "grp", "pwd", "resource", "curses", "readline", "syslog"}

class Finder(importlib.abc.MetaPathFinder):
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in MISSING:
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)

for name in MISSING:
    sys.modules.pop(name, None)
sys.meta_path.insert(0, Finder())
for name in ("SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGWINCH", "SIGALRM", "SIGPIPE", "SIGCHLD", "SIGTSTP", "SIGCONT"):
    if hasattr(signal, name):
        delattr(signal, name)
for name in ("openpty", "ttyname", "fork", "getuid", "geteuid", "mkfifo", "O_NOCTTY", "O_NONBLOCK", "get_blocking", "set_blocking"):
    if hasattr(os, name):
        delattr(os, name)
for name in ("poll", "epoll", "POLLIN", "POLLOUT", "POLLERR", "POLLHUP", "POLLNVAL"):
    if hasattr(select, name):
        delattr(select, name)

def no_file(*_):
    raise OSError(9, "a socket is no file here")

os.read = os.write = no_file

from larkreader.cli import main

outcome = []
for arguments in json.loads(sys.argv[1]):
    out, err = io.StringIO(), io.StringIO()
    sys.argv = ["larkreader", *arguments]
    with redirect_stdout(out), redirect_stderr(err):
        try:
            main()
        except SystemExit as end:
            status = end.code
    outcome.append([status, out.getvalue(), err.getvalue()])
sys.stdout.write(json.dumps(outcome))
"""
WORKING = {
    "version": ["--version"],
    "help": ["listen", "--help"],
    "plan": ["plan", "rig.toml"],
    "decode": ["decode", "rig.toml", "rig.vcd"],
    "decode, as characters": ["decode", "rig.toml", "rig.vcd", "--dump"],
    "timeline": ["timeline", "rig.toml", "rig.vcd"],
    "report": ["report", "rig.toml", "rig.vcd", "-o", "rig.html"],
    "layout": ["layout", "rig.toml"],
    "diagnose": ["diagnose", "rig.vcd"],
    "convert": ["convert", "rig.vcd", "rig.csv"],
    "draw": ["draw", "rig.toml", "rig.vcd", "waveform", "-o", "rig.png"],
    "schema": ["schema"],
    "ports": ["ports"],
    "new": ["new", "other.toml"],
    "loopback": ["loopback", "stand-in:echo", "--characters", "200"],
    "send": ["send", "stand-in:echo", "flow?"],
    "listen": ["listen", "stand-in:echo", "--seconds", "0.2"],
    "loopback over TCP": ["loopback", "{echo}", "--characters", "200"],
    "send over TCP": ["send", "{echo}", "flow?"],
}
REFUSED = {
    "pty": ["listen", "pty", "--seconds", "0.1"],
    "a device": ["listen", "{device}", "--seconds", "0.1"],
    "its settings": ["plan", "rig.toml", "--read-back", "controller={device}"],
}


def echo(server):
    """Send everything back to whoever connects, one after the other, until the server is closed."""
    with contextlib.suppress(OSError):
        while True:
            connection, _ = server.accept()
            with connection:
                while data := connection.recv(4096):
                    connection.sendall(data)


def run_bare(folder, commands):
    """Return status, output and errors of some commands by name, on a system without what POSIX alone has."""
    from larkreader.demo.rig import make_rig, write_rig

    write_rig(folder, make_rig())
    (folder / "device").touch()
    with socket.create_server(("127.0.0.1", 0)) as server:
        threading.Thread(target=echo, args=(server,), daemon=True).start()
        there = {"device": "./device", "echo": f"127.0.0.1:{server.getsockname()[1]}"}
        filled = [[part.format(**there) for part in one] for one in commands.values()]
        command = [sys.executable, "-c", PROGRAM, json.dumps(filled)]
        run = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert run.returncode == 0, run.stderr
    return dict(zip(commands, json.loads(run.stdout), strict=True))


def test_a_command_that_needs_no_device_works(tmp_path):
    for name, (status, out, err) in run_bare(tmp_path, WORKING).items():
        assert status in (0, 1), (name, err)  # 1: the demo has findings
        assert "Traceback" not in err, (name, err)
        assert out or name in ("report", "convert", "draw", "new", "listen"), name


def test_a_port_that_the_system_does_not_have_is_refused_with_what_there_is(tmp_path):
    for name, (status, _, err) in run_bare(tmp_path, REFUSED).items():
        assert status == 2, name
        assert "HOST:PORT, accept:HOST:PORT, exec:COMMAND or stand-in:NAME" in err, name
