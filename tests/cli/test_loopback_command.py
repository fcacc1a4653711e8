"""Loopbacks and dialogues by the command: what is run, told, written and drawn."""

import csv
import json
import xml.etree.ElementTree as ET

import pytest

SHEET = """sheet = 1
[line]
baud = 57_600
format = "8E1"
[wire.to_pump]
[receive.to_pump]
ring = { size = 128 }
application = { kind = "periodic", every_s = 0.05 }
[frame.status]
wire = "to_pump"
boundary = { kind = "marker", marker = "D7 4B" }
fields = [{ name = "count", type = "uint8", counter = true }, { name = "flow", type = "uint16" }]
[port.cable]
at = "stand-in:echo"
impaired = { drop_ratio = 0.002, seed = 3 }
[port.small]
at = "stand-in:echo"
receive = "to_pump"
[port.lines]
at = "stand-in:line-answerer"
[loopback]
patterns = ["counting", "prbs-9"]
bauds = [9_600, 57_600]
characters = 600
[[exchange]]
at = "lines"
send = 'flow 12.5\\n'
expect = 'got: flow {flow:number}\\n'
[[exchange]]
name = "what nobody answers"
at = "cable"
send = "x"
expect = "y"
within_s = 0.1
[[exchange]]
at = "lines"
send = 'again {flow}\\n'
expect = "12.5"
"""


@pytest.fixture
def sheet(tmp_path):
    path = tmp_path / "rig.toml"
    path.write_text(SHEET)
    return path


def test_a_matrix_of_the_sheet_is_run_told_written_and_drawn(shell, sheet, tmp_path):
    files = {name: tmp_path / name for name in ("runs.xml", "runs.csv", "runs.png")}
    options = ["--junit", files["runs.xml"], "--csv", files["runs.csv"], "--figure", "matrix", "-o", files["runs.png"]]
    status, out, err = shell("loopback", sheet, "stand-in:echo", *options)
    assert (status, "Verdict: pass: all 4 runs passed" in out) == (0, True)
    assert "All runs pass up to 57,600 baud." in out
    assert "4 runs written to" in err
    suite = ET.parse(files["runs.xml"]).getroot()[0]
    assert (suite.get("tests"), suite.get("failures")) == ("4", "0")
    assert [case.get("name") for case in suite][:2] == ["9600 8E1 counting", "9600 8E1 prbs-9"]
    rows = list(csv.DictReader(files["runs.csv"].read_text().splitlines()))
    assert [(row["line"], row["received"], row["verdict"]) for row in rows][3] == ("57600 8E1", "600", "pass")
    assert files["runs.png"].read_bytes().startswith(b"\x89PNG")


def test_runs_that_fail_are_told_and_options_go_before_the_sheet(shell, sheet, tmp_path):
    options = ["--pattern", "random", "--characters", 5000, "--baud", 57600, "--block", 100, "--block", 500]
    status, out, _ = shell("loopback", sheet, "cable", *options, "--json", "--junit", tmp_path / "runs.xml")
    found = json.loads(out)
    assert (status, found["verdict"], found["fastest_baud"], len(found["runs"])) == (1, "fail", None, 2)
    first = found["runs"][0]
    assert first["failures"] == [f"{first['lost']} lost"]
    assert first["sent"] - first["lost"] == first["received"]
    failure = ET.parse(tmp_path / "runs.xml").getroot()[0][0][0]
    assert failure.get("message") == first["failures"][0]
    assert "First difference at character" in failure.text
    status, out, _ = shell("loopback", sheet, "cable", *options)
    assert "The first that fails, 57600 8E1 random blocks of 100:" in out


def test_a_receive_path_at_the_far_end_is_told_of(shell, sheet):
    status, _, err = shell("loopback", sheet, "small", "--baud", 57600, "--pattern", "random", "--characters", 2000)
    assert status == 1
    assert "in the receive path of the far end:" in err
    assert "dropped" in err


def test_files_and_frames_go_side_by_side_and_settings_said_go_before_those_of_a_port(shell, sheet, tmp_path):
    (tmp_path / "log.txt").write_bytes(b"flow 12.5\n")
    sheet.write_text(
        SHEET.replace(
            'patterns = ["counting", "prbs-9"]', 'patterns = ["frames", "file"]\nframe = "status"\nfile = "log.txt"'
        )
    )
    _, out, _ = shell("loopback", sheet, "lines", "--line", "9600 7E1", "--json", "--baud", 9600, "--format", "8N1")
    found = json.loads(out)["runs"]
    assert [one["line"] for one in found] == ["9600 8N1"] * 2
    assert [one["first_difference"]["sent"][:11] for one in found] == ["d7 4b 00 00", "66 6c 6f 77"]
    _, out, _ = shell("loopback", sheet, "cable", "--line", "19200 7E1", "--pattern", "counting", "--json")
    assert [one["line"] for one in json.loads(out)["runs"]] == ["19200 7E1"]


@pytest.mark.parametrize(
    ("options", "found"),
    [
        (["stand-in:echo", "--frame", "status"], "pattern frames"),
        (["stand-in:altered-echo", "--expect", "altered"], "2 runs passed"),
        (["stand-in:altered-echo", "--expect", "altered", "--xor", "0x5A"], "2 of 2 runs failed"),
        (["stand-in:echo", "--pattern", "runs", "--format", "9N1", "--for", "0.2"], "returned unchanged"),
        (["stand-in:echo", "stand-in:echo"], "4 of 4 runs failed"),  # each hears but itself
        (["stand-in:echo", "--tolerance"], "it still passes with this end's clock"),
        (["stand-in:echo", "--pattern", "prbs-9", "--only-receive"], "no sequence was found"),
    ],
)
def test_ways_to_run_it(shell, sheet, options, found):
    ports = [one for one in options if one.startswith("stand-in")]
    _, out, _ = shell("loopback", sheet, *ports, *options[len(ports) :], "--baud", 57600, "--characters", 300)
    assert found in " ".join(out.split())


@pytest.mark.parametrize(
    ("arguments", "found"),
    [
        ("stand-in:echo --limit 0", "--limit is 0.0. It must be more than 0"),
        ("stand-in:echo --format 8X1", "must be data bits (5 to 9)"),
        (
            "stand-in:echo --pattern lines --format 9N1",
            "pattern lines at 115200 9N1 sends lines of text, which need 7 or 8",
        ),
        ("stand-in:echo --xor 5", "must go with --expect altered"),
        ("stand-in:echo --expect altered --xor five", '--xor is "five"'),
        ("stand-in:echo --figure matrix", "-o FILE is missing"),
        ("stand-in:echo --figure matrix -o runs.xyz", 'runs.xyz ends in ".xyz". It must end in .png, .svg, .pdf'),
        ("stand-in:echo --tolerance --junit runs.xml", "--tolerance makes no --junit"),
        ("stand-in:echo --one-way", "--one-way is of two ports"),
        ("stand-in:echo --frame status", 'frame "status" is not on the sheet'),
        ("stand-in:echo --only-receive", "needs a pattern of prbs-7 to prbs-31"),
    ],
)
def test_what_cannot_be_run_says_why(shell, arguments, found):
    status, _, err = shell("loopback", *arguments.split())
    assert status == 2
    assert found in " ".join(err.split())


def test_a_dialogue_is_told_step_by_step(shell, sheet, tmp_path):
    status, out, _ = shell("dialogue", sheet, "--junit", tmp_path / "steps.xml")
    assert status == 1
    rows = [" ".join(row.split()) for row in out.splitlines()]
    assert rows[2].startswith(r"1 flow 12.5\n pass")
    assert rows[2].endswith("1 flow = 12.5")
    assert "Step 2, what nobody answers: nothing fits within 100 ms" in rows
    assert "Verdict: fail: 1 pass, 1 fail, 1 skipped" in rows
    cases = ET.parse(tmp_path / "steps.xml").getroot()[0]
    assert [[child.tag for child in case] for case in cases] == [["system-out"], ["failure"], ["skipped"]]
    status, out, _ = shell("dialogue", sheet, "cable=stand-in:line-answerer", "--go-on", "--json")
    found = json.loads(out)
    assert [one["outcome"] for one in found["steps"]] == ["pass", "fail", "pass"]
    assert found["values"] == {"flow": "12.5"}


def test_a_port_that_no_step_uses_is_refused(shell, rig_files):
    """It would pass against the port of the sheet instead."""
    status, out, err = shell("dialogue", rig_files["sheet"], "stand-in:echo")
    assert (status, out) == (2, "")
    assert "stand-in:echo is not used: each step names its port" in err
    assert "Write pump=stand-in:echo" in err


def test_a_sheet_tells_what_its_exchanges_cannot_mean(shell, tmp_path):
    path = tmp_path / "rig.toml"
    path.write_text(
        'sheet = 1\n[wire.a]\n[loopback]\npatterns = ["frames"]\n[[exchange]]\nsend_frame = "f"\nwithin_s = 0\n'
    )
    status, _, err = shell("dialogue", path)
    assert status == 2
    for found in ("3 mistakes", "exchange[0].send_frame", "is not on this sheet, which has no [frame.*]", "loopback",
                 "must name a frame if, and only if, patterns holds frames", "exchange[0].within_s"):  # fmt: skip
        assert found in err
