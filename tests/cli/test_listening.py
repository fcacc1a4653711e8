"""What `listen` finds while it listens: as `decode` does with a recording of the same."""

import errno
import json
import os
import re
import subprocess
import sys
import time
from functools import partial

import pytest

import larkreader as lr
from larkreader.answers import summed_reading
from larkreader.capture.files.recording import RecordingWriter, write_recording
from larkreader.exercise.devices.pump import PUMP_FAULTS, DosingPump


@pytest.fixture(scope="session")
def recordings(rig_files, tmp_path_factory):
    """Write what a port would have recorded of the demo's captures."""
    folder, files = tmp_path_factory.mktemp("recorded"), {}
    for name in ("rig", "service"):
        sheet = rig_files["sheet"].parent / f"{name}.toml"
        files[name] = sheet, folder / f"{name}.jsonl"
        write_recording(files[name][1], lr.read(sheet, sheet.with_suffix(".vcd")).characters)
    return files


@pytest.mark.parametrize("name", ["rig", "service"])
def test_listening_ends_with_what_decode_finds_in_a_recording(shell, tmp_path, recordings, name):
    sheet, recording = recordings[name]
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing"]
    written = ["--reading", tmp_path / "reading.json", "--junit", tmp_path / "live.xml"]
    status, out, _ = shell("listen", "--replay", recording, *options, *written)
    expected, document, _ = shell("decode", sheet, recording, "--json")
    assert status == expected == 1
    assert json.loads((tmp_path / "reading.json").read_text()) == json.loads(document)
    shell("decode", sheet, recording, "--junit", tmp_path / "whole.xml")
    live, whole = ((tmp_path / file).read_text() for file in ("live.xml", "whole.xml"))
    assert live.replace(f"listen {recording}", f"decode {sheet} {recording}") == whole
    assert out.endswith(shell("decode", sheet, recording)[1].split("\n\nVerdict", 1)[1])


@pytest.fixture(params=["recording", "levels"])
def large(request, recordings, rig_files):
    """Return a sheet and a capture, of characters and of levels."""
    return recordings["service"] if request.param == "recording" else (rig_files["sheet"], rig_files["capture"])


@pytest.mark.parametrize("options", [[], ["--json"], ["--annotations", "gitlab"], ["--wire", "from_pump"]])
def test_a_large_capture_is_decoded_without_its_columns_and_shows_the_same(shell, monkeypatch, large, options):
    sheet, recording = large
    whole = shell("decode", sheet, recording, *options)
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    monkeypatch.setattr("larkreader.answers.reading.read", lambda *_, **__: pytest.fail("read as a whole"))
    assert shell("decode", sheet, recording, *options) == whole


@pytest.mark.parametrize(
    "options",
    [
        [],
        ["--json"],
        ["--only-wrong", "--count", 3, "--messages", "-"],
        ["--from", 1, "--to", 2, "--json"],
        ["--moved-at", 3],
    ],
)
def test_a_timeline_of_a_large_capture_is_shown_without_its_columns(shell, monkeypatch, large, options):
    sheet, recording = large
    usual = ["timeline", sheet, recording, *options]
    whole = shell(*usual)
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    monkeypatch.setattr("larkreader.answers.summed_reading.SHORT_STRETCH", 100)
    monkeypatch.setattr("larkreader.answers.reading.read", lambda *_, **__: pytest.fail("read as a whole"))
    assert shell(*usual) == whole


@pytest.mark.parametrize("options", [["decode"], ["timeline", "--json"], ["timeline", "--messages", "-"]])
def test_a_large_recording_whose_clock_was_set_back_is_read_whole(shell, monkeypatch, recordings, tmp_path, options):
    """Two wires concern each other; the second part of the recording begins before the first."""
    sheet, recording = recordings["service"]
    head, rest = recording.read_text().split("\n", 1)
    earlier = {**json.loads(head), "began": "1969-12-31T23:00:00Z"}
    twice = tmp_path / "twice.jsonl"
    twice.write_text(f"{head}\n{rest}{json.dumps(earlier)}\n{rest}")
    usual = [options[0], sheet, twice, *options[1:]]
    whole = shell(*usual)
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    monkeypatch.setattr("larkreader.answers.summed_reading.SHORT_STRETCH", 100)
    assert shell(*usual) == whole
    with pytest.raises(lr.RequestError, match="has times that go back"):
        lr.answers.judge_capture(sheet, twice)


def test_a_figure_of_a_large_capture_shows_messages_that_lie_in_one_part(shell, monkeypatch, rig_files, tmp_path):
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    monkeypatch.setattr("larkreader.answers.summed_reading.SHORT_STRETCH", 100)
    sheet, capture = rig_files["sheet"], rig_files["capture"]
    status, _, remarks = shell("timeline", sheet, capture, "--count", 0, "-o", tmp_path / "talk.svg")
    drawn, every = (int(number) for number in re.search(r"first (\d+) of (\d+) messages are drawn", remarks).groups())
    assert status == 1
    assert 10 < drawn < every == len(lr.read(sheet, capture).timeline)
    assert f"{drawn} messages" in (tmp_path / "talk.svg").read_text()


def test_a_report_of_a_large_capture_judges_all_and_draws_its_first_part(shell, monkeypatch, large):
    """Everything is that of the report of the whole, but what is taken of the first part; and that is named."""
    sheet, recording = large
    monkeypatch.setattr("larkreader.capture.files.vcd.PIECE", 1 << 13)
    monkeypatch.setattr("larkreader.capture.files.vcd_blocks.BLOCK", 1 << 13)
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1700000000")
    whole = shell("report", sheet, recording, "--markdown", "-o", "-")
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    every = shell("report", sheet, recording, "--markdown", "-o", "-")
    count = sum(map(len, lr.read(sheet, recording).characters.values()))
    remark = "Values of fields, periods, parts of a cycle, messages and figures are of the first"
    assert every == whole  # the first part is all of it
    first = partial(lr.answers.read_first_part, most=200)
    monkeypatch.setattr(summed_reading, "read_first_part", first)
    status, page, _ = shell("report", sheet, recording, "--markdown", "-o", "-")
    assert status == whole[0] == 1
    shown = re.search(f"{remark} ([0-9]+) of {count:,} characters", page)
    assert shown is not None
    assert 200 <= int(shown[1]) < count / 3
    parts, of_whole = (
        dict(re.findall(r"^## (.*)\n([^#](?:(?!^## ).*\n)*)", text, re.MULTILINE)) for text in (page, whole[1])
    )
    for title in ("Findings", "Frame by frame"):  # those behind the first part too
        assert parts[title] == of_whole[title]
    cut_off = re.findall(r".*of no frame, unfinished.*", page)  # by the end of the first part: nothing is wrong there
    assert set(cut_off) <= set(re.findall(r".*of no frame, unfinished.*", whole[1]))


@pytest.mark.parametrize(
    ("until", "characters"),
    [("checksum-mismatch", None), ("error", None), ("2 s", None), ("100", range(100, 120)), ("1 h", None)],
)
def test_listening_ends_when_what_was_waited_for_happens(shell, tmp_path, recordings, until, characters):
    sheet, recording = recordings["service"]
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing", "--reading", tmp_path / "reading.json"]
    shell("listen", "--replay", recording, *options, "--until", until)
    reading = json.loads((tmp_path / "reading.json").read_text())
    kinds = {finding["kind"] for finding in reading["findings"]}
    count = sum(wire["characters"] for wire in reading["wires"].values())
    whole = sum(map(len, lr.read(sheet, recording).characters.values()))
    assert characters is None or count in characters
    assert (count == whole) == (until == "1 h")
    assert until != "checksum-mismatch" or until in kinds


@pytest.mark.parametrize(
    ("fail_on", "expected"),
    [("error", 1), ("nothing", 0), ("late-reply", 1), ("warning", 1), ("bad-stuffing,silent-layout", 0)],
)
def test_what_fails_is_chosen(shell, recordings, fail_on, expected):
    sheet, recording = recordings["service"]
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing", "--fail-on", fail_on]
    assert shell("listen", "--replay", recording, *options)[0] == expected


def test_with_json_standard_output_is_a_recording_and_findings_stand_beside_it(shell, tmp_path, recordings):
    sheet, recording = recordings["service"]
    _, out, err = shell("listen", "--replay", recording, "--sheet", sheet, "--speed", 1e6, "--json")
    (tmp_path / "again.jsonl").write_text(out)
    assert (
        shell("decode", sheet, tmp_path / "again.jsonl", "--json")[1].split("findings")[1]
        == (shell("decode", sheet, recording, "--json")[1].split("findings")[1])
    )
    assert "error: unanswered-request on to_pump, frame ask, at 1.120000 s" in err
    assert "Verdict: faults" in err


def test_messages_are_shown_with_what_answers_what_as_the_timeline_of_a_recording_shows_them(
    shell, monkeypatch, recordings
):
    sheet, recording = recordings["service"]
    monkeypatch.setenv("COLUMNS", "200")
    _, out, _ = shell("listen", "--replay", recording, "--sheet", sheet, "--speed", 50, "--show", "timeline")
    _, whole, _ = shell("timeline", sheet, recording, "--count", 1000)
    live, expected = (
        [line.split() for line in text.split("\n") if re.match(r" *\d+\.\d{6} ", line)] for text in (out, whole)
    )
    assert len(expected) > 100
    assert live == expected
    assert "no reply" in out


def test_a_recording_that_is_rolled_over_loses_nothing_at_its_seams(shell, tmp_path, recordings):
    """The files behind each other are the recording; the manifest adds up; the files of a second run stand beside."""
    sheet, recording = recordings["service"]
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing", "--record", tmp_path / "night.jsonl"]
    shell("listen", "--replay", recording, *options, "--roll", "8 kB")
    files = sorted(tmp_path.glob("night-*.jsonl"))
    (tmp_path / "joined.jsonl").write_text("".join(file.read_text() for file in files))
    manifest = json.loads((tmp_path / "night-0001.manifest.json").read_text())["recordings"]
    assert [part["file"] for part in manifest] == [file.name for file in files]
    assert [part["bytes"] for part in manifest] == [file.stat().st_size for file in files]
    assert len(files) > 3
    read, again = (lr.read(sheet, path) for path in (recording, tmp_path / "joined.jsonl"))
    assert again.to_dict()["findings"] == read.to_dict()["findings"]
    counts = {wire: sum(part["characters"].get(wire, 0) for part in manifest) for wire in read.characters}
    assert counts == {wire: len(characters) for wire, characters in read.characters.items()}
    shell("listen", "--replay", recording, *options, "--roll", "1 h")
    assert (tmp_path / f"night-{len(files) + 1:04}.jsonl").exists()


def test_what_stands_around_findings_is_recorded(shell, tmp_path, recordings):
    """Of each unanswered request half a second before and a second after, which again shows it unanswered."""
    sheet, recording = recordings["service"]
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing", "--into", tmp_path / "around"]
    around = ["--record-around", "unanswered-request", "--before", 0.5, "--after", 1]
    shell("listen", "--replay", recording, *options, *around)
    manifest = json.loads((tmp_path / "around" / "manifest.json").read_text())["recordings"]
    whole = lr.read(sheet, recording)
    (found,) = (finding for finding in whole.findings if finding.kind == "unanswered-request")
    assert [place["at_s"] for part in manifest for place in part["findings"]] == pytest.approx(found.places.time_s)
    for part in manifest:
        reading = lr.read(sheet, tmp_path / "around" / part["file"])
        (again,) = (finding for finding in reading.findings if finding.kind == "unanswered-request")
        assert again.places.time_s == pytest.approx([place["at_s"] for place in part["findings"]])
        times = [characters.begin_s for characters in reading.characters.values()]
        assert min(time.min() for time in times) >= part["findings"][0]["at_s"] - 0.5
        assert max(time.max() for time in times) <= part["findings"][-1]["at_s"] + 1
    _, _, err = shell("listen", "--replay", recording, *options, *around, "--most-recordings", 1)
    assert err.count("recorded around it") == 1
    assert "1 more finding not recorded: --most-recordings or --most-size is reached" in err
    assert (
        'must be such as "500 kB"' in shell("listen", "--replay", recording, *options, *around, "--most-size", "1")[2]
    )


@pytest.mark.parametrize("roll", [[], ["--roll", "1 h"]])
def test_a_full_disk_ends_the_recording_and_not_the_judging(shell, tmp_path, monkeypatch, recordings, roll):
    sheet, recording = recordings["service"]
    put = RecordingWriter._put

    def fill_up(writer, entry):
        if writer.size > 5000:
            raise OSError(errno.ENOSPC, "No space left on device")
        put(writer, entry)

    monkeypatch.setattr(RecordingWriter, "_put", fill_up)
    options = ["--sheet", sheet, "--speed", 1e6, "--show", "nothing", "--record", tmp_path / "night.jsonl"]
    status, out, err = shell("listen", "--replay", recording, *options, *roll)
    assert status == 2
    assert re.search(r"error: the recording ends at \d\.\d{3} s: No space left on device\n", err)
    assert "3 unanswered requests in 55" in out


def test_a_clock_that_is_set_is_reported_and_changes_no_time(shell, monkeypatch, rig_files):
    step = iter([0.0] * 5)
    monkeypatch.setattr("larkreader.cli.live_recording.time.time", lambda: 1e9 + time.monotonic() + next(step, 3600.0))
    options = ["--sheet", rig_files["sheet"], "--wire", "from_pump", "--seconds", 1]
    _, out, err = shell("listen", "stand-in:pump", *options)
    assert len(re.findall(r"the system's clock was set by \+3600\.0 s", err)) == 1
    assert "late-frame" not in out


def test_a_pump_that_misbehaves_shows_each_finding_that_is_asked_for(shell, rig_files):
    """Each of the six kinds in turn, one frame in twenty: all of them within 160 frames, and nothing else."""
    live = lr.LiveReading(rig_files["sheet"], wires=["from_pump"])
    pump = DosingPump(PUMP_FAULTS)
    for number in range(160):
        live.feed("from_pump", pump.react(b"", 0.05 * number), 0.05 * number)
    assert {finding.kind for finding in live.close().findings} == set(PUMP_FAULTS)
    assert 'Did you mean "overflow"?' in shell("serve", "pump", "pty", "--faults", "overflw")[2]
    assert "must go with pump" in shell("serve", "echo", "pty", "--faults", "all")[2]


def test_the_latest_values_are_drawn_into_a_file(shell, tmp_path, recordings, rig_files):
    recording = rig_files["sheet"].parent / "shift.jsonl"
    options = ["--replay", recording, "--sheet", rig_files["sheet"], "--speed", 1e6, "--show", "nothing"]
    drawn = ["--snapshot", tmp_path / "live.png", "--plot", "flow,status.valve", "--every", 5, "--window", 8]
    _, _, err = shell("listen", *options, *drawn)
    assert (tmp_path / "live.png").read_bytes().startswith(b"\x89PNG")
    assert [path.name for path in tmp_path.iterdir()] == ["live.png"]
    assert f"drawn into {tmp_path / 'live.png'}" in err
    assert 'Did you mean "flow"?' in shell("listen", *options, "--plot", "flwo", "--snapshot", tmp_path / "x.png")[2]
    assert "must go with --sheet" in shell("listen", "stand-in:pump", "--plot", "flow")[2]


def test_without_a_display_a_window_is_refused_and_a_file_offered(rig_files):
    recording = rig_files["sheet"].parent / "shift.jsonl"
    command = [sys.executable, "-m", "larkreader", "listen", "--replay", recording, "--sheet", rig_files["sheet"]]
    bare = {
        name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY", "MPLBACKEND")
    }
    done = subprocess.run([*command, "--plot", "flow"], capture_output=True, text=True, env=bare, check=False)
    assert done.returncode == 2
    assert done.stderr.endswith("Add --snapshot FILE.png to draw into a file.\n")


@pytest.mark.parametrize(
    ("options", "message"),
    [
        (["--until", "chekcsum-mismatch"], 'Did you mean "checksum-mismatch"?'),
        (["--until", "12 parsecs"], 'must be such as "30 s", "10 min" or "8 h"'),
        (["--fail-on", "errors"], 'Did you mean "error"?'),
        (["from_pmp"], 'Did you mean "from_pump"?'),
        (["--speed", "0"], "--speed"),
        (["--roll", "1 h"], "must go with --record FILE"),
        (["--record", "x.jsonl", "--roll", "1 day"], 'such as "1 h" or "100 MB"'),
        (["--record-around", "eror"], 'Did you mean "error"?'),
        (["to_pump", "from_pump", "--forward"], "takes nothing"),
        (["to_pump", "from_pump", "to_pump"], "are 3 ports"),
    ],
)
def test_what_cannot_be_listened_to_is_refused(shell, recordings, options, message):
    sheet, recording = recordings["service"]
    status, _, err = shell("listen", *options, "--replay", recording, "--sheet", sheet)
    assert (status, message in err) == (2, True), err


def test_a_recording_of_other_wires_is_refused(shell, tmp_path, recordings):
    (tmp_path / "other.jsonl").write_text('{"recording": 1, "began": "2026-05-01T08:30:00Z", "wires": {"tank": {}}}\n')
    status, _, err = shell("listen", "--replay", tmp_path / "other.jsonl", "--sheet", recordings["service"][0])
    assert (status, "has the wires tank. It must have a wire of the sheet." in err) == (2, True)


def test_a_judgement_needs_a_sheet_and_a_port(shell, recordings):
    _, recording = recordings["service"]
    assert "must go with --sheet" in shell("listen", "--replay", recording, "--junit", "x.xml")[2]
    assert "Or add --replay RECORDING" in shell("listen")[2]
