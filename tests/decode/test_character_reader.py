import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import line_settings

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")


@st.composite
def traces(draw, line):
    """Noise or characters; whether anybody knows when recording ended; stretches of unknown level."""
    tick_s = draw(st.sampled_from([1e-6, 1e-9]))
    unit = max(1, round(line.bit_time_s / tick_s / 20))
    if draw(st.booleans()):
        values = draw(st.lists(st.integers(0, (1 << line.data_bits) - 1), max_size=12))
        gaps = draw(st.lists(st.floats(0, 15), min_size=len(values), max_size=len(values)))
        faults = draw(st.lists(st.sampled_from([0, 2, 4]), min_size=len(values), max_size=len(values)))
        sent = lr.transmit(values, line, gaps=gaps, faults=faults, tick_s=tick_s, begin_s=0.0)
        edges, first = sent.edges, sent.first_level
    else:
        edges = np.cumsum(np.array(draw(st.lists(st.integers(1, 200), max_size=60)), dtype=np.int64) * unit)
        first = draw(st.integers(0, 1))
    last = int(edges[-1]) if len(edges) else 0
    end = draw(st.sampled_from([None, last, last + 3, last + 500 * unit]))
    turns = sorted(draw(st.sets(st.integers(0, last), max_size=4)))
    unknown = np.array(turns[: len(turns) // 2 * 2], dtype=np.int64).reshape(-1, 2)
    return lr.Trace(edges, tick_s, first, end=end, unknown=unknown)


def pieces_of(trace, cuts):
    """Cut a trace at some ticks; the last piece has its end."""
    bounds = [trace.begin, *cuts]
    for number, begin in enumerate(bounds):
        is_last = number == len(bounds) - 1
        stop = np.iinfo(np.int64).max if is_last else bounds[number + 1]
        low, high = np.searchsorted(trace.edges, [begin, stop])
        spans = np.clip(trace.unknown, begin, stop)
        yield lr.Trace(
            trace.edges[low:high],
            trace.tick_s,
            trace.first_level ^ (low & 1),
            begin=begin,
            end=trace.end if is_last else stop - 1,
            unknown=spans[spans[:, 1] > spans[:, 0]],
        )


@given(line_settings(), st.data(), st.sampled_from([1, 3]), st.sampled_from([None, None, 8, 16]), st.booleans())
def test_pieces_give_what_the_whole_gives_however_they_are_cut(line, data, samples, oversampling, check_stops):
    if line.bit_time_s < 3e-6:
        return
    trace = data.draw(traces(line))
    last = (trace.end or int(trace.edges[-1])) if trace.end or len(trace) else 1
    near = st.sampled_from(trace.edges.tolist() or [0]).flatmap(lambda at: st.integers(at - 2, at + 2))
    cuts = data.draw(st.lists(st.integers(1, max(last, 1)) | near, max_size=8, unique=True))
    cuts = sorted(cut for cut in cuts if trace.begin < cut <= last)
    options = {"samples": samples, "oversampling": oversampling, "check_stops": check_stops}
    whole = lr.receive(trace, line, **options)
    reader = lr.CharacterReader(line, **options)
    pieces = list(pieces_of(trace, cuts))
    found = lr.Characters.joined([*map(reader.feed, pieces), reader.close()])
    for column in (*lr.Characters.COLUMNS, "false_starts_s"):
        assert getattr(found, column).tolist() == getattr(whole, column).tolist(), column
    assert (found.starts_mid_character, found.unfinished_s) == (whole.starts_mid_character, whole.unfinished_s)
    again = lr.Trace.joined(pieces)
    assert again.edges.tolist() == trace.edges.tolist()
    assert (again.first_level, again.end) == (trace.first_level, trace.end)


@given(st.binary(min_size=1, max_size=30), st.floats(0, 15), st.sampled_from([8, 16]), st.sampled_from([1, 3]))
def test_a_receiver_with_its_own_clock_sees_a_start_with_the_next_tick_of_it(data, phase, oversampling, samples):
    """Against a receiver that looks at the wire tick by tick."""
    trace = lr.transmit(
        data, LINE, begin_s=(1 + phase / oversampling) * LINE.bit_time_s, gaps=3, clock_error_ppm=15_000
    )
    seen = lr.receive(trace, LINE, oversampling=oversampling, samples=samples)
    tick = LINE.bit_time_s / oversampling / trace.tick_s
    levels = [
        trace.first_level ^ (int(np.searchsorted(trace.edges, n * tick, side="right")) & 1)
        for n in range(int(trace.end / tick))
    ]
    middle, rows, at = oversampling // 2, [], 1
    while at < len(levels) - 11 * oversampling:
        if not (levels[at - 1] == 1 and levels[at] == 0):
            at += 1
            continue
        bits = [
            sorted(
                levels[at + bit * oversampling + middle + aside] for aside in ((0,) if samples == 1 else (-1, 0, 1))
            )[samples // 2]
            for bit in range(11)
        ]
        rows.append((at, sum(one << place for place, one in enumerate(bits[1:9]))))
        at += 10 * oversampling + middle + (samples > 1) + 1
    assert (
        list(zip(np.rint(seen.begin_s / trace.tick_s / tick).astype(int).tolist(), seen.value.tolist(), strict=True))
        == rows
    )
    assert bytes(seen.value.tolist()) == data


def test_a_second_stop_bit_is_looked_at_when_asked():
    """One stop bit sent, two declared: without a pause the next start bit lies where the second should be."""
    declared = lr.LineSettings.parse("57600 8N2")
    sent = lr.transmit(b"flow", lr.LineSettings.parse("57600 8N1"), gaps=[0, 0, 5, 0])
    assert not lr.receive(sent, declared).faults.any()
    checked = lr.receive(sent, declared, check_stops=True)
    assert checked.faults.tolist() == [lr.Fault.SHORT_STOP, 0, lr.Fault.SHORT_STOP, 0]


def test_pieces_that_do_not_fit_and_options_that_are_none_are_refused():
    trace = lr.transmit(b"flow", LINE)
    reader = lr.CharacterReader(LINE)
    reader.feed(lr.Trace(trace.edges[:5], end=int(trace.edges[5]) - 1))
    for piece, message in [
        (lr.Trace(trace.edges[5:], first_level=1), "must go on at 0"),
        (lr.Trace(trace.edges[3:], first_level=0), "must go on behind tick"),
        (lr.Trace(trace.edges[5:], tick_s=1e-6, first_level=0), "tick_s"),
    ]:
        with pytest.raises(lr.CaptureError, match=message):
            reader.feed(piece)
    reader.close()
    with pytest.raises(lr.RequestError, match="is closed"):
        reader.feed(trace)
    for options in ({"samples": 2}, {"oversampling": 4}):
        with pytest.raises(lr.RequestError):
            lr.CharacterReader(LINE, **options)
        with pytest.raises(lr.RequestError):
            lr.receive(trace, LINE, **options)
