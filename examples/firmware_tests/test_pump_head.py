"""Tests of a pump head's firmware, as a team writes them; the port is given by options or in pytest.ini."""

import os
import threading
import tty
from collections.abc import Callable

import pytest

import larkreader as lr
from larkreader.testing import check, check_same


def test_it_halts_when_nobody_speaks_to_it_and_takes_a_flow(
    larkreader_port: lr.Port, larkreader_sheet: lr.Sheet
) -> None:
    """The dialogue of the sheet."""
    check(lr.run_dialogue(larkreader_port, larkreader_sheet.exchange, larkreader_sheet.frame))


@pytest.mark.parametrize("flow", [0, 0.1, 42.5, 300])
def test_it_confirms_any_flow_that_it_can_do(larkreader_port: lr.Port, larkreader_sheet: lr.Sheet, flow: float) -> None:
    """A set-point returns as the measured value, to a tenth."""
    step = lr.Exchange(
        send_frame="setpoint",
        values={"flow": flow},
        expect_frame="status",
        where={"flow": [flow - 0.05, flow + 0.05]},
        within_s=0.2,
    )
    check(lr.run_dialogue(larkreader_port, [step], larkreader_sheet.frame))


@pytest.mark.larkreader(port="stand-in:echo")
def test_the_cable_brings_back_what_is_sent(larkreader_port: lr.Port) -> None:
    """A loopback plug in the place of the pump head."""
    check(
        lr.run_loopback(
            larkreader_port, lr.LoopbackPlan(characters=4000, pattern="prbs-15", limits={"error_ratio": 1e-4})
        )
    )


def test_our_own_escape_of_markers_can_be_undone(larkreader_simulated_line: Callable[..., lr.Port]) -> None:
    """A device of our own at the other end of a line."""
    port = larkreader_simulated_line(lambda data: data.replace(b"\xd7", b"\xd7\x00"), "57600 8E1")
    port.write(b"\x21\xd7\x4b")
    check_same(port.read(4, 0.1).data.replace(b"\xd7\x00", b"\xd7"), b"\x21\xd7\x4b")


def test_a_real_pseudo_terminal_brings_back_every_byte() -> None:
    """A loopback through the terminal driver of this machine; the device at its other end echoes."""
    near, far = os.openpty()
    tty.setraw(far)
    plan = lr.LoopbackPlan(characters=3000, pattern="prbs-15")

    def echo() -> None:
        left = plan.characters
        while left:
            data = os.read(far, 512)
            os.write(far, data)
            left -= len(data)

    threading.Thread(target=echo, daemon=True).start()
    with os.fdopen(near, "r+b", buffering=0) as port:
        check(lr.run_loopback(port, plan))
