"""Patterns and pseudo-random sequences, against their definitions."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

import larkreader as lr
from larkreader.declare.run.loopback import PATTERN_NAMES
from larkreader.exercise.payload import patterns
from larkreader.exercise.payload.patterns import as_values, as_written, pattern_of
from larkreader.exercise.payload.prbs import SEQUENCES, find_place, sequence_from


def slow_sequence(n, m, count, register):
    """Shift a register bit by bit, as O.150 draws it: its last stage is what comes out."""
    stages, out = [register >> place & 1 for place in range(n)], []
    for _ in range(count):
        stages = [stages[n - 1] ^ stages[m - 1], *stages[:-1]]
        out.append(stages[0])
    return out


@given(st.sampled_from(sorted(SEQUENCES)), st.integers(0, 300), st.integers(0, 1 << 31))
def test_a_sequence_is_that_of_a_shift_register(stages, count, seed):
    n, m, is_inverted = SEQUENCES[stages]
    register = (seed & ((1 << n) - 1)) or (1 << n) - 1
    wanted = [bit ^ is_inverted for bit in slow_sequence(n, m, count, register)]
    assert lr.exercise.prbs_bits(stages, count, seed).tolist() == wanted


def longest_run(bits):
    changes = np.flatnonzero(np.diff(bits, prepend=2, append=2))
    return int(np.diff(changes).max())


@pytest.mark.parametrize(
    ("stages", "inverted", "zeros"),
    [
        (7, False, 6),
        (9, False, 8),
        (11, False, 10),
        (15, True, 15),
        (20, False, 19),
        pytest.param(23, True, 23, marks=pytest.mark.deep),
    ],  # whose period the next test has by arithmetic
)
def test_a_sequence_has_the_period_and_the_longest_run_of_zeros_that_its_standard_says(stages, inverted, zeros):
    """O.150 says how many zeros in a row there are at most; of each sequence half the bits and one more are ones."""
    period = (1 << stages) - 1
    bits = lr.exercise.prbs_bits(stages, period + 100)
    assert np.array_equal(bits[period:], bits[:100])
    assert int(bits[:period].sum()) == (period + 1) // 2 - inverted
    twice = np.concatenate([bits[:period], bits[:stages]])
    assert longest_run(np.where(twice == 0, 0, np.arange(len(twice)) + 2)) == zeros
    states = np.lib.stride_tricks.sliding_window_view(bits[: period + stages - 1], stages) @ (1 << np.arange(stages))
    assert len(np.unique(states[:period])) == period


@pytest.mark.parametrize(("stages", "primes"), [(23, (47, 178_481)), (31, (2**31 - 1,))])
def test_a_long_sequence_is_of_maximum_length(stages, primes):
    """Its period divides 2^n - 1; it is no less if x^((2^n - 1) / p) is not 1 modulo its polynomial for any prime p."""
    n, m, _ = SEQUENCES[stages]
    polynomial, whole = 1 << n | 1 << (n - m) | 1, (1 << n) - 1

    def power_of_x(exponent):
        result, square = 1, 2
        for place in range(exponent.bit_length()):
            result = times(result, square) if exponent >> place & 1 else result
            square = times(square, square)
        return result

    def times(one, other):
        product = 0
        for place in range(n):
            product ^= one << place if other >> place & 1 else 0
        for place in range(product.bit_length() - 1, n - 1, -1):
            product ^= polynomial << (place - n) if product >> place & 1 else 0
        return product

    assert power_of_x(whole) == 1
    assert all(power_of_x(whole // prime) != 1 for prime in primes)


@given(
    st.sampled_from([7, 9, 11, 15, 20, 23, 31]),
    st.integers(5, 9),
    st.integers(0, 1 << 20),
    st.lists(st.integers(0, 31), max_size=5),
)
def test_a_sequence_is_found_wherever_a_listener_comes_in(stages, data_bits, seed, noise):
    values = lr.exercise.prbs_values(stages, 60, data_bits, seed)[17:]
    heard = np.concatenate([np.array(noise, np.uint16), values])
    begin = find_place(heard, data_bits, stages)
    assert begin is not None
    assert begin <= len(noise)
    assert sequence_from(heard[begin:], len(heard) - begin, data_bits, stages).tolist() == heard[begin:].tolist()


@pytest.mark.parametrize("silence", [0x00, 0xFF])
def test_a_line_at_rest_is_no_sequence(silence):
    assert find_place(np.full(200, silence, np.uint16), 8, 9) is None


@pytest.mark.parametrize(
    ("plan", "wanted"),
    [
        ({"characters": 300}, [*range(256), *range(44)]),
        ({"characters": 130, "data_bits": 7}, [*range(128), 0, 1]),
        ({"characters": 514, "data_bits": 9}, [*range(512), 0, 1]),
        ({"characters": 20, "data_bits": 5, "pattern": "all-values"}, [*range(20)]),
        ({"characters": 68, "data_bits": 5, "pattern": "all-values"}, [*range(32), *range(31, -1, -1), 0, 1, 2, 3]),
        ({"characters": 13, "pattern": "lines"}, [*b"line 000000\nline 000001\n"]),
        ({"characters": 12, "pattern": "lines", "mirrored": True}, [*b"line 500000\n"]),
        ({"characters": 3, "pattern": "alternating"}, [0x55, 0xAA, 0x55]),
        ({"characters": 3, "pattern": "alternating", "data_bits": 5}, [0x15, 0x0A, 0x15]),
        ({"characters": 3, "pattern": "alternating", "data_bits": 9}, [0x155, 0x0AA, 0x155]),
        ({"characters": 9, "pattern": "walking-one"}, [1, 2, 4, 8, 16, 32, 64, 128, 1]),
        ({"characters": 7, "pattern": "walking-zero", "data_bits": 7}, [126, 125, 123, 119, 111, 95, 63]),
        ({"characters": 7, "pattern": "runs"}, [0, 255, 0, 0, 255, 255, 0]),
        ({"characters": 3, "mirrored": True}, [255, 254, 253]),
        ({"characters": 20, "avoid": (0x11, 0x13)}, [*range(0x11), 0x12, 0x14, 0x15]),
        ({"characters": 5, "pattern": "file", "content": b"\x01\x02"}, [1, 2, 1, 2, 1]),
    ],
)
def test_patterns(plan, wanted):
    assert pattern_of(lr.LoopbackPlan(**plan)).tolist() == wanted


@given(
    st.sampled_from(["counting", "all-values", "random", "walking-one", "prbs-7", "runs"]),
    st.integers(5, 9),
    st.booleans(),
)
def test_no_pattern_holds_what_is_to_be_avoided_or_does_not_fit(pattern, data_bits, mirrored):
    plan = lr.LoopbackPlan(characters=2000, pattern=pattern, data_bits=data_bits, avoid=(0x11, 0x13), mirrored=mirrored)
    values = pattern_of(plan)
    assert not np.isin(values, plan.avoid).any()
    assert int(values.max()) < 1 << data_bits
    assert np.array_equal(as_values(as_written(values, data_bits), data_bits), values)


@given(st.sampled_from(PATTERN_NAMES), st.integers(7, 8), st.integers(1, 400), st.integers(1, 300))
def test_a_pattern_does_not_depend_on_how_it_is_cut(pattern, data_bits, characters, size):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(patterns, "CHUNK", 97)
        patch.setattr(patterns, "LINES", 3)
        plan = lr.LoopbackPlan(characters=characters, pattern=pattern, data_bits=data_bits, content=b"flow 12.5\r\n")
        pieces = [*patterns.pattern_pieces(plan, size)]
        assert all(len(one) == size for one in pieces[:-1])
        assert np.concatenate(pieces).tolist() == pattern_of(plan).tolist()
    if pattern.startswith("prbs"):
        assert pattern_of(plan).tolist() == lr.exercise.prbs_values(int(pattern[5:]), characters, data_bits, 1).tolist()


def test_random_values_repeat_with_their_seed_and_fill_the_data_bits():
    one, two, other = (pattern_of(lr.LoopbackPlan(pattern="random", data_bits=6, seed=seed)) for seed in (5, 5, 6))
    assert np.array_equal(one, two)
    assert not np.array_equal(one, other)
    assert set(one.tolist()) == set(range(64))


def test_frames_are_whole_and_count_up(rig):
    layout = rig.sheet.frame["status"]
    frames = lr.read_frames(lr.exercise.frame_pattern(layout, 1000), layout)
    assert len(frames) == 63  # of 16 bytes each
    assert not frames.faults.any()
    assert frames["count"].tolist() == list(range(63))


@pytest.mark.parametrize(
    ("declared", "found"),
    [
        ({"expect": "prefixed"}, "needs the pattern lines"),
        ({"pattern": "lines", "data_bits": 9}, "need 7 or 8 data bits"),
        ({"sends": False}, "needs a pattern of prbs-7 to prbs-31"),
        ({"pattern": "file"}, "sends content, and has none"),
        (
            {"pattern": "file", "content": b"ok\x11", "avoid": (0x11,)},
            "has 0x11 at byte 2 of its content, to be avoided",
        ),
        ({"pattern": "file", "content": b"\xff", "data_bits": 7}, "has 0xFF at byte 0: no 7 data bits hold it"),
    ],
)
def test_plans_that_cannot_be_done_say_why(declared, found):
    with pytest.raises(ValidationError, match=found):
        lr.LoopbackPlan(**declared)
