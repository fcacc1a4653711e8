"""A port that is read in a thread."""

import time

import pytest

import larkreader as lr
from larkreader.exercise.ports.drained import MOST_HELD, DrainedPort
from larkreader.exercise.ports.port import Received


def test_what_was_read_and_not_taken_is_still_there_when_the_thread_has_ended():
    with lr.open_port("pty") as far, lr.open_port(far.name) as near:
        with DrainedPort(near) as drained:
            far.write(b"flow")
            while not drained._read_bytes:
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


@pytest.mark.parametrize("size", [1, 4096])
def test_more_than_is_taken_waits_at_the_other_end(size):
    """And nothing is lost or out of order when it is taken after all."""

    class Endless(lr.Port):
        count = 0

        def read_some(self, most, limit_s):
            self.count += size
            return Received(bytes(number % 251 for number in range(self.count - size, self.count)), "length")

        def write(self, data, limit_s=None):
            raise NotImplementedError

        def now_s(self):
            return time.perf_counter()

        def close(self):
            pass

    port = Endless()
    with DrainedPort(port) as drained:
        while drained._read_bytes < MOST_HELD:
            time.sleep(0.01)
        before = port.count
        time.sleep(0.1)
        assert before == port.count <= MOST_HELD
        taken = b"".join(arrival.received.data for arrival in drained.take(1.0))
        assert len(taken) == before
        while port.count == before:
            time.sleep(0.01)
    taken += b"".join(arrival.received.data for arrival in drained.rest())
    assert len(taken) == port.count
    assert taken == (bytes(range(251)) * (port.count // 251 + 1))[: port.count]
