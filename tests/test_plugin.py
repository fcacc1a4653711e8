"""The pytest plugin, in test suites of its own."""

import subprocess
import sys
from xml.etree import ElementTree as ET

import pytest

import larkreader as lr
from larkreader.capture.files.open import open_every_wire
from larkreader.testing import check, check_same

SUITE = """
import larkreader as lr
import pytest
from larkreader.testing import check

def test_echo(larkreader_port):
    check(lr.run_loopback(larkreader_port, lr.LoopbackPlan(characters=300)))

def test_it_loses_one(larkreader_simulated_line):
    port = larkreader_simulated_line(lambda data: data.replace(b"\\x12", b""))
    port.write(bytes(range(40)))
    assert port.read(40, 1.0).data == bytes(range(40))

@pytest.mark.larkreader(port="stand-in:line-answerer")
def test_dialogue(larkreader_port):
    check(lr.run_dialogue(larkreader_port, [lr.Exchange(send="flow 1\\\\n", expect="git: flow {x:number}")]))

@pytest.mark.larkreader(sheet="rig.toml", port="pump")
def test_named_by_the_sheet(larkreader_sheet, larkreader_port):
    assert larkreader_port.line == larkreader_sheet.line_of("pump")
"""


def run_pytest(folder, *options):
    alone = ["-p", "no:cacheprovider", "-p", "no:hypothesispytest", "-p", "no:xdist"]
    command = [sys.executable, "-m", "pytest", "-q", *alone, *options]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    return done.returncode, done.stdout


def cases(path):
    return ET.fromstring(path.read_bytes()).iter("testcase")


@pytest.fixture
def suite(tmp_path):
    (tmp_path / "test_firmware.py").write_text(SUITE)
    sheet = 'sheet = 1\n[wire.a]\nline = { baud = 19_200 }\n[port.pump]\nat = "stand-in:echo"\nwire = "a"\n'
    (tmp_path / "rig.toml").write_text(sheet)
    return tmp_path


def test_failures_show_the_difference_and_keep_their_recordings(suite):
    status, found = run_pytest(suite, "--larkreader-port", "stand-in:echo", "--strict-markers", "--junit-xml=junit.xml")
    assert status == 1
    assert "2 failed, 2 passed" in found
    assert "received 39 of 40 bytes: 1 lost" in found
    assert "first difference at 18:" in found
    assert "10 11 13 14 15" in found
    assert 'expected  "git: flow {x:number}"' in found
    kept = sorted((suite / "larkreader-recordings").iterdir())
    assert [one.name for one in kept] == [
        "test_firmware.py-test_dialogue.jsonl",
        "test_firmware.py-test_it_loses_one.jsonl",
    ]
    assert all(f"what passed is kept in {one}" in found for one in kept)
    named = {
        case.get("name"): case.find(".//property[@name='larkreader_recording']") for case in cases(suite / "junit.xml")
    }
    assert {name: one.get("value") for name, one in named.items() if one is not None} == {
        "test_dialogue": str(kept[0]),
        "test_it_loses_one": str(kept[1]),
    }
    passed = open_every_wire(kept[1], kind="recording")
    assert passed["in"].value.tolist() == [*range(0x12), *range(0x13, 40)]


def test_settings_come_from_the_project_and_without_any_a_test_is_skipped(suite):
    status, found = run_pytest(suite, "-k", "echo", "-rs")
    assert "1 skipped" in found
    assert "give --larkreader-port PORT" in found
    (suite / "pyproject.toml").write_text('[tool.pytest.ini_options]\nlarkreader_port = "stand-in:echo"\n')
    status, found = run_pytest(suite, "-k", "echo")
    assert (status, "1 passed" in found) == (0, True)
    assert not (suite / "larkreader-recordings").exists()


def test_checks_say_what_went_wrong():
    check_same(b"abc", b"abc")
    with pytest.raises(
        AssertionError, match=r"received 4 of 3 bytes: 1 extra, 1 of them doubled\nfirst difference at 2:"
    ):
        check_same(b"abbc", b"abc")
    port = lr.SimulatedPort(lr.LineSettings(), lambda data: data[:-1])
    with pytest.raises(AssertionError, match="loopback, 115200 8N1 counting: 1 lost"):
        check(lr.run_loopback(port, lr.LoopbackPlan(characters=100)))
