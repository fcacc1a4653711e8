import os
import threading
import tty

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_distance
from strategies import line_settings

import larkreader as lr
from larkreader.exercise.alignment import align
from larkreader.exercise.devices import LineAnswerer
from larkreader.exercise.patterns import pattern_of

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
    assert one.block_s[0] == pytest.approx(2 * LINE.character_time_s, rel=0.01)
    ten = through(lambda data: data, lr.LoopbackPlan(characters=100, block=10))
    assert 10.99 <= ten.block_s[0] / LINE.character_time_s <= ten.block_s[2] / LINE.character_time_s <= 21.01
    assert through(lambda data: b"x" + data).block_s is None


def test_the_first_difference_is_shown_with_what_stands_around_it():
    result = through(lambda data: data.replace(b"\x41", b""))
    assert result.difference.begin == 57
    assert result.difference.sent == bytes(range(57, 73))
    assert result.difference.received == bytes([*range(57, 65), *range(66, 74)])


def test_a_far_end_with_other_settings_fails():
    port = lr.SimulatedPort(LINE, lambda data: data, far=lr.LineSettings.parse("57600 8N1"))
    assert lr.run_loopback(port).verdict == "fail"


@given(st.binary(min_size=40, max_size=60), st.lists(st.tuples(st.integers(0, 3), st.integers(0, 70)), max_size=3))
def test_alignment_never_counts_fewer_differences_than_there_are(sent, edits):
    """Its counts add up, and are at least the edit distance; for one edit they are that."""
    received = bytearray(sent)
    for kind, place in edits:
        if kind == 0 and place < len(received):
            del received[place]
        elif kind == 1 and place < len(received):
            received[place] ^= 0x5A
        elif kind == 2:
            received.insert(place, 0xA5)
    found = align(sent, bytes(received))
    distance = slow_distance(sent, received)
    total = found.lost + found.changed + found.extra
    assert len(sent) - found.lost + found.extra == len(received)
    assert total >= distance
    if len(edits) <= 1:
        assert total == distance
    assert (found.first is None) == (sent == received)


def test_a_few_losses_in_a_megabyte_are_found_one_by_one():
    sent = np.random.default_rng(3).integers(0, 256, 1_000_000).astype(np.uint8)
    kept = np.ones(len(sent), bool)
    kept[1000::50_000] = False
    received = sent[kept].copy()
    received[7::70_001] ^= 0xFF
    found = align(sent.tobytes(), received.tobytes())
    assert (found.lost, found.changed, found.extra) == (20, 15, 0)


@pytest.mark.parametrize(
    ("plan", "wanted"),
    [
        ({"characters": 300}, [*range(256), *range(44)]),
        ({"characters": 130, "data_bits": 7}, [*range(128), 0, 1]),
        ({"characters": 20, "data_bits": 5, "pattern": "all-values"}, [*range(20)]),
        ({"characters": 68, "data_bits": 5, "pattern": "all-values"}, [*range(32), *range(31, -1, -1), 0, 1, 2, 3]),
        ({"characters": 13, "pattern": "lines"}, [*b"line 000000\nline 000001\n"]),
        ({"characters": 3, "pattern": "alternating"}, [0x55, 0xAA, 0x55]),
        ({"characters": 3, "pattern": "alternating", "data_bits": 5}, [0x15, 0x0A, 0x15]),
    ],
)
def test_patterns(plan, wanted):
    assert pattern_of(lr.LoopbackPlan(**plan)).tolist() == wanted


def test_random_values_repeat_with_their_seed_and_fill_the_data_bits():
    one, two, other = (pattern_of(lr.LoopbackPlan(pattern="random", data_bits=6, seed=seed)) for seed in (5, 5, 6))
    assert np.array_equal(one, two)
    assert not np.array_equal(one, other)
    assert set(one.tolist()) == set(range(64))


@pytest.fixture
def echoing_pty():
    """Give a real pseudo terminal, whose other end a thread echoes; it loses what `lose` names."""
    near, far = os.openpty()
    tty.setraw(far)
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
