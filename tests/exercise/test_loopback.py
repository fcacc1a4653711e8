import contextlib
import dataclasses
import os
import threading

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import line_settings

import larkreader as lr
from larkreader.exercise.devices.device import LineAnswerer

LINE = lr.LineSettings.parse("57600 8E1")


def through(change, plan=None, line=LINE):
    """Loop back through a simulated line whose device changes the n-th block that it gets."""
    return lr.run_loopback(lr.SimulatedPort(line, change), plan or lr.LoopbackPlan(characters=1000))


@given(line_settings(most_data_bits=8), st.integers(1, 700), st.integers(1, 300))
def test_an_echo_passes_at_nearly_the_rate_of_the_line(line, characters, block):
    plan = lr.LoopbackPlan(characters=characters, block=block, data_bits=line.data_bits)
    result = through(lambda data: data, plan, line)
    assert (result.verdict, result.sent, result.received) == ("pass", characters, characters)
    assert result.difference is None
    # the first character arrives after a character time, so that n take n + 1 of them, and the line never waits
    expected = line.characters_per_second * characters / (characters + 1)
    assert result.characters_per_second == pytest.approx(expected, rel=0.02 if block > 1 else 0.6)


@pytest.mark.parametrize(
    ("change", "lost", "changed", "extra", "offset"),
    [
        (lambda data: data.replace(b"\x41", b""), 4, 0, 0, 65),
        (lambda data: data.replace(b"\x41", b"\x42"), 0, 4, 0, 65),
        (lambda data: data.replace(b"\x41", b"\x41\x00"), 0, 0, 4, 66),
        (lambda data: data.replace(b"\x41\x42\x43", b""), 12, 0, 0, 65),
        (lambda data: bytes(255 - one for one in data), 0, 1000, 0, 0),
        (lambda data: b"", 1000, 0, 0, 0),
    ],
)
def test_what_happened_to_the_characters_is_told(change, lost, changed, extra, offset):
    """A value that comes four times in a thousand is lost, changed or doubled; all are; or nothing comes back."""
    result = through(change)
    assert (result.verdict, result.lost, result.changed, result.extra) == ("fail", lost, changed, extra)
    assert result.difference.offset == offset
    assert result.sent - result.lost + result.extra == result.received


def test_lines_come_back_with_a_prefix():
    plan = lr.LoopbackPlan(characters=3000, pattern="lines", expect="prefixed", prefix="> ", block=100)
    result = through(LineAnswerer(prefix=b"> "), plan)
    assert (result.verdict, result.sent, result.received) == ("pass", 3000, 3000 + 250 * 2)
    wrong = through(LineAnswerer(prefix=b"< "), plan)
    assert (wrong.verdict, wrong.changed) == ("fail", 250)
    with pytest.raises(ValueError, match="needs the pattern lines"):
        lr.LoopbackPlan(expect="prefixed")


def test_the_time_of_a_block_is_that_of_the_line():
    """One character out and back takes two character times; a block of ten eleven at least, with another before it 21."""
    one = through(lambda data: data, lr.LoopbackPlan(characters=50, block=1))
    assert one.latency_s.shortest == pytest.approx(2 * LINE.character_time_s, rel=0.01)
    ten = through(lambda data: data, lr.LoopbackPlan(characters=100, block=10))
    assert (
        10.99
        <= ten.latency_s.shortest / LINE.character_time_s
        <= ten.latency_s.longest / LINE.character_time_s
        <= 21.01
    )


def test_the_first_difference_is_shown_with_what_stands_around_it():
    result = through(lambda data: data.replace(b"\x41", b""))
    assert result.difference.begin == 57
    assert result.difference.sent == bytes(range(57, 73))
    assert result.difference.received == bytes([*range(57, 65), *range(66, 74)])


def test_a_far_end_with_other_settings_fails():
    port = lr.SimulatedPort(LINE, lambda data: data, far=lr.LineSettings.parse("57600 8N1"))
    assert lr.run_loopback(port).verdict == "fail"


@pytest.fixture
def echoing_pty():
    """Give a real pseudo terminal, whose other end a thread echoes; it loses what `lose` names."""
    near, far = os.openpty()
    pytest.importorskip("tty", reason="there are no pseudo terminals here").setraw(far)
    lose = set()

    def echo():
        count = 0
        while data := os.read(far, 512):
            kept = bytes(value for place, value in enumerate(data, count) if place not in lose)
            count += len(data)
            if b"\x04" * 8 in kept:
                return
            os.write(far, kept)

    thread = threading.Thread(target=echo, daemon=True)
    thread.start()
    with os.fdopen(near, "r+b", buffering=0) as stream:
        yield stream, lose
        stream.write(b"\x04" * 8)
        thread.join(5)
        assert not thread.is_alive()
    os.close(far)


def test_a_real_pty_with_an_echoing_thread_passes(echoing_pty):
    stream, _ = echoing_pty
    result = lr.run_loopback(stream, lr.LoopbackPlan(characters=20_000, limit_s=0.1), line=LINE)
    assert (result.verdict, result.received) == ("pass", 20_000)
    assert result.line_share > 0


def test_losses_on_a_real_pty_are_counted_exactly(echoing_pty):
    stream, lose = echoing_pty
    lose.update({100, 101, 3000})
    result = lr.run_loopback(stream, lr.LoopbackPlan(characters=5000, limit_s=0.1))
    assert (result.verdict, result.lost, result.changed, result.extra) == ("fail", 3, 0, 0)
    assert (result.difference.offset, result.line_share) == (100, None)


def test_any_object_with_read_and_write_will_do():
    class Memory:
        """Hands back at most three bytes at a time, and None when it has nothing."""

        def __init__(self):
            self.held = bytearray()

        def write(self, data):
            self.held += data

        def read(self, length):
            piece = bytes(self.held[: min(length, 3)])
            del self.held[: len(piece)]
            return piece or None

    assert lr.run_loopback(Memory(), lr.LoopbackPlan(characters=500, limit_s=0.02)).verdict == "pass"
    with pytest.raises(lr.RequestError, match=r"port is a object without read\. It must have read and write"):
        lr.run_loopback(object())


def test_a_port_that_goes_away_is_told():
    near, far = os.openpty()
    os.close(far)
    with (
        os.fdopen(near, "r+b", buffering=0) as stream,
        pytest.raises(lr.PortError, match=r"cannot be read|closed by the other end"),
    ):
        lr.run_loopback(stream, lr.LoopbackPlan(characters=10, limit_s=0.1))


def test_limits_decide_what_may_go_wrong():
    def lossy(data):
        return data.replace(b"\x41", b"")

    # a write of 1000 characters returns when the last but one is out; by then all 996 were back
    slowest = f"slowest block {999 * LINE.character_time_s * 1e3:.4g} ms, 100 ms allowed"
    for limits, failures in (
        ({}, ("4 lost",)),
        ({"lost": 3}, ("4 lost, 3 allowed",)),
        ({"lost": 4}, ()),
        ({"lost": 4, "error_ratio": 1e-3}, ()),
        ({"lost": 4, "error_ratio": 1e-4}, ("upper bound of the error ratio 0.00038, 0.0001 allowed",)),
        ({"lost": 4, "latency_s": 0.1}, (slowest,)),
        ({"lost": 4, "line_share": 1.0}, ("99.7 % of the line, 100.0 % wanted",)),
    ):
        plan = lr.LoopbackPlan(characters=1000, limits=limits)
        result = through(lossy, plan)
        assert result.failures == failures
        assert result.verdict == ("fail" if failures else "pass")


def test_no_error_proves_no_more_than_an_upper_bound():
    """With 95 % confidence below 3 in n, the rule of three; Wilson's interval of 10 in 100 is 5.5 to 17.4 %."""
    result = through(lambda data: data, lr.LoopbackPlan(characters=1000))
    assert result.error_interval == (0.0, pytest.approx(3 / 8000, rel=2e-3))
    known = dataclasses.replace(
        result, received=100, extra=0, plan=lr.LoopbackPlan(data_bits=5), bit_errors=np.array([50])
    )
    assert known.error_interval == pytest.approx((0.0770, 0.1292), abs=5e-4)  # 50 in 500
    nothing = through(lambda data: b"", lr.LoopbackPlan(characters=100))
    assert nothing.error_interval == (0.0, 1.0)


def test_bit_errors_are_counted_by_their_place_in_the_character():
    plan = lr.LoopbackPlan(characters=512, pattern="random", block=512)
    result = through(lambda data: bytes([data[0] ^ 0x81, data[1] ^ 0x01, *data[2:]]), plan)
    assert (result.changed, result.bit_errors.tolist()) == (2, [2, 0, 0, 0, 0, 0, 0, 1])


@pytest.mark.parametrize(
    ("declared", "device"),
    [
        ({"alter": {"xor": 0x20}}, lambda data: bytes(one ^ 0x20 for one in data)),
        ({"alter": {"xor": 0, "add": 3}}, lambda data: bytes((one + 3) % 256 for one in data)),
        ({}, lambda data: bytes(255 - one for one in data)),
    ],
)
def test_an_echo_changed_as_declared_passes_and_a_short_does_not(declared, device):
    plan = lr.LoopbackPlan(characters=600, expect="altered", **declared)
    assert through(device, plan).verdict == "pass"
    assert through(lambda data: data, plan).verdict == "fail"


def test_what_is_to_come_may_be_any_function_of_a_block():
    port = lr.SimulatedPort(LINE, lambda data: data[::-1])
    assert lr.run_loopback(port, change=lambda block: block[::-1]).verdict == "pass"
    assert lr.run_loopback(port, change=lambda block: block).verdict == "fail"


class Scripted(lr.Port):
    """A port with a clock of its own that takes a millisecond a call, and gives what it is told to."""

    def __init__(self, begin=b"", interrupt_after=10**9):
        self.held, self.time, self.interrupt_after = bytearray(begin), 0.0, interrupt_after

    def write(self, data, limit_s=None):
        self.time += 0.001
        self.interrupt_after -= 1
        if self.interrupt_after < 0:
            raise KeyboardInterrupt
        self.held += data

    def read_some(self, most, limit_s):
        from larkreader.exercise.ports.port import Received

        self.time += 0.001 if self.held else limit_s
        data = bytes(self.held[:most])
        del self.held[:most]
        return Received(data, "length" if len(data) == most else "time")

    def now_s(self):
        return self.time

    def close(self):
        pass


def test_what_had_come_before_anything_was_sent_counts_nowhere():
    result = lr.run_loopback(Scripted(b"boot\r\n"), lr.LoopbackPlan(characters=100))
    assert (result.verdict, result.before, result.received) == ("pass", b"boot\r\n", 100)


def test_an_interrupt_keeps_what_was_measured():
    result = lr.run_loopback(Scripted(interrupt_after=3), lr.LoopbackPlan(characters=1000, block=100))
    assert (result.stopped, result.verdict, result.sent, result.lost) == ("interrupted", "fail", 300, 0)
    assert result.failures[0] == "it was interrupted"


def test_a_run_ends_in_its_time_and_with_a_port_that_says_nothing():
    timed = through(lambda data: data, lr.LoopbackPlan(characters=1_000_000, for_s=2.0))
    assert (timed.stopped, timed.verdict) == ("time", "pass")
    assert timed.duration_s == pytest.approx(2.25, abs=0.3)
    dead = through(lambda data: b"", lr.LoopbackPlan(characters=1_000_000))
    assert (dead.stopped, dead.failures[0]) == ("silence", "nothing received")
    assert dead.sent < 5000


def test_the_time_of_a_cycle_is_told_by_its_parts():
    """Single characters with a rest: each waits a character time beyond its own, and rests 5 ms."""
    result = through(lambda data: data, lr.LoopbackPlan(characters=11, block=1, pause_s=0.005))
    cycle = result.cycle
    assert cycle.wait_s == pytest.approx(11 * 2 * LINE.character_time_s, rel=1e-6)
    assert cycle.rest_s == pytest.approx(10 * (0.005 - 2 * LINE.character_time_s), rel=1e-6)
    assert sum(cycle) == pytest.approx(result.duration_s, abs=1e-9)


@pytest.mark.parametrize("stages", [7, 15, 31])
def test_a_sequence_that_arrives_is_checked_without_sending_anything(stages):
    values = lr.exercise.prbs_values(stages, 6000, 8)[777:].astype(np.uint8)
    heard = np.delete(values, [100, 2000, 2001])
    heard[3000] ^= 0x10
    near, far = lr.exercise.simulated_pair(LINE)
    far.write(b"\x00\x00\x00" + heard.tobytes())
    plan = lr.LoopbackPlan(pattern=f"prbs-{stages}", characters=100_000, sends=False)
    result = lr.run_loopback(near, plan)
    assert (result.received, result.lost, result.changed, result.extra) == (len(heard), 3, 1, 0)
    assert (result.before, result.bit_errors.tolist()) == (b"\x00\x00\x00", [0, 0, 0, 0, 1, 0, 0, 0])
    assert lr.run_loopback(near, plan).failures == ("no sequence was found",)


def test_a_matrix_runs_every_combination_and_names_the_fastest_baud():
    matrix = lr.LoopbackMatrix(
        patterns=["counting", "runs"], bauds=[9600, 57600, 115200], formats=["8N1", "7E1"], characters=200
    )
    opened = []

    @contextlib.contextmanager
    def open_at(line):
        """Give an echo that cannot follow beyond 57600."""
        opened.append(str(line))
        yield [lr.SimulatedPort(line, (lambda data: data) if line.baud < 1e5 else (lambda data: data[:-1]))]

    result = lr.run_matrix(open_at, matrix, LINE)
    assert opened == [f"{baud} {form}" for baud in (9600, 57600, 115200) for form in ("8N1", "7E1")]
    assert [one.plan.data_bits for one in result.runs[:4]] == [8, 8, 7, 7]
    assert (len(result.runs), result.verdict, str(result.fastest)) == (12, "fail", "57600 8N1")
    assert [one.verdict for one in result.runs] == ["pass"] * 8 + ["fail"] * 4


def test_pause_characters_are_not_sent_on_a_line_that_takes_them_for_pauses():
    line = lr.LineSettings.parse("57600 8N1 xon-xoff")
    (plan,) = lr.LoopbackMatrix().plans(line)
    assert plan.avoid == (0x11, 0x13)
    with pytest.raises(lr.RequestError, match="pattern file at 57600 8N1 xon-xoff has 0x13 at byte 0"):
        list(lr.LoopbackMatrix(patterns=["file"], file="log").plans(line, {"file": b"\x13"}))


def test_how_far_a_clock_may_be_off_is_found_by_halving():
    """The stop bit of 8E1 is judged 10.5 bits behind the start: half a bit of that, 4.76 %, is what there is."""

    @contextlib.contextmanager
    def open_at(line):
        yield [lr.SimulatedPort(line, lambda data: data, far=LINE)]

    found = lr.find_tolerance(open_at, lr.LoopbackPlan(characters=512), LINE)
    assert found.fast_ppm == pytest.approx(1e6 * 0.5 / 10.5, abs=500)
    assert found.slow_ppm == pytest.approx(-1e6 * 0.5 / 11, abs=500)


def test_both_sides_of_a_real_pty_are_driven_at_once():
    """Blocks of 20,000 characters are more than the system holds between the two."""
    with lr.open_port("pty") as near, lr.open_port(near.name, lr.LineSettings.parse("115200 8N1")) as far:
        plan = lr.LoopbackPlan(characters=100_000, pattern="prbs-23", block=20_000)
        there, back = lr.run_both_ways(near, far, plan)
        assert (there.verdict, back.verdict, there.received, back.received) == ("pass", "pass", 100_000, 100_000)
        one_way = lr.run_loopback(far, plan, into=near)
        assert (one_way.verdict, one_way.name) == ("pass", f"{far.name} to {near.name}")
