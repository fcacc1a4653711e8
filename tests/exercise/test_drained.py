"""A port that is read in a thread."""

import time

import pytest

import larkreader as lr
from larkreader.exercise.ports.drained import DrainedPort


def test_what_was_read_and_not_taken_is_still_there_when_the_thread_has_ended():
    with lr.open_port("pty") as far, lr.open_port(far.name) as near:
        with DrainedPort(near) as drained:
            far.write(b"flow")
            while not drained._arrived:
                time.sleep(0.01)
        assert b"".join(arrival.received.data for arrival in drained.rest()) == b"flow"
        assert drained.rest() == []


def test_a_port_that_is_gone_says_so_after_what_arrived_before():
    far = lr.open_port("pty")
    with lr.open_port(far.name) as near, DrainedPort(near) as drained:
        far.write(b"flow")
        (arrival,) = drained.take(5.0)
        assert (arrival.received.data, arrival.since_s < arrival.at_s) == (b"flow", True)
        far.close()
        with pytest.raises(lr.PortError, match="closed by the other end"):
            drained.take(5.0)
