"""A receiver in software: what it hears when it is deaf for a while."""

import hypothesis.strategies as st
import numpy as np
import pytest
from hypothesis import given
from strategies import examples

import larkreader as lr

LINE = lr.LineSettings.parse("9600 8N1")
BIT_S = LINE.bit_time_s


@examples(2)
@given(
    text=st.sampled_from(["9600 8N1", "57600 8E1", "19200 7O2", "4800 9S1.5 idle-low", "9600 5N1 msb"]),
    data=st.data(),
)
def test_one_that_is_never_deaf_hears_what_hardware_does(text, data):
    line = lr.LineSettings.parse(text)
    values = data.draw(st.lists(st.integers(0, (1 << line.data_bits) - 1), max_size=30))
    gaps = data.draw(st.lists(st.sampled_from([0, 0, 0.5, 3, 40]), min_size=len(values), max_size=len(values)))
    choices = [0, 0, 0, lr.Fault.FRAMING, lr.Fault.BREAK, *([lr.Fault.PARITY] if line.has_parity else [])]
    faults = data.draw(st.lists(st.sampled_from(choices), min_size=len(values), max_size=len(values)))
    trace = lr.transmit(values, line, gaps=gaps, faults=faults)
    shown, wanted = lr.simulate.receive_in_software(trace, line, ()), lr.receive(trace, line)
    assert shown.value.tolist() == wanted.value.tolist()
    assert shown.faults.tolist() == wanted.faults.tolist()
    assert shown.begin_s == pytest.approx(wanted.begin_s, abs=2e-9)
    again = lr.simulate.trace_of(wanted, line)
    if not any(fault & (lr.Fault.FRAMING | lr.Fault.BREAK) for fault in faults):
        assert np.array_equal(again.edges, trace.edges) or np.abs(again.edges - trace.edges).max() <= 1


def heard(values, deaf_from_bit, deaf_bits, start="change", gaps=0):
    """Return what is heard of characters from bit 10 on; deaf for some bits, on the capture's clock in bits."""
    trace = lr.transmit(values, LINE, begin_s=10 * BIT_S, gaps=gaps)
    deaf = (lr.declare.ServiceBlackout(first_s=deaf_from_bit * BIT_S, for_s=deaf_bits * BIT_S),)
    return lr.simulate.compare_reception(
        lr.receive(trace, LINE), lr.simulate.receive_in_software(trace, LINE, deaf, start=start), LINE
    )


def test_a_start_that_comes_while_it_is_deaf_is_missed():
    """0xFF has no change but its start: whoever misses that misses it altogether, and hears the next."""
    shown = heard([0xFF, 0xFF, 0xFF], 19.7, 1.0)
    assert (shown.missed.tolist(), shown.misread.tolist(), len(shown.spurious)) == ([1], [], 0)
    assert shown.characters.value.tolist() == [0xFF, 0xFF]


def test_one_that_hears_again_within_a_character_locks_onto_a_data_bit():
    """The second 0x55 begins at bit 20: start 0, then 1 0 1 0 1 0 1 0, stop 1. From 20.5 on the first fall is at bit 22.

    What follows from there, eight bits behind that start, is 1 0 1 0 1 0 1 (bits 23 to 29) and the start of the third
    character, 0; then its bit 0, a 1, for a stop bit: 0x55 once more, made up. Of the third one bits 2 to 8 are left; the
    next fall is at bit 32: 1 0 1 0 1 0 1, then idle.
    """
    shown = heard([0x55, 0x55, 0x55], 19.9, 0.6)
    assert shown.characters.value.tolist() == [0x55, 0x55, 0b11010101]
    assert shown.missed.tolist() == [1, 2]
    assert shown.spurious.tolist() == [1, 2]


def test_a_stretch_that_ends_on_a_low_bit_gives_framing_errors_to_whoever_takes_levels_for_starts():
    """ServiceBlackout from the start of 0x0F until its bit 4, which is low.

    What follows is bits 5 to 7, 0, its stop bit, 1, and of the 0x00 behind it the start and bits 0 to 2; where the stop
    bit should be stands bit 3, a 0. So is the line when it looks for the next start: bits 5 to 7, 0, the stop bit and
    idle, all 1.
    """
    shown = heard([0x0F, 0x00], 9.9, 5.5, start="level")
    assert shown.characters.value.tolist() == [0b0000_1000, 0b1111_1000]
    assert shown.characters.faults.tolist() == [lr.Fault.FRAMING, 0]
    assert shown.missed.tolist() == [0, 1]
    by_changes = heard([0x0F, 0x00], 9.9, 5.5)
    assert (by_changes.missed.tolist(), by_changes.characters.value.tolist()) == ([0], [0x00])


def test_a_latched_start_is_timed_from_when_it_is_heard():
    """Heard 2 bits late, bit 1 of 0xA5 is its start, 0; bits 2 to 7 follow, 1 0 0 1 0 1, the stop bit and idle.

    Bit 1 of 0xA7 is 1: a false start; bit 3 then is the next change to 0, and 0 1 0 1 follow, and the stop bit and idle.
    """
    shown = heard([0xA5], 9.9, 2.1, start="latched")
    assert shown.characters.value.tolist() == [0b1110_1001]
    shown = heard([0xA7], 9.9, 2.1, start="latched")
    assert shown.characters.value.tolist() == [0b1111_1010]
    assert len(shown.characters.false_starts_s) == 1


def test_a_sample_that_comes_due_is_taken_when_it_hears_again():
    """Bits 3 to 5 come due while it is deaf, and all three read bit 6; the rest is in time."""
    shown = heard([0b0100_0001], 14.2, 3.0)
    assert shown.characters.value.tolist() == [0b0111_1001]
    assert shown.misread.tolist() == [0]


def test_plan_tells_of_a_deaf_receiver(rig):
    sheet = lr.parse_sheet(
        """sheet = 1
        [line]
        baud = 9600
        format = "8N1"
        [wire.to_pump]
        [[traffic]]
        wire = "to_pump"
        length = 100
        every_s = 0.5
        [receive.to_pump]
        service = { kind = "software" }
        ring = { size = 64 }
        application = { kind = "periodic", every_s = 0.01 }
        deaf = [{ first_s = 0.02, for_s = 0.003, every_s = 0.05, note = "a display is redrawn" }]"""
    )
    (found,) = [one for one in lr.plan(sheet).findings if one.kind == "deaf-receiver"]
    assert found.count == sum(
        lr.plan(sheet).paths["to_pump"].to_dict()["software"][name] for name in ("missed", "misread")
    )
    assert found.count >= 3 * 2 * 2  # 3 ms are 2.9 characters, twice in each of two messages of 104 ms
