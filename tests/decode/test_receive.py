import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reference import slow_receive
from strategies import line_settings

import larkreader as lr
from larkreader.decode.chain import follow_chain
from larkreader.exercise.line.impair import add_spike

LINE = lr.LineSettings.parse("57600 8E1")


def rows_of(characters, tick_s):
    begins = np.rint(characters.begin_s / tick_s).astype(int).tolist()
    return list(zip(begins, characters.value.tolist(), characters.faults.tolist(), strict=True))


@given(
    line_settings(),
    st.lists(st.integers(1, 400), min_size=0, max_size=120),
    st.integers(0, 1),
    st.sampled_from([1e-6, 2e-7, 1e-9]),
    st.sampled_from([1, 3]),
    st.sampled_from([None, 0, 1, 7000]),
)
def test_any_level_changes_are_read_as_a_receiver_reads_them(line, steps, first_level, tick_s, samples, behind):
    """Whatever the wire did, noise or characters, rows and false starts are those of one receiver going bit by bit."""
    unit = max(1, round(line.bit_time_s / tick_s / 40))  # so that a bit lasts some forty of the steps
    edges = np.cumsum(np.array(steps, dtype=np.int64) * unit)
    end = None if behind is None or not len(edges) else int(edges[-1]) + behind * unit
    if line.bit_time_s / tick_s < 3:
        return
    trace = lr.Trace(edges, tick_s, first_level, end=end)
    characters = lr.receive(trace, line, samples=samples)
    rows, false_starts = slow_receive(trace, line, samples)
    assert rows_of(characters, tick_s) == rows
    assert np.rint(characters.false_starts_s / tick_s).astype(int).tolist() == false_starts


@given(
    line_settings(),
    st.data(),
    st.floats(-20_000, 20_000),
    st.sampled_from([1e-9, 1e-8]),
    st.sampled_from([1, 3]),
)
def test_what_is_sent_is_received(line, data, error_ppm, tick_s, samples):
    """Values, faults and times come back, at up to 2 % of clock error, which every format tolerates."""
    values = data.draw(st.lists(st.integers(0, (1 << line.data_bits) - 1), max_size=40))
    gaps = data.draw(st.lists(st.floats(0, 30), min_size=len(values), max_size=len(values)))
    can = [0, lr.Fault.FRAMING, lr.Fault.BREAK] + [lr.Fault.PARITY] * line.has_parity
    faults = data.draw(st.lists(st.sampled_from(can), min_size=len(values), max_size=len(values)))
    wanted = [(0 if fault == lr.Fault.BREAK else value, fault) for value, fault in zip(values, faults, strict=True)]
    for place, (value, fault) in enumerate(wanted):  # a framing error with nothing but zeros is a break
        parity_low = not line.has_parity or line.parity in ("E", "S")
        if value == 0 and fault == lr.Fault.FRAMING and parity_low:
            wanted[place] = (0, lr.Fault.BREAK)
    trace = lr.transmit(values, line, gaps=gaps, faults=faults, clock_error_ppm=error_ppm, tick_s=tick_s, begin_s=0.001)
    characters = lr.receive(trace, line, samples=samples)
    assert list(zip(characters.value.tolist(), characters.faults.tolist(), strict=True)) == wanted
    assert not len(characters.false_starts_s)
    assert characters.unfinished_s is None


@pytest.mark.parametrize(("percent", "healthy"), [(4.0, True), (-4.0, True), (7.0, False), (-7.0, False)])
def test_a_clock_too_far_off_is_never_taken_for_a_healthy_line(percent, healthy):
    """The stop bit of 8E1 is judged 10.5 bits in, so that half a bit is missed beyond 1 / 21 = 4.8 % of error."""
    values = np.arange(256)
    trace = lr.transmit(values, LINE, gaps=2.0, clock_error_ppm=percent * 1e4)
    characters = lr.receive(trace, LINE)
    clean = len(characters) == 256 and not characters.faults.any() and (characters.value == values).all()
    assert clean == healthy


@given(st.integers(0, 2**32), st.integers(1, 9), st.sampled_from(["random", "periodic", "rare"]), st.integers(0, 4000))
def test_a_chain_is_followed_as_step_by_step(seed, widest, kind, count):
    """Random, periodic and nearly constant steps: the members are those met by walking."""
    rng = np.random.default_rng(seed)
    steps = rng.integers(1, widest + 1, count)
    if kind == "periodic":
        steps = np.resize(rng.integers(1, widest + 1, 5), count)
    elif kind == "rare":
        steps = np.where(rng.random(count) < 0.01, widest, 1)
    members, place = np.zeros(count, dtype=bool), 0
    while place < count:
        members[place] = True
        place += steps[place]
    assert np.array_equal(follow_chain(steps), members)


def test_many_characters_without_gaps_and_out_of_step():
    """Ten thousand characters of 0x55 read from the middle of one: as the slow receiver reads them."""
    sent = lr.transmit(np.full(10_000, 0x55), LINE)
    for cut, level in ((1, 0), (3, 0), (2, 1)):
        trace = lr.Trace(sent.edges[cut:], sent.tick_s, level, end=sent.end)
        characters = lr.receive(trace, LINE)
        assert rows_of(characters, 1e-9) == slow_receive(trace, LINE)[0]
        assert characters.starts_mid_character == (level == 0)


def test_a_spike_of_less_than_half_a_bit_is_a_false_start():
    trace = lr.transmit([0x41], LINE, gaps=20)
    spiked = add_spike(trace, 3 * LINE.bit_time_s, 0.3 * LINE.bit_time_s)
    characters = lr.receive(spiked, LINE)
    assert characters.value.tolist() == [0x41]
    assert characters.false_starts_s == pytest.approx([3 * LINE.bit_time_s], abs=1e-9)


def test_a_break_ends_when_the_line_is_idle_again():
    bit = LINE.bit_time_s
    trace = lr.Trace.from_seconds([10 * bit, 60 * bit, 70 * bit, 71 * bit], end_s=90 * bit)
    characters = lr.receive(trace, LINE)
    assert characters.faults.tolist() == [lr.Fault.BREAK, lr.Fault.PARITY]
    assert characters.end_s[0] == pytest.approx(60 * bit, abs=1e-9)


def test_noise_is_told_when_three_samples_are_taken():
    """A spike over the sample at 7/16 of data bit 3 alone: the majority is right, and the character is noisy."""
    bit = LINE.bit_time_s
    trace = add_spike(lr.transmit([0x41], LINE, begin_s=0.0), (4 + 6.5 / 16) * bit, bit / 16)
    assert lr.receive(trace, LINE).faults.tolist() == [0]
    noisy = lr.receive(trace, LINE, samples=3)
    assert (noisy.value.tolist(), noisy.faults.tolist()) == ([0x41], [lr.Fault.NOISE])


def test_where_the_level_is_unknown_the_character_says_so():
    trace = lr.transmit([1, 2, 3], LINE, gaps=5)
    middle = int(trace.edges[len(trace.edges) // 2])
    unsure = lr.Trace(trace.edges, trace.tick_s, end=trace.end, unknown=np.array([[middle, middle + 100]]))
    assert lr.receive(unsure, LINE).faults.tolist() == [0, lr.Fault.UNKNOWN_LEVEL, 0]


def test_a_character_that_the_capture_cuts_off_is_told_and_not_invented():
    trace = lr.transmit([0x41, 0x42], LINE, gaps=4)
    begins = lr.receive(trace, LINE).begin_s
    short = lr.Trace(trace.edges[:-2], trace.tick_s, end=int(trace.edges[-2]))
    characters = lr.receive(short, LINE)
    assert characters.value.tolist() == [0x41]
    assert characters.unfinished_s == pytest.approx(begins[1])


def test_a_capture_too_coarse_for_the_baud_is_refused():
    with pytest.raises(lr.CaptureError, match=r"too coarse: a bit at 57600 baud lasts 1.7 ticks of 1e-05 s"):
        lr.receive(lr.Trace(np.array([1, 2]), 1e-5), LINE)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        ({"edges": np.array([5, 5])}, r"edges\[1\] is 5, after 5. Edges must increase strictly."),
        ({"edges": np.array([5]), "end": 3}, "end is 3, before the last edge at 5."),
        ({"edges": np.array([5]), "tick_s": 0.0}, "tick_s is 0.0. It must be a positive number of seconds."),
        ({"edges": np.array([5]), "first_level": 2}, "first_level is 2. It must be 0 or 1."),
    ],
)
def test_a_trace_that_cannot_be_is_refused(arguments, message):
    with pytest.raises(lr.CaptureError, match=message):
        lr.Trace(**arguments)


@pytest.mark.parametrize(
    ("values", "options", "message"),
    [
        ([256], {}, r"values\[0\] is 256. It must fit into 8 data bits."),
        ([1, -1], {}, r"values\[1\] is -1. It must fit into 8 data bits."),
        ([1], {"gaps": -1}, "gaps has -1. It must be bit times, 0 or more."),
        ([1], {"gaps": float("nan")}, "gaps has nan. It must be bit times, 0 or more."),
        ([1], {"gaps": 1e18}, "gaps last until 1.73611e[+]13 s. All must end before 4.61169e[+]09 s."),
        ([1.5], {}, r"values are float64 of shape \(1,\). They must be bytes or a row of whole numbers."),
        ([1], {"faults": lr.Fault.OVERRUN}, "faults has others. It must be of PARITY, FRAMING and BREAK."),
    ],
)
def test_what_cannot_be_sent_is_refused(values, options, message):
    with pytest.raises(lr.RequestError, match=message):
        lr.transmit(values, LINE, **options)


def test_a_ninth_bit_that_marks_addresses_has_a_column_of_its_own(tmp_path):
    """The frame is cut from the other eight; a CSV of characters holds all nine."""
    sheet = lr.parse_sheet(
        """sheet = 1
        [line]
        baud = 57600
        format = "9N1"
        ninth_bit = "address-mark"
        [wire.bus]
        [frame.status]
        boundary = { kind = "marker", marker = "D7" }
        fields = [{ name = "flow", type = "uint8" }]"""
    )
    line = sheet.wire["bus"].line
    assert lr.LineSettings.parse(str(line)) == line
    trace = lr.transmit([0x1D7, 0x05, 0x1D7, 0x06], line)
    characters = lr.receive(trace, line)
    assert characters.value.tolist() == [0xD7, 5, 0xD7, 6]
    assert characters.address_mark.tolist() == [True, False, True, False]
    assert characters[1:3].address_mark.tolist() == [False, True]
    lr.write_vcd(tmp_path / "a.vcd", {"bus": trace})
    reading = lr.read(sheet, tmp_path / "a.vcd")
    assert reading.frames["status"]["flow"].tolist() == [5, 6]
    lr.capture.write_characters(tmp_path / "a.csv", reading.characters)
    again = lr.read(sheet, tmp_path / "a.csv").characters["bus"]
    assert (again.value.tolist(), again.address_mark.tolist()) == ([0xD7, 5, 0xD7, 6], [True, False, True, False])
    with pytest.raises(lr.SheetError, match="nine data bits"):
        lr.LineSettings.parse("57600 8N1 address-mark")
