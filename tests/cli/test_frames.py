"""What the command shows of frames: layouts, bytes, changes, bursts, and frames that differ in length, in every form."""

import csv
import json

import numpy as np
import pytest

import larkreader as lr

SHEET = """
sheet = 1
[wire.from_pump]
[frame.burst]
boundary = { kind = "cobs", longest = 600 }
fields = [
  { name = "kind",  type = "uint8", equals = 1 },
  { name = "wave",  type = "uint16", repeat = "rest", samples = { reference = 3.3, bits = 12, rate = 8000 } },
]
[frame.level]
boundary = { kind = "cobs", longest = 600 }
fields = [
  { name = "kind",   type = "uint8", equals = 2 },
  { name = "number", type = "uint8" },
  { group = "tank",  repeat = "number", fields = [{ name = "level", type = "uint8", scale = 0.5, unit = "L" }] },
  { name = "leak",   type = "uint8", when = { number = 2 } },
  { name = "remark", type = "text", repeat = "rest" },
]
"""


@pytest.fixture
def varied(tmp_path):
    """Return a sheet of frames that differ in length, and a capture of four of them."""
    (tmp_path / "varied.toml").write_text(SHEET)
    burst, level = lr.parse_sheet(SHEET).frame.values()
    wave = np.rint(2048 + 1000 * np.sin(2 * np.pi * 500 * np.arange(96) / 8000)).astype(int)
    frames = [burst.encode({"wave": wave}), level.encode({"tank": [{"level": 2.5}, {"level": 3}], "leak": 9})]
    frames += [level.encode({"tank": [{"level": 4}], "remark": "refill, soon"}), burst.encode({"wave": wave[:48]})]
    (tmp_path / "varied.bin").write_bytes(b"".join(burst.as_sent(frame) for frame in frames))
    return tmp_path / "varied.toml", tmp_path / "varied.bin"


def test_frames_that_differ_are_written_in_every_form(shell, varied, tmp_path):
    for ending in (".csv", ".jsonl", ".npz"):
        status, _, err = shell("decode", *varied, "--frames", tmp_path / f"frames{ending}")
        assert (status, err) == (0, f"frames written to {tmp_path / f'frames{ending}'}\n")
    with (tmp_path / "frames.csv").open() as file:
        rows = [row for row in csv.DictReader(file) if row["frame"] == "level"]
    shown = [(row["tank.level"], row["leak"], row["remark"]) for row in rows]
    assert shown == [("2.5 3.0", "9", ""), ("4.0", "", "refill, soon")]
    objects = [json.loads(line) for line in (tmp_path / "frames.jsonl").read_text().splitlines()]
    levels = [one["fields"] for one in objects if one["frame"] == "level"]
    assert [(one["tank.level"], one["leak"]) for one in levels] == [([2.5, 3.0], 9), ([4.0], None)]
    arrays = np.load(tmp_path / "frames.npz")
    assert arrays["level.tank.level"].tolist() == [2.5, 3.0, 4.0]
    assert arrays["level.tank.level.length"].tolist() == [2, 1]
    assert arrays["level.leak.absent"].tolist() == [False, True]
    assert arrays["burst.wave.length"].tolist() == [96, 48]


def test_one_frame_is_taken_apart_with_what_is_not_in_it(shell, varied):
    _, out, _ = shell("decode", *varied, "--explain", 2, "--json")
    shown = {part["name"]: part for part in json.loads(out)["fields"]}
    level, remark = shown["tank.level"], shown["remark"]
    assert (level["first_bit"], level["width"], level["number"], level["value"]) == (16, 8, 8, "4 L")
    assert shown["leak"]["check"] == "none in this frame"
    assert (remark["first_bit"], remark["width"], remark["value"]) == (24, 96, '"refill, soon"')


def test_bursts_are_summed_up_and_drawn(shell, varied, tmp_path):
    status, out, _ = shell("decode", *varied, "--statistics", "--json")
    bursts = json.loads(out)["frames"]["burst"]["bursts"]["wave"]
    assert status == 0
    assert [one["samples"] for one in bursts] == [96, 48]
    assert bursts[0]["frequency_hz"] == pytest.approx(500, abs=5)
    status, _, err = shell("draw", *varied, "bursts", "-o", tmp_path / "bursts.png")
    assert (status, err) == (0, f"bursts of wave, 2 of them, drawn into {tmp_path / 'bursts.png'}\n")
    assert (tmp_path / "bursts.png").read_bytes().startswith(b"\x89PNG")
    status, _, err = shell("draw", *varied, "bursts", "--field", "wvae", "-o", tmp_path / "bursts.png")
    assert (status, err.count('Did you mean "wave"?')) == (2, 1)


def test_bytes_and_changes(shell, rig_files):
    files = rig_files["sheet"], rig_files["capture"]
    _, out, _ = shell("decode", *files, "--bytes")
    assert "   3  counts by 1     00    13      20       19  000xxxxx" in out
    _, out, _ = shell("decode", *files, "--bytes", "--moved-at", 5, "--json")
    assert {one["place"] for one in json.loads(out)["frames"]["status"]} >= {8, 12}
    _, out, _ = shell("decode", *files, "--changes", "--json")
    first = json.loads(out)["frames"]["status"][0]
    assert first["fields"] == {"temperature": [21.51, 21.49]}
    assert [3, 0, 1] in first["bytes"]
    for options, message in (
        (("--moved-at", 3), "--moved-at compares what bytes do"),
        (("--bytes", "--changes"), "--bytes and --changes exclude each other"),
        (("--bytes", "--moved-at", 99), "must lie within the frames"),
    ):
        status, _, err = shell("decode", *files, *options)
        assert status == 2
        assert message in err.replace("It must", "must").replace("\n", " ")


def test_a_sheet_is_proposed_from_a_boundary_alone(shell, tmp_path):
    """A made-up meter: kind, counter, length, level; its CRC is found, and the proposed sheet reads every frame."""
    boundary = 'sheet = 1\n[wire.tx]\n[frame.level]\nboundary = { kind = "slip" }\n'
    fields = [{"name": "kind", "type": "uint8", "equals": 9}, {"name": "x", "type": "uint8", "repeat": "rest"}]
    secret = lr.FrameLayout(
        boundary={"kind": "slip"},
        fields=[*fields, {"name": "crc", "type": "checksum"}],
        checksum={"algorithm": "CRC-16/XMODEM", "order": "big"},
    )
    frames = secret.encode_all({"x": [[number * number % 256] * (1 + number % 5) for number in range(30)]})
    (tmp_path / "tx.bin").write_bytes(b"".join(map(secret.as_sent, frames)))
    (tmp_path / "tx.toml").write_text(boundary)
    status, out, err = shell("decode", tmp_path / "tx.toml", tmp_path / "tx.bin", "--propose")
    assert (status, err) == (0, "level: 30 of 30 frames are right by the fields that are proposed\n")
    found = lr.parse_sheet(out).frame["level"]
    assert (found.checksum.algorithm, found.checksum.order) == ("CRC-16/XMODEM", "big")
    assert found.slot["constant_0"].field.equals == 9


def test_layouts_are_shown_and_drawn(shell, rig_files, varied, tmp_path):
    status, out, _ = shell("layout", rig_files["sheet"], "status")
    assert status == 0
    assert "5.4-6.7    pressure     uint12                  raw x 0.25 kPa" in out
    assert "13.7       -            reserved 1              must be 0" in out
    _, out, _ = shell("layout", varied[0], "level", "--json")
    rows = {row["name"]: row for row in json.loads(out)["frames"]["level"]["fields"]}
    assert (rows["tank.level"]["first_bit"], rows["tank.level"]["type"]) == (16, "uint8 x number")
    leak = rows["leak"]
    assert (leak["first_bit"], leak["bits"], leak["moves"], leak["meaning"]) == (24, 8, True, "only with number 2")
    _, out, _ = shell("layout", rig_files["sheet"], "status", "--json")
    layout = json.loads(out)["frames"]["status"]
    assert (layout["length"], layout["packing"], layout["boundary"]["marker"]) == (16, "lsb", "D7 4B")
    pressure = next(row for row in layout["fields"] if row["name"] == "pressure")
    assert (pressure["first_bit"], pressure["bits"], pressure["scale"], pressure["unit"]) == (44, 12, 0.25, "kPa")
    for ending, head in ((".svg", b"<?xml"), (".png", b"\x89PNG")):
        status, _, err = shell("layout", rig_files["sheet"], "status", "-o", tmp_path / f"status{ending}")
        assert (status, err) == (0, f"status drawn into {tmp_path / f'status{ending}'}\n")
        assert (tmp_path / f"status{ending}").read_bytes().startswith(head)
    for arguments, message in (
        (("staus",), 'Did you mean "status"?'),
        (("-o", tmp_path / "x.png"), "Name one of setpoint, status, alarm"),
        (("status", "-o", tmp_path / "x.gif"), 'ends in ".gif"'),
    ):
        status, _, err = shell("layout", rig_files["sheet"], *arguments)
        assert (status, message in err) == (2, True)


def test_a_frame_is_sent_as_it_travels(shell, varied):
    status, out, _ = shell(
        "send", "stand-in:echo", "--sheet", varied[0], "--frame", "level", "number=1", "tank.level=4", "remark=full"
    )
    assert status == 0
    assert out.count("08 02 01 08 66 75 6C 6C 00") == 2  # stuffed: there is no zero but the last
