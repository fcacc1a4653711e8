"""Ended without warning, or out of room: a file has its name only if it is whole, and nothing that was kept is lost."""

import json
import os
import random
import shutil
import signal
import stat
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest

import larkreader as lr
from larkreader.capture.files.open import open_every_wire
from larkreader.sources import write_whole, written_whole

IS_DEEP = os.environ.get("LARKREADER_TESTS") == "deep"
KILLS = 200 if IS_DEEP else 3
LATE_S = 0.1 if IS_DEEP else 1.0  # a machine that runs other tests lets a program wait
needs_signals = pytest.mark.skipif(sys.platform == "win32", reason="there is no SIGKILL here")
COMMANDS = {
    "report": (["report", "rig.toml", "rig.vcd", "-o", "{out}", "--quiet"], "page.html"),
    "convert": (["convert", "rig.vcd", "{out}", "--quiet"], "copy.npz"),
    "frames": (["decode", "rig.toml", "rig.vcd", "--frames", "{out}", "--quiet"], "frames.csv"),
    "emit": (["emit", "rig.toml", "-o", "firmware", "--quiet"], "firmware/rig.h"),
    "draw": (["draw", "rig.toml", "rig.vcd", "waveform", "-o", "{out}", "--quiet"], "wave.svg"),
}


def started(arguments, folder, **options):
    """Start the command in a folder."""
    surroundings = {**os.environ, "SOURCE_DATE_EPOCH": "1700000000", "PYTHONDONTWRITEBYTECODE": "1"}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, **options}
    return subprocess.Popen([sys.executable, "-m", "larkreader", *arguments], cwd=folder, env=surroundings, **quiet)


@needs_signals
@pytest.mark.parametrize("name", list(COMMANDS))
def test_a_file_is_whole_or_not_there_whenever_the_command_is_killed(name, rig_files, tmp_path):
    """Killed at random moments from its start to a little after its end."""
    arguments, out = COMMANDS[name]
    for key in ("sheet", "capture"):
        shutil.copy(rig_files[key], tmp_path)
    final = tmp_path / out
    arguments = [argument.format(out=out) for argument in arguments]
    began = time.monotonic()
    assert started(arguments, tmp_path).wait(120) in (0, 1)
    took_s = time.monotonic() - began
    whole = final.read_bytes()
    generator = random.Random(name)
    moments = [
        took_s * (generator.uniform(0, 1.1) if kill % 2 else generator.uniform(0.85, 1.05)) for kill in range(KILLS)
    ]
    for moment in moments:
        if final.suffix != ".npz":
            final.write_bytes(whole + b"\n" if name == "emit" else b"the version before")
        else:
            final.unlink(missing_ok=True)  # an existing capture is never overwritten
        before = final.read_bytes() if final.exists() else None
        running = started(arguments, tmp_path)
        time.sleep(moment)
        running.kill()
        running.wait(20)
        found = final.read_bytes() if final.exists() else None
        assert found in (before, whole), f"killed after {moment:.3f} of {took_s:.3f} s"
    for left in tmp_path.rglob(".*.part"):
        left.unlink()
    if final.suffix == ".npz":
        final.unlink(missing_ok=True)
    assert started(arguments, tmp_path).wait(120) in (0, 1)
    assert final.read_bytes() == whole
    assert not list(tmp_path.rglob(".*.part"))


@needs_signals
def test_what_a_recording_had_received_is_in_it_when_the_command_is_killed(tmp_path):
    """Bytes are sent one by one; those that were sent a little before the kill are in the file."""
    generator = random.Random(5)
    for kill in range(KILLS):
        record = tmp_path / f"talk-{kill}.jsonl"
        with lr.open_port("pty") as far:
            running = started(["listen", far.name, "--record", str(record), "--show", "nothing"], tmp_path)
            sent, stop = [], threading.Event()

            def send(far=far, sent=sent, stop=stop):
                number = 0
                while not stop.is_set():
                    far.write(bytes([number % 256]), 1.0)
                    sent.append(time.monotonic())
                    number += 1
                    time.sleep(0.002)

            while not record.exists() and running.poll() is None:
                time.sleep(0.01)
            time.sleep(0.2)  # it listens
            thread = threading.Thread(target=send)
            thread.start()
            time.sleep(LATE_S + generator.uniform(0.15, 0.5))
            running.send_signal(signal.SIGKILL)
            killed = time.monotonic()
            stop.set()
            thread.join()
            running.wait(20)
        held = open_every_wire(record)
        values = next(iter(held.values())).value.tolist() if held else []
        assert values == [number % 256 for number in range(len(values))], kill
        assert len(values) >= sum(at < killed - LATE_S for at in sent), kill


@needs_signals
def test_a_store_goes_on_where_the_command_was_killed(rig_files, tmp_path):
    """What stands in it then is what stands in it without a kill."""
    shutil.copy(rig_files["sheet"], tmp_path)
    shutil.copytree(rig_files["sheet"].parent / "campaign", tmp_path / "campaign")
    arguments = ["batch", "rig.toml", "campaign/captures.csv", "--workers", "1", "--quiet", "--json"]
    whole = tmp_path / "whole.sqlite"
    with (tmp_path / "whole.json").open("wb") as file:
        began = time.monotonic()
        assert started([*arguments, "--store", str(whole)], tmp_path, stdout=file).wait(240) in (0, 1)
        took_s = time.monotonic() - began
    expected = json.loads((tmp_path / "whole.json").read_text())
    generator = random.Random(8)
    for kill in range(KILLS):
        store = tmp_path / f"killed-{kill}.sqlite"
        running = started([*arguments, "--store", str(store)], tmp_path)
        time.sleep(took_s * generator.uniform(0.2, 0.95))
        running.kill()
        running.wait(20)
        with (tmp_path / "again.json").open("wb") as file:
            resumed = ["--resume"] if store.exists() else []
            status = started([*arguments, "--store", str(store), *resumed], tmp_path, stdout=file).wait(240)
        assert status in (0, 1), kill
        assert json.loads((tmp_path / "again.json").read_text()) == expected, kill


def test_a_file_that_is_written_keeps_its_mode_and_its_links(tmp_path):
    target = tmp_path / "real" / "page.html"
    target.parent.mkdir()
    target.write_text("before")
    target.chmod(0o640)
    link = tmp_path / "page.html"
    with suppress(OSError):  # Windows asks for a right to make links
        link.symlink_to(target)
    path = link if link.exists() else target
    write_whole(path, "after")
    assert target.read_text() == "after"
    if os.name != "nt":
        assert stat.S_IMODE(target.stat().st_mode) == 0o640
    assert path.is_symlink() == (path is link)

    def write_half():
        with written_whole(path) as file:
            file.write(b"half of it")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        write_half()
    assert target.read_text() == "after"
    assert [item.name for item in target.parent.iterdir()] == ["page.html"]
    with pytest.raises(FileNotFoundError, match="nowhere"):
        write_whole(tmp_path / "nowhere" / "page.html", "x")


@pytest.mark.skipif(not Path("/dev/stdout").exists(), reason="standard output has no name here")
def test_a_pipe_and_a_redirected_output_are_written_directly(tmp_path):
    """As `--junit /dev/stdout | less` and `--junit /dev/stdout > file` want it."""
    code = "from larkreader.sources import write_whole; write_whole('/dev/stdout', 'whole')"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, check=True).stdout == b"whole"
    with (tmp_path / "out").open("wb") as file:
        subprocess.run([sys.executable, "-c", code], stdout=file, check=True)
    assert (tmp_path / "out").read_bytes() == b"whole"


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no full device here")
def test_where_there_is_no_room_the_reason_is_given_and_what_was_there_stays(shell, rig_files, tmp_path):
    """A device that is always full, and a limit on the size of files, as of a full disk."""
    status, _, err = shell("decode", rig_files["sheet"], rig_files["capture"], "--junit", "/dev/full", "--quiet")
    assert (status, "No space left" in err, "Traceback" in err) == (2, True, False)
    for command in (["report", "{sheet}", "{capture}", "-o", "page.html"], ["convert", "{capture}", "copy.csv"]):
        out = tmp_path / command[-1]
        if out.suffix == ".html":
            out.write_text("the version before")
        before = out.read_bytes() if out.exists() else None
        words = [part.format(sheet=rig_files["sheet"], capture=rig_files["capture"]) for part in command]
        limited = "import resource, runpy, signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN); "
        limited += "resource.setrlimit(resource.RLIMIT_FSIZE, (20000, 20000)); "
        limited += "runpy.run_module('larkreader', run_name='__main__', alter_sys=True)"
        done = subprocess.run(
            [sys.executable, "-c", limited, *words],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=False,
            timeout=120,
        )
        assert (done.returncode, "Traceback" in done.stderr) == (2, False), done.stderr
        assert "File too large" in done.stderr
        assert (out.read_bytes() if out.exists() else None) == before
        assert not list(tmp_path.glob(".*.part"))


@pytest.fixture
def small_disk(tmp_path):
    """Mount a disk of 100 kB."""
    disk = tmp_path / "disk"
    disk.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=100k", "tmpfs", str(disk)]
    if shutil.which("mount") is None or subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("no disk may be mounted here")
    yield disk
    subprocess.run(["umount", "-l", str(disk)], check=True)


def test_on_a_full_disk_the_file_is_named_and_what_was_there_stays(small_disk, shell, rig_files):
    whole = {"sheet": rig_files["sheet"], "capture": rig_files["capture"]}
    (small_disk / "page.html").write_text("the version before")
    (small_disk / "filling").write_bytes(bytes(60_000))
    for words, name in (
        (["report", "{sheet}", "{capture}", "-o", "{disk}/page.html"], "page.html"),
        (["convert", "{capture}", "{disk}/copy.csv"], "copy.csv"),
        (["decode", "{sheet}", "{capture}", "--frames", "{disk}/frames.jsonl"], "frames.jsonl"),
        (["draw", "{sheet}", "{capture}", "waveform", "-o", "{disk}/wave.svg"], "wave.svg"),
        (["batch", "{sheet}", "{capture}", "--store", "{disk}/store.sqlite", "--workers", "1"], "store.sqlite"),
        (["listen", "stand-in:pump", "--seconds", "600", "--show", "nothing", "--record", "{disk}/talk.jsonl"], "the recording ends at"),
    ):  # fmt: skip
        status, _, err = shell(*(word.format(**whole, disk=small_disk) for word in words))
        assert (status, name in err, "Traceback" in err) == (2, True, False), err
        assert "No space left" in err or "disk is full" in err, err
    assert (small_disk / "page.html").read_text() == "the version before"
    left = {path.name for path in small_disk.iterdir()}
    assert left <= {"page.html", "filling", "talk.jsonl", "store.sqlite"}
    held = next(iter(open_every_wire(small_disk / "talk.jsonl").values()))
    assert len(held) > 100  # up to the moment at which the disk was full


@pytest.mark.skipif(os.name == "nt" or os.geteuid() == 0, reason="everything may be written here")
def test_a_folder_that_may_not_be_written_is_named(shell, rig_files, tmp_path):
    tmp_path.chmod(0o500)
    try:
        status, _, err = shell("convert", rig_files["capture"], tmp_path / "copy.csv", "--quiet")
    finally:
        tmp_path.chmod(0o700)
    assert (status, "Permission denied" in err, "Traceback" in err) == (2, True, False)
