import json
import threading

import pytest

import larkreader as lr
from larkreader.demo.rig import rig_sheet
from larkreader.exercise.devices.device import Device
from larkreader.exercise.devices.pump import DosingPump
from larkreader.exercise.talk.stepping import Stepping, probe_flow_control

RIG = rig_sheet()


BAUDS = (9600, 115_200, 57_600, 38_400, 19_200, 4800)


class Talker(Device):
    """Says so many characters of a text every tenth of a second."""

    speaks_unasked = True

    def __init__(self, count):
        self.text, self.due_s = (b"flow 12.5 mL/min, pressure 101.25 kPa\r\n" * 9)[:count], 0.0

    def react(self, received, now_s):
        if now_s < self.due_s:
            return b""
        self.due_s = now_s + 0.1
        return self.text


def stepped(make, far, **options):
    line = lr.LineSettings.parse(far)
    stepping = Stepping(lambda tried: lr.SimulatedPort(tried, make(), far=line), 0.25, bauds=BAUDS, **options)
    assert len(list(stepping.run())) == len(stepping.trials)
    return stepping


@pytest.mark.parametrize("far", ["57600 8E1", "9600 8N1", "19200 8O1", "38400 7E1", "4800 7O1"])
@pytest.mark.parametrize("make", [lambda: Talker(60), DosingPump])
def test_the_settings_of_a_device_are_found_from_text_and_from_binary_frames(make, far):
    if far[-3] == "7" and make is DosingPump:
        return  # binary frames need eight data bits
    stepping = stepped(make, far, layouts=RIG.layouts_of("from_pump") if make is DosingPump else ())
    assert str(stepping.best.line) == far
    assert (stepping.best.faulty, stepping.best.sense > 0.95) == (0, True)


def test_what_cannot_be_told_is_not_told():
    """Nothing said; too little said; an echo that takes on any settings."""
    assert stepped(lambda: Device(), "9600 8N1").best is None
    assert stepped(lambda: Talker(1), "9600 8N1").best is None
    echo = Stepping(
        lambda line: lr.SimulatedPort(line, Device()), 0.25, bauds=BAUDS, ask=b"flow 12.5 mL/min, pressure\r\n"
    )
    list(echo.run())
    assert echo.best is None
    assert echo.ranked[0].fault_share == 0


def test_the_command_shows_the_trials_and_writes_a_sheet(shell, tmp_path):
    sheet = tmp_path / "found.toml"
    status, out, _ = shell("diagnose", "stand-in:talking-pump", "--write", sheet)
    assert status == 0
    assert "It speaks 38400 7E1, almost certain." in out
    assert str(lr.open_sheet(sheet).line) == "38400 7E1"
    status, out, _ = shell("diagnose", "stand-in:talking-pump", "--json")
    found = json.loads(out)
    assert (found["proposal"], found["trials"][0]["line"]) == ("38400 7E1", "38400 7E1")
    status, out, _ = shell("diagnose", "stand-in:echo")
    assert (status, "requests needs" in out.replace("\n", " ")) == (1, True)
    for arguments, message in [
        (["stand-in:talking-pump", "--write", sheet], "exists already"),
        (["pty"], "has no line settings"),
        (["stand-in:echo", "--sent", "flow"], "is a port"),
        ([sheet, "--flow-probe"], "go with a port"),
    ]:
        status, _, err = shell("diagnose", *arguments)
        assert (status, message in " ".join(err.split())) == (2, True)


@pytest.mark.parametrize(
    ("device", "outcome"),
    [
        (lambda data: data, "passes"),
        (lambda data: data.translate(None, b"\x11\x13"), "swallows"),
        (lambda data: data[: data.find(b"\x13")] if b"\x13" in data else data, "stops"),
        (lambda data: b"", "no-echo"),
    ],
)
def test_the_flow_probe_tells_what_becomes_of_xon_and_xoff(device, outcome):
    port = lr.SimulatedPort(lr.LineSettings.parse("9600 8N1"), device)
    assert probe_flow_control(port) == outcome


@pytest.mark.parametrize(("line", "outcome"), [("57600 8N1", "passes"), ("57600 8N1 xon-xoff", "swallows")])
def test_a_terminal_driver_with_flow_control_swallows_them(line, outcome):
    with lr.open_port("pty") as far, lr.open_port(far.name, lr.LineSettings.parse(line)) as device:
        stop = threading.Event()

        def echo():
            while not stop.is_set():
                if (arrived := far.read_some(64, 0.02)).data:
                    far.write(arrived.data)

        thread = threading.Thread(target=echo)
        thread.start()
        try:
            assert probe_flow_control(device, 0.3) == outcome
        finally:
            stop.set()
            thread.join()
