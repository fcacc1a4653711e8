"""Every figure, as it is seen: what stands in it, that nothing overlaps, nothing is cut off, and each axis has a unit."""

import io
from itertools import combinations

import numpy as np
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.collections import LineCollection
from matplotlib.text import Text

import larkreader as lr
from larkreader.cli.figures import FIGURES, Wanted
from larkreader.demo.service import make_service
from larkreader.present.figures.style import new_figure, time_scale
from larkreader.present.report.content import make_report
from larkreader.present.report.render import render_html

LINE = lr.LineSettings.parse("57600 8E1")


def texts_of(figure):
    """Every text that is seen, with the box that it takes, in pixels."""
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    renderer = canvas.get_renderer()
    shown = [one for one in figure.findobj(Text) if one.get_visible() and one.get_text().strip()]
    boxes = [(one.get_text(), one.get_window_extent(renderer)) for one in shown]
    for axes in [*figure.axes, *(child for one in figure.axes for child in one.child_axes)]:
        for axis in (axes.xaxis, axes.yaxis):
            low, high = sorted(axis.get_view_interval())
            ticks = [*axis.get_major_ticks(), *axis.get_minor_ticks()]
            unseen = {  # ticks beyond an axis are made but not drawn
                id(label)
                for tick in ticks
                if not axes.axison or not low - 1e-9 <= tick.get_loc() <= high + 1e-9
                for label in (tick.label1, tick.label2)
            }
            boxes = [(text, box) for (text, box), one in zip(boxes, shown, strict=True) if id(one) not in unseen]
            shown = [one for one in shown if id(one) not in unseen]
    return boxes


def assert_legible(figure):
    width, height = figure.get_size_inches() * 100
    boxes = texts_of(figure)
    for text, box in boxes:
        assert box.x0 >= -1, f"{text!r} is cut off"
        assert box.y0 >= -1, f"{text!r} is cut off"
        assert box.x1 <= width + 1, f"{text!r} is cut off"
        assert box.y1 <= height + 1, f"{text!r} is cut off"
    for (text, box), (other, beside) in combinations(boxes, 2):
        shared = [min(box.x1, beside.x1) - max(box.x0, beside.x0), min(box.y1, beside.y1) - max(box.y0, beside.y0)]
        assert min(shared) <= 1.0, f"{text!r} overlaps {other!r}"


@pytest.fixture(scope="module")
def service_files(tmp_path_factory):
    from larkreader.demo.service import write_service

    return write_service(tmp_path_factory.mktemp("service"), make_service())


def drawn(figure, rig_files, **asked):
    """Draw a figure of the demo's data; return it and its axes."""
    needs = FIGURES[figure].needs
    sheet = lr.open_sheet(rig_files["sheet"])
    sheet = sheet.model_copy(update={"loopback": sheet.loopback.model_copy(update={"characters": 100})})
    source = {"capture": str(rig_files["capture"]), "port": "pump", "sheet": None}[needs]
    picture = new_figure(height_px=FIGURES[figure].height_px)
    axes = picture.add_subplot()
    FIGURES[figure].draw(Wanted(sheet, source, frame="status" if figure == "layout" else None, **asked), axes)
    return picture, axes


@pytest.mark.parametrize("figure", [name for name in FIGURES if name != "bursts"])
def test_nothing_overlaps_or_is_cut_off_and_axes_have_units(figure, rig_files):
    picture, axes = drawn(figure, rig_files)
    assert_legible(picture)
    units = ("s on, in", ", ms", ", s", "bit times", "%", "baud", "ring size", "rest of the wire")
    if figure != "layout":
        assert any(unit in axes.get_xlabel() or axes.get_xlabel() == unit for unit in units)


@pytest.mark.parametrize("window", [(None, None), (3.69, 3.83), (1.1, 2.4)])
def test_a_timeline_of_questions_and_answers_is_legible(window, service_files):
    reading = lr.read(service_files["sheet"], service_files["capture"])
    picture = new_figure()
    axes = lr.draw_timeline(reading, begin_s=window[0], end_s=window[1], ax=picture.add_subplot())
    if window != (None, None):
        assert_legible(picture)
    rows = reading.timeline
    begin, end = (-np.inf, np.inf) if window[0] is None else window
    shown = (rows.end_s >= begin) & (rows.begin_s <= end)
    pairs = reading.pairs["value"]
    joined = sum(
        bool(shown[one] and shown[other]) for one, other in zip(pairs.request, pairs.reply, strict=True) if other >= 0
    )
    assert sum(len(one.get_segments()) for one in axes.collections if isinstance(one, LineCollection)) == joined


def test_changes_are_folded_where_a_slow_sender_puts_them():
    """At 2 % slow the change before bit n comes n + 1 times 2 % of a bit late; rises 5 % later than falls."""
    slow = lr.LineSettings(baud=57600 / 1.02, format="8E1")
    trace = lr.transmit(bytes(range(256)), slow, gaps=np.full(256, 5.0), begin_s=0.0)
    rising = np.arange(len(trace)) % 2 == 1
    later = lr.Trace.from_seconds(trace.edges_s + rising * 0.05 / 57600, end_s=trace.end_s + 1e-3)
    phases = lr.judge.measure_edge_phases(later, lr.receive(later, LINE), LINE)
    for boundary in range(1, LINE.stop_position + 1):
        for up in (True, False):
            own = phases.offset_bits[(phases.boundary == boundary) & (phases.rises == up)]
            if len(own):
                assert own == pytest.approx(0.02 * boundary + 0.05 * up, abs=1e-3)
    axes = lr.present.draw_folded(phases)
    found = [one.get_text() for one in axes.texts if "\u00b1" in one.get_text()]
    assert len(found) == LINE.stop_position
    assert found[-1].startswith("+25.0 %")  # before the stop bit there are rises alone: 10 * 2 + 5


def test_rests_are_those_that_were_left():
    """Gaps within and between messages, by the gaps with which the characters were sent."""
    text = 'sheet = 1\n[line]\nbaud = 10000\n[wire.rx]\n[frame.one]\nboundary = { kind = "marker", marker = "A6" }\n'
    sheet = lr.parse_sheet(text + 'fields = [{ name = "x", type = "uint8" }]\n')
    trace = lr.transmit(
        b"\xa6\x01\xa6\x02\xa6\x03", sheet.line, gaps=np.array([10.0, 2.0, 50.0, 0.0, 30.0, 4.0]), begin_s=0
    )
    reading = lr.read(sheet, {"rx": trace})
    gaps = lr.judge.measure_gaps(reading.timeline, reading.characters["rx"], "rx")
    assert gaps.within_s == pytest.approx([2e-4, 0, 4e-4], abs=1e-9)
    assert gaps.between_s == pytest.approx([50e-4, 30e-4], abs=1e-9)
    with pytest.raises(lr.RequestError, match='Did you mean "rx"'):
        lr.judge.measure_gaps(reading.timeline, reading.characters["rx"], "rxx")


def test_fields_are_drawn_where_they_can_be_trusted(rig_files):
    """A line through the good frames, broken where frames are missing; a cross a faulty frame; a ring a wild value."""
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    status = reading.frames["status"]
    axes = lr.draw_fields(status, ["flow", "state"])
    bad = (status.faults & (lr.FrameFault.CHECKSUM_MISMATCH | lr.FrameFault.CHARACTER_FAULT)) != 0
    lines = {(line.get_marker(), len(np.asarray(line.get_xdata()))) for line in axes.lines}
    assert ("x", int(bad.sum())) in lines
    assert ("o", 1) in lines
    flow = next(line for line in axes.lines if len(line.get_xdata()) > 100)
    known = np.isfinite(np.asarray(flow.get_ydata(), float))
    assert int(known.sum()) == int((~bad).sum())
    assert not known.all()
    assert {"resting", "dosing", "purging", "5"} <= {one.get_text() for one in axes.get_yticklabels()}
    with pytest.raises(lr.RequestError, match='Did you mean "flow"'):
        lr.draw_fields(status, ["flwo"])


def test_widths_say_the_baud_that_was_measured():
    trace = lr.transmit(
        bytes(range(256)), lr.LineSettings(baud=58000, format="8E1"), gaps=np.full(256, 3.0), begin_s=0.0
    )
    title = lr.present.draw_widths(lr.judge.measure_widths(trace, LINE)).get_title(loc="left")
    assert "measured 58,000 baud, +0.69 % off" in title


def test_a_text_about_frames_is_no_fault():
    """Only bytes that belong to no frame are drawn as such, whatever a message says."""
    sheet = lr.parse_sheet("sheet = 1\n[line]\nbaud = 9600\n[wire.a]\n[wire.b]\n")
    declared = {key: lr.transmit(b"2 bytes of no frame\n", sheet.line, begin_s=0.0) for key in "ab"}
    axes = lr.draw_timeline(lr.read(sheet, declared))
    assert "F" not in {one.get_text() for one in axes.texts}
    assert not any(patch.get_hatch() for patch in axes.patches)


def test_names_are_taken_literally():
    """Dollar signs of a sheet are no mathematics."""
    sheet = lr.parse_sheet('sheet = 1\n[line]\nbaud = 9600\n[wire."a$\\\\b$"]\n[wire."c$"]\n')
    traces = {key: lr.transmit(b"one\ntwo\n", sheet.line, begin_s=0.0, name=key) for key in sheet.wire}
    reading = lr.read(sheet, traces, keep_levels=True)
    for axes in (
        lr.draw_timeline(reading),
        lr.present.draw_waveform(traces["c$"], reading.characters["c$"], sheet.line),
        lr.present.draw_widths(reading.widths["c$"]),
        lr.present.draw_gaps(reading.gaps["c$"], sheet.line),
    ):
        axes.figure.savefig(io.BytesIO(), format="svg")


@pytest.mark.parametrize(
    ("span_s", "unit"), [(10, "s"), (2, "s"), (1.9, "ms"), (3e-4, "\u00b5s"), (1e-7, "ns"), (0, "ns")]
)
def test_axes_have_units_that_make_numbers_readable(span_s, unit):
    assert time_scale(span_s)[0] == unit


def test_draw_makes_each_figure(shell, rig_files, tmp_path):
    """One of each kind of source, into a file that is a picture; what is needed and missing, or too much, is told."""
    for figure, maker in FIGURES.items():
        if figure not in ("gaps", "fields", "margin", "layout"):
            continue
        target = tmp_path / f"{figure}.svg"
        source = {"capture": [rig_files["capture"]], "sheet": [], "port": ["pump"]}[maker.needs]
        more = ["--frame", "status"] if figure == "layout" else []
        status, out, err = shell("draw", rig_files["sheet"], *source, figure, *more, "-o", target)
        assert (status, out) == (0, "")
        assert f"drawn into {target}" in err
        assert b"<svg" in target.read_bytes()[:600]
    for arguments, found in (
        (["wavefrom"], 'Did you mean "waveform"'),
        (["waveform"], "needs a capture"),
        (["matrix"], "needs a port"),
        ([rig_files["capture"], "layout"], "an argument too many"),
        ([rig_files["capture"], rig_files["capture"], "gaps"], "an argument too many"),
        ([rig_files["delivered"], "waveform", "--wire", "from_pump"], "holds no levels"),
        ([rig_files["delivered"], "timeline", "--wire", "from_pump"], "has no times"),
        ([rig_files["capture"], "gaps", "--field", "flow"], "--field does not apply to gaps"),
        ([rig_files["capture"], "waveform", "--to", "3"], "--to does not apply to waveform"),
        (["layout"], "must be one of setpoint, status, alarm"),
    ):
        status, _, err = shell("draw", rig_files["sheet"], *arguments, "-o", tmp_path / "a.png")
        assert (status, found in err) == (2, True), err


NEXT_TO_NOTHING = {
    "nothing": {},
    "one character": {"a": lr.transmit(b"\x55", LINE, begin_s=0.0)},
    "one frame": {"a": lr.transmit(b"\xa6\x01\x01", LINE, begin_s=0.0)},
    "one moment": {key: lr.Characters.from_groups([(0.5, b"\xa6", b"")]) for key in "ab"},
    "no change": {"a": lr.Trace.from_seconds([], end_s=1.0)},
    "a break": {"a": lr.Trace.from_seconds([0.1, 0.2], end_s=1.0)},
    "bytes": {"a": b"\xa6\x01\x01" * 3},
    "both at once": {key: lr.transmit(b"\xa6\x01\x01", LINE, begin_s=0.0) for key in "ab"},
}
SPARE = """sheet = 1
[line]
baud = 57600
format = "8E1"
[wire.a]
[wire.b]
[frame.one]
wire = "a"
boundary = { kind = "marker", marker = "A6" }
fields = [{ name = "n", type = "uint8", repeat = 2 }]
[pair.p]
request = "one"
reply = "b"
[timing]
shared = ["a", "b"]
"""


@pytest.mark.parametrize("captured", NEXT_TO_NOTHING.values(), ids=NEXT_TO_NOTHING)
def test_of_next_to_nothing_every_figure_is_drawn_or_refused(captured):
    """Without a warning: a figure, or a request that cannot be met; and a report in any case."""
    sheet = lr.parse_sheet(SPARE)
    reading = lr.read(sheet, captured, keep_levels=True)
    for name, maker in FIGURES.items():
        if maker.needs != "capture" or (name in ("waveform", "folded", "widths") and not reading.levels):
            continue  # the command refuses a capture without levels before
        wanted = Wanted(sheet, "nowhere")
        vars(wanted).update(reading=reading, reading_of_levels=reading)
        picture = new_figure()
        try:
            maker.draw(wanted, picture.add_subplot())
        except (lr.RequestError, lr.CaptureError):
            continue
        picture.savefig(io.BytesIO(), format="svg")
    assert "Reproduce" in render_html(make_report(reading))
