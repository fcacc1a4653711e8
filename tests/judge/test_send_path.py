"""What a send path makes of messages, against paper and against a slow reference."""

import hypothesis.strategies as st
import numpy as np
import pytest
from hypothesis import given
from strategies import examples

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
CHARACTER_S = LINE.character_time_s
NS = 1e-9


def sent(shown):
    return {fate.name: shown.count_of(fate) for fate in lr.simulate.SendFate if shown.count_of(fate)}


def kinds(path, asked, lengths):
    shown = lr.simulate.replay_send(asked, lengths, lr.SendPath.model_validate(path), LINE)
    return shown, {one.kind: one for one in lr.judge.judge_send_path("to_pump", shown, LINE)}


def test_a_time_limit_shorter_than_the_message_cuts_its_tail():
    """100 characters take 19.1 ms; in 10 ms 52 have begun, and one waits in the register: the 54th does not get in."""
    shown, found = kinds({"call": {"kind": "blocking", "limit_s": 0.01}}, [0.0, 0.5], [100, 20])
    assert sent(shown) == {"SENT": 54 + 20, "CUT": 46}
    assert shown.blocked_s == pytest.approx([0.01, 18 * CHARACTER_S], abs=1e-7)
    assert (found["cut-tail"].count, found["cut-tail"].offset) == (1, 54)
    assert "handed on after 18.7 ms, and the call waits 10 ms" in found["short-limit"].text


def test_a_length_that_counts_the_nul_sends_it():
    shown, found = kinds({"call": {"counts_nul": True}}, [0.0], [4])
    assert (shown.count.tolist(), sent(shown)) == ([5], {"SENT": 5})
    assert found["sent-nul"].severity == "warning"


@pytest.mark.parametrize(
    ("direction", "broken", "late"),
    [
        ({"released": "complete"}, 0, False),
        # the register is empty when the last character begins; one that is let go 1 ms later has long been sent
        ({"released": "register-empty"}, 1, False),
        ({"released": "register-empty", "after_s": 1e-3, "reply_after_s": 0.5e-3}, 0, True),
        ({"released": "complete", "latency_s": 100e-6, "reply_after_s": 200e-6}, 0, False),
        ({"released": "complete", "latency_s": 300e-6, "reply_after_s": 200e-6}, 0, True),
        # the call returns when the last of 10 is in the register: one is on the wire then, one not yet
        ({"released": "after"}, 2, False),
    ],
)
def test_a_shared_wire_is_let_go_when_the_last_character_is_complete(direction, broken, late):
    shown, found = kinds({"direction": direction}, [0.0, 0.1], [10, 10])
    assert shown.count_of(lr.simulate.SendFate.BROKEN) == 2 * broken
    assert ("cut-tail" in found, "late-release" in found) == (bool(broken), late)


def test_a_buffer_that_is_full_drops_or_waits():
    """Of 100 at once, 16 find room in the buffer, one in the register and one in the shift register."""
    shown, found = kinds({"buffer": 16, "full": "drop-new", "call": {"kind": "queued"}}, [0.0], [100])
    assert sent(shown) == {"SENT": 18, "DROPPED": 82}
    assert found["send-overflow"].offset == 18
    shown, found = kinds({"buffer": 16, "call": {"kind": "queued"}}, [0.0], [100])
    assert (sent(shown), found) == ({"SENT": 100}, {})
    assert shown.blocked_s[0] == pytest.approx(82 * CHARACTER_S, abs=1e-7)


@st.composite
def send_paths(draw):
    kind = draw(st.sampled_from(["register", "blocking", "queued"]))
    call = {"kind": kind, "counts_nul": draw(st.booleans()), "length": draw(st.sampled_from([None, 3]))}
    path = {"fifo": draw(st.integers(1, 3))}
    if kind == "register":
        call |= {"checks": draw(st.booleans()), "every_s": draw(st.integers(0, 15)) * NS}
    if kind == "blocking":
        call |= {
            "limit_s": draw(st.sampled_from([None, 5 * NS, 33 * NS])),
            "returns": draw(st.sampled_from(["handed", "sent"])),
        }
    if kind != "register":
        path["buffer"] = draw(st.integers(kind == "queued", 3))
    if kind == "queued":
        path["full"] = draw(st.sampled_from(["wait", "drop-new"]))
    return lr.SendPath(call=call, **path)


def slow_send(path, asked, lengths, character):
    """Nanosecond by nanosecond: first the shift register lets go and takes over, then the code acts."""
    call, places = path.call, path.fifo + path.buffer
    fates, begins, returned = [], {}, []
    total = sum(length + call.counts_nul for length in lengths)
    fates = ["CUT"] * total
    waiting, on_wire_until, time, first = [], -1, 0, 0

    def tick():
        nonlocal on_wire_until
        if waiting and on_wire_until <= time:
            begins[waiting[0]] = time
            fates[waiting[0]] = "SENT"
            on_wire_until = time + character
            del waiting[0]

    for at, length in zip(asked, lengths, strict=True):
        count = length + call.counts_nul
        numbers = list(range(first, first + (count if call.length is None else min(count, call.length))))
        first += count
        while time < at:
            tick()
            time += 1
        begin, ready, place = time, time, 0
        deadline = None if call.limit_s is None else begin + round(call.limit_s * 1e9)
        while place < len(numbers):
            if deadline is not None and time > deadline:
                break  # before anything happens at that time, since the call has returned by then
            tick()
            if time >= ready:
                number = numbers[place]
                if len(waiting) < places:
                    waiting.append(number)
                    tick()
                elif not call.checks:
                    if path.fifo == 1:
                        fates[waiting[-1]], waiting[-1] = "OVERWRITTEN", number
                    else:
                        fates[number] = "OVERWRITTEN"
                elif call.kind == "queued" and path.full == "drop-new":
                    fates[number] = "DROPPED"
                else:
                    time += 1
                    continue
                place += 1
                ready = time + (round(call.every_s * 1e9) if call.kind == "register" else 0)
                continue
            time += 1
        if place < len(numbers):
            time = deadline
        elif call.returns == "sent":
            while (waiting or on_wire_until > time) and (deadline is None or time < deadline):
                tick()
                time += 1
                tick()
        returned.append(time)
    while waiting:
        tick()
        time += 1
    return fates, begins, returned


@examples(5)
@given(path=send_paths(), gaps=st.lists(st.integers(0, 90), min_size=1, max_size=5), data=st.data())
def test_a_send_path_does_exactly_what_a_slow_one_does(path, gaps, data):
    line = lr.LineSettings(baud=1e9, format="8N1")  # a character lasts 10 ns
    asked = np.cumsum(gaps)
    lengths = data.draw(st.lists(st.integers(1, 7), min_size=len(gaps), max_size=len(gaps)))
    shown = lr.simulate.replay_send(asked * NS, lengths, path, line)
    fates, begins, returned = slow_send(path, asked.tolist(), lengths, 10)
    assert [lr.simulate.SendFate(fate).name for fate in shown.fate] == fates
    assert {n: round(at * 1e9) for n, at in enumerate(shown.begin_s.tolist()) if at == at} == begins
    assert np.rint(shown.returned_s * 1e9).astype(int).tolist() == returned
