"""Where results go, in what form and colour, and how they fit the screen; the same for every command."""

import io
import json
import os
import re
import shlex
from threading import Thread

import numpy as np
import pandas as pd
import pytest

import larkreader as lr
from larkreader.cli import COMMANDS, larkreader, run
from larkreader.present.figures.fields import draw_fields
from larkreader.present.figures.style import new_figure

MEASURES = re.compile(r"(?<![\w=.])\d[\d,.]* (?:s|ms|µs|%|baud|bytes?|characters?|mL/min)(?!\w)")
LONG = """
sheet = 1
[line]
baud = 57_600
[wire.rx]
[frame.samples]
wire = "rx"
boundary = { kind = "marker", marker = "D7 4B" }
fields = [
  { name = "count", type = "uint8", counter = true },
  { name = "stuck", type = "flag" },
  { name = "mode", type = "uint7" },
  { name = "flow", type = "uint16", repeat = 9, unit = "mL/min" },
  { name = "label", type = "text", repeat = 2 },
  { name = "raw", type = "bytes", repeat = 3 },
]
"""


@pytest.fixture
def long_files(tmp_path):
    """Write frames of 27 bytes, of which only flow[5] and the counter move."""
    sheet = lr.parse_sheet(LONG)
    rows = [
        {"count": n, "stuck": 0, "mode": 0, "flow": [100 + i + n * (i == 5) for i in range(9)], "label": "ok",
         "raw": bytes([1, 2, 3])} for n in range(4)
    ]  # fmt: skip
    data = b"".join(sheet.frame["samples"].encode(row) for row in rows)
    (tmp_path / "long.toml").write_text(LONG)
    lr.write_vcd(tmp_path / "long.vcd", {"rx": lr.transmit(data, sheet.line)})
    return tmp_path / "long.toml", tmp_path / "long.vcd"


@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_has_json_and_the_common_options(name):
    command = larkreader.get_command(None, name)
    assert {"--json", "--quiet", "--verbose", "--color"} <= {opt for one in command.params for opt in one.opts}


def test_a_file_may_be_standard_output(rig_files, tmp_path, capfdbinary):
    """The same bytes as in a file, and tables on standard error."""
    decode = ["decode", str(rig_files["sheet"]), str(rig_files["capture"])]
    for arguments, ending in (
        ([*decode, "--frames"], ".csv"),
        ([*decode, "--characters"], ".csv"),
        ([*decode, "--junit"], ".xml"),
        (["layout", str(rig_files["sheet"]), "status", "-o"], ".png"),
    ):
        path = tmp_path / f"file{ending}"
        assert run([*arguments, str(path)]) == run([*arguments, "-"])
        out, _ = capfdbinary.readouterr()
        assert out.endswith(path.read_bytes()), arguments
        run([*arguments, "-"])
        out, err = capfdbinary.readouterr()
        assert (out == path.read_bytes(), b"Verdict" in err) == (True, arguments[0] == "decode")
    assert run(["convert", str(rig_files["capture"]), "-", "--to", "csv"]) == 0
    out, _ = capfdbinary.readouterr()
    run(["convert", str(rig_files["capture"]), str(tmp_path / "levels.csv")])
    assert out == (tmp_path / "levels.csv").read_bytes()
    for wrong, why in (
        ([*decode, "--frames", "-", "--fates", "-"], b"named already"),
        (["convert", str(rig_files["capture"]), "-"], b"needs --to"),
        (["convert", str(rig_files["capture"]), "a.vcd", "--to", "csv"], b"Write - for OUT"),
        (["report", *decode[1:], "-o", "-", "--markdown", "--json"], b"must be a file with --json"),
        (["new", "-", "--json"], b"must be a file with --json"),
    ):
        capfdbinary.readouterr()
        assert run(wrong) == 2
        assert why in capfdbinary.readouterr().err.lower().replace(b"write - for out", b"Write - for OUT")


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="this system has no named pipes")
def test_a_pipe_is_a_file_too(shell, rig_files, tmp_path):
    """As `<(zcat rig.vcd.gz)` of a shell is; it is read once."""
    pipe = tmp_path / "pipe.vcd"
    os.mkfifo(pipe)
    for arguments in (
        ("decode", rig_files["sheet"], pipe),
        ("decode", "--line", "57600 8E1", pipe),
        ("diagnose", pipe),
    ):
        writer = Thread(target=lambda: pipe.write_bytes(rig_files["capture"].read_bytes()))
        writer.start()
        status, out, _ = shell(*arguments)
        writer.join()
        assert (status < 2, "3,185" in out) == (True, True), arguments


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        ("diagnose {capture} {sheet} --sent hi", "--sent goes with bytes, not with levels."),
        ("send stand-in:echo --hex 'D7 4'", '--hex is "D7 4". It must be pairs of hexadecimal digits'),
        ("timeline {sheet} {capture} --from 5 --to 1", "--to is 1. It must be later than --from, 5."),
        ("draw {sheet} {capture} fields --from 5 --to 5 -o a.png", "--to is 5. It must be later than --from, 5."),
        ("decode {capture} {sheet}", "is a sheet, in the place of the capture. Write SHEET CAPTURE"),
        ("demo --into {sheet}", "which is a file. It must be a folder."),
        ("plan --clock 0 --line 9600", "--clock is 0.0. It must be more than 0."),
    ],
)
def test_a_mistake_names_what_was_typed(arguments, message, shell, rig_files):
    typed = [one.format(**rig_files) for one in shlex.split(arguments)]
    status, _, err = shell(*typed)
    assert (status, message in err) == (2, True), err


def test_files_that_were_written_are_a_document(shell, rig_files, tmp_path):
    sheet, page = tmp_path / "new.toml", tmp_path / "page.html"
    for arguments, path in (
        (["new", sheet], sheet),
        (["report", rig_files["sheet"], rig_files["capture"], "-o", page], page),
        (["convert", rig_files["capture"], tmp_path / "a.csv"], tmp_path / "a.csv"),
        (["draw", rig_files["sheet"], "layout", "--frame", "status", "-o", tmp_path / "l.png"], tmp_path / "l.png"),
    ):
        _, out, _ = shell(*arguments, "--json")
        assert (list(json.loads(out)["files"]), path.stat().st_size > 0) == ([str(path)], True)
    status, out, _ = shell("demo", "--into", tmp_path / "demo", "--json")
    assert (status, json.loads(out)["verdict"]) == (0, "pass")


def test_a_live_command_prints_a_recording_that_decode_reads(shell, rig_files, monkeypatch):
    """And of two wires with one line, the port is the wire whose frames arrive."""
    status, out, err = shell("listen", "stand-in:pump", "--sheet", rig_files["sheet"], "--seconds", 1, "--json")
    assert (status, "note: what arrives fits the frames of from_pump" in err) == (0, True)
    heading, *entries = map(json.loads, out.splitlines())
    assert (list(heading["wires"]), {one["wire"] for one in entries}) == (["from_pump"], {"from_pump"})
    monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(out.encode())))
    status, out, _ = shell("decode", rig_files["sheet"], "-", "--json")
    assert (status, json.loads(out)["frames"]["status"]["good"] >= 18) == (0, True)  # one each 50 ms
    _, out, _ = shell("send", "stand-in:echo", "flow?", "--json")
    sent = [(one["wire"], bytes.fromhex(one["hex"])) for one in map(json.loads, out.splitlines()[1:])]
    assert b"".join(data for wire, data in sent if wire == "in") == b"flow?"


def test_notes_are_left_out_or_added(shell, rig_files, tmp_path):
    arguments = ("convert", rig_files["capture"])
    assert "changes of" in shell(*arguments, tmp_path / "a.csv")[2]
    assert shell(*arguments, tmp_path / "b.csv", "-q")[2] == ""
    _, _, err = shell("decode", rig_files["sheet"], rig_files["capture"], "-v")
    assert "kind vcd (found from its content), holds signals rig.controller_tx, rig.pump_tx" in err
    assert re.search(r"decode: \d+\.\d\d s\n", err)
    assert shell("ports", "-q", "-v")[0] == 2


@pytest.mark.parametrize("width", [80, 100])
def test_no_table_parts_a_number_from_its_unit_or_cuts_a_cell(width, shell, rig_files, long_files, monkeypatch):
    """Verdicts, views, plans and timelines, on a screen of 80 and of 100 columns."""
    files, folder = (rig_files["sheet"], rig_files["capture"]), rig_files["sheet"].parent
    for arguments in (
        ("decode", *files),
        *(
            ("decode", *both, f"--{view}")
            for both in (files, long_files)
            for view in ("bytes", "changes", "statistics")
        ),
        ("decode", *files, "--explain", 30),
        ("plan", rig_files["sheet"]),
        ("plan", "--clock", "16M", "--line", "57600"),
        ("layout", rig_files["sheet"]),
        ("diagnose", rig_files["capture"]),
        ("timeline", folder / "service.toml", folder / "service.vcd", "--only-wrong"),
        ("loopback", "stand-in:lossy-echo", "--characters", 300),
    ):
        monkeypatch.setenv("COLUMNS", "400")
        _, wide, _ = shell(*arguments)
        monkeypatch.setenv("COLUMNS", str(width))
        _, out, _ = shell(*arguments)
        lines = [line for line in out.splitlines() if " read as " not in line]
        assert max(map(len, lines)) <= width, arguments
        assert ("\ue000" in out, "\u2026" in out) == (False, False), arguments
        assert set(MEASURES.findall(wide)) <= set(MEASURES.findall(out)), arguments


def test_colours_are_asked_for_forbidden_or_left_to_the_terminal(shell, rig_files, monkeypatch):
    """What is printed means the same without them."""
    files = (rig_files["sheet"], rig_files["capture"])
    _, plain, _ = shell("decode", *files)
    _, colored, _ = shell("decode", *files, "--color", "always")
    assert "\x1b[" in colored
    assert re.sub(r"\x1b\[[\d;]*m", "", colored) == plain
    assert shell("decode", *files, "--color", "never")[1] == plain
    assert shell("decode", *files)[1] == plain  # the choice ends with the command


def test_long_frames_break_where_a_field_ends(shell, long_files):
    """27 bytes; 17 fit into a row of 80 columns: marker, count, flags and mode, and six of nine flows."""
    _, out, _ = shell("decode", *long_files, "--bytes")
    first, second = (re.findall(r"\b[0-9A-F]{2}\b", line[28:]) for line in out.splitlines()[3:5])
    assert (len(first), len(second)) == (16, 11)


def test_arrays_are_shown_element_by_element(shell, long_files):
    _, out, _ = shell("decode", *long_files, "--changes")
    assert "flow[5] 105 mL/min -> 106 mL/min" in out
    assert "flow[4]" not in out
    _, out, _ = shell("decode", *long_files, "--statistics", "--elements", "--json")
    fields = json.loads(out)["frames"]["samples"]["fields"]
    assert (fields["flow[5]"]["least"], fields["flow[5]"]["most"], fields["flow[8]"]["mean"]) == (105, 108, 108)
    assert shell("decode", *long_files, "--elements")[0] == 2
    _, out, _ = shell("layout", long_files[0])
    places = dict(line.split()[1::-1] for line in out.splitlines() if "flow[" in line)
    assert places == {"flow[0]": "4-5", "flow[1]": "6-7", "flow[8]": "20-21"}  # behind marker, count, flag and mode


def test_bytes_and_text_are_what_python_has_for_them(long_files, shell):
    frames = lr.read(*map(str, long_files)).frames["samples"].to_pandas()
    assert frames.loc[0, ["label", "raw"]].tolist() == ["ok", b"\x01\x02\x03"]
    table = pd.read_csv(io.StringIO(shell("decode", *long_files, "--frames", "-", "-q")[1]))
    assert table["raw"].tolist() == ["01 02 03"] * 4


def test_a_few_characters_make_a_sheet_with_their_baud(shell, tmp_path):
    """Three characters at 9600 leave the settings in doubt, and are shown; noise fits nothing."""
    lr.write_vcd(tmp_path / "three.vcd", {"rx": lr.transmit(b"Hi!", lr.LineSettings.parse("9600 8N1"), begin_s=0.01)})
    status, out, _ = shell("diagnose", tmp_path / "three.vcd")
    assert re.search(r"beginning with +Hi!\n +in hexadecimal +48 69 21\n", out)
    status, _, err = shell("new", tmp_path / "three.toml", "--from", tmp_path / "three.vcd")
    assert (status, "the settings of rx are not certain" in err) == (0, True)
    assert str(lr.open_sheet(tmp_path / "three.toml").wire["rx"].line) == "9600 8N1"
    noise = np.unique(np.random.default_rng(7).integers(0, 10**7, 4000))
    lr.write_vcd(tmp_path / "noise.vcd", {"rx": lr.Trace(noise, 1e-9)})
    status, out, err = shell("new", "-", "--from", tmp_path / "noise.vcd")
    assert (status, "no settings fit rx" in err, list(lr.parse_sheet(out).wire)) == (1, True, ["rx"])


def test_times_are_those_of_the_capture():
    """20,381,944 ns are 0.020381944 s, not 0.020381944000000003."""
    trace = lr.transmit(b"ab", lr.LineSettings.parse("57600 8E1"), begin_s=0.020381944)
    assert lr.receive(trace, lr.LineSettings.parse("57600 8E1")).begin_s[0] == 0.020381944


def test_line_feeds_part_text_and_no_binary_data():
    line = lr.LineSettings.parse("57600 8N1")
    for data, messages in (
        (b"flow 1\nflow 2\n", 2),
        (b"\x80\n\x01\x07\n\xff\x03\n", 1),
        ("Düse\nÜberlauf\n".encode(), 2),
    ):
        sheet = lr.Sheet(line=line, wire={"rx": {}})
        assert len(lr.read(sheet, {"rx": lr.transmit(data, line)}).timeline) == messages


def test_substitutes_are_marked_in_a_figure():
    """Two of four values are substitutes: two squares."""
    layout = lr.FrameLayout(
        boundary={"kind": "fixed", "length": 2},
        fields=[{"name": "flow", "type": "uint8"}, {"name": "halted", "type": "uint8", "names": {"no": 0, "yes": 1},
                 "substitutes": {"when": "yes", "fields": ["flow"]}}],
    )  # fmt: skip
    axes = draw_fields(lr.read_frames(bytes([5, 0, 5, 1, 6, 1, 7, 0]), layout), ["flow"], ax=new_figure().add_subplot())
    squares = [line for line in axes.lines if line.get_marker() == "s"]
    assert [line.get_xdata().tolist() for line in squares] == [[1.0, 2.0]]
    assert "square: declared a substitute" in axes.get_title(loc="right")
