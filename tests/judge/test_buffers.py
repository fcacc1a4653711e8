"""What a receive path makes of characters, against paper and against a slow reference."""

from unittest.mock import patch

import hypothesis.strategies as st
import numpy as np
import pytest
from hypothesis import given
from slow_path import SlowPath
from strategies import examples, receive_paths

import larkreader as lr
from larkreader.judge.setup.messages import Messages
from larkreader.judge.setup.path_judge import PathJudge
from larkreader.simulate import services_ahead
from larkreader.simulate.buffers import characters_at
from larkreader.simulate.paused_sender import PausedSender
from larkreader.simulate.receive_engine import ReceiveEngine
from larkreader.simulate.senders import MISSING, NEVER, FreeSender

NS = 1e-9


@examples(6)
@given(path=receive_paths(), gaps=st.lists(st.sampled_from([0, 0, 0, 1, 7, 30, 200]), max_size=60), data=st.data())
def test_a_replay_is_exactly_what_a_slow_one_finds_event_by_event(path, gaps, data):
    length, complete, signal = 10, 9, data.draw(st.sampled_from([0, 10]))
    paused = path.pause is not None
    steps = np.array(gaps, dtype=np.int64) + (0 if paused and data.draw(st.booleans()) else length)
    wanted = np.cumsum(steps).tolist()
    values = data.draw(st.lists(st.integers(0, 1), min_size=len(gaps), max_size=len(gaps)))
    if paused:
        holds = NEVER if path.pause.sender_holds is None else path.pause.sender_holds
        sender = PausedSender(wanted, complete, length, reaction=path.pause.reaction_characters, holds=holds)
    else:
        sender = FreeSender(wanted, complete)
    with patch.object(services_ahead, "FEWEST", data.draw(st.sampled_from([1, 2, 8]))):
        engine = ReceiveEngine(path, sender, values, float(length), signal)
        engine.run()
        engine.close()
    run = engine.outcomes
    slow = SlowPath(
        path,
        wanted,
        values,
        complete=complete,
        length=length,
        signal=signal,
        paused=paused,
        until=engine.last_at + 3000,
    ).run()

    def times(found):
        return [None if at == MISSING else at for at in found]

    for number in sender.refused:
        run.fate[number] = lr.simulate.Fate.HELD_BACK
    slow_fates = ["HELD_BACK" if slow.begin[n] is None else slow.fate[n] for n in range(len(wanted))]
    assert times(sender.begin) == slow.begin
    assert [lr.simulate.Fate(fate).name for fate in run.fate] == slow_fates
    fetched, stored, taken, _ = run.columns()
    assert times(fetched) == slow.fetched
    assert times(stored) == slow.stored
    assert times(taken) == slow.taken
    assert engine.service.busy.services == slow.services
    if engine.application is not None:
        assert engine.application.reads.rows == slow.reads
        surely = sum(
            end < sender.last_arrival for end in slow.empty_ends
        )  # nobody knows how long it goes on behind that
        assert surely <= engine.application.reads.empty <= len(slow.empty_ends)
        assert engine.application.reads.unfinished == len(slow.got if slow.call_begin is not None else [])


@examples(6)
@given(
    path=receive_paths(),
    gaps=st.lists(st.sampled_from([0, 0, 0, 1, 7, 30, 200]), min_size=1, max_size=60),
    flow=st.sampled_from(["none", "rts-cts"]),
    data=st.data(),
)
def test_a_replay_in_stretches_is_that_of_the_whole(path, gaps, flow, data):
    """However the characters are cut: rows, reads, pauses, and what is counted without them."""
    line = lr.LineSettings(baud=1e9, format="8N1", flow_control=flow)
    begins_s = np.cumsum(np.array(gaps) + 10 * (flow == "none" or data.draw(st.booleans()))) * NS
    values = data.draw(st.lists(st.integers(0, 1), min_size=len(gaps), max_size=len(gaps)))
    characters = characters_at(begins_s, values, line)
    cuts = data.draw(st.lists(st.integers(0, len(gaps)), max_size=8).map(sorted))
    with patch.object(services_ahead, "FEWEST", data.draw(st.sampled_from([1, 2, 8]))):
        whole = lr.replay(characters, path, line)
        run, total, parts = lr.simulate.ReceiveRun(path, line), lr.simulate.ReplaySum(path), []
        for first, end in zip([0, *cuts], [*cuts, len(gaps)], strict=True):
            run.feed(characters[first:end])
            if end == len(gaps):
                run.close()
            if end == len(gaps) or data.draw(st.booleans()):
                parts.append(run.take())
                total.add(parts[-1])
    for name in whole.COLUMNS:
        np.testing.assert_array_equal(np.concatenate([part.column(name) for part in parts]), whole.column(name))
    np.testing.assert_array_equal(np.concatenate([part.pauses_s for part in parts]), whole.pauses_s)
    places = np.cumsum([0, *map(len, parts)])
    first = np.concatenate([place + part.reads.first for place, part in zip(places, parts, strict=False)])
    np.testing.assert_array_equal(first, whole.reads.first)
    for name in ("begin_s", "end_s", "count", "by_time"):
        joined = np.concatenate([part.reads.column(name) for part in parts])
        np.testing.assert_array_equal(joined, whole.reads.column(name))
    assert total.to_dict() == whole.to_dict()
    assert (total.looks, total.busy_s, total.span_s) == (whole.looks, whole.busy_s, whole.span_s)


@examples(4)
@given(
    path=receive_paths(),
    gaps=st.lists(st.sampled_from([0, 0, 0, 1, 7, 30, 200]), min_size=1, max_size=90),
    data=st.data(),
)
def test_a_path_judged_in_stretches_has_the_findings_of_the_whole(path, gaps, data):
    """Losses in a row across a cut, reads out of step with messages, the read that waits at the end."""
    line = lr.LineSettings(baud=1e9, format="8N1", flow_control=data.draw(st.sampled_from(["none", "rts-cts"])))
    sheet = lr.Sheet(wire={"w": {"line": line}}, receive={"w": path})
    if path.service.kind == "software":
        return  # is kept whole
    characters = characters_at(np.cumsum(np.array(gaps) + 10) * NS, np.arange(len(gaps)) % 2, line)
    starts = np.array(sorted(data.draw(st.sets(st.integers(0, len(gaps) - 1), max_size=12))), dtype=np.int64)
    end_s = data.draw(st.none() | st.sampled_from([0, 300]).map(lambda more: characters.end_s[-1] + more * NS))
    state = {"frame_ends": data.draw(st.booleans()), "is_unfinished": data.draw(st.booleans())}
    messages = Messages.between_rests(characters, line, end_s).or_frames(starts, **state)
    whole = lr.judge.judge_receive_path(sheet, "w", characters, messages, search=False)
    judge = PathJudge(sheet, "w", searched=-1)
    cuts = data.draw(st.lists(st.integers(0, len(gaps)), max_size=8).map(sorted))
    for first, end in zip([0, *cuts], [*cuts, len(gaps)], strict=True):
        judge.add(characters[first:end], starts[(starts >= first) & (starts < end)])
    stretched = judge.close(end_s, **state)
    assert [finding.to_dict() for finding in stretched.findings] == [finding.to_dict() for finding in whole.findings]
    assert stretched.to_dict() == whole.to_dict()


LINE = lr.LineSettings.parse("115200 8N1")
CHARACTER_S = LINE.character_time_s
INTERRUPT = {"kind": "interrupt"}
LOOP = {"kind": "periodic", "every_s": 0.01}


def fates(shown):
    return {fate.name: shown.count(fate) for fate in lr.simulate.Fate if shown.count(fate)}


@pytest.mark.parametrize(
    ("fifo", "latency_s", "count", "lost"),
    [
        # 1.5 ms are 17.28 characters of 86.8 µs. A FIFO that asks at 8 has seen 25 when it is served, and held 16.
        ({"size": 16, "trigger": 8}, 1.5e-3, 25_000, 9_000),
        # It asks at 14: 31 have come when it is served, 15 of them in vain.
        ({"size": 16, "trigger": 14}, 1.5e-3, 31_000, 15_000),
        # The next character after a full FIFO is complete 9 characters, 781.25 µs, after the eighth.
        ({"size": 16, "trigger": 8}, 781e-6, 10_000, 0),
        ({"size": 16, "trigger": 8}, 782e-6, 17_000, 1_000),
        # A data register must be read before the next character is complete.
        ({"size": 1}, 86e-6, 1_000, 0),
        ({"size": 1}, 87e-6, 1_000, 500),
        # One more may wait in the shift register until the next start bit, half a bit after it is complete.
        ({"size": 1, "shift_waits": True}, 87e-6, 1_000, 0),
        ({"size": 1, "shift_waits": True}, 91.1e-6, 1_000, 0),
        ({"size": 1, "shift_waits": True}, 91.2e-6, 999, 499),
    ],
)
def test_what_a_fifo_loses_is_what_paper_says(fifo, latency_s, count, lost):
    path = lr.ReceivePath(fifo=fifo, service=INTERRUPT | {"latency_s": latency_s})
    shown = lr.replay(lr.simulate.make_burst(count, LINE), path, LINE)
    assert shown.count(lr.simulate.Fate.OVERRUN) == lost
    assert shown.lost == lost


def test_a_service_that_has_not_left_yet_makes_the_next_begin_late():
    """A handler of 10 and 90 µs is through with 868 characters in the 86.8 ms that 1000 take; the others are lost."""
    path = lr.ReceivePath(service=INTERRUPT | {"latency_s": 10e-6, "leave_s": 90e-6})
    shown = lr.replay(lr.simulate.make_burst(1000, LINE), path, LINE)
    assert shown.services == pytest.approx(868, abs=1)
    assert shown.lost == pytest.approx(132, abs=1)


def test_polling_too_rarely_loses_what_comes_beyond_the_fifo():
    """Every 1 ms 11.52 characters come; a FIFO of 8 keeps 8 of the 11 or 12 that it sees."""
    path = lr.ReceivePath(fifo={"size": 8}, service={"kind": "polling", "every_s": 1e-3, "enter_s": 1e-6})
    shown = lr.replay(lr.simulate.make_burst(11_520, LINE), path, LINE)
    assert shown.count(lr.simulate.Fate.OVERRUN) == pytest.approx(3_520, abs=8)
    assert shown.looks == pytest.approx(1000, abs=2)
    assert shown.busy_share == pytest.approx(1e-3, rel=0.01)


def test_dma_that_must_be_armed_again_loses_what_its_gap_lets_through():
    """A block of 64, then 5.5 characters' gap; three wait in the FIFO, so that 2 of every 69 are lost."""
    service = {"kind": "dma", "block": 64, "notices": ["full"], "circular": False, "gap_s": 5.5 * CHARACTER_S}
    shown = lr.replay(
        lr.simulate.make_burst(69 * 20 - 5, LINE), lr.ReceivePath(fifo={"size": 3}, service=service), LINE
    )
    lost = np.flatnonzero(shown.fate == lr.simulate.Fate.OVERRUN)
    # the block takes the 3 that waited and 61 more: the second is full after 64 + 5 + 61 characters
    assert lost[:4].tolist() == [67, 68, 64 + 5 + 61 + 3, 64 + 5 + 61 + 4]


@pytest.mark.parametrize(("notices", "lost"), [(["half", "full"], 0), (["full"], 64)])
def test_a_circular_block_that_is_served_late_is_overwritten(notices, lost):
    """Told at the half, 10 characters' delay leave 22 places; told at its end, the next character goes over it."""
    service = {"kind": "dma", "block": 64, "notices": notices, "latency_s": 10 * CHARACTER_S}
    shown = lr.replay(lr.simulate.make_burst(128, LINE), lr.ReceivePath(service=service), LINE)
    assert shown.count(lr.simulate.Fate.BLOCK) == lost


@pytest.mark.parametrize(
    ("full", "expected"),
    [
        ("drop-new", {"TAKEN": 32, "DROPPED": 68}),
        ("overwrite-oldest", {"TAKEN": 32, "OVERWRITTEN": 68}),
        ("wrap", {"TAKEN": 100 % 32, "OVERWRITTEN": 100 - 100 % 32}),
        ("stop", {"TAKEN": 33, "OVERRUN": 67}),  # and one waits in the data register
    ],
)
def test_a_ring_of_32_that_nobody_empties_during_100_characters(full, expected):
    ring = {"size": 32, "full": full}
    path = lr.ReceivePath(ring=ring, application={"kind": "periodic", "every_s": 1, "first_s": 0.5})
    shown = lr.replay(lr.simulate.make_burst(100, LINE), path, LINE)
    assert fates(shown) == expected
    if full == "drop-new":
        assert shown.value[shown.fate == lr.simulate.Fate.DROPPED].tolist() == list(range(32, 100))
    assert shown.high_water("ring") <= 32


def test_a_halt_stops_the_application_and_interrupts_off_only_the_service():
    """20 ms without service lose all but the data register of 230 characters; the ring keeps what it has."""
    for stops in ("service", "everything"):
        deaf = [{"first_s": 0.01, "for_s": 0.02, "stops": stops}]
        path = lr.ReceivePath(
            ring={"size": 512}, application={"kind": "periodic", "every_s": 0.005, "most": 10}, deaf=deaf
        )
        shown = lr.replay(lr.simulate.make_burst(576, LINE), path, LINE)
        assert shown.count(lr.simulate.Fate.OVERRUN) == 229
        looks = shown.reads.begin_s
        assert bool(((looks > 0.0101) & (looks < 0.0299)).any()) == (stops == "service")


def messages(lengths, rest_s):
    """Characters of messages with a rest behind each, and where each begins."""
    starts = np.cumsum([0, *lengths])[:-1]
    gaps = np.concatenate([[rest_s if place == 0 else 0.0 for place in range(length)] for length in lengths])
    begin_s = np.cumsum(gaps + CHARACTER_S)
    values = np.concatenate([np.arange(length) + 1 for length in lengths])
    return lr.Characters(
        begin_s, begin_s + CHARACTER_S, values.astype(np.uint16), np.zeros(len(values), np.uint8), np.empty(0)
    ), starts


def test_a_short_message_puts_fixed_reads_out_of_step_for_good():
    """Reads of 10; the third message lacks one character: every read from there on begins one character late."""
    characters, starts = messages([10, 10, 9, 10, 10, 10], 0.01)
    sheet = lr.parse_sheet(
        """sheet = 1
        [line]
        baud = 115200
        format = "8N1"
        [wire.to_pump]
        [receive.to_pump]
        ring = { size = 64 }
        application = { kind = "blocking", length = 10 }"""
    )
    report = lr.judge.judge_receive_path(sheet, "to_pump", characters, starts)
    found = {one.kind: one for one in report.findings}
    assert (found["misaligned-read"].count, found["misaligned-read"].offset) == (2, 30)
    assert (
        "begins at character 1 of a message of 10, after 1 message of another length" in found["misaligned-read"].text
    )
    assert report.replay.unfinished == 9
    assert "stuck-read" in found


@pytest.mark.parametrize(
    ("partial", "expected"), [("given", {"TAKEN": 50}), ("dropped", {"TAKEN": 40, "DISCARDED": 10})]
)
def test_reads_that_end_by_time_are_told_from_those_that_are_complete(partial, expected):
    """Five messages of ten, read by twenties for 15 ms: two at a time fit, and the last one is alone."""
    characters, _ = messages([10, 10, 10, 10, 10], 0.004)
    application = {"kind": "blocking", "length": 20, "limit_s": 0.015, "partial": partial}
    shown = lr.replay(characters, lr.ReceivePath(ring={"size": 64}, application=application), LINE)
    assert shown.reads.by_time.tolist() == [False, False, True]
    assert fates(shown) == expected
    assert shown.reads.count.tolist() == [20, 20, 10 if partial == "given" else 0]


def test_lines_that_are_too_long_are_given_in_pieces_or_cut():
    """A buffer of 8 with a NUL has room for 7 characters."""
    text = b"flow 12.5\nok\n"
    begin_s = np.arange(len(text)) * CHARACTER_S
    characters = lr.Characters(
        begin_s,
        begin_s + CHARACTER_S,
        np.frombuffer(text, np.uint8).astype(np.uint16),
        np.zeros(len(text), np.uint8),
        np.empty(0),
    )
    for rest, counts in (("given", [7, 3, 3]), ("dropped", [7, 3])):
        application = {"kind": "lines", "every_s": 0.05, "buffer": 8, "rest": rest}
        shown = lr.replay(characters, lr.ReceivePath(ring={"size": 64}, application=application), LINE)
        assert shown.reads.count.tolist() == counts
        assert shown.count(lr.simulate.Fate.DISCARDED) == (3 if rest == "dropped" else 0)


@pytest.mark.parametrize(
    ("flow", "reaction", "most"), [("none", 0, 127), ("rts-cts", 0, 96), ("rts-cts", 16, 112), ("xon-xoff", 0, 97)]
)
def test_a_pause_stops_the_sender_as_soon_as_it_can(flow, reaction, most):
    """Asked for at 96, half a bit before the next begins; what hardware holds still comes, or one while XOFF goes."""
    line = lr.LineSettings.parse(f"115200 8N1 {flow}".replace(" none", ""))
    path = lr.ReceivePath(
        ring={"size": 127},
        application={"kind": "periodic", "every_s": 0.05},
        pause={"at": 96, "resume_at": 8, "reaction_characters": reaction},
    )
    shown = lr.replay(lr.simulate.make_burst(1000, line), path, line)
    assert shown.high_water("ring") == most
    assert (shown.lost > 0) == (flow == "none")
    assert (len(shown.pauses_s) > 0) == (flow != "none")
    if flow != "none":
        high = 127 - (most - 96)
        assert lr.find_limits(lr.simulate.make_burst(1000, line), path, line).marks == (1, high)


def test_a_sender_that_cannot_hold_back_enough_loses_it_itself():
    """576 characters are wanted in 50 ms; 96 go before the pause, and it can hold back 100."""
    line = lr.LineSettings.parse("115200 8N1 rts-cts")
    pause = {"at": 96, "resume_at": 8, "sender_holds": 100}
    path = lr.ReceivePath(
        ring={"size": 127}, application={"kind": "periodic", "every_s": 0.05, "first_s": 0.06}, pause=pause
    )
    shown = lr.replay(lr.simulate.make_burst(576, line), path, line)
    assert fates(shown) == {"TAKEN": 196, "HELD_BACK": 380}
    assert shown.most_held == 100


@examples(1)
@given(path=receive_paths(), gaps=st.lists(st.sampled_from([0, 0, 0, 1, 7, 30]), min_size=1, max_size=60))
def test_what_arithmetic_promises_is_never_less_than_what_a_replay_needs(path, gaps):
    line = lr.LineSettings(baud=2e8, format="8N1")  # a character lasts 50 ns, as the paths' times
    begin_s = np.cumsum(5 * np.array(gaps) + 50) * NS
    characters = lr.Characters(
        begin_s, begin_s + 50 * NS, np.zeros(len(gaps), np.uint16), np.zeros(len(gaps), np.uint8), np.empty(0)
    )
    path = path.model_copy(update={"pause": None, "deaf": tuple(one for one in path.deaf if one.stops == "everything")})
    limits = lr.find_limits(characters, path, line)
    if limits.ring_bound is not None:
        assert limits.ring_needed <= limits.ring_bound
    if limits.slowest_bound_s is not None and not path.deaf and path.ring is None:
        name = limits.slowest
        late = path.service.model_copy(
            update={name: max(limits.slowest_bound_s - 2 * NS, 0.0 if name == "latency_s" else NS)}
        )
        shown = lr.replay(lr.simulate.make_burst(60, line), path.model_copy(update={"service": late}), line)
        assert not shown.count(lr.simulate.Fate.OVERRUN)
        assert not shown.count(lr.simulate.Fate.BLOCK)
    assert limits == lr.find_limits(characters, path, line)


def test_a_latency_that_outlasts_the_burst_changes_nothing_more():
    path = lr.ReceivePath(fifo={"size": 16, "trigger": 8}, deaf=[{"for_s": 1e-6, "every_s": 2e-6}])
    assert lr.find_limits(lr.simulate.make_burst(16, LINE), path, LINE).slowest_s == float("inf")
    slowest = lr.find_limits(lr.simulate.make_burst(20, LINE), path, LINE).slowest_s
    assert 8 * LINE.character_time_s < slowest < 9 * LINE.character_time_s


def test_times_that_nobody_knows_cannot_be_replayed():
    for characters in (lr.Characters.from_bytes(b"flow"), lr.Characters.from_groups([(0.1, b"flow", b"")])):
        with pytest.raises(lr.RequestError, match="times"):
            lr.replay(characters, lr.ReceivePath(), LINE)
