import pytest

import larkreader as lr
from larkreader.cli import run
from larkreader.declare.run.port import DeclaredPort
from larkreader.exercise.devices.device import Device
from larkreader.exercise.talk.session import start_session

LINE = lr.LineSettings.parse("57600 8E1")


class Booting(Device):
    """Says something when it starts, half a second after the port was opened, and echoes from then on."""

    speaks_unasked = True

    def __init__(self, says):
        self.says = says

    def react(self, received, now_s):
        if now_s >= 0.5 and self.says:
            expected, self.says = self.says, b""
            return expected
        return received


def declared(**parts):
    return DeclaredPort(key="pump", at="stand-in:echo", **parts)


def test_what_comes_before_ready_is_told_apart_from_the_dialogue():
    port = lr.SimulatedPort(LINE, Booting(b"\x00boot\r\npump ready\r\nflow 0\r\n"))
    started = start_session(port, declared(ready="pump ready\\r\\n"))
    assert (started.before, started.findings) == (b"\x00boot\r\n", ())
    assert port.read(8, 1.0).data == b"flow 0\r\n"


def test_a_device_that_is_never_ready_is_a_finding():
    port = lr.SimulatedPort(LINE, Booting(b"pump head 1.4\r\n"))
    started = start_session(port, declared(ready="ready", ready_within_s=1.0))
    (finding,) = started.findings
    assert (finding.kind, finding.severity, finding.wire) == ("never-ready", "error", "pump")
    assert 'Waited 1 s for "ready"; received 15 other characters.' in finding.text
    assert started.before == b"pump head 1.4\r\n"


def test_start_up_noise_is_read_away_while_the_line_settles():
    port = lr.SimulatedPort(LINE, Booting(b"\xff\x00noise"))
    assert start_session(port, declared(settle_s=0.7)).before == b"\xff\x00noise"


class Wired(lr.SimulatedPort):
    """A port with control lines; notes what is done to them and when."""

    def __init__(self):
        super().__init__(LINE, Device())
        self.done = []

    def set_modem_line(self, name, asserted):
        self.done.append((round(self.now_s(), 3), name, asserted))


def test_control_lines_are_set_and_the_reset_is_pulsed():
    port = Wired()
    start_session(port, declared(rts=False, reset={"line": "dtr", "hold_s": 0.25}))
    assert port.done == [(0.0, "rts", False), (0.0, "dtr", True), (0.25, "dtr", False)]


def test_control_lines_that_are_not_there_are_noted():
    simulated = lr.SimulatedPort(LINE, Device())
    assert start_session(simulated, declared(dtr=True)).notes == (
        "dtr was left alone: simulated line has no control lines",
    )
    with lr.open_port("pty") as far, lr.open_port(far.name, lr.LineSettings()) as device:
        (note,) = start_session(device, declared(rts=True)).notes
    assert note.startswith("rts was left alone: ")
    assert "has no line rts" in note


SHEET = """sheet = 1
[line]
baud = 57600
format = "8E1"
[wire.to_pump]
[wire.from_pump]
line = { baud = 19200 }
[port.pump]
at = "stand-in:line-answerer"
wire = "from_pump"
[port.asleep]
at = "stand-in:echo"
ready = "ready"
ready_within_s = 0.2
"""


@pytest.fixture
def sheet(tmp_path):
    path = tmp_path / "rig.toml"
    path.write_text(SHEET)
    return path


def test_a_port_is_named_by_the_sheet_and_has_the_line_of_its_wire(sheet, capsys):
    assert (
        run(["loopback", str(sheet), "pump", "--pattern", "lines", "--expect", "prefixed", "--characters", "240"]) == 0
    )
    assert "Loopback on pump at 19200 8E1, pattern lines" in capsys.readouterr().out
    assert run(["send", "asleep", "x", "--sheet", str(sheet)]) == 1
    assert 'error never-ready on asleep: Waited 0.2 s for "ready"' in capsys.readouterr().err


def test_a_recording_is_sent_again_at_its_own_pace(sheet, tmp_path, capsys):
    first, second = tmp_path / "first.jsonl", tmp_path / "second.jsonl"
    options = ["--sheet", str(sheet), "--ending", "lf", "--times", "3", "--every", "200"]
    assert run(["send", "pump", "line {n}", *options, "--record", str(first)]) == 0
    assert run(["send", "pump", "--replay", str(first), "--sheet", str(sheet), "--record", str(second)]) == 0
    wires = {"to_pump": "to_pump", "from_pump": "from_pump"}
    one, two = (lr.open_capture(path, wires)["to_pump"] for path in (first, second))
    assert one.value.tolist() == two.value.tolist()
    assert one.begin_s == pytest.approx(two.begin_s, abs=0.02)
    assert set(one.begin_s.round(1)) == {0.0, 0.2, 0.4}
    capsys.readouterr()
    assert run(["send", "pump", "--replay", str(first), "--wire", "to_pmup", "--sheet", str(sheet)]) == 2
    assert 'Did you mean "to_pump"?' in capsys.readouterr().err


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        (
            'wire = "from_pump"',
            'wire = "from_pmp"',
            'port.pump.wire = "from_pmp"\n      is not a wire of this sheet. Did you mean',
        ),
        ("ready_within_s = 0.2", "ready_within_s = -1", "port.asleep.ready_within_s = -1\n      must be more than 0"),
        ('at = "stand-in:echo"', "", "port.asleep.at\n      is missing."),
        ("ready =", "raedy =", 'port.asleep.raedy\n      is not a key of [port.asleep]. Did you mean "ready"?'),
    ],
)
def test_mistakes_in_a_declared_port_are_told(old, new, message):
    with pytest.raises(lr.SheetError) as caught:
        lr.parse_sheet(SHEET.replace(old, new, 1))
    assert message in str(caught.value)
