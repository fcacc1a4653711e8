"""Receivers under damage: what they must keep, what they must refuse, and how long they need to find their way back."""

import json
import shutil
import subprocess
from pathlib import Path

import pytest

import larkreader as lr

FIRMWARE = Path("examples/firmware").absolute()
needs_compiler = pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no C compiler")
CRC = {"algorithm": "CRC-16/IBM-3740"}
FIELDS = [
    {"name": "size", "type": "uint8"},
    {"name": "kind", "type": "uint8", "equals": 3},
    {"name": "flow", "type": "uint16", "scale": 0.1, "range": (0, 6000)},
    {"name": "more", "type": "uint8", "repeat": "rest"},
    {"name": "crc", "type": "checksum"},
]
BOUNDARIES = [
    {"kind": "length-field", "field": "size", "marker": "A5", "longest": 30},
    {"kind": "marker", "marker": "D7 4B", "end": "0D 0A", "longest": 30},
    {"kind": "slip", "longest": 30},
    {"kind": "cobs", "longest": 30},
    {"kind": "hdlc", "longest": 30},
    {"kind": "terminator", "terminator": "\r\n", "longest": 30},
]


@pytest.fixture(scope="module")
def built(tmp_path_factory):
    """Build the pump head's receiver from what is emitted, and those with mistakes."""
    folder = tmp_path_factory.mktemp("bench")
    lr.write_c(folder, lr.open_sheet(FIRMWARE / "bench.toml"), name="bench")
    for name in ("pump_head", "bad_receivers"):
        words = ["gcc", "-std=c99", "-D_POSIX_C_SOURCE=200809L", "-Wall", "-Wextra", "-Wconversion", "-Werror"]
        built = [*words, f"-I{folder}", f"-I{FIRMWARE}", str(FIRMWARE / f"{name}.c"), str(folder / "bench.c")]
        subprocess.run([*built, "-o", str(folder / name)], check=True)
    return folder


def torture(built, command, **given):
    sheet, name = lr.open_sheet(FIRMWARE / "bench.toml"), f"exec:{built / command}"
    with lr.open_port(name) as port:
        return lr.exercise.run_torture(port, sheet, quiet_s=0.06, reopen=lambda: lr.open_port(name), **given)


@needs_compiler
def test_the_emitted_receiver_loses_no_sound_frame_and_takes_no_other(built):
    result = torture(built, "pump_head", trials=8)
    assert result.verdict == "pass", [row for row in result.rows if row.outcome != "pass"]
    assert (result.layout, result.answered_by) == ("program", "program")
    assert len(result.rows) == 17
    assert all(row.sound >= 8 * 8 and row.trials == 8 for row in result.rows)


@needs_compiler
@pytest.mark.parametrize(
    ("mistake", "shown_by", "outcomes"),
    [
        ("no-look-back", "a marker before a frame", {"fail"}),
        ("trusts-length", "a wrong length", {"fail"}),
        ("no-time-out", "cut short", {"stuck"}),
    ],
)
def test_receivers_with_mistakes_are_caught(built, mistake, shown_by, outcomes):
    result = torture(built, f"bad_receivers {mistake}", trials=3)
    assert result.verdict == "fail"
    rows = {row.damage: row for row in result.rows}
    assert rows[shown_by].outcome in outcomes
    assert rows[shown_by].lost
    assert rows[shown_by].example
    assert rows["none"].outcome == rows["a marker within a frame"].outcome == "pass"
    assert "not tried" not in {row.outcome for row in result.rows}


def sheet_of(boundary):
    fields = FIELDS if boundary["kind"] == "length-field" else FIELDS[1:]
    return lr.Sheet(wire={"to": {}}, frame={"ask": {"boundary": boundary, "fields": fields, "checksum": CRC}})


@pytest.mark.parametrize("boundary", BOUNDARIES, ids=lambda item: item["kind"])
def test_a_line_that_returns_everything_passes_behind_every_boundary(boundary):
    """What returns is read by the same rules, so that nothing is lost and nothing wrong."""
    with lr.open_port("stand-in:echo") as port:
        result = lr.exercise.run_torture(port, sheet_of(boundary), trials=4, quiet_s=0.05)
    assert result.verdict == "pass", [row for row in result.rows if row.outcome != "pass"]
    assert result.answered_by == ""


def test_a_device_that_ignores_checksums_is_caught():
    sheet = sheet_of({"kind": "marker", "marker": "D7 4B", "end": "0D 0A", "longest": 30})
    layout = sheet.frame["ask"]
    held = bytearray()

    def device(data):
        held.extend(data)
        answers = b""
        while (end := held.find(b"\r\n")) >= 0:
            frame = bytes(held[:end])
            del held[: end + 2]
            if frame[:2] == layout.marker and len(frame) >= 8:
                answers += layout.encode({"flow": int.from_bytes(frame[3:5], "little") / 10, "more": list(frame[5:-2])})
        return answers

    with lr.SimulatedPort(sheet.line, device) as port:
        result = lr.exercise.run_torture(port, sheet, trials=10, quiet_s=0.05)
    rows = {row.damage: row for row in result.rows}
    assert rows["a wrong checksum"].outcome == "fail"
    assert rows["a wrong checksum"].wrong == 10
    assert rows["none"].wrong == 0


@pytest.mark.parametrize(
    ("boundary", "found"),
    [
        ({"kind": "idle", "characters": 3}, "has the boundary idle"),
        ({"kind": "break"}, "has the boundary break"),
    ],
)
def test_frames_whose_damage_cannot_be_sent_as_bytes_are_refused(boundary, found):
    with lr.open_port("stand-in:echo") as port, pytest.raises(lr.RequestError, match=found):
        lr.exercise.run_torture(port, sheet_of(boundary))


def test_a_device_that_never_answers_is_stuck_before_any_damage():
    sheet = sheet_of(BOUNDARIES[0])
    with lr.SimulatedPort(sheet.line, lambda data: b"") as port:
        rows = lr.exercise.run_torture(port, sheet, quiet_s=0.02, reopen=lambda: port).rows
    assert [rows[0].outcome, *{row.outcome for row in rows[1:]}] == ["stuck", "not tried"]


def test_how_a_device_answers_must_be_known():
    sheet = lr.open_sheet(FIRMWARE / "bench.toml").model_copy(update={"pair": {}})
    with lr.open_port("stand-in:echo") as port:
        with pytest.raises(lr.RequestError, match=r"no \[pair.NAME\] with match"):
            lr.exercise.run_torture(port, sheet)
        with pytest.raises(lr.RequestError, match="is not on the sheet"):
            lr.exercise.run_torture(port, sheet, "programme")


@needs_compiler
def test_torture_at_the_command(built, shell, tmp_path):
    sheet, cases = FIRMWARE / "bench.toml", tmp_path / "cases.xml"
    receiver = f"exec:{built / 'bad_receivers'} no-look-back"
    status, out, err = shell("loopback", sheet, receiver, "--torture", "--trials", 2, "--junit", cases)
    assert status == 1
    assert f"Damage to program at {receiver}, answered by [pair.program]" in out
    assert "Verdict: fail" in out
    assert 'name="a marker before a frame"' in cases.read_text()
    status, out, err = shell("loopback", sheet, f"exec:{built / 'pump_head'}", "--torture", "--trials", 1, "--json")
    assert status == 0
    assert {row["outcome"] for row in json.loads(out)["damages"]} == {"pass"}
    status, out, err = shell("loopback", sheet, "stand-in:echo", "--torture", "--baud", 9600)
    assert status == 2
    assert "--torture does not go with --bauds" in err or "--torture does not go with --baud" in err
    status, out, err = shell("loopback", "stand-in:echo", "--trials", 3)
    assert status == 2
