import errno
import os
import select
import socket
import struct
import subprocess
import sys
import threading
import time
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.marks import MarkReader
from larkreader.cli import run
from larkreader.exercise.ports import listing
from larkreader.exercise.ports.borrowed import BorrowedPort
from larkreader.exercise.ports.listing import find_ports
from larkreader.testing.ports import check_hardware, check_port

termios = pytest.importorskip("termios", reason="there are no POSIX terminals here")
ioctl = pytest.importorskip("fcntl").ioctl
bauds = pytest.importorskip("larkreader.exercise.ports.bauds")

LINE = lr.LineSettings.parse("57600 8N1")


def open_descriptors():
    """Return how many descriptors this program has open."""
    return len(list(Path("/dev/fd").iterdir()))


@contextmanager
def echoing(port):
    """Let a thread send back all that arrives at a port, until the block ends."""
    done = threading.Event()

    def echo():
        while not done.is_set():
            try:
                port.write(port.read_some(4096, 0.02).data, 5.0)
            except lr.PortError:
                return

    thread = threading.Thread(target=echo, daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join(5)
        assert not thread.is_alive()
        port.close()


@contextmanager
def pty_side():
    near = lr.open_port("pty")
    with echoing(lr.open_port(near.name, LINE)), near:
        yield near


@contextmanager
def device_side():
    far = lr.open_port("pty")
    with echoing(far), lr.open_port(far.name, LINE) as device:
        yield device


@contextmanager
def tcp_side(kind):
    """Join a connecting and an accepting port; give the one that `kind` names."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        number = free.getsockname()[1]
    accepted = []
    thread = threading.Thread(
        target=lambda: accepted.append(lr.open_port(f"accept:127.0.0.1:{number}", limit_s=5.0)), daemon=True
    )
    thread.start()
    for _ in range(200):
        try:
            connected = lr.open_port(f"127.0.0.1:{number}")
            break
        except lr.PortError:
            time.sleep(0.01)
    thread.join(5)
    near, far = (connected, accepted[0]) if kind == "connect" else (accepted[0], connected)
    with echoing(far), near:
        yield near


@contextmanager
def borrowed_side():
    near, far = socket.socketpair()
    with near, far, near.makefile("rwb", buffering=0) as stream:

        def echo():
            while data := far.recv(4096):
                far.sendall(data)

        thread = threading.Thread(target=echo, daemon=True)
        thread.start()
        yield BorrowedPort(stream)
        near.shutdown(socket.SHUT_RDWR)
        thread.join(5)


KINDS = {
    "stand-in": lambda: lr.open_port("stand-in:echo", lr.LineSettings.parse("1000000 8N1")),
    "pty": pty_side,
    "device": device_side,
    "tcp, connecting": lambda: tcp_side("connect"),
    "tcp, accepting": lambda: tcp_side("accept"),
    "borrowed": borrowed_side,
}


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_of_port_does_what_a_port_must(kind):
    """Order, lengths, time limits, control characters, threads and closing, on real ends of each kind."""
    check_port(KINDS[kind])


@pytest.mark.parametrize("kind", ["pty", "device", "tcp, connecting", "tcp, accepting"])
def test_a_loopback_passes_on_every_kind_of_port(kind):
    with KINDS[kind]() as port:
        result = lr.run_loopback(port, lr.LoopbackPlan(characters=30_000, limit_s=0.3, pattern="random"))
    assert (result.verdict, result.received) == ("pass", 30_000)


def test_the_check_of_hardware_claims_no_more_than_the_driver_did():
    """A pseudo terminal has no parity, no break and no control lines, and sends at any baud."""
    with lr.open_port("pty") as far, echoing(far):
        results = check_hardware(far.name)
    outcomes = [result.split(":")[0] for result in results]
    assert [outcome for outcome in outcomes if not outcome.startswith("note")] == [
        "passed  9600 8N1",
        "partly  57600 8E1",
        "partly  57600 7O2",
        "passed  115200 8N1",
        "passed  1000000 8N1",
        "passed  order, lengths, time limits, control characters, two threads, closing",
        "FAILED  a break that is sent is received as a break",
    ]


def test_a_device_is_set_as_asked_and_left_as_found():
    """What the driver of a pseudo terminal does not take is told; closing restores what was there before."""
    with ExitStack() as stack:
        far = stack.enter_context(lr.open_port("pty"))
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        stack.callback(os.close, looker)
        found = termios.tcgetattr(looker)
        device = lr.open_port(far.name, lr.LineSettings.parse("250000 7E2 xon-xoff"))
        during = termios.tcgetattr(looker)
        assert during[2] & termios.CSTOPB
        assert during[0] & (termios.IXON | termios.IXOFF | termios.PARMRK)
        assert any("parity E" in note for note in device.notes)
        assert not any("baud" in note for note in device.notes)
        device.close()
        assert termios.tcgetattr(looker) == found


def test_what_came_before_the_port_was_set_up_is_thrown_away_and_told():
    """It was read at other settings: on a terminal, whole lines alone, some characters eaten."""
    with lr.open_port("pty") as far:
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        far.write(b"old\n")
        until = time.monotonic() + 5
        while time.monotonic() < until and ioctl(looker, termios.FIONREAD, bytes(4)) != struct.pack("i", 4):
            time.sleep(0.001)  # the system hands over what was written when it comes to it
        with lr.open_port(far.name) as device:
            os.close(looker)
            assert "4 characters received before the port was set up were discarded" in device.notes
            far.write(b"new")
            assert device.read(8, 0.1).data == b"new"


@pytest.mark.parametrize(("waiting", "notes"), [([5, 3, 0], ()), ([5] * 1000, ("5 characters had not been sent",))])
def test_closing_waits_until_all_is_sent(monkeypatch, waiting, notes):
    """A driver that still holds characters must not get other settings; one that is held up is not waited for long."""
    with lr.open_port("pty") as far:
        device = lr.open_port(far.name)
        known, left = len(device.notes), iter(waiting)
        monkeypatch.setattr("larkreader.exercise.ports.tty._queued", lambda *_: next(left))
        device.close()
        assert next(left, None) == (5 if notes else None)
        assert [note[:30] for note in device.notes[known:]] == [note[:30] for note in notes]


def test_what_closing_cannot_restore_is_told(monkeypatch):
    with lr.open_port("pty") as far:
        device = lr.open_port(far.name)
        known = len(device.notes)
        monkeypatch.setattr("larkreader.exercise.ports.tty._set_attributes", lambda *_: None)
        device.close()
        shown = device.notes[known:]
    assert "not restored on closing: input flags" in shown
    assert "not restored on closing: character format" in shown


@pytest.mark.parametrize("text", ["9600 9N1", "9600 8N1 idle-low", "9600 8N1 msb", "9600 8N1.5"])
def test_settings_that_no_serial_device_can_do_are_refused(text):
    with lr.open_port("pty") as far, pytest.raises(lr.PortError, match="cannot do"):
        lr.open_port(far.name, lr.LineSettings.parse(text))


def refuse(code):
    def fail(*_, **__):
        raise OSError(code, os.strerror(code))

    return fail


@pytest.mark.parametrize(
    ("name", "message"),
    [
        ("/dev/ttyUSB77", 'port "/dev/ttyUSB77" does not exist.'),
        ("ttyUSB77", "is of no kind that can be opened. It must be a device such as"),
        ("/dev/null", 'port "/dev/null" is not a serial device.'),
        ("/dev", "is a folder."),
        ("127.0.0.1:1", "refuses the connection. Is the device's server running there?"),
        ("127.0.0.1:70000", "has the TCP port 70000. It must be 65535 at most."),
        ("stand-in:ecko", 'is not a stand-in that ships with us. Did you mean "stand-in:echo"?'),
    ],
)
def test_a_port_that_cannot_be_opened_says_what_to_do(name, message):
    with pytest.raises(lr.PortError) as caught:
        lr.open_port(name)
    assert message in str(caught.value)
    assert isinstance(caught.value, OSError)


@pytest.mark.parametrize(
    ("code", "message"),
    [
        (errno.EACCES, "may not be used by you. Join the group"),
        (errno.EIO, "has a name but no device behind it. Is it plugged in and powered?"),
        (errno.EBUSY, "is busy, held by"),
    ],
)
def test_what_the_system_refuses_is_put_in_words(monkeypatch, code, message):
    with lr.open_port("pty") as far:
        monkeypatch.setattr("larkreader.exercise.ports.tty.os.open", refuse(code))
        with pytest.raises(lr.PortError) as caught:
            lr.open_port(far.name)
    assert message in str(caught.value)


def test_a_port_that_is_open_already_is_busy():
    with lr.open_port("pty") as far, lr.open_port(far.name), pytest.raises(lr.PortError, match="is busy, held by"):
        lr.open_port(far.name)


def test_a_port_that_goes_away_in_use_says_so():
    far = lr.open_port("pty")
    with lr.open_port(far.name) as device:
        far.close()
        with pytest.raises(lr.PortError, match=r"is gone\. Was it unplugged|was closed by the other end"):
            device.read(1, 1.0)
    with tcp_side("connect") as port:
        pass
    with pytest.raises(lr.PortError, match="is closed"):
        port.read_some(1, 0.1)


def test_nobody_who_connects_is_told():
    with pytest.raises(lr.PortError, match=r"saw no connection within 0\.05 s"):
        lr.open_port("accept:127.0.0.1:0", limit_s=0.05)


def test_a_write_that_nobody_takes_ends_with_its_time_limit():
    with lr.open_port("pty") as far, lr.open_port(far.name) as device:
        with pytest.raises(lr.PortError, match=r"took \d+ of 1000000 bytes within 0\.1 s"):
            far.write(bytes(1_000_000), 0.1)
        assert select.select([device._descriptor], [], [], 1)[0]


@given(st.lists(st.tuples(st.integers(0, 255), st.sampled_from([0, 0, 0, 1, 4])), max_size=30), st.data())
def test_error_marks_are_read_however_they_are_cut(characters, data):
    """As POSIX has it: FF 00 and the character with a fault, FF 00 00 a break, FF FF a sound FF."""
    stream, wanted = b"", []
    for value, fault in characters:
        value = 0 if fault == lr.Fault.BREAK else max(value, 1) if fault else value
        stream += b"\xff\x00" + bytes([value]) if fault else b"\xff\xff" if value == 0xFF else bytes([value])
        wanted.append((value, fault))
    reader, values, faults = MarkReader(lr.Fault.PARITY), b"", b""
    while stream:
        cut = data.draw(st.integers(1, len(stream)))
        some, held = reader.feed(stream[:cut])
        values, faults, stream = values + some, faults + held, stream[cut:]
    assert list(zip(values, faults, strict=True)) == wanted


@pytest.fixture
def made_up_system(tmp_path):
    """Make a device tree with one adapter that somebody holds, and one name without hardware."""
    usb = tmp_path / "sys/devices/usb1/1-2"
    (usb / "1-2:1.0/ttyUSB0").mkdir(parents=True)
    (usb / "product").write_text("Greenhouse adapter\n")
    (usb / "serial").write_text("GH07\n")
    (tmp_path / "sys/class/tty/ttyUSB0").mkdir(parents=True)
    (tmp_path / "sys/class/tty/ttyUSB0/device").symlink_to(usb / "1-2:1.0/ttyUSB0")
    (tmp_path / "sys/class/tty/ttyS0").mkdir(parents=True)
    (tmp_path / "dev/serial/by-id").mkdir(parents=True)
    for name in ("ttyUSB0", "ttyS0"):
        (tmp_path / "dev" / name).touch()
    (tmp_path / "dev/serial/by-id/usb-GH07").symlink_to(tmp_path / "dev/ttyUSB0")
    (tmp_path / "proc/77/fd").mkdir(parents=True)
    (tmp_path / "proc/77/comm").write_text("logger\n")
    (tmp_path / "proc/77/fd/3").symlink_to(tmp_path / "dev/ttyUSB0")
    return tmp_path


def test_ports_are_listed_with_what_they_are_and_who_holds_them(made_up_system, capsys, monkeypatch):
    monkeypatch.setenv("COLUMNS", "250")  # the folders of tests have long names
    (entry,) = find_ports(made_up_system)
    assert entry.description == "Greenhouse adapter GH07"
    assert entry.stable.endswith("/dev/serial/by-id/usb-GH07")
    assert entry.holders == ("logger (77)",)
    assert run(["ports", "--root", str(made_up_system)]) == 0
    assert "ttyUSB0 Greenhouse adapter GH07; held by logger (77)" in " ".join(capsys.readouterr().out.split())


def test_where_there_is_no_proc_lsof_is_asked_who_holds_a_port(monkeypatch):
    """In the form that its manual gives for other programs: a letter for the field, then its value."""
    listed = "p77\ncdosing\nf3\nn/dev/cu.usbserial-GH07\nf4\nn/dev/cu.usbserial-GH07\np9\nclogger\nf0\nn/dev/null\n"

    def ask(command, **_):
        assert command == ["lsof", "-w", "-F", "pcn", "--", "/dev/cu.usbserial-GH07"]
        return subprocess.CompletedProcess(command, 0, listed)

    monkeypatch.setattr(listing.Path, "exists", lambda path: False)
    monkeypatch.setattr(listing.subprocess, "run", ask)
    assert listing.holders_of("/dev/cu.usbserial-GH07") == ["dosing (77)"]


def test_on_macos_any_baud_is_set_by_its_own_call_and_is_not_read_back(monkeypatch):
    """As the header file IOKit/serial/ioss.h has it: IOSSIOSPEED takes a speed_t of eight bytes."""
    calls = []
    monkeypatch.setattr(bauds, "IS_MACOS", True)
    monkeypatch.setattr(bauds.fcntl, "ioctl", lambda *call: calls.append(call))
    monkeypatch.setattr(bauds.termios, "tcgetattr", lambda descriptor: [0, 0, 0, 0, 57600, 57600, []])
    bauds.set_baud(3, 250_000)
    assert calls == [(3, 0x80085402, (250_000).to_bytes(8, sys.byteorder))]
    assert (bauds.baud_of(3), bauds.is_given_back(57600), bauds.is_given_back(250_000)) == (57600, True, False)


def test_a_port_that_comes_is_named(made_up_system, capsys):
    later = threading.Timer(0.2, (made_up_system / "dev" / "ttyACM3").touch)
    later.start()
    assert run(["ports", "--wait", "--seconds", "10", "--root", str(made_up_system)]) == 0
    assert capsys.readouterr().out.endswith("/dev/ttyACM3 added\n")
    assert run(["ports", "--wait", "--seconds", "0.05", "--root", str(made_up_system)]) == 1


def test_a_port_whose_settings_fail_halfway_is_left_as_found(monkeypatch):
    """The driver takes the format, and then not the baud; or whoever waits for it is impatient."""
    with lr.open_port("pty") as far:
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        found = termios.tcgetattr(looker)
        before = open_descriptors()
        for error, expected in (
            (OSError(errno.EIO, "unplugged"), lr.PortError),
            (KeyboardInterrupt(), KeyboardInterrupt),
        ):

            def fail(*_, error=error):
                raise error

            monkeypatch.setattr("larkreader.exercise.ports.tty.set_baud", fail)
            with pytest.raises(expected):
                lr.open_port(far.name, lr.LineSettings.parse("250000 7E2"))
            monkeypatch.undo()
            assert termios.tcgetattr(looker) == found
            assert open_descriptors() == before
        device = lr.open_port(far.name)
        monkeypatch.setattr("larkreader.exercise.ports.tty._queued", fail)  # an interrupt while it waits for the driver
        with pytest.raises(KeyboardInterrupt):
            device.close()
        assert termios.tcgetattr(looker) == found
        os.close(looker)


def test_a_port_that_nothing_has_closed_is_given_back_at_the_end_of_the_program():
    with lr.open_port("pty") as far:
        looker = os.open(far.name, os.O_RDWR | os.O_NOCTTY)
        found = termios.tcgetattr(looker)
        code = f"import larkreader as lr, os; lr.open_port({far.name!r}); print(os.getpid(), flush=True); raise KeyboardInterrupt"
        ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False)
        assert ended.stderr.endswith("KeyboardInterrupt\n")
        assert termios.tcgetattr(looker) == found
        os.close(looker)


def test_another_program_that_holds_a_port_is_named():
    with lr.open_port("pty") as far:
        command = [sys.executable, "-m", "larkreader", "serve", "echo", far.name]
        with subprocess.Popen(command, stderr=subprocess.PIPE, text=True) as other:
            assert any("echo serves on" in line for line in iter(other.stderr.readline, ""))
            with pytest.raises(lr.PortError, match=rf"is busy, held by .*\({other.pid}\)"):
                lr.open_port(far.name)
            other.terminate()  # an interrupt is ignored in what a shell starts in the background
            other.communicate(timeout=20)
            assert other.returncode == 0
        with lr.open_port(far.name):
            pass


def test_ports_work_above_the_thousandth_descriptor():
    """`select` refuses those."""
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if hard != resource.RLIM_INFINITY and hard < 1200:
        pytest.skip(f"{hard} descriptors are allowed here")
    resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, 1200), hard))
    with ExitStack() as stack:
        stack.callback(resource.setrlimit, resource.RLIMIT_NOFILE, (soft, hard))
        for _ in range(1050):
            stack.callback(os.close, os.open(os.devnull, os.O_RDONLY))
        near = stack.enter_context(pty_side())
        assert near._descriptor > 1023
        assert lr.run_loopback(near, plan=lr.LoopbackPlan(characters=50_000)).verdict == "pass"
        assert near.read_some(1, 0.05).data == b""
        far = stack.enter_context(lr.open_port("pty"))
        device = stack.enter_context(lr.open_port(far.name))
        with pytest.raises(lr.PortError, match=r"took \d+ of 1000000 bytes within 0\.1 s"):
            device.write(bytes(1_000_000), 0.1)
        device.close()
        began = time.process_time()
        with pytest.raises(lr.PortError, match=r"took \d+ of 1000000 bytes within 0\.3 s"):
            far.write(bytes(1_000_000), 0.3)  # nothing has the other side open
        assert time.process_time() - began < 0.2


def test_too_few_descriptors_are_put_in_words(monkeypatch):
    monkeypatch.setattr("larkreader.exercise.ports.pty.pty.openpty", refuse(errno.EMFILE))
    with pytest.raises(lr.PortError, match="Too many open files"):
        lr.open_port("pty")


def test_a_device_that_is_connected_again_and_again_leaves_nothing_behind():
    """Over TCP and on a pseudo terminal, a hundred times; the other side goes on."""
    answer = b"flow 12.5\n"
    with ExitStack() as stack:
        server = stack.enter_context(socket.create_server(("127.0.0.1", 0)))

        def serve():
            for _ in range(100):
                held, _ = server.accept()
                with held:
                    held.sendall(answer)

        thread = threading.Thread(target=serve)
        thread.start()
        stack.callback(thread.join)
        near = stack.enter_context(pty_side())
        threads, descriptors = threading.active_count(), open_descriptors()
        for _ in range(100):
            with lr.open_port(f"127.0.0.1:{server.getsockname()[1]}") as port:
                assert port.read(len(answer), 5.0).data == answer
                with pytest.raises(lr.PortError, match="was closed by the other end"):
                    port.read(1, 5.0)
            assert open_descriptors() == descriptors
        assert threading.active_count() <= threads
        assert near.read_some(1, 0.0).data == b""
    with lr.open_port("pty") as far:
        for number in range(100):
            with lr.open_port(far.name) as device:
                far.write(b"%d?" % number)
                assert device.read(len(b"%d?" % number), 5.0).data == b"%d?" % number
                device.write(b"%d!" % number)
                assert far.read(len(b"%d!" % number), 5.0).data == b"%d!" % number
