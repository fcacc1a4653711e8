"""What bytes do of which nothing is known, what changed, and what a converter sampled."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr


def frames_of(count, flow):
    """Make frames of a marker, a counter, a constant, a value that moves about `flow`, and one that is always noise."""
    rng = np.random.default_rng(7)
    rows = np.zeros((count, 5), dtype=np.uint8)
    rows[:, 0], rows[:, 1], rows[:, 2] = 0xD7, np.arange(count), 0x21
    rows[:, 3], rows[:, 4] = flow + rng.integers(0, 4, count), rng.integers(0, 256, count)
    return rows


@given(st.lists(st.binary(max_size=6), max_size=12))
def test_the_survey_counts_what_a_loop_over_frames_counts(frames):
    survey = lr.measure_bytes(lr.capture.Ragged.of([list(frame) for frame in frames], dtype=np.uint8))
    assert len(survey) == max(map(len, frames), default=0)
    for place in range(len(survey)):
        column = [frame[place] for frame in frames if len(frame) > place]
        changes = [(a, b) for a, b in pairwise(column) if a != b]
        row = survey[place]
        assert (row.low[0], row.high[0], row.values[0]) == (min(column), max(column), len(set(column)))
        assert (row.frames[0], row.changes[0]) == (len(column), len(changes))
        for bit in range(8):
            assert row.ones[0, bit] == pytest.approx(sum(one >> bit & 1 for one in column) / len(column))
            assert row.bit_changes[0, bit] == sum((a ^ b) >> bit & 1 for a, b in changes)


def test_bytes_look_like_what_they_are():
    survey = lr.measure_bytes(frames_of(100, 40))
    looks = [survey.looks(place) for place in range(5)]
    assert looks == ["constant", "counts by 1", "constant", "moves", "moves"]
    assert [survey.bits(place) for place in (0, 2, 3)] == ["11010111", "00100001", "001010xx"]


def test_the_byte_behind_a_control_is_told_and_noise_is_not():
    """The value goes from about 40 to about 120; the counter counts on, the noise is as before."""
    before, after = (lr.measure_bytes(frames_of(100, flow)) for flow in (40, 120))
    found = lr.judge.compare_bytes(before, after)
    assert [(one.place, one.distance, one.bits) for one in found] == [(3, 1.0, (4, 6))]
    assert (found[0].before, found[0].after) == ("moves, 28 to 2B", "moves, 78 to 7B")
    assert lr.judge.compare_bytes(before, before) == []


def test_changes_are_told_field_by_field_and_byte_by_byte(rig):
    layout = rig.sheet.frame["status"]
    rows = [{"flow": 12.5}, {"flow": 12.5}, {"flow": 12.6, "state": "dosing"}, {"flow": 12.6, "state": "purging"}]
    frames = [layout.encode({"count": number, **row}) for number, row in enumerate(rows)]
    hurt = frames[2][:5] + b"\xff" + frames[2][6:]
    changes = list(lr.judge.find_changes(lr.read_frames(b"".join([*frames[:2], hurt, *frames[2:]]), layout)))
    assert [(one.row, one.fields) for one in changes] == [
        (3, (("flow", 12.5, 12.6), ("state", "resting", "dosing"))),
        (4, (("state", "dosing", "purging"),)),
    ]
    places = [place for place, was, now in changes[1].bytes if (was, now) == (frames[2][place], frames[3][place])]
    assert places == [place for place in range(16) if frames[2][place] != frames[3][place]]


@given(st.integers(8, 400), st.floats(0.03, 0.45), st.floats(0.1, 1.6), st.sampled_from(["rest", "fixed"]))
def test_bursts_are_volts_over_time_with_the_usual_figures(count, cycles, swing_v, repeat):
    """A sine of known frequency about half the reference; 12 bits of a field of 16."""
    volts = 1.65 + swing_v * np.sin(2 * np.pi * cycles * np.arange(count) + 0.3)
    counts = np.clip(np.rint(volts / 3.3 * 4096), 0, 4095).astype(int)
    sampled = {"reference": 3.3, "rate": 1000, "bits": 12}
    fields = [{"name": "wave", "type": "uint16", "repeat": count if repeat == "fixed" else "rest", "samples": sampled}]
    layout = lr.FrameLayout(boundary={"kind": "slip"}, fields=fields)
    stream = b"".join(layout.as_sent(layout.encode({"wave": one})) for one in (counts, counts[::-1]))
    bursts = lr.judge.read_bursts(lr.read_frames(stream, layout), "wave")
    held = counts * (3.3 / 4096)
    assert bursts.count.tolist() == [count, count]
    assert np.allclose(bursts.volts[0], held)
    assert np.allclose(bursts.peak_to_peak, np.ptp(held))
    assert np.allclose(bursts.mean, held.mean())
    assert np.allclose(bursts.without_mean()[1], held[::-1] - held.mean())
    assert bursts.times_s(0)[-1] == pytest.approx((count - 1) / 1000)
    if count * cycles > 4 and count * (0.5 - cycles) > 4:  # cycles enough to be told from the mean and from the limit
        assert np.allclose(bursts.frequency_hz, 1000 * cycles, atol=float(bursts.resolution_hz[0]) / 2)


def test_a_field_without_samples_has_no_bursts(rig):
    with pytest.raises(lr.RequestError, match="is not declared to hold samples"):
        lr.judge.read_bursts(lr.read_frames(b"", rig.sheet.frame["status"]), "flow")
