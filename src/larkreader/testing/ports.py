"""What every port must do, as a function that is run on each kind, and as a program for a port of hardware.

Join the transmit and the receive line of a serial port by a piece of wire, then::

    python -m larkreader.testing.ports PORT
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager

from larkreader.capture.characters import Fault
from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.loopback import LoopbackPlan
from larkreader.errors import PortError
from larkreader.exercise.loopback.run import run_loopback
from larkreader.exercise.ports.open import open_port
from larkreader.exercise.ports.port import Port

LINES = ("9600 8N1", "57600 8E1", "57600 7O2", "115200 8N1", "1000000 8N1")
CHARACTERS = 4096
ALTERED = ("the driver did not take", "the driver made")  # begins of what a port notes of its settings


def check_port(make_port: Callable[[], AbstractContextManager[Port]]) -> None:
    """Check that a port with an echo at the other end does what `Port` says.

    Parameters
    ----------
    make_port : callable
        Returns a context manager that gives an open port whose other end sends back what it receives.

    Raises
    ------
    AssertionError
        If it does something else; the message says what.
    """
    with make_port() as port:
        _bytes_come_back_in_order(port)
        _time_and_length_are_distinguished(port)
        _one_thread_may_read_while_another_writes(port)
        port.close()
        _a_closed_port_says_so(port)


def _bytes_come_back_in_order(port: Port) -> None:
    every = bytes(range(256))
    port.write(every, 5.0)
    back = port.read(256, 5.0)
    assert back.data == every, f"sent all values of a byte, received {back.data.hex(' ')}"
    assert back.ended_by == "length", "all that was asked for arrived, yet the wait was ended by time"
    assert len(back.faults) == (256 if port.marks_faults else 0), "marks_faults differs from what read returns"
    assert not any(back.faults), "sound characters have faults"
    port.write(b"", 1.0)


def _time_and_length_are_distinguished(port: Port) -> None:
    begin_s = port.now_s()
    nothing = port.read(1, 0.05)
    assert (nothing.data, nothing.ended_by) == (b"", "time"), "nothing was sent, yet something arrived"
    assert port.now_s() - begin_s >= 0.045, "a read returned before its time was up, or the port's clock stands still"
    port.write(b"\x11\x13\xff\x00\r\n\x04\x1a", 1.0)
    part = port.read(9, 0.3)
    assert part.data == b"\x11\x13\xff\x00\r\n\x04\x1a", f"control characters returned as {part.data.hex(' ')}"
    assert part.ended_by == "time", "a read that was not filled must be ended by time"
    port.write(b"abc", 1.0)
    assert port.read(2, 1.0).data == b"ab", "a read must leave what was not asked for"
    assert port.read(1, 1.0).data == b"c", "what an earlier read left must be read next"


def _one_thread_may_read_while_another_writes(port: Port) -> None:
    sent = bytes(range(251)) * 40
    sender = threading.Thread(target=port.write, args=(sent, 30.0))
    sender.start()
    back = port.read(len(sent), 30.0)
    sender.join(30.0)
    assert back.data == sent, f"of {len(sent)} characters sent by another thread {len(back.data)} returned"


def _a_closed_port_says_so(port: Port) -> None:
    port.close()  # once more does nothing
    for what in (lambda: port.write(b"x", 0.1), lambda: port.read_some(1, 0.1)):
        result = ""
        try:
            what()
        except PortError as error:
            result = str(error)
        assert "closed" in result, f"a closed port must report that when it is used, and reports: {result or 'nothing'}"


def check_hardware(name: str) -> list[str]:
    """Check a serial port whose transmit and receive lines are joined by a piece of wire.

    What a test without hardware cannot show: bauds, formats, faults, breaks and control lines of a real device.

    Parameters
    ----------
    name : str
        The port, such as ``/dev/ttyUSB0`` or ``COM3``. Nothing but the wire may hang on it.

    Returns
    -------
    list of str
        A line for each check: ``passed``, ``partly`` (at other settings), ``FAILED`` or ``note``, and what of.

    Raises
    ------
    PortError
        If the port cannot be opened.
    """
    results = []
    for text in LINES:
        line = LineSettings.parse(text)
        try:
            with open_port(name, line) as port:
                run_loopback(port, LoopbackPlan(characters=1, limit_s=0.2))  # the line is at rest
                result = run_loopback(port, LoopbackPlan(characters=CHARACTERS, pattern="random"))
                is_altered = any(note.startswith(ALTERED) for note in port.notes)
                outcome = "FAILED" if result.verdict != "pass" else "partly" if is_altered else "passed"
                share = f", {100 * result.line_share:.0f} % of the line" if result.line_share is not None else ""
                results.append(f"{outcome}  {text}: {result.received:,} of {CHARACTERS:,} returned{share}")
                results += [f"note    {text}: {note}" for note in port.notes]
        except PortError as error:
            results.append(f"FAILED  {text}: {error}")
    try:
        check_port(lambda: open_port(name, LineSettings.parse("115200 8N1")))
        results.append("passed  order, lengths, time limits, control characters, two threads, closing")
    except AssertionError as error:
        results.append(f"FAILED  what every port must do: {error}")
    return [*results, *_breaks_and_lines(name)]


def _breaks_and_lines(name: str) -> Iterator[str]:
    with open_port(name, LineSettings.parse("9600 8N1")) as port:
        port.send_break()
        back = port.read(1, 1.0)
        is_seen = any(fault & Fault.BREAK for fault in back.faults) or port.error_counters().get("breaks", 0)
        yield f"{'passed' if is_seen else 'FAILED'}  a break that is sent is received as a break"
        lines = port.modem_lines()
        yield f"note    asserted: {', '.join(line for line, on in lines.items() if on) or 'no control line'}"
        for line in ("rts", "dtr"):
            try:
                port.set_modem_line(line, False)
                off = port.modem_lines().get(line)
                port.set_modem_line(line, True)
                is_followed = (off, port.modem_lines().get(line)) == (False, True)
                yield f"{'passed' if is_followed else 'FAILED'}  {line} is released and asserted"
            except PortError as error:
                yield f"note    {line}: {error}"


def main() -> int:
    """Check the port that the command line names; the exit status is 1 if a check failed."""
    if len(sys.argv) != 2:
        print("use: python -m larkreader.testing.ports PORT   (its transmit and receive lines joined)")
        return 2
    try:
        results = check_hardware(sys.argv[1])
    except PortError as error:
        print(error)
        return 2
    print("\n".join(results))
    return int(any(result.startswith("FAILED") for result in results))


if __name__ == "__main__":
    raise SystemExit(main())
