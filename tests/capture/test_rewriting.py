"""Levels that are written in another format as they are read."""

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files import vcd, vcd_blocks
from larkreader.capture.files.rewriting import PassingLevels

NAMES = ("a", "b.c")


def made_up(chance):
    """Return a VCD file of two signals, whose levels are not known now and then, one of them perhaps not at first."""
    now = chance.choice([0, 0, 5, 1000])
    parts = [
        f"$timescale {chance.choice(['1 ns', '10 ns', '100 ps'])} $end\n"
        f"$var wire 1 ! a $end\n$var wire 1 # b.c $end\n$enddefinitions $end\n#{now}\n"
    ]
    parts += chance.choices(["1!\n", "x#\n", "0#\n", "1!\n1#\n"], k=chance.randrange(2))
    for _ in range(chance.randrange(1, 300)):
        now += chance.choice([1, 1, 2, 17, 400, 10**5])
        changes = [chance.choice("01010101xz") + chance.choice("!!#") + "\n" for _ in range(chance.randrange(3))]
        parts += [f"#{now}\n", *changes]
    return "".join([*parts, "#", str(now + 50), "\n"])


def written(source, path, rate):
    """Write a capture in the format of an ending; return how many changes passed, and the file or the error."""
    path.unlink(missing_ok=True)
    with lr.capture.CaptureFile(source) as file:
        passing = PassingLevels(file, NAMES)
        write = {".vcd": passing.write_vcd, ".csv": passing.write_table, ".npz": passing.write_arrays}.get(path.suffix)
        try:
            write(path) if write else passing.write_samples(path, rate, lr.CaptureForm(bits=8))
        except lr.LarkReaderError as error:
            return str(error)
    return passing.count, path.read_bytes()


@given(st.integers(0, 2**32))
def test_what_is_written_piece_by_piece_is_what_is_written_at_once_and_reads_as_before(tmp_path_factory, seed):
    chance, folder = random.Random(seed), tmp_path_factory.mktemp("rewritten")
    (source := folder / "in.vcd").write_text(made_up(chance))
    before = lr.open_capture(source, {name: name for name in NAMES})
    for path in (folder / f"out.{ending}" for ending in ("vcd", "csv", "npz", "raw")):
        at_once = written(source, path, rate := chance.choice([1e5, 333e3]))
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(vcd, "PIECE", chance.choice([64, 300]))
            patch.setattr(vcd_blocks, "BLOCK", 32)
            assert written(source, path, rate) == at_once
        if path.suffix == ".raw":
            continue
        again = lr.open_capture(path, {name: name for name in NAMES})
        for name, trace in before.items():
            assert again[name].edges_s == pytest.approx(trace.edges_s, abs=1e-12)
            spans_s = again[name].unknown * again[name].tick_s
            assert spans_s == pytest.approx(trace.unknown * trace.tick_s, abs=1.01 * trace.tick_s)


@pytest.mark.parametrize("ending", ["vcd", "csv"])
def test_a_level_that_is_known_again_before_the_end_is_written_so(tmp_path, ending):
    """The capture ends with a change of the other signal, so that it is not known how long it goes on."""
    unknown = lr.Trace(np.array([10]), 1e-9, 0, unknown=np.array([[20, 30]]))
    path = tmp_path / f"a.{ending}"
    (lr.write_vcd if ending == "vcd" else lr.capture.write_levels)(path, {"a": unknown, "b": lr.Trace([50], 1e-9)})
    read = lr.open_trace(path, "a")
    assert (read.unknown * read.tick_s).tolist() == [pytest.approx([20e-9, 30e-9])]


def test_the_level_of_a_signal_that_begins_later_is_not_known_before(tmp_path):
    lr.write_vcd(tmp_path / "a.vcd", {"a": lr.Trace([10], 1e-9), "b": lr.Trace([50], 1e-9, 1, begin=40, end=60)})
    assert lr.open_trace(tmp_path / "a.vcd", "b").unknown.tolist() == [[0, 40]]


def test_samples_of_a_signal_without_a_level_at_first_have_its_first_level(tmp_path):
    source = tmp_path / "in.vcd"
    source.write_text(
        "$timescale 1 us $end\n$var wire 1 ! a $end\n$var wire 1 # b.c $end\n$enddefinitions $end\n#0\n1!\n#4\n0#\n#6\n1#\n#9\n"
    )
    assert written(source, tmp_path / "a.raw", 1e6) == (1, bytes([1] * 6 + [3] * 4))
