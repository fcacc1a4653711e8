"""Figures that are drawn again and again while frames arrive."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

import larkreader as lr
from larkreader.present import LatestFrames, draw_envelope, draw_live
from larkreader.present.figures.moving import MovingFigure, scale_for, thinned

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


COUNT = lr.FrameLayout(key="c", boundary={"kind": "fixed", "length": 1}, fields=[{"name": "n", "type": "uint8"}])


def test_of_many_frames_the_faulty_and_an_even_share_of_the_others_are_kept():
    """20,000 frames of which every 50th of the first 1,000 is damaged: at most 200 others, all equally far apart."""
    latest, faults = LatestFrames(window_s=1e9, most=100), np.zeros(50, np.uint8)
    faults[7] = lr.Fault.PARITY
    for number in range(400):
        groups = [(number + 0.02 * row, b"\0", faults[row : row + 1].tobytes()) for row in range(50)]
        read = lr.Characters.from_groups(groups if number < 20 else [(*group[:2], b"") for group in groups])
        latest.take(lr.read_frames(read, COUNT))
        if number % 3 == 0:  # looked at or not, the same is kept
            latest.frames  # noqa: B018
    kept = latest.frames
    assert np.count_nonzero(kept.faults) == 20
    others = kept.begin_s[kept.faults == 0]
    assert 100 <= len(others) <= 200
    stride = 20_000 / len(others)
    assert np.diff(others) / 0.02 == pytest.approx(stride, abs=stride / 2)


def test_only_the_window_is_kept():
    latest = LatestFrames(window_s=10, most=1000)
    for number in range(100):
        latest.take(lr.read_frames(lr.Characters.from_groups([(float(number), b"\7", b"")]), COUNT))
    assert latest.frames.begin_s.tolist() == [float(number) for number in range(89, 100)]


def pixels(figure):
    return np.asarray(figure.canvas.buffer_rgba())


def test_a_moving_figure_shows_what_drawing_all_of_it_shows():
    """Lines drawn over the kept picture, while values move and scales give way, are those of a figure drawn at once."""
    figure = Figure(figsize=(7, 5))
    FigureCanvasAgg(figure)
    moving = MovingFigure(figure, window_s=4)
    for until in range(3, 12):
        live = fed([[16 * number % 256, 90, 7 * number] for number in range(until)])
        moving.draw(live.recent().frames, ["n", "wave"])
        in_pieces = pixels(figure).copy()
        figure.canvas.draw()
        assert np.array_equal(in_pieces, pixels(figure))
    strips, bursts = figure.axes
    assert strips.get_lines()[-4].get_xdata().tolist() == [-4.0, -3.0, -2.0, -1.0, 0.0]
    assert strips.get_title(loc="left") == "wave: the last 4 s"
    assert bursts.get_lines()[0].get_ydata().tolist() == [160 / 64, 90 / 64, 70 / 64]


def test_a_scale_stays_while_values_fill_it():
    assert scale_for((3.0, 97.0)) == (0.0, 100.0)
    assert scale_for((10.0, 60.0), (0.0, 100.0)) == (0.0, 100.0)  # half of it
    assert scale_for((10.0, 30.0), (0.0, 100.0)) == (10.0, 30.0)  # a fifth
    assert scale_for((10.0, 101.0), (0.0, 100.0)) == (0.0, 150.0)


@given(st.lists(st.floats(-9, 9) | st.none(), min_size=201, max_size=400))
def test_a_thinned_line_shows_the_extremes_of_each_column(values):
    columns = 100
    x = np.array([np.nan if value is None else float(at) for at, value in enumerate(values)])
    y = np.array([np.nan if value is None else value for value in values])
    if np.isnan(x).all():
        return
    thin_x, thin_y = thinned(x, y, columns)
    seen = ~np.isnan(x)
    for at, value in zip(x[seen], y[seen], strict=True):  # each value lies between two points of about its place
        near = np.abs(thin_x - at) <= (x[seen][-1] - x[seen][0]) / columns + 1e-9
        assert thin_y[near].min() <= value <= thin_y[near].max()
    assert set(thin_y[~np.isnan(thin_y)]) <= set(y[seen])
