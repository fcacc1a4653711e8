"""What is sent is read, and what cannot be read is never called healthy."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from strategies import line_settings

import larkreader as lr
from larkreader.exercise.line.impair import add_jitter


def read(values, line, gaps, error_ppm, jitter, seed):
    """Send values with a clock that is off and changes that jitter by a share of a bit, and read the wire."""
    trace = lr.transmit(values, line, gaps=gaps, clock_error_ppm=error_ppm, tick_s=min(1e-7, line.bit_time_s / 64))
    trace = add_jitter(trace, jitter * line.bit_time_s, seed)
    sheet = lr.Sheet(line=line, wire={"tx": lr.declare.Wire(key="tx", line=line)})
    return lr.read(sheet, {"tx": trace})


@given(line_settings(), st.data(), st.floats(-1, 1), st.floats(0, 0.06), st.sampled_from([0.0, 2.0, 20.0]))
def test_within_the_tolerance_everything_comes_back_without_a_fault(line, data, part, jitter, gaps):
    """The stop bit is judged half a bit behind its edge: clock error and jitter together must not use that up.

    A change may come three standard deviations early and its start edge as late, and the last sample lies
    stop_position + 1/2 bits behind the start edge.
    """
    left = 0.5 - 2 * 3 * jitter - 2 / 64
    error = part * left / (line.stop_position + 0.5 + left)
    if gaps == 0 and error < 0:  # the sender is slower, and without pauses nothing else happens
        error = max(error, -0.03)
    values = data.draw(st.lists(st.integers(0, (1 << line.data_bits) - 1), min_size=1, max_size=60))
    reading = read(values, line, gaps, error * 1e6, jitter, len(values))
    found = reading.characters["tx"]
    assert found.value.tolist() == values
    assert not found.faults.any()
    assert not [one for one in reading.findings if one.kind in ("false-start", "framing-error", "parity-error")]


@given(line_settings(), st.integers(0, 2**32), st.floats(1.3, 6), st.booleans(), st.sampled_from([0.0, 2.0, 20.0]))
def test_beyond_the_tolerance_wrong_values_are_never_called_healthy(line, seed, times, faster, gaps):
    """A hundred random values, from a third beyond the tolerance to several times that."""
    error = times * 0.5 / (line.stop_position + 0.5) * (1 if faster else -1)
    values = np.random.default_rng(seed).integers(0, 1 << line.data_bits, 100)
    reading = read(values, line, gaps, error * 1e6, 0.01, seed)
    if reading.characters["tx"].value.tolist() != values.tolist():
        assert reading.verdict == "faults"
