"""What build servers are given: test cases, annotations, and documents whose form is published."""

import json
import re
from xml.etree import ElementTree as ET

import jsonschema
import pytest

import larkreader as lr
from larkreader.cli.schema import DOCUMENTS
from larkreader.present.documents.schemas import FORMATS, document_schema


def cases(path):
    return {case.get("name"): case for case in ET.fromstring(path.read_bytes()).iter("testcase")}


def test_findings_fail_what_is_proven_passes_and_the_rest_is_skipped(shell, rig_files, tmp_path):
    junit = tmp_path / "decode.xml"
    status, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--junit", junit)
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    found = cases(junit)
    suite = ET.fromstring(junit.read_bytes()).find("testsuite")
    errors = [one for one in reading.findings if one.severity == "error"]
    assert (status, int(suite.get("failures"))) == (1, len(errors))
    assert "Verdict: faults" in out
    failure = found["parity-error on from_pump"].find("failure")
    assert failure.get("message").startswith("4 parity errors in 3,185 characters")
    assert "look for noise" in failure.text
    assert found["no frame missing by its counter: setpoint"].find("*") is None
    assert found["missing frames, as there is no counter and no period: alarm"].find("skipped") is not None
    assert found["break on from_pump"].find("failure") is None  # a warning
    assert shell("plan", rig_files["sheet"], "--junit", junit)[0] == 0
    assert list(cases(junit)) == ["no finding"]
    shell("diagnose", rig_files["capture"], rig_files["sheet"], "--junit", junit)
    assert "overflow on from_pump" in cases(junit) or "as-declared on from_pump" in cases(junit)


def test_annotations_point_to_the_line_of_the_sheet(shell, rig_files):
    """In the form that GitHub documents: what would end a property or a message is written by its number."""
    sheet = rig_files["sheet"]
    status, out, _ = shell("decode", sheet, rig_files["capture"], "--annotations", "github")
    lines = sheet.read_text().splitlines()
    form = re.compile(r"::(error|warning|notice) file=([^,]+),line=(\d+),title=([^:,]+)::(.+)")
    found = [form.fullmatch(line) for line in out.splitlines()]
    assert status == 1
    assert all(found)
    for one in found:
        table = lines[int(one[3]) - 1]
        assert table.startswith(("[wire.", "[frame.", "[pair.", "[receive.")), table
    assert "(0.126 %25)" in found[0][5]
    assert {one[2] for one in found} == {str(sheet).replace("\\", "/").replace(":", "%3A")}


def test_a_code_quality_report_has_what_gitlab_asks_for(shell, rig_files):
    """Its fingerprints stay the same where only numbers differ, and differ otherwise."""
    _, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--annotations", "gitlab")
    report = json.loads(out)
    wanted = {"description": str, "check_name": str, "fingerprint": str, "severity": str, "location": dict}
    assert all({name: type(one[name]) for name in wanted} == wanted for one in report)
    assert {one["severity"] for one in report} <= {"info", "minor", "major"}
    assert len({one["fingerprint"] for one in report}) == len(report)
    assert all(one["location"]["lines"]["begin"] >= 1 for one in report)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("decode", "rig.toml", "rig.vcd", "--annotations", "github", "--json"), "must stand alone"),
        (("decode", "rig.toml", "rig.vcd", "--junit", "nowhere/x.xml"), "there is no folder nowhere"),
        (("plan", "--clock", "10M", "--line", "9600 8N1", "--annotations", "github"), "does not go with --clock"),
        (("diagnose", "stand-in:echo", "--annotations", "github"), "go with a capture"),
    ],
)
def test_what_cannot_be_given_is_refused_before_any_work(shell, rig_files, monkeypatch, arguments, message):
    monkeypatch.chdir(rig_files["sheet"].parent)
    status, _, err = shell(*arguments)
    assert (status, message in err) == (2, True)


@pytest.mark.parametrize("kind", sorted(FORMATS))
def test_the_schema_of_every_document_is_published(shell, kind):
    """That each document is as its schema says is checked wherever a test has one printed."""
    status, out, _ = shell("schema", "--of", kind)
    schema = json.loads(out)
    jsonschema.Draft202012Validator.check_schema(schema)
    assert (status, schema) == (0, document_schema(kind))
    assert schema["properties"]["document"] == {"const": kind}
    assert not jsonschema.Draft202012Validator(schema).is_valid({"document": kind, "format": 2})


def test_the_command_offers_every_schema():
    assert set(DOCUMENTS) == set(FORMATS)


@pytest.mark.parametrize(
    "arguments",
    [
        ("plan", "--clock", "10M", "--line", "38400 8N1"),
        ("diagnose", "rig.vcd"),
        ("diagnose", "rig.vcd", "rig.toml"),
        ("diagnose", "delivered.bin", "rig.toml", "--wire", "from_pump", "--kind", "bytes"),
        ("diagnose", "stand-in:echo", "--flow-probe"),
        ("loopback", "stand-in:echo", "--tolerance"),
        ("dialogue", "rig.toml", "pump=stand-in:pump"),
        ("timeline", "service.toml", "service.vcd"),
        ("plan", "history.toml"),
        ("decode", "history_paused.toml", "history_paused.vcd"),
        ("decode", "rig.toml", "rig.vcd", "--bytes"),
        ("decode", "rig.toml", "rig.vcd", "--explain", "7"),
        ("layout", "rig.toml"),
        ("ports",),
    ],
)
def test_documents_of_the_demo_are_as_their_schemas_say(shell, rig_files, monkeypatch, arguments):
    monkeypatch.chdir(rig_files["sheet"].parent)
    status, out, err = shell(*arguments, "--json")
    assert (status in (0, 1), out.startswith('{\n  "document": "')) == (True, True), err
