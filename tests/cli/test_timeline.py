"""The timeline by command: text narrow and wide, JSON, CSV, pictures, and what cannot be done."""

import csv
import json
import os
import subprocess
import sys

import pytest

from larkreader.demo.service import ASKED, make_service

SERVICE = make_service()
COUNTS = {one.kind: one.count for one in SERVICE.injected}


@pytest.fixture
def files(rig_files):
    folder = rig_files["sheet"].parent
    return folder / "service.toml", folder / "service.vcd"


def test_two_columns_say_who_spoke_when_and_what_answers_what(shell, files):
    """Narrow as wide: each wire's messages stand in its own column, the pairs at the end."""
    status, out, _ = shell("timeline", *files, "--from", 3.7, "--to", 3.82)
    assert status == 1
    lines = out.splitlines()
    head = lines[0]
    columns = {name: head.index(name) for name in ("to_pump", "from_pump", "pair")}
    rows = [line for line in lines if line.startswith("3.")]
    assert [row[columns["pair"] :].split(",")[0].strip() for row in rows] == [
        "#40 asks", "#41 again: no reply", "#40 late", "#42 again", "#42 after 8.71 ms"]  # fmt: skip
    for row, wire in zip(rows, ("to_pump", "to_pump", "from_pump", "to_pump", "from_pump"), strict=True):
        asks = "ask" if wire == "to_pump" else "answer"
        assert row[columns[wire] :].startswith(f"{asks} number=37")
    assert rows[2].split()[1] == "overlaps"
    assert max(map(len, lines)) <= 80
    assert f"value        {ASKED + 5}        48     3        1         3         5        1" in out


def test_json_has_every_message_and_every_pair(shell, files):
    document = json.loads(shell("timeline", *files, "--json")[1])
    assert (document["times"], document["verdict"]) == ("exact", "faults")
    messages, pairs = document["messages"], document["pairs"]["value"]
    assert len(messages) == sum(one["is"] in ("ask", "answer") for one in messages) == 2 * ASKED + 5 + 3
    assert [one["begin_s"] for one in messages] == sorted(one["begin_s"] for one in messages)
    assert (pairs["unanswered"], pairs["late"], pairs["repeated"], pairs["unasked"]) == (
        COUNTS["unanswered-request"], COUNTS["late-reply"], COUNTS["repeated-request"], COUNTS["unasked-reply"])  # fmt: skip
    assert sum(one["count"] for one in pairs["latency"]["histogram"]) == pairs["latency"]["count"]
    assert sum(one.get("collides", False) for one in messages) == COUNTS["collision"]
    asked = [part for one in messages for part in one.get("pairs", ()) if part["role"] == "request"]
    assert [part["number"] for part in asked] == list(range(pairs["requests"]))


def test_only_what_is_wrong_has_every_place_that_was_injected(shell, files):
    document = json.loads(shell("timeline", *files, "--json", "--only-wrong")[1])
    shown = {(one["wire"], one["offset"]) for one in document["messages"]}
    on_messages = (
        "unanswered-request",
        "damaged-reply",
        "late-reply",
        "repeated-request",
        "unasked-reply",
        "collision",
    )
    wanted = {(one.wire, one.offset) for one in SERVICE.injected if one.kind in on_messages}
    assert wanted <= shown
    assert len(document["messages"]) < 30


def test_messages_go_into_a_table(shell, files, tmp_path):
    target = tmp_path / "messages.csv"
    status, out, err = shell("timeline", *files, "--messages", target, "--count", 0)
    assert (status, "written to" in err, "at s" in out) == (1, True, False)
    with target.open(newline="") as file:
        rows = list(csv.DictReader(file))
    times = [float(row["begin_s"]) for row in rows]
    assert times == sorted(times)
    requests = [row for row in rows if row["role"] == "request"]
    assert len(requests) == ASKED + 5
    assert sum(row["state"] == "unanswered" for row in requests) == COUNTS["unanswered-request"]
    took = sorted(float(row["latency_s"]) for row in rows if row["role"] == "reply" and row["state"] != "damaged-reply")
    assert took == pytest.approx(sorted(SERVICE.latencies_s), abs=2e-9)
    assert sum(row["pair"] == "" for row in rows) == COUNTS["unasked-reply"]


def test_parts_are_compared_before_and_after_a_time(shell, files):
    """Every request is counted on one side."""
    _, out, _ = shell("timeline", *files, "--count", 0, "--moved-at", 3)
    row = next(line for line in out.splitlines() if line.startswith("request on the wire"))
    before, after = int(row.split()[4]), int(row.split()[7])
    assert before + after == ASKED + 5
    assert before == sum(one.begin_s < 3 for one in _requests(shell, files))


def _requests(shell, files):
    document = json.loads(shell("timeline", *files, "--json")[1])
    return [type("Request", (), one) for one in document["messages"] if one["is"] == "ask"]


def test_one_wire_has_no_pairs_and_bytes_have_no_timeline(shell, files, rig_files, tmp_path):
    sheet = tmp_path / "one.toml"
    sheet.write_text(
        'sheet = 1\n[line]\nbaud = 38400\nformat = "8E1"\n[wire.a]\nsignal = "rig.pump_tx"\n', encoding="utf-8"
    )
    status, out, _ = shell("timeline", sheet, files[1], "--count", 2)
    assert (status, "pair" in out) == (0, False)
    for arguments, found in (
        ([rig_files["sheet"], rig_files["delivered"], "--kind", "bytes"], "several"),
        ([sheet, rig_files["delivered"]], "has no times"),
        ([sheet, files[1], "--moved-at", 1], "cycle need [pair.NAME] on the sheet"),
        ([sheet, files[1], "--from", 99, "-o", tmp_path / "a.png"], "no message to show"),
        ([sheet, files[1], "-o", tmp_path / "a.gif"], "must end in"),
    ):
        status, _, err = shell("timeline", *arguments)
        assert (status, found in err) == (2, True), err
    assert "Nothing to show." in shell("timeline", sheet, files[1], "--from", 99)[1]


def test_a_terminal_that_has_only_ascii_gets_only_ascii(files, tmp_path):
    """Also where the sheet has other letters: the nearest in ASCII, or their numbers."""
    sheet = tmp_path / "ascii.toml"
    text = (
        files[0]
        .read_text(encoding="utf-8")
        .replace("[pair.value]", '[pair."Düse"]')
        .replace('title = "', 'title = "µ ')
    )
    sheet.write_text(text, encoding="utf-8")
    environment = {**os.environ, "PYTHONIOENCODING": "ascii", "COLUMNS": "100"}
    for command in ("timeline", "decode"):
        done = subprocess.run([sys.executable, "-m", "larkreader", command, sheet, files[1]], capture_output=True, env=environment,
                              check=False)  # fmt: skip
        assert done.returncode == 1, done.stderr.decode()
        assert done.stdout.isascii()
        assert (b"D\\xfcse" if command == "timeline" else b": u Dosing rig") in done.stdout
