import numpy as np
import pytest

import larkreader as lr

LINE = lr.LineSettings.parse("9600 8E1")
RATE = 400_000.0


def measured(low, high, *, noise=0.01, peak=0.0, rise_s=10e-6, idle="high"):
    """Straight edges of a given length from 10 to 90 %, and peaks that decay behind them."""
    trace = lr.transmit(b"flow 12.5 mL/min" * 8, LINE.model_copy(update={"idle": idle}), gaps=5)
    times = np.arange(int(trace.end_s * RATE)) / RATE
    near = np.clip(np.searchsorted(trace.edges_s, times, side="right") - 1, 0, None)
    since = np.maximum(times - trace.edges_s[near], 0)
    to_high = (near + trace.first_level) % 2 == 0
    before_any = times < trace.edges_s[0]
    part = np.where(before_any, 1.0, np.clip(since / (rise_s / 0.8), 0, 1))
    over = np.where(before_any | (part < 1), 0.0, peak * np.exp(-(since - rise_s / 0.8) * 5e4))
    up = np.where(before_any, trace.first_level == 1, to_high)
    volts = np.where(up, low + (high - low) * part + over, high - (high - low) * part - over)
    return lr.capture.Voltages(volts + noise * np.random.default_rng(4).standard_normal(len(volts)), RATE)


def test_levels_noise_overshoot_and_steepness_are_measured():
    seen = lr.measure_wire(measured(0.2, 3.2, noise=0.02, peak=0.5, rise_s=20e-6), LINE).levels
    assert (seen.low_v, seen.high_v) == pytest.approx((0.2, 3.2), abs=0.04)
    assert lr.measure_wire(measured(0.2, 3.2, noise=0.02), LINE).levels.noise_v == pytest.approx(0.02, rel=0.15)
    assert (seen.overshoot_v, seen.undershoot_v) == pytest.approx(
        (0.4, 0.4), abs=0.08
    )  # less what has decayed when sampled, and noise
    assert (seen.rise_s, seen.fall_s) == pytest.approx((20e-6, 20e-6), rel=0.15)


@pytest.mark.parametrize(
    ("low", "high", "read_by"),
    [
        (0.05, 1.8, {"1.8 V logic", "2.5 V logic"}),
        (0.1, 3.3, {"3.3 V logic", "5 V TTL"}),
        (0.1, 5.0, {"5 V TTL", "5 V CMOS"}),
        (0.1, 2.4, {"2.5 V logic", "3.3 V logic", "5 V TTL"}),
        (-9.0, 9.0, {"line driver (TIA-232-F)"}),
        (1.1, 3.3, set()),
        (0.1, 1.0, set()),
        (-1.5, 1.8, set()),
    ],
)
def test_which_logic_reads_the_levels(low, high, read_by):
    """Thresholds as in JESD8-7A, JESD8-5A, JESD8C.01 and the TTL ones; what reads none of them is a finding."""
    idle = "low" if low == -9.0 else "high"
    line = LINE.model_copy(update={"idle": idle})
    found = lr.diagnose(measured(low, high, idle=idle), line)
    assert set(found.survey.levels.read_by) == read_by
    kinds = {finding.kind for finding in found.findings}
    assert ("level-mismatch" in kinds) == (not read_by or low == -9.0)
    assert "as-declared" in kinds


def test_a_wire_that_floats_is_told():
    found = lr.diagnose(lr.capture.Voltages(np.full(5000, 1.1), RATE), LINE)
    assert {finding.kind for finding in found.findings} == {"silence", "level-mismatch"}
    found = lr.diagnose(lr.capture.Voltages(np.full(5000, 3.3), RATE), LINE)
    assert {finding.kind for finding in found.findings} == {"silence"}
