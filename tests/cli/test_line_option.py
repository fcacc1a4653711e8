"""Line settings in the place of a sheet."""

import html
import json

import pytest

import larkreader as lr


@pytest.fixture
def pump(tmp_path):
    """Write a capture of two signals, on one of which nothing happens."""
    path, line = tmp_path / "pump.vcd", lr.LineSettings.parse("57600 8E1")
    quiet = lr.transmit(b"", line)
    lr.write_vcd(path, {"pump_tx": lr.transmit(b"flow 12.5\n" * 3, line, begin_s=0.01), "rts": quiet})
    return path


def test_a_capture_is_read_by_line_settings_alone(shell, pump, tmp_path):
    """The signals that change are read; a baud alone means 8N1, and a note says so."""
    status, out, err = shell("decode", "--line", "57600 8E1", pump, "--json")
    wires = json.loads(out)["wires"]
    assert (status, err.startswith("note: nothing happens on rts: left out; --signal NAME reads")) == (0, True)
    assert {wire: (one["line"], one["characters"]) for wire, one in wires.items()} == {"pump_tx": ("57600 8E1", 30)}
    status, out, err = shell("decode", "--line", "57600", pump, "--json")
    assert (status, "note: --line is read as 57600 8N1\n" in err) == (1, True)
    assert json.loads(out)["sheet"] == '--line "57600 8N1"'
    page, picture = tmp_path / "pump.html", tmp_path / "pump.png"
    assert shell("report", "--line", "57600 8E1", pump, "-o", page)[0] == 0
    assert '--line "57600 8E1"' in html.unescape(page.read_text())
    assert "12.5␊" in shell("timeline", "--line", "57600 8E1", pump)[1]
    assert shell("draw", "--line", "57600 8E1", pump, "folded", "-o", picture)[0] == 0
    assert picture.stat().st_size > 10_000


def test_characters_need_no_signal_and_have_their_wires(shell, tmp_path):
    """Of bytes there is one wire; a recording names its wires, of which some can be chosen."""
    plain, recorded = tmp_path / "a.bin", tmp_path / "a.csv"
    plain.write_bytes(b"flow")
    line = lr.LineSettings()
    lr.capture.write_characters(recorded, {key: lr.receive(lr.transmit(b"flow", line), line) for key in ("a", "b")})
    for path, options, wires in (
        (plain, [], ["wire"]),
        (recorded, [], ["a", "b"]),
        (recorded, ["--signal", "b"], ["b"]),
    ):
        status, out, _ = shell("decode", "--line", "115200 8N1", path, *options, "--json")
        assert (status, list(json.loads(out)["wires"])) == (0, wires)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (
            ["decode", "--line", "57600 8E1", "{pump}", "{pump}"],
            "is an argument too many. With --line, leave out SHEET.",
        ),
        (["decode", "--line", "57600 8E1"], "Missing argument"),
        (["decode", "--line", "fast", "{pump}"], 'must be baud and format, as in "57600 8E1"'),
        (["decode", "--line", "57600 8E1", "{pump}", "--signal", "pump_rx"], 'Did you mean "pump_tx"?'),
        (["decode", "{pump}", "{pump}", "--signal", "rts"], "--signal goes with --line. With a sheet, use --wire."),
        (["draw", "--line", "57600 8E1", "layout", "-o", "a.png"], "layout is made from the sheet. Name a sheet."),
        (["draw", "--line", "57600 8E1", "folded", "-o", "a.png"], "folded needs a capture."),
    ],
)
def test_what_does_not_go_together_is_refused(shell, pump, arguments, message):
    status, _, err = shell(*(one.format(pump=pump) for one in arguments))
    assert (status, message in err) == (2, True), err
