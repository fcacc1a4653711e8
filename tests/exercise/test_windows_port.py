"""Serial ports of Windows: against a made-up driver on every system, on a real port where one echoes."""

import ctypes
import os
import pickle
import subprocess
import sys
import threading
import time
from collections import deque
from contextlib import contextmanager

import pytest

import larkreader as lr
from larkreader.capture.characters import Fault
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.recording import RecordingWriter
from larkreader.exercise.ports import listing, win32, windows, windows_holders
from larkreader.exercise.ports import open as opening
from larkreader.testing.ports import check_port

ECHO = os.environ.get("LARKREADER_ECHO_PORT")  # a port whose other end sends back what arrives
needs_echo = pytest.mark.skipif(ECHO is None, reason="LARKREADER_ECHO_PORT names no port that echoes")
LINE = lr.LineSettings.parse("57600 8E1")
BLOCK = int(Fault.BY_BLOCK)


class Driver:
    """Does what the documentation of the communications functions promises; its other end echoes."""

    def __init__(self, path="", *, refuses=None, keeps=()):
        self.path, self.refuses, self.keeps = path, refuses, keeps
        self.state = win32.Dcb(BaudRate=1200, ByteSize=7, Parity=2, StopBits=2, fRtsControl=3)
        self.limits = win32.CommTimeouts(1, 2, 3, 4, 5)
        self.queue, self.errors, self.history = bytearray(), deque(), []
        self.arrived = threading.Condition()
        self.is_open = True

    def arrive(self, data, errors=0):
        """Let data arrive, and the driver know of errors by the next look."""
        with self.arrived:
            self.queue += data
            self.errors.append(errors)
            self.arrived.notify_all()

    def look(self):
        with self.arrived:
            errors = 0
            while self.errors:
                errors |= self.errors.popleft()
            return errors, len(self.queue), 0

    def read(self, length, limit_s):
        with self.arrived:
            self.arrived.wait_for(lambda: len(self.queue) >= length, limit_s)
            data = bytes(self.queue[:length]) if len(self.queue) >= length else b""
            del self.queue[: len(data)]
            return data

    def write(self, data, limit_s):
        if self.refuses is not None:
            raise win32.Win32Error(self.refuses)
        self.arrive(data)
        return len(data)

    def settings(self):
        return win32.Dcb.from_buffer_copy(self.state)

    def set(self, settings):
        held = {name: getattr(self.state, name) for name in self.keeps}
        self.state = win32.Dcb.from_buffer_copy(settings)
        for name, value in held.items():
            setattr(self.state, name, value)

    def time_limits(self):
        return win32.CommTimeouts.from_buffer_copy(self.limits)

    def set_time_limits(self, limits):
        self.limits = win32.CommTimeouts.from_buffer_copy(limits)

    def set_queues(self, received, to_send):
        pass

    def purge(self, what):
        if what & win32.PURGE_RXCLEAR:
            self.queue.clear()

    def modem_status(self):
        return win32.MS_CTS_ON | win32.MS_RING_ON

    def dtr_and_rts(self):
        return 1

    def escape(self, function):
        self.history.append(function)

    def set_break(self, on):
        self.history.append(on)

    def close(self):
        self.is_open = False


def test_structures_are_as_long_as_windows_has_them():
    lengths = {win32.Dcb: 28, win32.CommTimeouts: 20, win32.ComStat: 12}
    assert {structure: ctypes.sizeof(structure) for structure in lengths} == lengths


def test_what_the_system_refused_survives_another_process():
    again = pickle.loads(pickle.dumps(win32.Win32Error(5)))
    assert (type(again), again.code, str(again)) == (win32.Win32Error, 5, str(win32.Win32Error(5)))


def port_on(driver, line=LINE):
    return windows.WindowsPort(driver, "COM3", line)


def test_it_does_what_every_port_must():
    check_port(lambda: port_on(Driver()))


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("57600 8N1", (57600, 8, 0, 0, 0, 0, 0, 1)),
        ("9600 7O2", (9600, 7, 1, 2, 1, 0, 0, 1)),
        ("31250 8E1 xon-xoff", (31250, 8, 2, 0, 1, 1, 0, 1)),
        ("2000000 8M1 rts-cts", (2_000_000, 8, 3, 0, 1, 0, 1, 2)),
        ("300 5S1.5", (300, 5, 4, 1, 1, 0, 0, 1)),
    ],
)
def test_it_is_set_as_declared_and_left_as_found(text, expected):
    """The codes are those of the structure DCB as Windows documents it."""
    driver = Driver()
    with port_on(driver, lr.LineSettings.parse(text)) as port:
        now = driver.state
        fields = (now.BaudRate, now.ByteSize, now.Parity, now.StopBits, now.fParity, now.fOutX)
        assert (*fields, now.fOutxCtsFlow, now.fRtsControl) == expected
        assert (now.fBinary, now.fNull, now.fErrorChar, now.fAbortOnError, now.fInX) == (1, 0, 0, 0, now.fOutX)
        assert bytes(driver.limits) == bytes(20)
        assert not any("did not take" in note for note in port.notes)
        assert port.modem_lines() == {"rts": False, "dtr": True, "cts": True, "dsr": False, "dcd": False, "ri": True}
        port.set_modem_line("dtr", False)
        assert driver.history == [6]
    assert bytes(driver.state) == bytes(Driver().state)
    assert bytes(driver.limits) == bytes(Driver().limits)
    assert not driver.is_open


def test_what_the_driver_does_not_take_is_noted_and_what_stays_changed_too():
    driver = Driver(keeps=("BaudRate", "Parity", "StopBits"))
    driver.arrive(b"old")
    with port_on(driver) as port:
        notes = "; ".join(port.notes)
        assert "made 1200 of 57600 baud" in notes
        assert "3 characters that were received before the port was set up were thrown away" in notes
        driver.keeps = ("ByteSize",)
    assert port.notes[-1] == "not restored on closing: data bits"


def test_faults_are_marked_on_the_block_that_the_driver_tells_them_of():
    """A look tells of all that arrived since the last one; what was waiting then already is not accused."""
    driver = Driver()
    with port_on(driver) as port:
        driver.arrive(b"abc", win32.CE_RXPARITY)
        assert port.read_some(2, 0.1).faults == bytes([Fault.PARITY | BLOCK] * 2)
        driver.arrive(b"de")
        assert port.read_some(9, 0.1)[::2] == (b"cde", bytes([Fault.PARITY | BLOCK, 0, 0]))
        driver.arrive(b"", win32.CE_FRAME | win32.CE_OVERRUN)  # told before the character is there
        assert port.read_some(9, 0).data == b""
        driver.arrive(b"f", win32.CE_BREAK | win32.CE_RXOVER)
        assert port.read_some(9, 0.1).faults == bytes([Fault.FRAMING | Fault.BREAK | BLOCK])
        driver.arrive(b"g")
        assert port.read_some(9, 0.1).faults == b"\0"
        counted = {"parity errors": 1, "framing errors": 1, "breaks": 1, "overruns": 1, "buffer overflows": 1}
        assert port.error_counters() == counted


def test_a_fault_of_a_block_is_a_finding_about_the_block_and_accuses_no_character(tmp_path):
    path = tmp_path / "block.rec"
    with RecordingWriter(path, "2026-03-01T06:00:00Z", {"from_pump": {}}) as writer:
        writer.add(0.0, "from_pump", b"ok")
        writer.add(0.1, "from_pump", b"flow", bytes([Fault.PARITY | BLOCK] * 4))
        writer.add(0.2, "from_pump", b"ab", bytes([Fault.PARITY | BLOCK, Fault.PARITY]))
    characters = CaptureFile(path).every_wire()["from_pump"]
    assert characters.counted == ((2, "parity", 1), (6, "parity", 1))
    assert characters.faults.tolist() == [0] * 7 + [Fault.PARITY]
    reading = lr.read(lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.from_pump]\n'), path)
    texts = {
        finding.count: f"{finding.text} {finding.detail}"
        for finding in reading.findings
        if finding.kind == "parity-error"
    }
    assert sorted(texts) == [1, 2]
    assert "at least one character of each block is faulty" in texts[2]


@pytest.mark.parametrize(
    ("code", "message"),
    [
        (2, 'port "COM3" does not exist. Did you mean "COM31"?'),
        (5, "is busy, held by dosing (77). Close it there first."),
        (31, "has a name but no device behind it"),
        (87, "is not a serial port"),
        (1450, "cannot be opened"),
    ],
)
def test_what_windows_refuses_is_put_in_words(monkeypatch, code, message):
    def refuse(path):
        assert path == r"\\.\COM3"
        raise win32.Win32Error(code)

    monkeypatch.setattr(opening, "IS_WINDOWS", True)
    monkeypatch.setattr(opening, "device_paths", lambda: ["COM31"])
    monkeypatch.setattr(opening, "holders_of", lambda name: ["dosing (77)"])
    monkeypatch.setattr(win32, "CommDevice", refuse)
    for call in (lr.open_port, opening.read_back):
        with pytest.raises(lr.PortError) as caught:
            call("COM3")
        assert message in str(caught.value)
    with pytest.raises(lr.PortError, match="of no kind that can be opened"):
        lr.open_port("pumphead")


def test_a_port_that_is_pulled_out_says_so():
    driver = Driver()
    with port_on(driver) as port:
        driver.refuses = win32.ERROR_GEN_FAILURE
        with pytest.raises(lr.PortError, match=r"is gone. Was it unplugged\?"):
            port.write(b"x")


def test_settings_are_read_back_and_nothing_is_changed(monkeypatch):
    driver = Driver()
    monkeypatch.setattr(win32, "CommDevice", lambda path: driver)
    assert str(windows.read_back("COM3")) == "1200 7E2"
    assert bytes(driver.state) == bytes(Driver().state)
    assert not driver.is_open


class Kernel:
    """A read that never ends by itself, during which somebody presses Ctrl-C."""

    def __init__(self):
        self.calls = []

    def __getattr__(self, name):
        def call(*arguments):
            self.calls.append(name)
            if name == "WaitForSingleObject":
                raise KeyboardInterrupt
            return name not in ("ReadFile", "GetOverlappedResult")

        return call


def test_a_read_that_is_interrupted_lets_go_of_its_buffer(monkeypatch):
    """The system writes into it until the read is cancelled and has ended."""
    kernel = Kernel()
    errors = iter([win32.ERROR_IO_PENDING, win32.ERROR_OPERATION_ABORTED])
    monkeypatch.setattr(win32, "kernel32", lambda: kernel)
    monkeypatch.setattr(win32, "_last_error", lambda: win32.Win32Error(next(errors)))
    device = win32.CommDevice(r"\\.\COM3")
    with pytest.raises(KeyboardInterrupt):
        device.read(1, 10.0)
    order = ["ReadFile", "WaitForSingleObject", "CancelIoEx", "GetOverlappedResult", "CloseHandle"]
    assert kernel.calls[-5:] == order


REGISTRY = {
    r"HARDWARE\DEVICEMAP\SERIALCOMM": {r"\Device\Serial0": "COM10", r"\Device\VCP0": "COM3"},
    r"SYSTEM\CurrentControlSet\Enum\ACPI\PNP0501\1": {
        "ClassGUID": "{4D36E978-E325-11CE-BFC1-08002BE10318}",
        "FriendlyName": "Communications Port (COM10)",
    },
    r"SYSTEM\CurrentControlSet\Enum\ACPI\PNP0501\1\Device Parameters": {"PortName": "COM10"},
    r"SYSTEM\CurrentControlSet\Enum\ROOT\DISK\0": {"ClassGUID": "{4d36e967-e325-11ce-bfc1-08002be10318}"},
    r"SYSTEM\CurrentControlSet\Enum\USB\VID_1209&PID_0001\7": {
        "ClassGUID": "{4d36e978-e325-11ce-bfc1-08002be10318}",
        "DeviceDesc": "@pump.inf,%name%;Dosing rig adapter",
    },
    r"SYSTEM\CurrentControlSet\Enum\USB\VID_1209&PID_0001\7\Device Parameters": {"PortName": "COM3"},
}


class Registry:
    """Answers as the module `winreg` does."""

    HKEY_LOCAL_MACHINE = 0

    @contextmanager
    def OpenKey(self, root, path):
        if not any(one == path or one.startswith(path + "\\") for one in REGISTRY):
            raise FileNotFoundError(path)
        yield path

    def _below(self, path):
        return sorted({one[len(path) + 1 :].split("\\")[0] for one in REGISTRY if one.startswith(path + "\\")})

    def QueryInfoKey(self, path):
        return len(self._below(path)), len(REGISTRY.get(path, {})), 0

    def EnumKey(self, path, place):
        return self._below(path)[place]

    def EnumValue(self, path, place):
        name, value = list(REGISTRY[path].items())[place]
        return name, value, 1


def test_ports_are_listed_from_the_registry_in_the_order_of_their_numbers(monkeypatch, shell):
    monkeypatch.setitem(sys.modules, "winreg", Registry())
    monkeypatch.setattr(listing, "IS_WINDOWS", True)
    monkeypatch.setattr(
        windows_holders, "holders", lambda names: {name: ["dosing (77)"] * (name == "COM3") for name in names}
    )
    status, out, _ = shell("ports")
    assert status == 0
    assert out.splitlines() == [
        "COM3  Dosing rig adapter; held by dosing (77)",
        "COM10  Communications Port; free as far as known",
    ]


@needs_echo
def test_a_real_port_does_what_every_port_must():
    check_port(lambda: lr.open_port(ECHO, lr.LineSettings.parse("115200 8N1")))


@needs_echo
def test_a_loopback_on_a_real_port_passes():
    with lr.open_port(ECHO, lr.LineSettings.parse("115200 8N1")) as port:
        result = lr.run_loopback(port, lr.LoopbackPlan(characters=30_000, limit_s=0.5, pattern="random"))
    assert (result.verdict, result.received) == ("pass", 30_000)


@needs_echo
def test_a_real_port_is_set_broken_and_left_as_found():
    found = opening.read_back(ECHO)
    with lr.open_port(ECHO, lr.LineSettings.parse("9600 8N2")) as port:
        assert not any("baud" in note or "stop bits" in note or "data bits" in note for note in port.notes)
        assert set(port.error_counters().values()) == {0}
        begin_s = time.perf_counter()
        port.send_break()
        assert 0.25 <= time.perf_counter() - begin_s < 1
        assert port.now_s() >= begin_s
    assert opening.read_back(ECHO) == found


@needs_echo
def test_real_ports_are_listed_and_a_wrong_name_gets_them(shell):
    status, out, _ = shell("ports")
    assert (status, out.split("  ")[0]) == (0, ECHO)
    assert shell("ports", "--wait", "--seconds", "0.2")[0] == 1
    with pytest.raises(lr.PortError, match=f'"COM77" does not exist.*"{ECHO}"'):
        lr.open_port("COM77")
    with pytest.raises(lr.PortError, match="is not a serial port"):
        lr.open_port(r"\\.\NUL")


HOLDER = """
import sys, larkreader as lr
with lr.open_port(sys.argv[1]):
    print("open", flush=True)
    sys.stdin.read()
"""


@needs_echo
def test_another_program_that_has_a_real_port_is_named(monkeypatch):
    """Under wine a port can be opened twice, and a handle has another name than the port's device."""
    command = [sys.executable, "-c", HOLDER, ECHO]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as other:
        assert other.stdout.readline().strip() == "open"
        holder = f"python ({other.pid})"
        try:
            with lr.open_port(ECHO) as port:
                _, system = windows_holders._libraries()
                name = windows_holders._name_of(system, port._device._handle)
                monkeypatch.setattr(windows_holders, "_device_of", lambda *_: name)
                assert windows_holders.holders([ECHO]) == {ECHO: [holder]}
        except lr.PortError as error:
            assert f"held by {holder}" in str(error)  # noqa: PT017 (the other outcome is right too)
        other.communicate()


@needs_echo
def test_commands_talk_to_a_real_port(shell, tmp_path):
    status, _, err = shell("loopback", ECHO, "--line", "115200 8N1", "--characters", "2000")
    assert status == 0, err
    record = tmp_path / "answers.rec"
    status, _, err = shell("send", ECHO, "flow?", "--line", "115200 8N1", "--record", record)
    assert (status, "by the block" in err) == (0, True)
    assert bytes(CaptureFile(record).every_wire()["in"].value.tolist()) == b"flow?"


def test_a_loopback_counts_a_block_with_a_fault_once():
    """Where at least one of many characters had it, more than one is not known."""
    driver = Driver()
    arrive = driver.arrive
    driver.arrive = lambda data, errors=0: arrive(data, win32.CE_RXPARITY)
    with port_on(driver) as port:
        result = lr.run_loopback(port, lr.LoopbackPlan(characters=64, block=64, limit_s=0.2))
    assert result.faults == {"parity": 1}


def test_settings_that_no_line_has_are_refused_when_they_are_read_back(monkeypatch):
    driver = Driver()
    driver.state.ByteSize = 4
    monkeypatch.setattr(win32, "CommDevice", lambda path: driver)
    with pytest.raises(lr.PortError, match="has the settings 1200 4E2, which no line has"):
        windows.read_back("COM3")
