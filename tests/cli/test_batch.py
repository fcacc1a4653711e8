"""``batch``: many captures at the command."""

import json
import os
import re
import signal
import subprocess
import sys
import time
from xml.etree import ElementTree as ET

import pytest

from larkreader.demo.campaign import make_runs, write_campaign

BUILDS = ("1.2", "1.3")


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("batch")
    return write_campaign(folder, make_runs(builds=BUILDS))


@pytest.fixture
def kept(files, tmp_path, shell):
    store = tmp_path / "kept.sqlite"
    status, _, err = shell("batch", files["sheet"], files["captures"], "--store", store)
    assert status == 1
    assert "now try: larkreader batch --store" in err
    return store


def test_the_overview_shows_what_stands_out(files, shell):
    status, out, _ = shell("batch", files["sheet"], files["captures"])
    assert status == 1
    assert re.match(r"72 captures: \d+ clean, \d+ faults\n", out)
    flat = " ".join(out.split())
    assert "overflow goes with build 1.3" in flat
    assert "clock error of from_pump with board 5 rises with temperature" in flat
    assert re.search(
        r"it reaches \+4.14 %, where a receiver with an exact clock misreads, at temperature 7\d\.\d+ ± ", flat
    )
    assert re.search(r"Policy: fail; \d+ of 72 captures fail", flat)
    assert max(map(len, out.splitlines())) <= 80


def test_each_question_is_answered_from_the_store(kept, shell):
    for show, expected in (
        (["verdicts", "--by", "build,source"], r"1\.3 +firmware"),
        (["kinds", "--by", "build"], r"overflow +from_pump +- +\d"),
        (
            ["trends"],
            r"With temperature, from 5 to 45:\n(.*\n)+from_pump +clock error +board 5 +-1.\d+ % +\+1.\d+ % +7\d",
        ),
        (["trends", "--over", "temperature", "--by", "board"], "board 5"),
        (["odd"], "all with board 5"),
        (["errors"], "Every capture was read."),
    ):
        status, out, _ = shell("batch", "--store", kept, "--show", *show)
        assert status == 1
        assert re.search(expected, out), show


def test_a_store_is_resumed_or_replaced_when_asked(kept, files, shell):
    given = ("batch", files["sheet"], files["captures"], "--store", kept)
    status, _, err = shell(*given)
    assert (status, "Add --resume to read what is new" in err) == (2, True)
    assert shell(*given, "--resume")[0] == 1
    assert shell(*given, "--replace")[0] == 1
    assert shell("batch", files["sheet"], files["captures"], "--store", files["captures"], "--replace")[0] == 2
    assert files["captures"].exists()  # what is not a store is not removed


def test_against_a_baseline(files, tmp_path, shell):
    before = tmp_path / "before.sqlite"
    folder = files["sheet"].parent
    old, new = (folder / "board-*" / f"build-{build}" / "*" for build in ("1.2", "1.3"))
    assert shell("batch", files["sheet"], old, "--store", before)[0] == 0
    status, out, _ = shell("batch", files["sheet"], new, "--baseline", before, "--show", "changes")
    assert status == 1
    assert re.search(r"overflow +from_pump +new\?? ", out)
    other = tmp_path / "other.toml"
    other.write_text(files["sheet"].read_text(encoding="utf-8").replace("57_600", "57_601"), encoding="utf-8")
    assert "against another sheet" in shell("batch", other, new, "--baseline", before)[2]
    status, out, err = shell("batch", files["sheet"], new, "--baseline", before, "--json")
    assert "against another sheet" not in err
    document = json.loads(out)
    assert [(item["kind"], item["state"]) for item in document["changes"]] == [("overflow", "new")]


def test_documents_for_build_servers_and_people(kept, files, tmp_path, shell):
    page, junit, summary = tmp_path / "page.html", tmp_path / "cases.xml", tmp_path / "summary.md"
    outputs = ("--report", page, "--junit", junit, "--markdown", summary, "--by", "build", "--json")
    status, out, _ = shell("batch", files["sheet"], "--store", kept, *outputs)
    document = json.loads(out)
    assert (status, document["policy"]["verdict"], document["captures"]) == (1, "fail", 72)
    failed = len(document["policy"]["failed"])
    assert 0 < failed == document["verdicts"]["faults"]
    suite = ET.parse(junit).getroot()
    assert (suite.get("tests"), suite.get("failures")) == ("72", str(failed))
    assert "overflow" in suite.find(".//failure").get("message")
    assert summary.read_text(encoding="utf-8").startswith("## 72 captures read against")
    assert "| 1.3 |" in summary.read_text(encoding="utf-8")
    text = page.read_text(encoding="utf-8")
    links = set(re.findall(r'href="(page_captures/[^"]+)"', text))
    assert len(links) == failed + 1  # and the capture at the end of the drift
    assert all((tmp_path / link).read_text(encoding="utf-8").startswith("<!DOCTYPE html>") for link in links)
    assert text.index("overflow goes with build 1.3") < text.index('<h2 id="kinds">') < text.index('<h2 id="failed">')
    assert text.count("<svg") == 3  # findings by build and by where they were seen, and the drift
    assert "<script" not in text


def test_figures_are_drawn(kept, tmp_path, shell):
    for show in (["kinds", "--by", "build"], ["trends"]):
        picture = tmp_path / f"{show[0]}.png"
        assert shell("batch", "--store", kept, "--show", *show, "--figure", picture)[0] == 1
        assert picture.read_bytes().startswith(b"\x89PNG")


def test_the_policy_of_the_sheet_decides_the_exit_status(files, kept, tmp_path, shell):
    sheet = tmp_path / "sheet.toml"
    known = (
        '\n[[policy.known]]\nkind = "overflow"\nlabels = { build = "1.3" }\nuntil = {until}\nreason = "small buffer"\n'
    )
    text = files["sheet"].read_text(encoding="utf-8")
    for until, expected in (("2999-01-01", 0), ("2020-01-01", 1)):
        sheet.write_text(text + known.replace("{until}", until), encoding="utf-8")
        status, out, _ = shell("batch", sheet, "--store", kept)
        assert status == expected
        assert ("is allowed: known: small buffer" in out) == (expected == 0)
    sheet.write_text(text + '\n[policy]\nfail = "overflw"\n', encoding="utf-8")
    status, _, err = shell("batch", sheet, "--store", kept)
    assert (status, 'Did you mean "overflow"' in err) == (2, True)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        ((), "CAPTURES are missing"),
        (("campaign.toml",), "Write larkreader batch campaign.toml CAPTURES"),
        (("campaign.toml", "captures.csv", "--resume"), "must go with --store"),
        (("campaign.toml", "captures.csv", "--store", "x.sqlite", "--resume", "--replace"), "exclude each other"),
        (("campaign.toml", "captures.csv", "--show", "changes"), "must go with --baseline"),
        (("campaign.toml", "captures.csv", "--figure", "x.png"), "must go with --show kinds"),
        (("campaign.toml", "captures.csv", "--report", "nowhere/x.html"), "there is no folder nowhere"),
        (("campaign.toml", "nowhere*"), "matches no file"),
        (("campaign.toml", "captures.csv", "--by", "bord", "--show", "kinds"), 'Did you mean "board"'),
        (("--store", "nothing.sqlite"), "is not there"),
        (("--store", "campaign.toml"), "is not a store"),
        (("campaign.toml", "captures.csv", "--cluster", "nowhere"), "--cluster"),
        (("campaign.toml", "captures.csv", "--cluster", "nowhere", "--workers", "2"), "exclude each other"),
        (("campaign.toml", "captures.csv", "--over", "temperature"), "must go with --show trends"),
        (("campaign.toml", "captures.csv", "--by", "board", "--show", "odd"), "goes with --show odd"),
        (("campaign.toml", "captures.csv", "--by", "board,build", "--show", "kinds"), "takes a single label"),
        (("--store", "nothing.sqlite", "--labels", "{x}"), "A store has what was read"),
        (("--store", "nothing.sqlite", "--rate", "1M"), "--rate reads nothing"),
    ],
)
def test_what_cannot_be_done_is_refused(files, arguments, message, shell, monkeypatch):
    monkeypatch.chdir(files["sheet"].parent)
    status, out, err = shell("batch", *arguments)
    assert (status, out) == (2, "")
    assert message in err


def test_a_file_that_cannot_be_read_is_shown_and_fails(files, tmp_path, shell):
    (tmp_path / "bad.vcd").write_text("not a capture")
    (tmp_path / "good.vcd").write_bytes(next(files["sheet"].parent.rglob("25C-wire.vcd")).read_bytes())
    status, out, _ = shell("batch", files["sheet"], tmp_path)
    assert status == 1
    assert "2 captures: 1 clean, 1 not read" in out
    assert "comparing takes 8 captures, and 1 could be read" in " ".join(out.split())
    assert "is not a VCD file" in " ".join(out.split())


@pytest.mark.skipif(os.name == "nt", reason="signals of another kind")
def test_an_interrupt_ends_it_and_keeps_what_is_done(files, tmp_path):
    (tmp_path / "runs").mkdir()
    content = next(files["sheet"].parent.rglob("build-1.2/25C-firmware.jsonl")).read_bytes()
    for number in range(1500):
        (tmp_path / "runs" / f"{number}.jsonl").write_bytes(content)
    store = tmp_path / "kept.sqlite"
    command = [sys.executable, "-m", "larkreader", "batch", files["sheet"], tmp_path / "runs", "--store", store]
    with subprocess.Popen(
        [*command, "--workers", "2"], stderr=subprocess.PIPE, text=True, start_new_session=True
    ) as process:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline and not (store.exists() and store.stat().st_size > 100_000):
            time.sleep(0.05)
        os.killpg(process.pid, signal.SIGINT)
        _, err = process.communicate(timeout=60)
    assert process.returncode == 130
    assert err.strip() == "larkreader: interrupted"
    again = subprocess.run([*command, "--resume", "--json"], capture_output=True, text=True, check=False)
    assert again.returncode == 0, again.stderr
    assert json.loads(again.stdout)["verdicts"]["clean"] == 1500
