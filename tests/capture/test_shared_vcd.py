"""A large VCD file that several processes scan gives what one process finds in it."""

import multiprocessing
import random
import re
import signal
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files import content, vcd_blocks, vcd_scan, vcd_workers

HEAD = (
    "$timescale 1 ns $end\n$var wire 1 ! tx $end\n$var wire 1 #a rx $end\n$var wire 3 # bus $end\n"
    "$enddefinitions $end\n#0\n1!\n1#a\n"
)


def made_up(seed):
    """Return a VCD file, mostly of times and changes, with a few of the other things that one may hold."""
    chance = random.Random(seed)
    now, parts = 0, [HEAD]
    odd = [
        "$dumpoff\nx!\nx#a\n$end\n",
        "$comment it was\n#5 then\n1! and\n#7 $end\n",
        "b101 #\n",
        "b01\n#\n",
        "b1z1 #\n#{now}\n",
        "quack\n",
        "1\n",
        "$comment no end\n",
    ]
    how_odd = chance.choice([0, 0, 0.01, 0.05])
    usual = odd[: chance.choice([5, 5, len(odd)])]
    for _ in range(chance.randrange(20, 300)):
        now += chance.choice([1, 17, 17, 400, 10**6, 10**10])
        parts.append(f"#{now}\n")
        parts += chance.choices(["0!\n", "1!\n", "x!\n", "0#a\n", "1#a\n", "z#a\n", "0! 1#a\n"], k=chance.randrange(4))
        if chance.random() < how_odd:
            parts.append(chance.choice(usual).format(now=now + 1))
    parts.append(chance.choice(["", "#99", "1", "b1", "\0" * chance.randrange(1, 900), "\0\0#5\n", "$end"]))
    return "".join(parts).encode()


class OneAhead:
    """Does in this process what a pool does in others, always one stretch ahead of what is taken in."""

    def __init__(self, file, wanted):
        self.path, self.wanted = file.path, wanted

    def is_ready(self):
        return True

    def scanned(self, cuts):
        with self.path.open("rb") as file:
            before = next(cuts, None)
            while before is not None:
                following = next(cuts, None)
                yield *before, vcd_workers.scan_part(file, *before, self.wanted)
                before = following

    def close(self):
        pass


def outcome(path, workers):
    """Return all that is read of a file; the error where there is one."""
    found = {"tx": [], "rx": []}
    try:
        with lr.capture.CaptureFile(path, workers=workers) as file:
            for piece in file.pieces({wire: wire for wire in found}):
                for wire, trace in piece.items():
                    found[wire].append(trace)
    except lr.CaptureError as error:
        return str(error)
    joined = {wire: lr.Trace.joined(parts) for wire, parts in found.items()}
    return {
        wire: (some.edges.tolist(), some.first_level, some.begin, some.end, some.unknown.tolist(), some.truncated)
        for wire, some in joined.items()
    }


@pytest.fixture(scope="module")
def small():
    """Let files be as large as those here are, and stretches as small."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(content, "LARGE", 1)
        patch.setattr(vcd_blocks, "BLOCK", 64)
        for name, size in {"ALONE": 50, "STRETCH": 200, "LOOKED_AT": 100}.items():
            patch.setattr(vcd_workers, name, size)
        yield patch


@given(st.integers(0, 2**32))
def test_any_file_is_read_as_by_one_process(small, tmp_path_factory, seed):
    path = tmp_path_factory.mktemp("shared") / "a.vcd"
    path.write_bytes(made_up(seed))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(vcd_workers, "ScanPool", OneAhead)
        assert outcome(path, 2) == outcome(path, 1)


@pytest.mark.parametrize("is_killed", [False, True])
def test_processes_share_a_file_and_one_that_is_ended_is_done_without(monkeypatch, tmp_path, is_killed):
    shared = []

    def ready(pool):
        return all(connection.poll(60) for _, connection in pool._workers)

    def counted(scan, found, size):
        if is_killed and not shared:
            multiprocessing.active_children()[0].kill()
        shared.append(size)
        return taken(scan, found, size)

    taken = vcd_scan.Scan.take
    monkeypatch.setattr(vcd_workers.ScanPool, "is_ready", ready)
    monkeypatch.setattr(vcd_scan.Scan, "take", counted)
    monkeypatch.setattr(content, "LARGE", 1)
    for name, size in {"ALONE": 1000, "STRETCH": 1 << 14}.items():
        monkeypatch.setattr(vcd_workers, name, size)
    line, path = lr.LineSettings.parse("57600 8E1"), tmp_path / "a.vcd"
    data = np.random.default_rng(5).integers(0, 256, (2, 6000)).astype(np.uint8)
    lr.write_vcd(path, {"tx": lr.transmit(data[0].tobytes(), line), "rx": lr.transmit(data[1].tobytes(), line)})
    read = lr.open_trace(path, "tx")  # by one process
    assert not shared
    found = outcome(path, 2)
    assert (len(shared) > 3, found["tx"][0]) == (True, read.edges.tolist())  # on a busy machine they take few of 47
    assert found == outcome(path, 1)
    assert not multiprocessing.active_children()


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="signals that are blocked are read from /proc")
def test_what_begins_processes_leaves_an_interrupt_to_their_parent():
    """Else a Ctrl-C while they begin would print the traceback of each."""
    code = (
        "import signal; from larkreader.processes import worker_context; worker_context(['larkreader']);"
        "from multiprocessing.forkserver import _forkserver;"
        "print(_forkserver._forkserver_pid, signal.pthread_sigmask(signal.SIG_BLOCK, []));"
        "print(open(f'/proc/{_forkserver._forkserver_pid}/status').read())"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    blocked = int(re.search(r"SigBlk:\s+([0-9a-f]+)", out)[1], 16)
    assert blocked >> (signal.SIGINT - 1) & 1
    assert "set()" in out.splitlines()[0]  # of the parent nothing stays blocked
