import gzip
import json
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.first_part import first_traces

LINE = lr.LineSettings.parse("57600 8E1")


def verdict_of(shell, *arguments):
    _, out, _ = shell("decode", *arguments, "--json")
    found = json.loads(out)
    return found["frames"], [(one["kind"], one["count"], one["offset"]) for one in found["findings"]]


@pytest.mark.parametrize("to", ["a.csv", "a.npz", "a.vcd", "a.raw"])
def test_what_is_converted_reads_as_what_it_was(shell, tmp_path, rig_files, to):
    """The demo's capture, whose findings must stay; a raw file needs its channels on the sheet."""
    sheet, path = rig_files["sheet"], tmp_path / to
    options = ["--out-rate", "2M", "--out-bits", "16", "--out-order", "big"] if to == "a.raw" else []
    status, _, err = shell("convert", rig_files["capture"], path, *options)
    assert (status, "20,212 changes of rig.controller_tx, rig.pump_tx written" in " ".join(err.split())) == (0, True)
    arguments = [sheet, path]
    if to == "a.raw":
        text = sheet.read_text().replace('"rig.controller_tx"', '"0"').replace('"rig.pump_tx"', '"1"')
        raw = tmp_path / "raw.toml"
        raw.write_text(text + '\n[capture]\nkind = "samples"\nbits = 8\norder = "big"\n')
        arguments = [raw, path, "--rate", "2000k", "--bits", "16"]
    assert verdict_of(shell, *arguments) == verdict_of(shell, sheet, rig_files["capture"])
    status, _, err = shell("convert", rig_files["capture"], path, *options)
    assert (status, "exists already" in err) == (2, True)


def test_characters_are_converted_and_a_file_cut_off_is_told(shell, tmp_path, rig_files):
    table = tmp_path / "all.csv"
    shell("decode", rig_files["sheet"], rig_files["capture"], "--characters", table)
    packed = tmp_path / "cut.csv.gz"
    packed.write_bytes(gzip.compress(table.read_bytes())[:9000])
    for to in ("few.jsonl", "few.csv", "few.bin"):
        wire = ["--signal", "from_pump"] if to == "few.bin" else []
        status, _, err = shell("convert", packed, tmp_path / to, *wire)
        assert (status, "note: IN is cut off" in err) == (0, True)
    whole = lr.open_capture(table, {"from_pump": "from_pump"})["from_pump"]
    few = lr.open_capture(tmp_path / "few.jsonl", {"from_pump": "from_pump"})["from_pump"]
    assert 100 < len(few) < len(whole)
    assert few.value.tolist() == whole.value[: len(few)].tolist()
    assert few.begin_s - few.begin_s[0] == pytest.approx(whole.begin_s[: len(few)] - whole.begin_s[0], abs=1e-6)
    assert (tmp_path / "few.bin").read_bytes() == bytes(few.value.tolist())


def test_a_signal_that_is_named_twice_is_written_like_any_other(shell, tmp_path, rig_files):
    named = ["--signal", "rig.pump_tx"]
    for to in ("a.vcd", "a.csv", "a.npz"):
        once, twice = tmp_path / to, tmp_path / f"twice-{to}"
        assert shell("convert", rig_files["capture"], once, *named)[0] == 0
        assert shell("convert", rig_files["capture"], twice, *named, *named)[0] == 0
        assert once.read_bytes() == twice.read_bytes()


def test_voltages_before_time_0_become_a_vcd_that_begins_there(shell, tmp_path):
    sent = lr.transmit(b"flow 12.5", LINE)
    times = np.arange(int(sent.end_s * 1e6)) / 1e6
    levels = sent.first_level ^ (np.searchsorted(sent.edges_s, times, side="right") & 1)
    scope = tmp_path / "scope.csv"
    scope.write_text(
        "time_s,tx\n"
        + "".join(f"{at - 0.5e-3:.6f},{3.3 * level + 0.01:.2f}\n" for at, level in zip(times, levels, strict=True))
    )
    status, _, err = shell("convert", scope, tmp_path / "a.vcd", "--thresholds", "0.8", "2.0")
    assert (status, "VCD has no time before 0" in " ".join(err.split())) == (0, True)
    assert bytes(lr.receive(lr.open_trace(tmp_path / "a.vcd", "tx"), LINE).value.tolist()) == b"flow 12.5"


def test_a_starter_sheet_keeps_what_a_raw_file_does_not_say(shell, tmp_path):
    lr.capture.write_samples(tmp_path / "a.raw", {"tx": lr.transmit(b"flow 12.5 mL/min\r\n" * 9, LINE, gaps=2)}, 1e6)
    sheet = tmp_path / "new.toml"
    assert shell("new", sheet, "--from", tmp_path / "a.raw", "--kind", "samples", "--rate", "1M")[0] == 0
    assert str(lr.open_sheet(sheet).wire["0"].line) == "57600 8E1"
    status, out, _ = shell("decode", sheet, tmp_path / "a.raw", "--json", "--check-stops", "--oversampling", "16")
    assert (status, json.loads(out)["wires"]["0"]["characters"]) == (0, 162)
    status, out, err = shell("diagnose", tmp_path / "a.raw", "--rate", "1M")
    assert (status, "57600 8E1" in out, "nothing happens on 1, 2, 3" in err) == (0, True, True)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        ("{capture} a.txt", "must end in .vcd, .csv"),
        ("{capture} a.raw", "A raw file needs a rate"),
        ("{capture} a.csv --out-rate 1M", "must go with a .raw file"),
        ("{capture} a.bin", "Use decode --characters"),
        ("{delivered} a.vcd", "would hold levels, but IN holds characters"),
        ("{delivered} a.jsonl", "without times"),
        ("{capture} a.vcd --signal rig.pump", 'signal "rig.pump" is not in the file'),
        ("{capture} a.vcd --rate fast", '"fast" is not a rate'),
        ("{capture} a.vcd --thresholds 2 1", "is not possible: thresholds must be the lower"),
        ("{delivered} a.csv --kind samples --rate 1M", ""),
        ("{missing} a.csv", "does not exist"),
    ],
)
def test_what_cannot_be_converted_is_told_and_leaves_no_file(
    shell, tmp_path, monkeypatch, rig_files, arguments, message
):
    monkeypatch.chdir(tmp_path)
    places = {name: str(path) for name, path in rig_files.items()} | {"missing": "nothing.vcd"}
    status, out, err = shell("convert", *arguments.format(**places).split())
    assert status == (2 if message else 0)
    assert message in " ".join((out + err).split())
    assert bool(list(tmp_path.glob("a.*"))) == (not message)


def test_what_a_driver_counted_is_kept_or_named(shell, tmp_path):
    """A table of characters has no place for it; a recording has."""
    recording = tmp_path / "live.jsonl"
    recording.write_text(
        '{"recording": 1, "began": "2026-03-01T06:00:00Z", "wires": {"in": {}}}\n'
        '{"s": 0.5, "wire": "in", "hex": "66 6c", "counted": {"overrun": 2, "parity": 1}}\n'
    )
    status, _, err = shell("convert", recording, tmp_path / "live.csv")
    assert (status, "on in: 2 overrun, 1 parity; a .jsonl file keeps it" in " ".join(err.split())) == (0, True)
    status, _, err = shell("convert", recording, tmp_path / "again.jsonl")
    assert (status, "lacks" in err) == (0, False)
    assert '"counted": {"overrun": 2, "parity": 1}' in (tmp_path / "again.jsonl").read_text()


@given(
    st.lists(st.integers(1, 40), max_size=60),
    st.integers(0, 60),
    st.lists(st.integers(0, 60), max_size=4),
    st.sampled_from([0, 30]),
)
def test_the_first_part_of_a_wire_ends_before_the_first_change_that_is_left_out(steps, most, cuts, rest):
    """However the wire arrives in pieces; one that fits is whole."""
    edges = np.cumsum(np.array(steps, np.int64))
    end = int(edges[-1]) + rest if len(edges) else rest
    places = [0, *sorted(min(cut, len(edges)) for cut in cuts), len(edges)]
    pieces, begin = [], 0
    for low, high in pairwise(places):
        last = end if high == len(edges) else int(edges[high - 1]) if high else 0
        pieces.append({"w": lr.Trace(edges[low:high], 1e-6, 1 ^ (low & 1), begin=begin, end=last)})
        begin = last
    part = first_traces(pieces, most)["w"]
    assert part.measured.edges.tolist() == edges[:most].tolist()
    assert part.end_s == pytest.approx(end * 1e-6)
    assert part.is_whole == (len(edges) <= most)
    assert part.until_s == pytest.approx((end if len(edges) <= most else edges[most] - 1) * 1e-6)


def test_diagnosing_a_large_capture_shows_how_far_it_was_looked_at(shell, monkeypatch, rig_files):
    whole = json.loads(shell("diagnose", rig_files["capture"], rig_files["sheet"], "--json")[1])
    assert not any("looked_at" in wire for wire in whole["wires"].values())
    monkeypatch.setattr(first_traces, "__defaults__", (3000,))
    _, out, _ = shell("diagnose", rig_files["capture"], rig_files["sheet"], "--json")
    wires = json.loads(out)["wires"]
    (name,) = [name for name, wire in wires.items() if "looked_at" in wire]
    until_s, end_s = (wires[name]["looked_at"][key] for key in ("until_s", "end_s"))
    assert (wires[name]["survey"]["edges"], wires[name]["proposal"]) == (3000, whole["wires"][name]["proposal"])
    assert wires[name]["survey"]["duration_s"] == pytest.approx(until_s)
    assert end_s == pytest.approx(whole["wires"][name]["survey"]["duration_s"])
    text = (
        f"{name} was looked at up to {until_s:.6g} s; {end_s - until_s:.6g} s more are in the capture, and not judged"
    )
    assert text in shell("diagnose", rig_files["capture"], rig_files["sheet"])[1]
    _, out, _ = shell("diagnose", rig_files["capture"], rig_files["sheet"], "--annotations", "github")
    assert any(line.startswith("::notice") and text in line for line in out.splitlines())
