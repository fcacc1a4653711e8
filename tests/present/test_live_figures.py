"""Figures that are drawn again and again while frames arrive."""

import numpy as np
import pytest

import larkreader as lr
from larkreader.present import LatestFrames, draw_envelope, draw_live

SAMPLES = {"reference": 4.0, "bits": 8, "rate": 1000}
WAVE = lr.FrameLayout(
    boundary={"kind": "slip"},
    fields=[
        {"name": "n", "type": "uint8"},
        {"name": "wave", "type": "uint8", "repeat": "rest", "samples": SAMPLES},
        {"name": "sum", "type": "checksum"},
    ],
    checksum={"algorithm": "sum-8"},
)
SHEET = lr.Sheet(wire={"pump": {}}, frame={"wave": WAVE})


def fed(bursts):
    live = lr.LiveReading(SHEET)
    for number, values in enumerate(bursts):
        live.feed("pump", WAVE.as_sent(WAVE.encode({"n": number, "wave": values})), time_s=1.0 * number)
    return live


def test_fields_stand_in_strips_and_samples_over_what_all_of_them_span():
    """Bursts of three samples, 1/64 V a count: the span of each place, and the last burst, with and without its mean."""
    live = fed([[64, 128, 64], [0, 64, 32], [64, 64, 128]])
    figure = draw_live(live)
    strips, bursts = figure.axes
    assert strips.get_xlabel() == "time, s"
    (line,) = bursts.get_lines()
    assert line.get_ydata().tolist() == [1.0, 1.0, 2.0]
    (span,) = bursts.collections
    corners = span.get_paths()[0].vertices
    assert (corners[:, 1].min(), corners[:, 1].max()) == (0.0, 2.0)
    assert bursts.get_xlabel() == "time since the burst's first sample, ms"
    (line,) = draw_live(live, ["wave"], without_mean=True, figure=figure).axes[0].get_lines()
    assert line.get_ydata() == pytest.approx([-1 / 3, -1 / 3, 2 / 3])
    assert len(figure.axes) == 1  # the same figure, drawn anew


def test_only_the_window_is_drawn():
    axes = draw_live(fed([[number] for number in range(20)]), ["n"], window_s=4.5).axes[0]
    assert axes.get_title(loc="left") == "wave: 5 frames"


def test_what_cannot_be_drawn_is_refused():
    with pytest.raises(lr.RequestError, match="no frame yet"):
        draw_live(fed([]))
    with pytest.raises(lr.RequestError, match='Did you mean "wave"'):
        draw_live(fed([[1]]), ["wafe"])
    with pytest.raises(lr.RequestError, match="nothing to draw"):
        draw_envelope(lr.judge.read_bursts(lr.read_frames(b"", WAVE), "wave"))


def test_of_many_frames_the_faulty_and_some_of_the_others_are_kept():
    layout = lr.FrameLayout(boundary={"kind": "fixed", "length": 1}, fields=[{"name": "n", "type": "uint8"}])
    latest, faults = LatestFrames(window_s=1e9, most=100), np.zeros(50, np.uint8)
    faults[7] = lr.Fault.PARITY
    for number in range(400):
        groups = lr.Characters.from_groups([(float(number), bytes(50), faults.tobytes() if number < 20 else b"")])
        latest.take(lr.read_frames(groups, layout))
    assert len(latest.frames) <= 200 + 50
    assert np.count_nonzero(latest.frames.faults) > 0
    assert (np.diff(latest.frames.begin_s) >= 0).all()
