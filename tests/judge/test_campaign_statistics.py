"""The statistics of campaigns, against published values and independent references."""

from fractions import Fraction
from math import comb

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from scipy import stats

import larkreader as lr
from larkreader.judge.campaign.chance import chance_of_ratios, chance_of_shares, corrected
from larkreader.judge.campaign.odd_ones import odd_from, robust_scores
from larkreader.judge.campaign.trends import fit_trend

# NIST Statistical Reference Datasets, linear regression, "Norris": y and x, with certified values
NORRIS = """0.1 0.2 338.8 337.4 118.1 118.2 888.0 884.6 9.2 10.1 228.1 226.5 668.5 666.3 998.5 996.3 449.1 448.6
778.9 777.0 559.2 558.2 0.3 0.4 0.1 0.6 778.1 775.5 668.8 666.9 339.3 338.0 448.9 447.5 10.8 11.6 557.7 556.0
228.3 228.1 998.0 995.8 888.8 887.6 119.6 120.2 0.3 0.3 0.6 0.3 557.6 556.8 339.3 339.1 888.0 887.2 998.5 999.0
778.9 779.0 10.2 11.1 117.6 118.3 228.9 229.2 668.4 669.1 449.2 448.9 0.2 0.5"""
NORRIS_SLOPE, NORRIS_DEVIATION = 1.00211681802045, 0.429796848199937e-03


def test_a_trend_is_that_of_the_reference_data():
    y, x = np.array(NORRIS.split(), float).reshape(-1, 2).T
    trend = fit_trend(x, y)
    assert trend.points == 36
    assert trend.slope == pytest.approx(NORRIS_SLOPE, rel=1e-12)
    half = stats.t.ppf(0.975, 34) * NORRIS_DEVIATION
    assert (trend.low, trend.high) == pytest.approx((NORRIS_SLOPE - half, NORRIS_SLOPE + half), rel=1e-9)


def test_where_a_line_reaches_a_limit_lies_in_its_interval_as_often_as_stated():
    """1000 lines of 12 noisy points; the true place of the limit is at 76.25."""
    rng, at, hits = np.random.default_rng(3), np.repeat([5.0, 25.0, 45.0], 4), 0
    for _ in range(1000):
        crossing = fit_trend(at, 0.001 + 8e-4 * (at - 25) + rng.normal(0, 5e-3, 12)).crossing(0.042)
        hits += crossing is not None and crossing.low <= 76.25 <= crossing.high
    assert 930 <= hits <= 970


def test_a_slope_that_is_not_known_reaches_no_limit():
    rng = np.random.default_rng(1)
    assert fit_trend(np.arange(12.0), rng.normal(0, 1, 12)).crossing(50.0) is None
    assert fit_trend([1, 2, 3], [1, 2, 3]) is None
    assert fit_trend([1, 1, 1, 1], [1, 2, 3, 4]) is None
    assert fit_trend([0, 1, 2, 3, 4], [2, 2, 2, 2, np.nan]).chance == 1.0


@given(st.integers(0, 12), st.integers(0, 12), st.integers(1, 12), st.integers(1, 12))
def test_the_chance_of_shares_is_that_of_every_table_counted(first, second, of, other_of):
    """Fisher's test by counting: fractions of whole numbers, without a logarithm."""
    first, second = min(first, of), min(second, other_of)
    total, successes = of + other_of, first + second
    whole = comb(total, successes)
    tables = [
        Fraction(comb(of, k) * comb(other_of, successes - k), whole)
        for k in range(max(0, successes - other_of), min(of, successes) + 1)
    ]
    found = Fraction(comb(of, first) * comb(other_of, second), whole)
    expected = sum(table for table in tables if table <= found)
    assert chance_of_shares(first, of, second, other_of) == pytest.approx(float(expected), abs=1e-9)


@given(st.lists(st.integers(0, 4), min_size=3, max_size=12), st.lists(st.integers(0, 4), min_size=3, max_size=12))
def test_the_chance_of_ratios_is_that_of_the_reference(ratios, others):
    if len(set(ratios) | set(others)) == 1:
        assert chance_of_ratios(ratios, others) == 1.0
        return
    known = stats.mannwhitneyu(ratios, others, method="asymptotic", use_continuity=True)
    assert chance_of_ratios(ratios, others) == pytest.approx(known.pvalue, rel=1e-9)


def test_many_tests_are_corrected_as_published():
    """On paper: 4 x 0.005, 3 x 0.01, 2 x 0.03, and 0.04 is not smaller than that before it."""
    assert corrected([0.01, 0.04, 0.03, 0.005]) == pytest.approx([0.03, 0.06, 0.06, 0.02])
    assert corrected([]) == []


def test_ordinary_values_are_rarely_odd_and_a_far_value_is():
    rng = np.random.default_rng(5)
    alarms = sum(
        bool((np.abs(robust_scores(values)) > odd_from(60, 60)).any()) for values in rng.normal(3, 0.1, (500, 60))
    )
    assert alarms <= 25  # 1 % of campaigns by design; a median distance of 60 values is a little uncertain
    values = rng.normal(3, 0.1, 60)
    values[7] = 4.2
    assert np.flatnonzero(np.abs(robust_scores(values)) > odd_from(60, 60)).tolist() == [7]
    assert robust_scores([5.0] * 20 + [np.nan])[:20].tolist() == [0.0] * 20
    assert (robust_scores([1.0, 2.0, 90.0]) == 0).all()  # too few to tell


@example("9N1", "", -1301, 1e-9)  # of which every character is rounded alike
@given(
    st.sampled_from(["8N1", "8E1", "7E2", "9N1"]),
    st.sampled_from(["", " idle-low"]),
    st.integers(-20_000, 20_000),
    st.sampled_from([1e-9, 5e-8]),
)
def test_a_clock_is_measured_as_it_was_sent(form, idle, ppm, tick_s):
    line = lr.LineSettings.parse(f"57600 {form}{idle}")
    rng = np.random.default_rng(abs(ppm))
    trace = lr.transmit(rng.integers(0, 128, 300), line, clock_error_ppm=ppm, tick_s=tick_s)
    clock = lr.judge.measure_clock(trace, lr.receive(trace, line), line)
    rounded = 0.5 * tick_s / (line.stop_position * line.bit_time_s)  # where all characters are rounded alike
    assert 1e6 * clock.error == pytest.approx(ppm, abs=5e6 * clock.uncertainty + 1e6 * rounded + 2)
    assert clock.jitter_s < tick_s


def test_a_line_whose_rising_edges_are_late_has_no_other_clock_for_it():
    line = lr.LineSettings.parse("57600 8E1")
    trace = lr.transmit(bytes(range(256)), line, clock_error_ppm=3000)
    edges = trace.edges + np.where((trace.first_level + np.arange(1, len(trace.edges) + 1)) % 2 == 1, 900, 0)
    late = lr.Trace(edges, first_level=trace.first_level, end=trace.end + 1000)
    clock = lr.judge.measure_clock(late, lr.receive(late, line), line)
    assert 1e6 * clock.error == pytest.approx(3000, abs=2)
    assert clock.jitter_s < 2e-9
    assert lr.judge.measure_clock(trace, lr.receive(trace, line)[:2], line) is None
