"""What every port must do, as one function that is run on each kind."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import AbstractContextManager

from larkreader.errors import PortError
from larkreader.exercise.ports.port import Port


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
        _time_and_length_are_told_apart(port)
        _one_thread_may_read_while_another_writes(port)
        port.close()
        _a_closed_port_says_so(port)


def _bytes_come_back_in_order(port: Port) -> None:
    every = bytes(range(256))
    port.write(every, 5.0)
    back = port.read(256, 5.0)
    assert back.data == every, f"sent all values of a byte, received {back.data.hex(' ')}"
    assert back.ended_by == "length", "all that was asked for came, yet the wait was ended by time"
    assert len(back.faults) == (256 if port.tells_faults else 0), "tells_faults says something else than read gives"
    assert not any(back.faults), "sound characters have faults"
    port.write(b"", 1.0)


def _time_and_length_are_told_apart(port: Port) -> None:
    begin_s = port.now_s()
    nothing = port.read(1, 0.05)
    assert (nothing.data, nothing.ended_by) == (b"", "time"), "nothing was sent, yet something came"
    assert port.now_s() - begin_s >= 0.045, "a read came back before its time was up, or the port's clock stands still"
    port.write(b"\x11\x13\xff\x00\r\n\x04\x1a", 1.0)
    part = port.read(9, 0.3)
    assert part.data == b"\x11\x13\xff\x00\r\n\x04\x1a", f"control characters came back as {part.data.hex(' ')}"
    assert part.ended_by == "time", "a read that was not filled must be ended by time"
    port.write(b"abc", 1.0)
    assert port.read(2, 1.0).data == b"ab", "a read must leave what was not asked for"
    assert port.read(1, 1.0).data == b"c", "what an earlier read left must come next"


def _one_thread_may_read_while_another_writes(port: Port) -> None:
    sent = bytes(range(251)) * 40
    sender = threading.Thread(target=port.write, args=(sent, 30.0))
    sender.start()
    back = port.read(len(sent), 30.0)
    sender.join(30.0)
    assert back.data == sent, f"of {len(sent)} characters sent by another thread {len(back.data)} came back"


def _a_closed_port_says_so(port: Port) -> None:
    port.close()  # once more does nothing
    for what in (lambda: port.write(b"x", 0.1), lambda: port.read_some(1, 0.1)):
        told = ""
        try:
            what()
        except PortError as error:
            told = str(error)
        assert "closed" in told, f"a closed port must say so when it is used, and says: {told or 'nothing'}"
