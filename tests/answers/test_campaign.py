"""Many captures read against one sheet: which are read, by whom, where the rows go, and what they show together."""

import json
import multiprocessing
import os
import pickle
import signal
import sqlite3
import struct
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import larkreader as lr
from larkreader.answers import CaptureFileOf, apply_policy, find_captures, open_store
from larkreader.answers.campaign import run as running
from larkreader.answers.campaign.tables import TABLES, names_of
from larkreader.capture.files.rolled_recording import RolledRecording
from larkreader.cli import run
from larkreader.demo.campaign import BROKEN_BUILD, DRIFT_PPM, DRIFTING_BOARD, make_runs, write_campaign

from lethal import die_at_deadly, die_once, give_up_deadly  # isort: skip

FIELD = {"name": "flow", "type": "uint8", "range": [0, 100]}
SHEET = lr.Sheet(
    wire={"pump": {}},
    frame={"status": {"boundary": {"kind": "marker", "marker": "D7"}, "fields": [FIELD]}},
)
TIMED = {"read_s"}  # columns that differ from run to run


def frames(*values):
    return b"".join(bytes([0xD7, value]) for value in values)


def captures_in(folder, count=30, odd=()):
    for number in range(count):
        (folder / f"run{number}.bin").write_bytes(frames(5, *[200 if number in odd else 5] * 19))
    return folder


def sheet_file(folder):
    """Write the sheet as a file; return its path."""
    path = folder / "sheet.toml"
    path.write_text(
        'sheet = 1\n[wire.pump]\n[frame.status]\nboundary = { kind = "marker", marker = "D7" }\n'
        'fields = [{ name = "flow", type = "uint8", range = [0, 100] }]\n'
    )
    return path


def rows_of(campaign):
    """Every row of a campaign, without what differs from run to run."""
    return {
        table: [
            tuple(value for name, value in zip(names_of(table), row, strict=True) if name not in TIMED)
            for row in campaign._store.rows(table)
        ]
        for table in TABLES
    }


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    folder = tmp_path_factory.mktemp("campaign")
    files = write_campaign(folder)
    with lr.read_many(files["sheet"], files["captures"], workers=1) as campaign:
        yield campaign, files


# which captures


def test_captures_are_found_by_file_folder_pattern_and_list(tmp_path):
    for name in ("b10/x.vcd", "b9/x.vcd", "b9/notes.md", "b9/.hidden.vcd", ".git/y.vcd"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text("$end")
    (tmp_path / "list.csv").write_text("\ufeffcapture;board;build\nb9/x.vcd;9;1.2\n\nb10/x.vcd;10;\n", encoding="utf-8")

    def short(*named, **options):
        return [
            (Path(item.path).relative_to(tmp_path).as_posix(), dict(item.labels))
            for item in find_captures(named, **options)
        ]

    nine, ten = "b9/x.vcd", "b10/x.vcd"
    assert short(tmp_path) == [(nine, {}), (ten, {})]  # 9 before 10; the list and hidden files are no captures
    assert short(tmp_path / "b*" / "*.vcd") == [(nine, {}), (ten, {})]
    assert short(str(tmp_path / "**" / "x.vcd"), labels="b{board}/*") == [
        (nine, {"board": "9"}),
        (ten, {"board": "10"}),
    ]
    assert short(tmp_path / "list.csv") == [(nine, {"board": "9", "build": "1.2"}), (ten, {"board": "10"})]
    both = short(tmp_path / nine, tmp_path / "list.csv", CaptureFileOf(str(tmp_path / nine), {"build": "1.3"}))
    assert both == [(nine, {"board": "9", "build": "1.3"}), (ten, {"board": "10"})]  # once, the last label counts


@pytest.mark.parametrize(
    ("text", "path", "labels"),
    [
        ("{board}/{temperature}C", "runs/b1/-5C.vcd", {"board": "b1", "temperature": "-5"}),
        ("{board}_{build}.csv", "b_1_2.csv", {"board": "b", "build": "1_2"}),
        ("*-{what}.*", "x/25C-wire.vcd.gz", {"what": "wire"}),
        ("run{n}", "run7", {"n": "7"}),
        ("run-{build}", "run-1.2.vcd.gz", {"build": "1.2"}),
    ],
)
def test_labels_stand_in_paths(text, path, labels):
    assert find_captures([path], labels=text) == (CaptureFileOf(path, labels),)


def test_what_names_no_capture_is_refused(tmp_path):
    (tmp_path / "empty").mkdir()
    (tmp_path / "bad.csv").write_text("capture,board\na.vcd\n")
    (tmp_path / "two.csv").write_text("capture,board,board\na.vcd,1,2\n")
    (tmp_path / "long.csv").write_text(f"capture,board\na.vcd,{'7' * 200_000}\n")
    (tmp_path / "manifest.json").write_text('{"recordings": [{"file": "../x"}]}')
    (tmp_path / "none.manifest.json").write_text(
        '{"began": "2026-05-01T20:00:00Z", "recordings": [{"file": "", "from_s": 0}]}'
    )
    for named, options, message in (
        (tmp_path / "empty", {}, "holds no capture"),
        (tmp_path / "*.vcd", {}, "matches no file"),
        (tmp_path / "bad.csv", {}, "line 2 has 1 cells"),
        (tmp_path / "two.csv", {}, "a name of its own"),
        (tmp_path / "long.csv", {}, "line 2 cannot be read: field larger than"),
        (tmp_path / "manifest.json", {}, "is not a manifest"),
        (tmp_path / "none.manifest.json", {}, 'names "". It must name files beside it'),
        ("a.vcd", {"labels": "{board}/x"}, "does not end as"),
        ("a.vcd", {"labels": "x"}, "must have each label once"),
        ("a.vcd", {"labels": "{b}{b}"}, "must have each label once"),
        ("a.vcd", {"labels": "{b"}, "must have each label once"),
    ):
        with pytest.raises(lr.LarkReaderError, match=message):
            find_captures([named], **options)
    with pytest.raises(lr.RequestError, match="must have another name"):
        lr.read_many(SHEET, [CaptureFileOf("a", {"verdict": "x"})])


def test_a_list_may_quote_what_it_names(tmp_path):
    """As RFC 4180 has it: a cell in quotes may hold the separator, and the ends of lines."""
    path = tmp_path / "list.csv"
    path.write_text('"capture","note"\n"a,b.vcd","two\nlines"\nc.vcd,7\n')
    found = find_captures([path])
    assert [(Path(item.path).name, item.labels) for item in found] == [
        ("a,b.vcd", {"note": "two\nlines"}),
        ("c.vcd", {"note": "7"}),
    ]


def test_recordings_of_a_long_session_are_a_series(tmp_path):
    """30 frames, one a second, in files of 10 s: what each holds, and where it stands in the session."""
    with RolledRecording(
        tmp_path / "night.jsonl", "2026-05-01T20:00:00.000Z", {"pump": {"port": "x"}}, most_s=10
    ) as rolled:
        for second in range(30):
            rolled.add(float(second), "pump", frames(200 if second == 25 else 5))
    with lr.read_many(SHEET, tmp_path, workers=1) as campaign:  # the folder has the manifest and its files: each once
        shown = campaign.captures[["series", "part", "verdict"]].to_numpy().tolist()
        assert shown == [["night-0001", "1", "clean"], ["night-0001", "2", "clean"], ["night-0001", "3", "warnings"]]
        assert campaign.captures["hour"].astype(float).to_numpy() * 3600 == pytest.approx([0, 10, 20], abs=1e-3)
        assert campaign.table("frames")["count"].sum() == 30


def test_no_frame_lies_in_two_files_of_a_series(tmp_path):
    """300 frames whose bytes arrive one by one, in files of 4 kB: every file is clean, and no frame is missing."""
    path = tmp_path / "night.jsonl"
    with RolledRecording(path, "2026-05-01T20:00:00.000Z", {"pump": {"port": "x"}}, most_bytes=4000) as rolled:
        for number in range(300):
            for place, value in enumerate(frames(5, 6, 7)):
                rolled.add(0.1 * number + 0.002 * place, "pump", bytes([value]))
    with lr.read_many(SHEET, tmp_path, workers=1) as campaign:
        assert len(campaign) > 10
        assert campaign.verdict_counts["clean"] == len(campaign)
        assert campaign.table("frames")["good"].sum() == 900
        assert campaign.captures["bytes"].max() < 4000 + 6 * 60  # a frame's lines more than wanted


# who reads them, and what is kept


def test_processes_threads_and_this_process_keep_the_same_rows(tmp_path):
    captures_in(tmp_path, 40, odd={3, 17})
    (tmp_path / "run9.bin").write_bytes(b"")  # empty: a row with its error
    with lr.read_many(SHEET, tmp_path, workers=1) as campaign:
        expected = rows_of(campaign)
        assert campaign.verdict_counts == {"clean": 37, "warnings": 2, "faults": 0, "nothing-read": 0, "not-read": 1}
        (error,) = campaign.captures["error"].dropna()
        assert "is empty" in error
    done = []
    with (
        ThreadPoolExecutor(3) as pool,
        lr.read_many(SHEET, tmp_path, executor=pool, progress=lambda *item: done.append(item)) as campaign,
    ):
        assert rows_of(campaign) == expected
    assert done[-1] == (40, 40)


def test_processes_read_what_is_much(tmp_path, monkeypatch):
    monkeypatch.setattr(running, "LITTLE", 0)
    captures_in(tmp_path, 40, odd={3})
    with lr.read_many(SHEET, tmp_path, workers=1) as one, lr.read_many(SHEET, tmp_path, workers=2) as two:
        assert rows_of(one) == rows_of(two)


def test_a_file_that_ends_its_process_is_a_row_and_others_are_read_once(tmp_path, monkeypatch):
    monkeypatch.setattr(running, "LITTLE", 0)
    monkeypatch.setattr(running, "read_task", die_at_deadly)
    captures_in(tmp_path, 40)
    (tmp_path / "run5-deadly.bin").write_bytes(frames(5))
    with lr.read_many(SHEET, tmp_path, workers=2) as campaign:
        counts = campaign.verdict_counts
        assert (counts["clean"], counts["not-read"], len(campaign)) == (40, 1, 41)
        (row,) = campaign.captures[campaign.captures["error"].notna()].to_dict("records")
        assert "deadly" in row["path"]
        assert "ended, twice" in row["error"]


def test_a_task_that_an_executor_gives_up_is_read_capture_by_capture(tmp_path, monkeypatch):
    monkeypatch.setattr(running, "read_task", give_up_deadly)
    captures_in(tmp_path, 60)
    (tmp_path / "run5-deadly.bin").write_bytes(frames(5))
    with ThreadPoolExecutor(2) as pool, lr.read_many(SHEET, tmp_path, executor=pool) as campaign:
        counts = campaign.verdict_counts
        assert (counts["clean"], counts["not-read"], len(campaign)) == (60, 1, 61)
        (row,) = campaign.captures[campaign.captures["error"].notna()].to_dict("records")
        assert "deadly" in row["path"]
        assert "gave it up: attempted on 4 workers" in row["error"]


def test_a_process_that_ends_once_loses_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(running, "LITTLE", 0)
    monkeypatch.setattr(running, "read_task", die_once)
    captures_in(tmp_path, 60)
    (tmp_path / "run7-once.bin").write_bytes(frames(5))
    with lr.read_many(SHEET, tmp_path, workers=2) as campaign:
        assert campaign.verdict_counts["clean"] == len(campaign) == 61
        assert campaign.captures["path"].is_unique


def test_a_worker_that_is_killed_loses_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(running, "LITTLE", 0)
    captures_in(tmp_path, 400)
    killed = []

    def kill(done, total):
        if not killed and done > 20:
            killed.append(multiprocessing.active_children()[0].pid)
            os.kill(killed[0], signal.SIGTERM)

    with lr.read_many(SHEET, tmp_path, workers=2, progress=kill) as campaign:
        assert killed
        assert campaign.verdict_counts["clean"] == len(campaign) == 400
        assert campaign.table("frames")["count"].sum() == 400 * 20


def test_a_cluster_reads_them_and_a_killed_worker_loses_nothing(tmp_path, capsys):
    """Two worker processes of a Dask cluster on this machine; one is killed when a part is read."""
    distributed = pytest.importorskip("distributed", reason="Dask is not installed")
    captures_in(tmp_path, 200, odd={100})
    options = {"n_workers": 2, "threads_per_worker": 1, "processes": True, "dashboard_address": None}
    with distributed.LocalCluster(**options) as cluster, distributed.Client(cluster) as client:
        pids = list(client.run(os.getpid).values())
        killed = []

        def kill(done, total):
            if not killed and done > 20:
                killed.append(pids[0])
                os.kill(pids[0], signal.SIGKILL)

        with lr.read_many(SHEET, tmp_path, executor=client.get_executor(), progress=kill) as campaign:
            assert killed
            assert campaign.verdict_counts["clean"] == 199
            read = rows_of(campaign)
        sheet = sheet_file(tmp_path)
        status = run(
            ["batch", str(sheet), str(tmp_path / "run*.bin"), "--cluster", cluster.scheduler_address, "--json"]
        )
        document = json.loads(capsys.readouterr().out)
        assert (status, document["verdicts"]["clean"], document["captures"]) == (0, 199, 200)
    with lr.read_many(SHEET, tmp_path / "run*.bin", workers=1) as campaign:
        assert rows_of(campaign) == read


def test_readings_findings_and_errors_go_from_process_to_process(rig_files):
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    again = pickle.loads(pickle.dumps(reading))
    assert again.to_dict() == reading.to_dict()
    with pytest.raises(lr.CaptureError) as caught:
        lr.read(rig_files["sheet"], rig_files["sheet"])
    assert str(pickle.loads(pickle.dumps(caught.value))) == str(caught.value)


STORES = [pytest.param("kept.sqlite", id="sqlite"), pytest.param("kept", id="parquet")]


@pytest.mark.parametrize("name", STORES)
def test_a_store_is_resumed_by_what_is_new_or_changed(tmp_path, name):
    if name == "kept":
        pytest.importorskip("pyarrow", reason="pyarrow is not installed")
    folder = captures_in((tmp_path / "runs"), 0) if (tmp_path / "runs").mkdir() else captures_in(tmp_path / "runs", 12)
    (folder / "run3.bin").write_bytes(b"")
    store, read = tmp_path / name, []

    def resume(labels="run{n}"):
        read.clear()
        options = {"store": store, "resume": True, "workers": 1, "progress": lambda *item: read.append(item)}
        with lr.read_many(SHEET, folder, labels=labels, **options) as campaign:
            return rows_of(campaign)

    with lr.read_many(SHEET, folder, labels="run{n}", store=store, workers=1) as campaign:
        first = rows_of(campaign)
    assert resume() == first
    assert read[-1] == (1, 1)  # what could not be read is tried again
    (folder / "run3.bin").write_bytes(frames(5) * 20)
    (folder / "run5.bin").write_bytes(frames(5) + frames(200) * 19)  # the same length
    os.utime(folder / "run6.bin")  # touched, with the same content
    (folder / "run12.bin").write_bytes(frames(5) * 20)
    folder = folder / ".." / folder.name  # another way to write the same paths
    rows = resume()
    assert read[-1] == (3, 3)
    assert len(rows["captures"]) == 13
    assert [row[1] for row in rows["findings"]] == ["out-of-range"]
    assert resume(labels="{name}")["labels"][0][1:] == ("name", "run0")
    with lr.read_many(SHEET, folder, labels="{name}", workers=1) as fresh:
        assert sorted(map(str, rows_of(fresh)["wires"])) == sorted(map(str, rows["wires"]))
    with lr.Campaign.open(store) as campaign:
        assert len(campaign) == 13


def test_a_store_that_does_not_fit_is_refused(tmp_path):
    captures_in(tmp_path, 2)
    store = tmp_path / "kept.sqlite"
    lr.read_many(SHEET, tmp_path / "run0.bin", store=store, workers=1).close()
    other = lr.Sheet(wire={"pump": {}})
    (tmp_path / "text.sqlite").write_text("no database, but long enough to be looked at" * 20)
    database = sqlite3.connect(tmp_path / "later.sqlite")
    database.execute("CREATE TABLE about (name TEXT, value TEXT)")
    database.execute("INSERT INTO about VALUES ('version', '2')")
    database.commit()
    database.close()
    for sheet, path, resume, message in (
        (SHEET, store, False, "is there already"),
        (other, store, True, "read against another sheet"),
        (SHEET, tmp_path / "text.sqlite", True, "is not a store"),
        (SHEET, tmp_path / "later.sqlite", True, "of version 2"),
        (SHEET, tmp_path / "nowhere" / "x.sqlite", False, "no folder"),
    ):
        with pytest.raises(lr.RequestError, match=message):
            lr.read_many(sheet, tmp_path / "run1.bin", store=path, resume=resume, workers=1)
    for path, message in ((tmp_path / "x.sqlite", "is not there"), (tmp_path, "is not a store")):
        with pytest.raises(lr.RequestError, match=message):
            lr.Campaign.open(path)


def test_a_policy_on_the_sheet_does_not_make_another_store(tmp_path):
    captures_in(tmp_path, 1)
    lr.read_many(SHEET, tmp_path / "run0.bin", store=tmp_path / "kept.sqlite", workers=1).close()
    stricter = SHEET.model_copy(update={"policy": lr.declare.Policy(fail="warning")})
    lr.read_many(stricter, tmp_path / "run0.bin", store=tmp_path / "kept.sqlite", resume=True, workers=1).close()


KILLED = """
import sys, time
import larkreader as lr
from larkreader.answers import ParquetStore

ParquetStore.commit_s = 0.1

def main():
    sheet = lr.open_sheet(sys.argv[1])
    print("begun", flush=True)
    lr.read_many(sheet, sys.argv[2], store=sys.argv[3], workers=int(sys.argv[4]), resume=True).close()

if __name__ == "__main__":
    main()
"""


@pytest.mark.parametrize("name", STORES)
@pytest.mark.parametrize("wait_s", [0.4, 0.9])
def test_a_run_that_is_killed_loses_nothing_that_was_kept(tmp_path, name, wait_s):
    if name == "kept":
        pytest.importorskip("pyarrow", reason="pyarrow is not installed")
    (tmp_path / "runs").mkdir()
    captures_in(tmp_path / "runs", 600)
    (tmp_path / "killed.py").write_text(KILLED)
    sheet = sheet_file(tmp_path)
    command = [sys.executable, tmp_path / "killed.py", sheet, tmp_path / "runs", tmp_path / name, "1"]
    with subprocess.Popen(command, stdout=subprocess.PIPE) as process:
        process.stdout.readline()
        time.sleep(wait_s)
        process.kill()
    kept = len(open_store(tmp_path / name).rows("captures")) if (tmp_path / name).exists() else 0
    done = []
    with lr.read_many(
        sheet,
        tmp_path / "runs",
        store=tmp_path / name,
        resume=True,
        workers=1,
        progress=lambda *item: done.append(item[0]),
    ) as campaign:
        assert done[-1] == 600 - kept
        assert campaign.verdict_counts["clean"] == len(campaign) == 600
        assert len(campaign.table("wires")) == len(campaign.table("frames")) == 600


def test_an_interrupt_keeps_what_is_done(tmp_path):
    captures_in(tmp_path, 50)

    def interrupt(done, total):
        if done == 20:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        lr.read_many(SHEET, tmp_path, store=tmp_path / "kept.sqlite", workers=1, progress=interrupt)
    with lr.Campaign.open(tmp_path / "kept.sqlite") as campaign:
        assert 19 <= len(campaign) <= 20


def test_the_store_is_read_by_others_as_it_is(tmp_path):
    captures_in(tmp_path, 6, odd={2})
    lr.read_many(SHEET, tmp_path, labels="run{n}", store=tmp_path / "kept.sqlite", workers=1).close()
    question = """SELECT labels.value, count FROM findings JOIN labels USING (capture) WHERE labels.name = 'n'"""
    with sqlite3.connect(tmp_path / "kept.sqlite") as database:
        assert pd.read_sql(question, database).to_numpy().tolist() == [["2", 19]]
        for table in TABLES:
            assert tuple(pd.read_sql(f"SELECT * FROM {table}", database).columns) == names_of(table)


def test_a_folder_of_parquet_files_is_read_by_others_as_it_is(tmp_path):
    pytest.importorskip("pyarrow", reason="pyarrow is not installed")
    captures_in(tmp_path, 6, odd={2})
    lr.read_many(SHEET, tmp_path, labels="run{n}", store=tmp_path / "kept", workers=1).close()
    tables = {table: pd.read_parquet(tmp_path / "kept" / table) for table in TABLES}
    assert {table: tuple(frame.columns) for table, frame in tables.items()} == {
        table: names_of(table) for table in TABLES
    }
    assert tables["captures"]["verdict"].tolist() == ["clean"] * 2 + ["warnings"] + ["clean"] * 3
    assert tables["wires"]["characters"].dtype == "int64"
    assert tables["findings"]["count"].tolist() == [19]


def test_each_table_has_what_its_captures_show(rig_files, tmp_path):
    """The rows of the rig's capture are those of its reading."""
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    service = lr.read(rig_files["sheet"].with_name("service.toml"), rig_files["sheet"].with_name("service.vcd"))
    with lr.read_many(rig_files["sheet"], rig_files["capture"]) as campaign:
        document = reading.to_dict()
        wires = campaign.table("wires").set_index("wire").to_dict("index")
        for wire, held in document["wires"].items():
            row = wires[wire]
            assert [row[name] for name in ("good_bytes", "faulty_bytes", "skipped_bytes")] == [
                held["bytes"][name] for name in ("good", "faulty", "skipped")
            ]
            assert (row["parity"], row["framing"], row["breaks"]) == (held["parity"], held["framing"], held["break"])
            assert abs(row["clock_error"]) < 1e-5  # the generator's clocks are exact
            assert row["headroom"] == pytest.approx(min(-row["slowest"], row["fastest"]), abs=1e-5)
        findings = campaign.table("findings")
        assert findings["text"].tolist() == [finding.text for finding in reading.findings]
        assert json.loads(findings["evidence"][0]) == document["findings"][0]["evidence"]
        assert dict(zip(*campaign.table("frames")[["frame", "count"]].to_numpy().T, strict=True)) == {
            key: held["count"] for key, held in document["frames"].items()
        }
    sheet = rig_files["sheet"].with_name("service.toml")
    with lr.read_many(sheet, rig_files["sheet"].with_name("service.vcd")) as campaign:
        (row,) = campaign.table("pairs").to_dict("records")
        ((key, pairs),) = service.to_dict()["pairs"].items()
        assert (row["pair"], row["requests"], row["unanswered"]) == (key, pairs["requests"], pairs["unanswered"])
        assert row["latency_99_s"] == pairs["latency"]["nearly_all_s"]


# the questions


def test_the_regression_and_the_drift_are_found(demo):
    campaign, _ = demo
    found = [(item.kind, item.label, item.value) for item in campaign.concentrations()]
    assert found[0] == ("overflow", "build", BROKEN_BUILD)
    assert set(found[1:]) <= {("overflow", "source", "firmware")}  # it shows in what the firmware got
    (drift,) = [item for item in campaign.trends() if item.severity != "note"]
    assert (drift.measure, drift.over, drift.label, drift.value) == (
        "clock_error",
        "temperature",
        "board",
        DRIFTING_BOARD,
    )
    assert drift.trend.low < DRIFT_PPM / 1e6 < drift.trend.high
    at_25 = (drift.trend.at_begin + drift.trend.at_end) / 2  # 5 and 45 degrees lie around 25
    assert drift.crossing.at == pytest.approx(25 + (drift.limit - at_25) / (DRIFT_PPM / 1e6), abs=1)
    assert drift.crossing.low < drift.crossing.at < drift.crossing.high
    odd = [item for item in campaign.odd_ones() if item.measure == "clock_error"]
    assert {item.shared["board"] for item in odd} == {DRIFTING_BOARD}
    assert campaign.kinds("build").loc[("overflow", "from_pump"), BROKEN_BUILD] == campaign.verdict_counts["faults"]


def test_a_healthy_campaign_raises_no_alarm(tmp_path):
    """200 captures of 10 boards at 5 temperatures, in two builds: nothing goes with a label, drifts or stands apart."""
    boards, temperatures = tuple(map(str, range(1, 11))), (5, 15, 25, 35, 45)
    runs = make_runs(seed=8, boards=boards, builds=("1.1", "1.2"), temperatures=temperatures, is_healthy=True)
    files = write_campaign(tmp_path, runs)
    with lr.read_many(files["sheet"], files["captures"], workers=1) as campaign:
        assert campaign.verdict_counts["clean"] == len(campaign) == 200
        assert campaign.concentrations() == campaign.odd_ones() == []
        assert [item for item in campaign.trends() if item.severity != "note"] == []


def test_against_a_baseline(tmp_path):
    for name, odd in (("old", range(0)), ("same", range(0)), ("new", range(15)), ("little", range(1))):
        (tmp_path / name).mkdir()
        captures_in(tmp_path / name, 30, odd=set(odd))
    old, same, new, little = (
        lr.read_many(SHEET, tmp_path / name, workers=1) for name in ("old", "same", "new", "little")
    )
    assert same.compare(old) == []
    (change,) = new.compare(old)
    assert (change.state, change.affected, change.of, change.before, change.is_certain) == ("new", 15, 30, 0, True)
    assert change.per_1000 == pytest.approx(1000 * 19 / 40 / 2)  # half of the captures, 19 findings in 40 characters
    (change,) = old.compare(new)
    assert (change.state, change.is_certain) == ("fixed", True)
    (change,) = little.compare(old)
    assert (change.state, change.is_certain) == ("new", False)  # chance may explain it
    (change,) = little.compare(new)
    assert (change.state, change.is_certain) == ("better", True)


def test_what_moves_over_time_is_found(tmp_path):
    """A clock that gains 100 ppm an hour, in captures an hour apart."""
    line = lr.LineSettings.parse("57600 8E1")
    sheet = lr.Sheet(line=line, wire={"pump": {}})
    rng = np.random.default_rng(2)
    for hour in range(24):
        path = tmp_path / f"{hour}.vcd"
        ppm = 100 * hour + rng.normal(0, 20)
        lr.write_vcd(path, {"pump": lr.transmit(rng.integers(0, 256, 200), line, clock_error_ppm=ppm)})
        os.utime(path, ns=(0, 1_780_000_000_000_000_000 + hour * 3_600_000_000_000))
    with lr.read_many(sheet, tmp_path, workers=1) as campaign:
        assert campaign.trends() == []  # no label is a number
        (found,) = [item for item in campaign.trends("time") if item.measure != "headroom"]  # which follows from it
        assert (found.measure, found.over, found.severity) == ("clock_error", "time", "note")  # far from its limit
        assert found.trend.low < 100e-6 < found.trend.high


def test_a_label_that_is_not_there_is_refused(demo):
    campaign, _ = demo
    for ask, message in (
        (lambda: campaign.kinds("bord"), 'Did you mean "board"'),
        (lambda: campaign.verdicts(["x"]), "is of no capture"),
        (lambda: campaign.trends("source"), "other than numbers"),
        (lambda: campaign.measured("clock_error", "to_pump"), "was measured of no capture"),
        (lambda: campaign.table("x"), "is in no store"),
    ):
        with pytest.raises(lr.RequestError, match=message):
            ask()


def test_a_policy_decides_which_captures_pass(tmp_path):
    captures_in(tmp_path, 6, odd={1, 2})
    (tmp_path / "run5.bin").write_bytes(b"")
    today = date(2026, 6, 1)
    known = {"kind": "out-of-range", "labels": {"n": "1"}, "reason": "sensor of run 1"}
    with lr.read_many(SHEET, tmp_path, labels="run{n}", workers=1) as campaign:

        def failed(**policy):
            result = apply_policy(campaign, lr.declare.Policy(**policy), today)
            return [Path(item.path).stem for item in result.failed], result

        assert failed()[0] == ["run5"]  # an error fails, a warning does not; what cannot be read does
        assert failed(fail="warning")[0] == ["run1", "run2", "run5"]
        assert failed(fail=["out-of-range"], most={"out-of-range": 19})[0] == ["run5"]
        assert failed(fail=["out-of-range"], most={"out-of-range": 18})[0] == ["run1", "run2", "run5"]
        assert failed(fail="warning", known=[known])[0] == ["run2", "run5"]
        assert failed(fail="warning", known=[{**known, "until": date(2026, 6, 1)}])[0] == ["run2", "run5"]
        names, result = failed(fail="warning", known=[{**known, "until": date(2026, 5, 31)}])
        assert names == ["run1", "run2", "run5"]
        assert "until 2026-05-31 only" in result.failed[0].failures[0].why
        assert [item.kind for item in result.expired] == ["out-of-range"]
        _, result = failed(known=[{**known, "wire": "elsewhere"}])
        assert [item.reason for item in result.unused] == ["sensor of run 1"]
        with pytest.raises(lr.RequestError, match='Did you mean "out-of-range"'):
            failed(fail=["out-off-range"])
    with pytest.raises(lr.SheetError, match="below 1"):
        lr.Sheet(wire={"a": {}}, policy={"most": {"overflow": 0}})


def test_measured_numbers_are_columns_of_captures(demo):
    campaign, _ = demo
    series = campaign.measured("clock_error", "from_pump")
    assert len(series) == 72  # of levels alone
    assert np.isfinite(series).all()
    assert repr(campaign).startswith("<Campaign of 144 captures read against")


def test_processes_that_end_within_a_result_are_not_waited_for():
    """A result of which one half was handed over: its length, and then nothing."""
    processes = running._Processes(b"", 1)
    pool = processes._pooled()
    pool.submit(os.getpid).result()
    os.write(pool._result_queue._writer.fileno(), struct.pack("!i", 1000) + b"half of it")
    ending = threading.Thread(target=processes.end, kwargs={"at_once": True}, daemon=True)
    ending.start()
    ending.join(30)
    assert not ending.is_alive()
