"""``larkreader plan``: what it prints, draws and refuses."""

import json
import os
import re

import pandas as pd
import pytest

import larkreader as lr

ENDS = """
sheet = 1
[line]
baud = 57_600
format = "8E1"
[wire.to_pump]
[wire.from_pump]
line = { baud = 19_200 }
[clock.oscillator]
hertz = 8_000_000
accuracy = "1 %"
[generator.whole]
divisor_bits = 8
[end.controller]
sends = "to_pump"
receives = "from_pump"
accuracy = "100 ppm"
[end.pump_head]
sends = "from_pump"
receives = "to_pump"
clock = "oscillator"
generator = "whole"
"""


@pytest.fixture
def sheet(tmp_path):
    (tmp_path / "sheet.toml").write_text(ENDS)
    return tmp_path / "sheet.toml"


def test_the_demo_sheet_is_planned_topic_by_topic(shell, rig_files):
    status, out, err = shell("plan", rig_files["sheet"])
    assert (status, err) == (0, "")
    titles = [
        "Ends",
        "Clocks and divisors",
        "Registers",
        "Margins",
        "Steps",
        "Wiring",
        "What the wires carry",
        "Verdict",
    ]
    places = [out.index(f"\n{title}") for title in titles]
    assert places == sorted(places)
    assert "write BAUD = 0x0116, oversampling 16. That makes 57,553.96 baud, -0.080 %." in " ".join(
        out.split()
    )  # 16e6 / 278
    assert max(map(len, out.splitlines())) <= 80
    for topic, title in zip(
        ["ends", "clocks", "registers", "margins", "steps", "wiring", "load"], titles, strict=False
    ):
        _, alone, _ = shell("plan", rig_files["sheet"], "--only", topic)
        assert [one for one in titles if f"\n{one}\n" in alone] == [title]


def test_one_json_object_has_it_all(shell, sheet):
    """8e6 / 16 / 57600 is 8.68: 9 is 3.5 % off, which the receiver tolerates, but not with 1 % of the clock."""
    status, out, _ = shell("plan", sheet, "--json")
    shown = json.loads(out)
    assert (status, shown["verdict"], shown["findings"][0]["kind"]) == (1, "faults", "beyond-tolerance")
    assert "Nominal clocks work; both clocks at their worst do not." in shown["findings"][0]["text"]
    slow, fast = shown["clocks"]
    assert (fast["setting"]["divisor"], slow["setting"]["divisor"]) == (9, 26)
    assert slow["setting"]["error"] == pytest.approx(8e6 / 16 / 26 / 19200 - 1)
    assert shown["margins"]["from_pump"][0]["mismatch"] == pytest.approx(8e6 / 16 / 26 / 19200 - 1)
    assert shown["loads"]["to_pump"]["characters_per_second"] == pytest.approx(57600 / 11)
    early, late = fast["setting"]["samples_within"][10]
    assert late - early == pytest.approx(57600 * 9 / 8e6, abs=1e-5)


def test_without_a_sheet_clock_and_line_do(shell):
    status, out, _ = shell("plan", "--clock", "10M", "--line", "38400 8N1", "--oversampling", "16")
    assert status == 0
    assert "write 16. That makes 39,062.50 baud, +1.725 %." in out
    status, out, _ = shell(
        "plan", "--clock", "8M", "--line", "115200 8N1", "--holds", "N-1", "--oversampling", "16,8", "--json"
    )
    shown = json.loads(out)
    # 8e6 / 16 / 115200 = 4.34, 8e6 / 8 / 115200 = 8.68
    assert [(one["oversampling"], one["divisor"]) for one in shown["alternatives"]] == [(8, 9), (16, 4)]
    assert [one["wanted"] for one in shown["standard_bauds"]] == [
        300, 600, 1200, 2400, 4800, 9600, 14400, 19200, 28800, 31250, 38400, 76800, 250000,
        500000, 1000000]  # fmt: skip
    line = ("--line", "9600 8N1")
    status, out, _ = shell("plan", "--clock", "16M", *line, "--holds", "N-1", "--written", "51")  # 16e6 / 16 / 52
    assert (status, "write 51 (divisor 52). That makes 19,230.77 baud, +100.321 %." in " ".join(out.split())) == (
        1,
        True,
    )
    status, out, _ = shell("plan", "--clock", "16M", *line, "--fraction-bits", "4", "--written", "104,3")
    assert "fraction 3/16. That makes 9,598.08 baud" in " ".join(out.split())  # 16e6 / 16 / 104.1875
    status, out, _ = shell("plan", "--clock", "8M", "--line", "115200 8N1", "--oversampling", "16")  # 7.8 % off
    assert status == 1
    assert "too far off" in out
    status, out, _ = shell("plan", "--clock", "1M", "--line", "300 8N1", "--divisor-bits", "6")
    assert (status, "No divisor makes it." in out) == (1, True)


def test_without_a_generator_the_usual_kinds_are_compared(shell):
    """Of 32768 Hz, 9600 baud are 3.41 ticks: a whole divisor is 14 % off, longer bits among shorter ones do."""
    status, out, err = shell("plan", "--clock", "32768", "--line", "9600")
    rows = {line[:20].strip(): line.split()[-1] for line in out.splitlines() if re.match(r"\d+x, ", line)}
    assert (status, err.splitlines()[0]) == (0, "note: --line is read as 9600 8N1")
    assert [name for name, fit in rows.items() if fit != "fails"] == ["1x, 8 modulated bits"]
    assert "1.8432 MHz" in out.split("Clocks that make it exactly")[1]  # 16 x 9600 x 12
    status, out, _ = shell("plan", "--clock", "16M", "--line", "115200 8N1", "--json")
    found = {one["name"]: one for one in json.loads(out)["choices"]}
    assert (status, json.loads(out)["best"]) == (0, "16x, 4 fraction bits")
    assert found["16x, whole divisor"]["setting"]["divisor"] == round(16e6 / 16 / 115200)
    sixteenths = round(16e6 / 115200)  # with 16 samples, a sixteenth of the divisor is one tick
    setting = found["16x, 4 fraction bits"]["setting"]
    assert (setting["divisor"], setting["fraction"]) == divmod(sixteenths, 16)
    assert found["16x, 4 fraction bits"]["left"] > found["16x, whole divisor"]["left"] > 0
    status, out, _ = shell("plan", "--clock", "1k", "--line", "115200 8N1")
    assert (status, "fails: no usual generator makes 115200 8N1 from 1 kHz" in out) == (1, True)


def test_a_card_says_what_to_set_at_the_other_end(shell, sheet):
    status, out, _ = shell("plan", sheet, "--card", "--wire", "from_pump")
    rows = dict(line.split("  ", 1) for line in out.splitlines() if "  " in line.strip())
    rows = {name: text.strip() for name, text in rows.items()}
    assert status == 0
    assert rows["in short"] == "19200 8E1"
    assert rows["data bits"] == "8, without the parity bit"
    assert rows["word length"] == "9, where the parity bit is counted"
    assert rows["on the wire"] == "11 bit times a character, 573 µs"
    assert "to_pump" not in out


def test_the_settings_of_a_host_port_are_read_back(shell, sheet):
    termios = pytest.importorskip("termios", reason="there are no POSIX terminals here")
    controller, host = os.openpty()
    state = termios.tcgetattr(host)
    state[2] = state[2] & ~termios.CSIZE | termios.CS7 | termios.PARENB | termios.PARODD | termios.CSTOPB
    state[4] = state[5] = termios.B9600
    termios.tcsetattr(host, termios.TCSANOW, state)
    path = os.ttyname(host)
    _, out, _ = shell("plan", sheet, "--json", "--read-back", f"controller={path}")
    stated = {row["end"]: row for row in json.loads(out)["ends"]["to_pump"]}
    now = termios.tcgetattr(host)
    os.close(controller)
    os.close(host)
    # a pseudo terminal keeps eight bits without parity, whatever it is told
    assert stated["controller"] == {"end": "controller", "role": "sends", "line": "9600 8N2", "stated_in": path}
    assert now[4] == termios.B9600


def test_the_margin_of_a_wire_is_drawn(shell, sheet, tmp_path):
    status, _, err = shell("plan", sheet, "-o", tmp_path / "m.png", "--wire", "to_pump")
    assert (status, err) == (0, f"drawn into {tmp_path / 'm.png'}\n")
    assert (tmp_path / "m.png").read_bytes()[:4] == b"\x89PNG"
    planned = lr.plan(lr.open_sheet(sheet))
    axes = lr.present.draw_margin(planned.margins["to_pump"][0])
    texts = [text.get_text() for text in axes.texts]
    assert ["start", *map(str, range(8)), "parity", "stop"] == [text for text in texts if len(text) < 7]
    assert [text.rpartition(" ")[2] for text in texts if ";" in text] == ["much", "left", "left"]
    assert sum(box.get_hatch() is not None for box in axes.patches) == 2  # parity and stop bit, when fastest
    boxes = [box for box in axes.patches if not box.get_fill() and box.get_hatch() is None]
    assert len(boxes) == 3 * 11


@pytest.mark.parametrize(
    ("arguments", "shown"),
    [
        ("plan", "SHEET is missing. Give either a sheet, or --clock and --line."),
        ("plan {sheet} --clock 8M", "SHEET and --clock are both given."),
        ("plan --clock 8M", "--line is missing."),
        ("plan {sheet} --oversampling 8", "--oversampling does not go with a SHEET."),
        ("plan --clock 8M --line '9600 8N1' --card", "--card does not go with --clock."),
        ("plan --clock fast --line x", '"fast" is not a rate'),
        ("plan --clock 8M --line 9600x", 'must be baud and format, as in "57600 8E1"'),
        ("plan --clock 0 --line '9600 8N1'", "--clock is 0.0. It must be more than 0."),
        ("plan --clock 8M --line '9600 8N1' --oversampling 0", "--oversampling is [0]"),
        ("plan --clock 8M --line '9600 8N1' --oversampling many", '"many" must be whole numbers'),
        ("plan --clock 8M --line '9600 8N1' --accuracy good", "must be a share"),
        ("plan --clock 8M --line '9600 8N1' --written 0", "hold the divisor 0. It must be 1 to 65535."),
        ("plan {sheet} --wire pump --card", 'wire "pump" is not a wire of the sheet. Did you mean "to_pump"?'),
        ("plan {sheet} -o m.gif", 'ends in ".gif"'),
        ("plan {sheet} --registers dump.csv", "names no end. It must name one, as in"),
        ("plan {sheet} --registers pump=dump.csv", 'names the end "pump". Did you mean "pump_head"?'),
        ("plan {sheet} --registers pump_head=lost.csv", "cannot be read: No such file"),
        ("plan {sheet} --read-back controller=/dev/lost", "cannot be opened: No such file"),
        ("plan {sheet} --read-back controller=/dev/null", "is not a serial device"),
    ],
)
def test_what_cannot_be_planned_is_refused_in_a_sentence(shell, sheet, arguments, shown):
    import shlex

    status, out, err = shell(*shlex.split(arguments.format(sheet=sheet)))
    assert (status, out) == (2, "")
    assert shown in " ".join(err.split())
    assert "Traceback" not in err


def test_plan_runs_declared_traffic_or_a_burst_through_the_receive_paths(shell, rig_files, tmp_path):
    """The rig's ring of 127 loses nothing of its traffic. A burst of 500 at 5,236 a second, taken every 10 ms, needs 53."""
    status, out, err = shell("plan", rig_files["sheet"], "--only", "receive")
    assert (status, err) == (0, "")
    assert "6,448 characters: 6,448 taken." in out
    status, out, _ = shell("plan", rig_files["sheet"], "--only", "receive", "--burst", 500)
    assert (status, "500 characters: 500 taken." in out) == (0, True)
    folder = rig_files["sheet"].parent
    status, out, _ = shell("plan", folder / "history.toml", "--json")
    document = json.loads(out)
    assert (status, document["verdict"]) == (1, "faults")
    assert document["receive"]["from_pump"]["fates"] == {"taken": 748, "dropped": 532}
    assert {one["kind"] for one in document["findings"]} == {"predicted-overflow", "pause-unused"}
    for figure in ("fill", "losses"):
        picture = tmp_path / f"{figure}.png"
        assert shell("plan", folder / "history.toml", "--figure", figure, "-o", picture)[0] == 0
        assert picture.read_bytes().startswith(b"\x89PNG")
        assert shell("draw", folder / "history.toml", folder / "history.vcd", figure, "-o", tmp_path / "d.svg")[0] == 0
    status, _, err = shell("plan", rig_files["sheet"], "--figure", "fill")
    assert (status, err) == (
        2,
        "larkreader: --figure is fill, with no file to draw it into. Goes with --output FILE.\n",
    )
    at = ("--at", "0.02", "--count", 100)
    assert shell("draw", folder / "history.toml", folder / "history.vcd", "fill", "-o", tmp_path / "d.svg", *at)[0] == 0


def test_decode_tells_what_the_declared_path_would_lose_with_and_without_flow_control(shell, rig_files):
    folder = rig_files["sheet"].parent
    status, out, _ = shell("decode", folder / "history.toml", folder / "history.vcd")
    assert (status, "381 taken, 259 dropped, the ring was full" in out) == (1, True)
    status, out, _ = shell("decode", folder / "history_paused.toml", folder / "history_paused.vcd", "--json")
    document = json.loads(out)
    assert (status, document["verdict"], document["receive"]["from_pump"]["fates"]) == (0, "clean", {"taken": 640})


def test_what_became_of_each_character_is_written_as_a_table(shell, rig_files, tmp_path):
    folder, fates = rig_files["sheet"].parent, tmp_path / "fates.csv"
    assert shell("decode", folder / "history.toml", folder / "history.vcd", "--fates", fates)[0] == 1
    table = pd.read_csv(fates)
    assert table["fate"].value_counts().to_dict() == {"taken": 381, "dropped": 259}
    assert (table["lost_s"].notna() == (table["fate"] == "dropped")).all()
    assert table["number"].tolist() == list(range(640))
    assert table["value"][:2].tolist() == [0xD7, 0x4B]
    status, _, err = shell(
        "decode", rig_files["sheet"], rig_files["delivered"], "--wire", "from_pump", "--fates", fates
    )
    assert (status, "--fates has nothing to write" in err) == (2, True)


@pytest.mark.parametrize(
    ("path", "message"),
    [
        ("fifo = { size = 4, trigger = 9 }", "receive.tx.fifo = {\"size\": 4, \"trigger\": 9}\n      trigger must be at most 4"),
        ('service = { kind = "interupt" }', "must have a kind of \"interrupt\", \"polling\", \"dma\" or \"software\""),
        ("ring = { size = 8 }", "receive.tx.application\n      is missing: ring needs it"),
        (
            'ring = { size = 8 }\napplication = { kind = "lines", every_s = 1, terminator = "LF" }',
            'receive.tx.application.terminator = "LF"\n      must be 1 to 4 bytes in hexadecimal',
        ),
        ("deaf = [{ for_s = 1, every_s = 2 }, { for_s = 1, every_s = 2 }]", "leave no time for any service"),
        ('pause = { at = 4, resume_at = 5, watches = "fifo" }', "resume_at must be less than at"),
        ('service = { kind = "dma", block = 8, circular = false, notices = ["idle"] }', 'notices must hold "full"'),
    ],
)  # fmt: skip
def test_a_path_that_cannot_be_is_told_at_its_place(shell, tmp_path, path, message):
    sheet = tmp_path / "a.toml"
    sheet.write_text(f"sheet = 1\n[wire.tx]\n[receive.tx]\n{path}\n")
    status, _, err = shell("plan", sheet)
    assert (status, message in err) == (2, True), err


@pytest.mark.parametrize(
    ("path", "kind", "text"),
    [
        ('application = { kind = "blocking", length = 80, terminated = true }', "large-request", "80 characters and a NUL"),
        ('application = { kind = "blocking", length = 80, whole = true }', "large-request", "the ring, which holds 64"),
        ('application = { kind = "lines", every_s = 0.1 }', "large-request", "may have 79 characters, and the ring holds 64"),
        ('application = { kind = "periodic", every_s = 0.0109 }', "little-room", "up to 57 of the ring's 64 places"),
        (
            'fifo = { size = 8, trigger = 4 }\napplication = { kind = "periodic", every_s = 0.005 }',
            "waiting-tail", "2 characters are still in the FIFO at the end",
        ),
        (
            'service = { kind = "interrupt", each_s = 1.2e-4 }\napplication = { kind = "periodic", every_s = 0.005 }',
            "busy-processor", "serving it takes 61 % of the processor's time",
        ),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_path_before_anything_is_lost_is_told(path, kind, text):
    """At 57600 8E1 a character takes 191 µs. 202 of them, by fours, leave 2; at 120 µs each they take 24.24 of 40 ms."""
    sheet = (
        f'sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]\n[receive.tx]\nring = {{ size = 64 }}\n{path}\n'
    )
    found = {one.kind: one.text for one in lr.plan(lr.parse_sheet(sheet), burst=202).findings}
    assert text in found.get(kind, ""), found
