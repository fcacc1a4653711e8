"""Dialogues: what is sent, what must come, what is kept, tried again, left out and told."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

import larkreader as lr
from larkreader.exercise.talk.reply_search import FrameWatch, first_that_fits

LINE = lr.LineSettings.parse("57600 8E1")


def pump(answers, chatter=b""):
    """Make a pump head that answers to lines as told, with `chatter` before each answer."""

    def react(data):
        declared = answers.get(data, b"")
        declared = declared.pop(0) if isinstance(declared, list) else declared
        return chatter + declared if declared else b""

    return lr.SimulatedPort(LINE, react)


def talk(port, *steps, **options):
    return lr.run_dialogue(port, [lr.Exchange(**one) for one in steps], **options)


def outcomes(result):
    return [one.outcome for one in result.steps]


def test_what_a_reply_holds_is_kept_and_sent_again():
    answers = {b"id?\n": b"pump head 17, flow 12.5 mL/min\n", b"17 flow 12.5\n": b"ok\n"}
    result = talk(
        pump(answers),
        {
            "send": r"id?\n",
            "expect": r"pump head {id:integer}, flow {flow:number} mL/min\n",
            "where": {"flow": [12, 13]},
        },
        {"send": r"{id} flow {flow}\n", "expect": "ok"},
    )
    assert (result.verdict, result.values) == ("pass", {"id": "17", "flow": "12.5"})
    assert result.steps[0].sent == b"id?\n"
    # four characters there, 31 back; then nothing more of it is waited for
    assert result.steps[0].duration_s == pytest.approx(35 * LINE.character_time_s, rel=0.2)


@pytest.mark.parametrize(
    ("reply", "where", "outcome", "why"),
    [
        (b"flow 12.5\n", {}, "pass", ""),
        (b"flow 12.5\n", {"flow": [13, 14]}, "fail", "flow is 12.5, not 13 to 14"),
        (b"flow 12.5\n", {"flow": 12.50}, "pass", ""),
        (b"flow off\n", {"flow": [0, 1]}, "fail", "flow is off, no number"),
        (b"flow off\n", {"flow": "on"}, "fail", "flow is off, not on"),
        (
            b"flow off",
            {},
            "fail",
            'nothing fits within 1 s; fits as far as "flow off", expected the end of the line next',
        ),  # the rest of a line needs its end
        (b"", {}, "fail", "nothing within 1 s"),
        (b"\x00\xffflow 7\r", {"flow": 7}, "pass", ""),
    ],
)
def test_conditions_of_a_text_are_told_when_they_do_not_hold(reply, where, outcome, why):
    result = talk(pump({b"?": reply}), {"send": "?", "expect": "flow {flow}", "where": where})
    assert (result.steps[0].outcome, result.steps[0].why) == (outcome, why)


def test_a_reply_is_found_among_other_things_unless_nothing_else_may_come():
    port = pump({b"?": b"ok\n"}, chatter=b"tick\n")
    (step,) = talk(port, {"send": "?", "expect": r"ok\n"}).steps
    assert (step.outcome, step.got, step.passed_over) == ("pass", b"ok\n", b"tick\n")
    (strict,) = talk(port, {"send": "?", "expect": r"ok\n", "strict": True}).steps
    assert (strict.outcome, strict.why) == ("fail", "5 other characters before it")


def test_bytes_may_have_places_that_hold_anything():
    port = pump({b"\xd7\x01": b"\x06\x13\x99\x40"})
    (step,) = talk(port, {"send_hex": "D7 01", "expect_hex": "06 ?? 99"}).steps
    assert (step.outcome, step.got) == ("pass", b"\x06\x13\x99")
    assert talk(port, {"send_hex": "D7 01", "expect_hex": "07 ?? 99"}).verdict == "fail"


def test_frames_are_sent_and_expected_by_their_fields(rig):
    port = lr.open_port("stand-in:pump", LINE)
    result = talk(
        port,
        {"name": "at rest", "expect_frame": "status", "where": {"state": "halted", "flow": 0}, "within_s": 5},
        {"send_frame": "setpoint", "values": {"flow": 42.5}, "expect_frame": "status", "where": {"state": "dosing"},
         "keep": {"flow": "measured"}},
        {"send_frame": "setpoint", "values": {"flow": "{measured}"}, "expect_frame": "status",
         "where": {"flow": [40, 41]}, "within_s": 0.3},
        layouts=rig.sheet.frame,
    )  # fmt: skip
    assert outcomes(result) == ["pass", "pass", "fail"]
    assert result.values["measured"] == pytest.approx(42.5)
    assert result.steps[2].why == "flow is 42.5, not 40 to 41"


def test_a_step_is_tried_again_as_often_as_declared():
    answers = {b"go\n": [b"busy\n", b"busy\n", b"done\n"]}
    again = {"send": r"go\n", "expect": "done", "retry_on": "busy"}
    (step,) = talk(pump(dict(answers)), {**again, "retries": 2}).steps
    assert (step.outcome, step.tries) == ("pass", 3)
    answers = {b"go\n": [b"busy\n", b"busy\n", b"done\n"]}
    (step,) = talk(pump(answers), {**again, "retries": 1}).steps
    assert (step.outcome, step.tries, step.why) == ("fail", 2, '"busy" received instead, 2 times')
    (step,) = talk(pump({b"go\n": b"no\n"}), {**again, "retries": 5}).steps
    assert step.tries == 1  # upon another answer it is not tried again
    (step,) = talk(pump({}), {"send": r"go\n", "expect": "done", "retries": 2, "within_s": 0.1}).steps
    assert (step.tries, step.why) == (3, "nothing within 100 ms, 3 times")


def test_steps_are_repeated_left_out_and_skipped():
    port = pump({b"1\n": b"a\n", b"2\n": b"b\n", b"3\n": b"a\n"})
    result = talk(
        port,
        {"send": r"{n}\n", "expect": "{got:word}\n", "times": 2},
        {"send": "x", "expect": "y", "optional": True, "within_s": 0.1},
        {"name": "third", "send": r"3\n", "expect": "c", "within_s": 0.1},
        {"send": r"1\n", "expect": "a"},
    )
    assert outcomes(result) == ["pass", "pass", "skipped", "fail", "skipped"]
    assert [one.name for one in result.steps[:2]] == [r"{n}\n (1 of 2)", r"{n}\n (2 of 2)"]
    assert result.steps[4].why == "a step before failed"
    assert "received  61 0A  'a\\n'" in result.steps[3].detail()
    going_on = talk(
        port, {"send": "x", "expect": "y", "within_s": 0.1}, {"send": r"1\n", "expect": "a"}, continue_on_failure=True
    )
    assert outcomes(going_on) == ["fail", "pass"]


def test_a_dialogue_goes_over_two_ports():
    near, far = lr.exercise.simulated_pair(LINE)
    result = talk(
        {"controller": near, "pump": far},
        {"at": "controller", "send": r"flow 5\n", "expect_at": "pump", "expect": "flow {flow:number}"},
        {"at": "pump", "send": r"ok {flow}\n", "expect_at": "controller", "expect": r"ok 5\n"},
    )
    assert (result.verdict, result.values) == ("pass", {"flow": "5"})


@pytest.mark.parametrize(
    ("step", "shown"),
    [
        ({"send": "{before}"}, r'\{before\} has not been kept by an earlier step'),
        ({"send_frame": "status"}, 'frame "status" is not known'),
        ({"expect_frame": "setpoint", "where": {"folw": 1}}, 'field "folw" is not a field of setpoint. Did you mean "flow"'),
        ({"send_frame": "setpoint", "values": {"folw": 1}}, "Did you mean"),
    ],
)  # fmt: skip
def test_a_step_that_cannot_be_done_is_refused(rig, step, shown):
    with pytest.raises(lr.RequestError, match=shown):
        talk(pump({}), step, layouts={"setpoint": rig.sheet.frame["setpoint"]})


@pytest.mark.parametrize(
    ("declared", "shown"),
    [
        ({}, "must send or expect something"),
        ({"send": "a", "send_hex": "00"}, "must send a single thing"),
        ({"send": r"\q"}, r"must be one of"),
        ({"expect": "{a b}"}, "must be a name in braces"),
        ({"expect": "{a:float}"}, "number, integer, hex, word"),
        ({"expect": "{a} {a}"}, "twice"),
        ({"send_hex": "0"}, "pairs of hexadecimal digits"),
        ({"expect": "ok", "where": {"x": 1}}, "which the text has not in braces"),
        ({"expect_frame": "f", "where": {"x": [1, 2, 3]}}, "not the least and the most"),
        ({"expect": "ok", "retries": 1}, "nothing that could be sent again"),
        ({"send": "a", "strict": True}, "must expect something"),
    ],
)
def test_steps_that_mean_nothing_say_why(declared, shown):
    with pytest.raises(ValidationError, match=shown):
        lr.Exchange(**declared)


@given(
    st.text(st.characters(blacklist_characters="\\{}", blacklist_categories=["Cs"]), min_size=1, max_size=8),
    st.integers(),
)
def test_any_text_is_found_as_it_was_sent_with_its_values(text, number):
    """In any encoding's bytes, with signs that mean something to a search too."""
    port = lr.SimulatedPort(LINE, lambda data: b"..." + data)
    step = {"send": f"{text}|{number}|\\n", "expect": f"{text}|{{x:integer}}|\\n"}
    assert talk(port, step).values == {"x": str(number)}


WATCHED = [
    {"boundary": {"kind": "marker", "marker": "A5 5A"}, "fields": [{"name": "count", "type": "uint8"}]},
    {"boundary": {"kind": "fixed", "length": 1}, "fields": [{"name": "count", "type": "uint8"}]},
    {"boundary": {"kind": "slip"}, "fields": [{"name": "count", "type": "uint8"}, {"name": "rest", "type": "bytes", "repeat": "rest"}]},
    {"boundary": {"kind": "terminator"}, "pattern": "count={count}", "fields": [{"name": "count", "type": "integer"}]},
]  # fmt: skip


@given(st.data())
def test_a_frame_is_found_while_bytes_arrive_where_a_look_at_the_whole_finds_it(data):
    """Whatever the pieces: as soon as all of it has arrived, and not later than a look at the whole would find it."""
    layout = lr.FrameLayout(key="reply", **data.draw(st.sampled_from(WATCHED)))
    parts = st.one_of(
        st.binary(max_size=6),
        st.integers(0, 255).map(lambda count: layout.encode({"count": count})),
    )
    stream = b"".join(data.draw(st.lists(parts, max_size=8)))
    step = lr.Exchange(send_hex="00", expect_frame="reply", where={"count": [100, 255]}, keep={"count": "count"})
    watch, fed, found = FrameWatch(step, layout), 0, None
    while fed < len(stream) and (found is None or found.end < 0):
        piece = stream[fed : fed + data.draw(st.integers(1, 8))]
        fed += len(piece)
        found = watch.feed(piece, fed)
        whole = first_that_fits(step, lr.read_frames(stream[:fed], layout))
        assert (found.begin, found.end, found.values) == (whole.begin, whole.end, whole.values)
