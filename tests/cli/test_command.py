import csv
import json
import os
import re
import subprocess
import sys

import pytest
from matplotlib.image import imread

import larkreader as lr


def test_the_demo_tells_the_whole_story_and_writes_its_files(shell, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    status, short, err = shell("demo", "--into", "demo")
    assert (status, err) == (0, "")
    assert "Found: exactly the 13 faults that were put on the wires." in short
    assert "Now your own capture: larkreader diagnose FILE" in short
    assert len(short.splitlines()) <= 45
    assert max(map(len, short.splitlines())) <= 80
    status, out, err = shell("demo", "--into", "demo", "--all")
    assert (status, err) == (0, "")
    assert "Found: exactly the 13 faults that were put on the wires." in out
    assert "Verdict: pass: returned unchanged" in out
    assert "Verdict: fail: 2,048 changed" in out
    assert max(map(len, out.splitlines())) <= 80
    names = {path.name for path in (tmp_path / "demo").iterdir()}
    assert names == {
        "rig.toml", "rig.vcd", "delivered.bin", "characters.csv", "frames.csv", "reading.json", "waveform.png",
        "history.toml", "history.vcd", "history_paused.toml", "history_paused.vcd", "fill.png",
        "service.toml", "service.vcd", "timeline.png", "shift.jsonl", "campaign",
    }  # fmt: skip
    for name in ("waveform.png", "fill.png", "timeline.png"):
        assert imread(tmp_path / "demo" / name)[..., :3].min(axis=(0, 1)).max() < 0.5, f"{name} is blank"


def test_decode_shows_counts_and_findings_and_ends_with_1(shell, rig_files):
    status, out, err = shell("decode", rig_files["sheet"], rig_files["capture"])
    assert (status, err) == (1, "")
    assert "from_pump       3,185  4 parity, 1 framing, 1 break" in out
    assert "Verdict: faults: the following is wrong" in out
    assert (out.count("Fix:"), out.count("A consequence of")) == (10, 3)
    assert "\x1b[" not in out


def test_decode_prints_one_json_object(shell, rig_files):
    status, out, _ = shell("decode", "--json", rig_files["sheet"], rig_files["capture"])
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    assert status == 1
    assert json.loads(out) == {"document": "reading", "format": 1, **reading.to_dict()}


def test_decode_writes_characters_and_frames_as_csv(shell, rig_files, tmp_path):
    characters, frames = tmp_path / "characters.csv", tmp_path / "frames.csv"
    options = ["--characters", characters, "--frames", frames]
    status, out, err = shell("decode", rig_files["sheet"], rig_files["capture"], *options)
    assert status == 1
    assert err == f"characters written to {characters}\nframes written to {frames}\n"
    with characters.open() as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 3385
    assert [row["faults"] for row in rows if row["faults"]].count("parity") == 5
    times = [float(row["begin_s"]) for row in rows]
    assert times == sorted(times)
    with frames.open() as file:
        table = list(csv.DictReader(file))
    assert {row["frame"] for row in table} == {"setpoint", "status", "alarm"}
    status_row = next(row for row in table if row["frame"] == "status" and row["state"] == "dosing")
    assert (status_row["wire"], status_row["cause"], status_row["valve[0]"]) == ("from_pump", "", "True")
    # what was written is itself a capture
    again, out, _ = shell("decode", "--json", rig_files["sheet"], characters)
    kinds = {finding["kind"] for finding in json.loads(out)["findings"]}
    assert again == 1
    assert kinds == {one.kind for one in lr.read(rig_files["sheet"], rig_files["capture"]).findings} - {"false-start"}


def test_the_characters_are_shown_on_one_timeline(shell, rig_files):
    """Groups of both wires in order of time; each fault stands under its row; every character is shown once."""
    status, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--dump")
    heading, *rows = out.splitlines()
    assert (status, heading.split()) == (1, ["seconds", "who", "number", "text", "hexadecimal"])
    assert sum("faults at" in row for row in rows) == 7
    assert "faults at 327: parity" in out
    times = [float(row[:11]) for row in rows if row[:11].strip()]
    assert times == sorted(times)
    assert {row.split()[1] for row in rows if row[:11].strip()} == {"to_pump", "from_pump"}
    hexadecimal = [len(row.rsplit("  ", 1)[-1].split()) for row in rows if "faults at" not in row]
    assert sum(hexadecimal) == 3385
    status, out, _ = shell("decode", rig_files["sheet"], rig_files["delivered"], "--wire", "from_pump", "--dump")
    assert out.splitlines()[1].split()[0] == "from_pump"


def test_a_clean_capture_ends_with_0(shell, tmp_path, rig_files):
    sheet = tmp_path / "sheet.toml"
    sheet.write_text('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]\nsignal = "rig.tx"\n')
    trace = lr.transmit(b"pump ready\r\n", lr.LineSettings.parse("57600 8E1"))
    lr.write_vcd(tmp_path / "a.vcd", {"rig.tx": trace})
    status, out, _ = shell("decode", sheet, tmp_path / "a.vcd")
    assert (status, "Verdict: clean: everything that was checked is right" in out) == (0, True)


UNUSABLE = [
    ("decode {sheet} {png}", "does not show what kind of capture it is"),
    ("decode {sheet} {fake}", "is not a VCD file: it begins with"),
    ("decode {sheet} {empty}", "is empty. Was anything recorded?"),
    ("decode {sheet} nowhere.vcd", "nowhere.vcd does not exist."),
    ("decode {misspelt} {capture}", 'line.baudd\n      is not a key of [line]. Did you mean "baud"?'),
    ("decode {lacking} {capture}", 'signal "rig.pump_txd" is not in the file. Did you mean "rig.pump_tx"?'),
    ("decode {sheet} {delivered}", "Name the wire: to_pump, from_pump."),
    ("decode {sheet} {capture} --wire pump", 'wire "pump" is not a wire of the sheet. Did you mean "to_pump"?'),
    ("decode {sheet} {capture} --frames nowhere/x.csv", "cannot be written: there is no folder nowhere"),
    ("decode {sheet}", "SHEET or CAPTURE is missing. Write SHEET CAPTURE, or --line"),
    ("decod", 'There is no command "decod". Did you mean "decode"?'),
    ("", "Commands:"),
    ("loopback stand-in:ecko", 'Did you mean "stand-in:echo"?'),
    ("loopback {sheet} a b c", "arguments are 4"),
    ("loopback --line 9600,8N1 stand-in:echo", 'must be baud and format, as in "57600 8E1"'),
    ("loopback --limit 0 stand-in:echo", "--limit"),
    ("draw {sheet} {capture} waveform -o x.gif", "must end in .png, .svg, .pdf"),
    ("draw {sheet} {delivered} waveform -o x.png --wire from_pump", "holds no levels, so there is nothing to draw"),
    ("draw {sheet} {capture} waveform -o x.png --first 99999", "first is character 99999. There are"),
]


@pytest.mark.parametrize(("arguments", "message"), UNUSABLE)
def test_what_cannot_be_used_is_told_shortly_and_ends_with_2(
    shell, rig_files, tmp_path, monkeypatch, arguments, message
):
    monkeypatch.chdir(tmp_path)
    sheet = rig_files["sheet"].read_text()
    made = {
        "png": b"\x89PNG\r\n\x1a\n",
        "empty.vcd": b"",
        "fake.vcd": b"hello\n",
        "misspelt.toml": sheet.replace("baud =", "baudd =").encode(),
        "lacking.toml": sheet.replace("rig.pump_tx", "rig.pump_txd").encode(),
    }
    for name, content in made.items():
        (tmp_path / name).write_bytes(content)
    places = {name.split(".")[0]: name for name in made} | {name: str(path) for name, path in rig_files.items()}
    status, out, err = shell(*arguments.format(**places).split())
    assert status == 2
    assert message in out + err
    assert "Traceback" not in err
    assert len(err.splitlines()) <= 30


def test_loopback_passes_on_the_echo_and_says_how_fast(shell, rig_files):
    one_run = ("--pattern", "counting", "--characters", 2000)
    status, out, _ = shell(
        "loopback", rig_files["sheet"], "stand-in:echo", "--baud", 57600, "--format", "8E1", *one_run
    )
    assert status == 0
    assert "Loopback on stand-in:echo at 57600 8E1, pattern counting" in out
    status, out, _ = shell("loopback", "stand-in:echo", "--line", "9600 7O2", "--json", "--pattern", "random")
    (result,) = json.loads(out)["runs"]
    assert (status, result["verdict"], result["line"], result["lost"]) == (0, "pass", "9600 7O2", 0)
    assert result["line_share"] == pytest.approx(4096 / 4097, abs=1e-3)


@pytest.mark.parametrize("ending", ["png", "svg", "pdf"])
def test_draw_writes_a_figure(shell, rig_files, tmp_path, ending):
    target = tmp_path / f"wave.{ending}"
    status, _, err = shell("draw", rig_files["sheet"], rig_files["capture"], "waveform", "-o", target, "--at", "1.02")
    assert (status, target.stat().st_size > 5000) == (0, True)
    assert err == f"waveform of from_pump, from character 320 on, drawn into {target}\n"


def test_a_bug_is_neither_clean_nor_faulty_nor_unusable(shell, monkeypatch, rig_files):
    monkeypatch.setattr("larkreader.judge.verdict.startup.read_layouts", lambda *_, **__: 1 / 0)
    status, _, err = shell("decode", rig_files["sheet"], rig_files["capture"])
    assert status == 70
    assert err.endswith("this is a bug in Lark Reader; the lines above show where\n")


def test_an_interrupt_ends_with_130(shell, monkeypatch, rig_files):
    def interrupt(*_, **__):
        raise KeyboardInterrupt

    monkeypatch.setattr("larkreader.judge.verdict.startup.read_layouts", interrupt)
    assert shell("decode", rig_files["sheet"], rig_files["capture"])[0] == 130


@pytest.mark.parametrize("option", ["--version", "--help"])
def test_help_comes_without_the_heavy_packages(option):
    """A fresh Python that shows version or help has loaded neither NumPy nor anything else of weight."""
    heavy = ["numpy", "pandas", "matplotlib", "pydantic", "rich"]
    code = (
        "import sys\nfrom larkreader.cli import run\n"
        f"status = run([{option!r}])\nprint(status, [one for one in {heavy} if one in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "0 []"


def test_a_reader_that_goes_away_is_no_bug(rig_files):
    """As with a pipe into head."""
    command = [sys.executable, "-m", "larkreader", "decode", rig_files["sheet"], rig_files["capture"]]
    read_end, write_end = os.pipe()
    os.close(read_end)
    done = subprocess.run(command, stdout=write_end, stderr=subprocess.PIPE, text=True, check=False)
    os.close(write_end)
    assert (done.returncode, done.stderr) == (141, "")


def test_help_shows_options_in_groups(shell):
    """Each on a screen of its own at most; a command with few options has no groups."""
    _, out, _ = shell("decode", "--help")
    parts = re.split(r"\n\n(?=Input:|Views|What to show:|Receiver:|Output:|Options:)", out)
    assert [part.partition("\n")[0] for part in parts[1:]] == [
        "Input:",
        "Views, one at a time:",
        "What to show:",
        "Receiver:",
        "Output:",
        "Options:",
    ]
    assert max(part.count("\n") for part in parts) <= 24
    assert ("--explain" in parts[2], "--wire" in parts[1], "--junit" in parts[5]) == (True, True, True)
    assert "What to show:" not in shell("layout", "--help")[1]


@pytest.mark.parametrize(
    ("options", "refused"),
    [
        (["--rate", "1M"], "--rate applies to captures of the kind samples, levels or voltages"),
        (["--bits", "8"], "--bits applies to captures of the kind samples"),
        (["--thresholds", "1", "2"], "--thresholds applies to captures of the kind voltages"),
        (["--volts-per-count", "0.1"], "--volts-per-count applies to captures of the kind voltages"),
    ],
)
def test_an_option_that_does_not_apply_to_the_capture_is_refused(shell, tmp_path, rig_files, options, refused):
    sheet, capture = rig_files["sheet"], rig_files["capture"]
    commands = [["decode", sheet, capture], ["diagnose", capture], ["convert", capture, tmp_path / "x.csv"]]
    commands += [["decode", "--line", "57600 8E1", capture], ["new", tmp_path / "x.toml", "--from", capture]]
    for command in commands:
        status, _, err = shell(*command, *options)
        assert (status, refused in " ".join(err.split())) == (2, True)
    declared = tmp_path / "declared.toml"
    declared.write_text(sheet.read_text() + "\n[capture]\nrate = 1e6\nbits = 8\n")
    status, _, err = shell("decode", declared, capture)
    assert (status, err) == (shell("decode", sheet, capture)[0], "")


def test_a_rate_for_an_archive_of_traces_which_has_its_own_times_is_refused(shell, tmp_path, rig_files):
    archive = tmp_path / "rig.npz"
    assert shell("convert", rig_files["capture"], archive)[0] == 0
    status, _, err = shell("decode", rig_files["sheet"], archive, "--rate", "1M")
    assert (status, "--rate applies to captures that do not have it" in " ".join(err.split())) == (2, True)
    assert shell("decode", rig_files["sheet"], archive)[0] == 1
