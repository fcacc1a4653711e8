"""Requests and replies, and who speaks when: against a slow reference, and by hand."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.demo.service import ASKED, make_service
from larkreader.demo.wires import is_found

LINE = lr.LineSettings.parse("115200 8N1")
CHARACTER_S = 10 / 115200
SHEET = """sheet = 1
[line]
baud = 115200
[wire.out]
[wire.back]
[frame.ask]
wire = "out"
boundary = { kind = "marker", marker = "A6" }
fields = [{ name = "number", type = "uint8" }, { name = "sum", type = "checksum" }]
checksum = { algorithm = "sum-8", from = "number" }
[frame.answer]
wire = "back"
boundary = { kind = "marker", marker = "D7" }
fields = [{ name = "of", type = "uint8" }, { name = "sum", type = "checksum" }]
checksum = { algorithm = "sum-8", from = "of" }
"""
PLAIN = 'sheet = 1\n[line]\nbaud = 115200\n[wire.out]\n[wire.back]\n[pair.talk]\nrequest = "out"\nreply = "back"\n'


def on_wire(marker, messages, *, stray=False):
    """Characters of frames: when each begins, its number, and whether its checksum is right; one of none before."""
    values = [[marker, number, number if good else number ^ 0x55] for _, number, good in messages]
    before = [(-0.01, b"\0")] if stray else []
    return spoken([*before, *((at_s, bytes(one)) for (at_s, _, _), one in zip(messages, values, strict=True))])


def spoken(messages):
    """Characters of messages, each without a pause."""
    begins = [at_s + place * CHARACTER_S for at_s, data in messages for place in range(len(data))]
    data = b"".join(data for _, data in messages)
    begin_s = np.array(begins, dtype=np.float64)
    faults = np.zeros(len(data), np.uint8)
    value = np.frombuffer(data, np.uint8).astype(np.uint16)
    return lr.Characters(begin_s, begin_s + CHARACTER_S, value, faults, np.empty(0))


def slow_pairs(asks, answers, within_s, gone_after_s, match):
    """Pair by looking at everything for everything: state and number of the reply of each request, and who was unasked."""
    length_s = 3 * CHARACTER_S
    ends = [at_s + length_s for at_s, _, _ in asks]
    taken, unasked = {}, []
    for place, (at_s, number, good) in enumerate(answers):
        if not good:
            continue
        fitting = [one for one, end in enumerate(ends) if end <= at_s + 1e-9 and (not match or asks[one][1] == number)]
        fits = fitting and (gone_after_s is None or at_s - ends[fitting[-1]] <= gone_after_s)
        if fits and fitting[-1] not in taken:
            taken[fitting[-1]] = place
        elif ends and at_s >= ends[0] - 1e-9:
            unasked.append(place)
    found = []
    last = max([*ends, *(at_s + length_s for at_s, _, _ in answers)], default=0)
    for one, (_, number, _) in enumerate(asks):
        following = asks[one + 1][0] if one + 1 < len(asks) else float("inf")
        until = min(following, float("inf") if gone_after_s is None else ends[one] + gone_after_s)
        spoilt = [
            place for place, (at_s, _, good) in enumerate(answers) if not good and ends[one] <= at_s + 1e-9 < until
        ]
        limit = within_s if gone_after_s is None else gone_after_s
        newest = all(other[1] != number for other in asks[one + 1 :]) if match else one + 1 == len(asks)
        if one in taken:
            late = within_s is not None and answers[taken[one]][0] - ends[one] > within_s + 1e-9
            found.append(("late" if late else "answered", taken[one]))
        elif spoilt:
            found.append(("damaged_reply", spoilt[0]))
        elif newest and (limit is None or last - ends[one] < limit):
            found.append(("open", -1))
        else:
            found.append(("unanswered", -1))
    return found, unasked


@st.composite
def talks(draw):
    slots = draw(st.lists(st.tuples(st.sampled_from("aabbx-"), st.integers(0, 2)), min_size=1, max_size=14))
    asks, answers = [], []
    for place, (what, number) in enumerate(slots):
        at_s = round(place * 1e-3 + draw(st.integers(0, 500)) * 1e-6, 9)
        if what == "a":
            asks.append((at_s, number, True))
        elif what != "-":
            answers.append((at_s, number, what == "b"))
    return asks, answers


@given(
    talks(),
    st.sampled_from([None, 0.0015, 0.004]),
    st.sampled_from([None, 0.0045, 0.009]),
    st.booleans(),
)
def test_pairs_are_those_of_a_slow_reference(talk, within_s, gone_after_s, match):
    """State, reply, latency of each request, and replies that answer nothing, whatever comes in which order."""
    asks, answers = talk
    text = SHEET + '[pair.question]\nrequest = "ask"\nreply = "answer"\n'
    text += 'match = { number = "of" }\n' if match else ""
    text += f"within_s = {within_s}\n" if within_s else ""
    text += f"gone_after_s = {gone_after_s}\n" if gone_after_s else ""
    captured = {"out": on_wire(0xA6, asks, stray=True), "back": on_wire(0xD7, answers, stray=True)}
    reading = lr.read(lr.parse_sheet(text), captured)
    pairs, timeline = reading.pairs["question"], reading.timeline
    expected, unasked = slow_pairs(asks, answers, within_s, gone_after_s, match)
    states = [lr.PairState(state).name.lower() for state in pairs.state]
    numbers = [-1 if row < 0 else int(timeline.row[row]) for row in pairs.reply.tolist()]
    assert list(zip(states, numbers, strict=True)) == expected
    assert timeline.row[pairs.unasked].tolist() == unasked
    for latency_s, (_, number), (at_s, _, _) in zip(pairs.latency_s, expected, asks, strict=True):
        known = np.nan if number < 0 else answers[number][0] - at_s - 3 * CHARACTER_S
        assert latency_s == pytest.approx(known, abs=1e-9, nan_ok=True)
    found = pairs.to_dict()
    assert found["requests"] == len(asks) == sum(found[key] for key in
        ("answered", "late", "damaged-reply", "unanswered", "open"))  # fmt: skip
    assert json.loads(json.dumps(found, allow_nan=False)) == found


@given(talks())
def test_a_timeline_holds_every_message_once_in_order_of_time(talk):
    asks, answers = talk
    reading = lr.read(lr.parse_sheet(SHEET), {"out": on_wire(0xA6, asks), "back": on_wire(0xD7, answers)})
    timeline = reading.timeline
    assert timeline.begin_s.tolist() == pytest.approx(sorted(at_s for at_s, _, _ in asks + answers))
    for number, wire in enumerate(timeline.wires):
        own = timeline[timeline.wire == number]
        assert int(own.length.sum()) == len(reading.characters[wire])
        assert len(np.unique(own.offset)) == len(own)
    assert len(timeline.to_pandas()) == len(timeline)


@pytest.mark.parametrize("faulty", [True, False])
def test_the_service_link_shows_exactly_what_was_put_on_it(faulty):
    """Kind, wire, count, place and time of every finding, and each latency to a nanosecond."""
    service = make_service(faulty=faulty)
    reading = lr.read(service.sheet, {key: service.traces[wire.source] for key, wire in service.sheet.wire.items()})
    assert is_found(service.injected, reading.findings)
    pairs = reading.pairs["value"]
    assert np.sort(pairs.latencies_s) == pytest.approx(sorted(service.latencies_s), abs=2e-9)
    assert (len(pairs), len(pairs.unasked)) == ((ASKED + 5, 1) if faulty else (ASKED, 0))
    assert reading.to_dict()["pairs"]["value"] == pairs.to_dict()


def test_parts_of_a_cycle_add_up():
    """Request, answer, reply and pause are all of what lies between two requests; by hand for the first."""
    asks = [(0.0, 1, True), (0.010, 2, True), (0.025, 3, True)]
    answers = [(0.002, 1, True), (0.013, 2, True), (0.030, 3, True)]
    text = SHEET + '[pair.question]\nrequest = "ask"\nreply = "answer"\n'
    pairs = lr.read(lr.parse_sheet(text), {"out": on_wire(0xA6, asks), "back": on_wire(0xD7, answers)}).pairs[
        "question"
    ]
    parts, frame_s = pairs.parts(), 3 * CHARACTER_S
    assert [parts[name][0] for name in ("request", "answer", "reply", "pause", "cycle")] == pytest.approx(
        [frame_s, 0.002 - frame_s, frame_s, 0.008 - frame_s, 0.010]
    )
    sums = sum(parts[name] for name in ("request", "answer", "reply", "pause"))
    assert sums[:2] == pytest.approx(parts["cycle"][:2])
    assert np.isnan(sums[2])
    assert np.isnan(parts["cycle"][2])
    assert pairs.parts(begin_s=0.010)["answer"] == pytest.approx([0.003 - frame_s, 0.005 - frame_s])
    assert len(pairs.parts(end_s=0.010)["cycle"]) == 1


def test_a_reply_may_begin_when_the_first_stop_bit_has_been_judged():
    """With two stop bits a reply one bit time before the end of the request answers it; two bit times before, not."""
    sheet = lr.parse_sheet(PLAIN.replace("baud = 115200", 'baud = 10000\nformat = "8N2"'))
    line = sheet.line
    for early_bits, state in ((1.4, "ANSWERED"), (2.0, "OPEN")):
        out = lr.receive(lr.transmit(b"?", line, begin_s=0.0), line)
        at_s = float(out.begin_s[0]) + line.character_time_s - early_bits * line.bit_time_s
        back = lr.receive(lr.transmit(b"!", line, gaps=np.array([at_s * line.baud]), begin_s=0.0), line)
        pairs = lr.read(sheet, {"out": out, "back": back}).pairs["talk"]
        assert lr.PairState(int(pairs.state[0])).name == state


def test_lines_and_bursts_of_wires_without_frames_are_messages():
    """A message ends with LF, CR, CR LF or a pause; each is answered by the next on the other wire."""
    out = spoken([(0.0, b"flow?\r\ndose?\r"), (0.01, b"go"), (0.02, b"\n")])
    back = spoken([(0.005, b"120\n"), (0.015, b"ok")])
    reading = lr.read(lr.parse_sheet(PLAIN), {"out": out, "back": back})
    timeline = reading.timeline
    assert [(timeline.wires[one.wire[0]], int(one.length[0])) for one in (timeline[row] for row in range(len(timeline)))
            ] == [("out", 7), ("out", 6), ("back", 4), ("out", 2), ("back", 2), ("out", 1)]  # fmt: skip
    states = [lr.PairState(int(state)).name for state in reading.pairs["talk"].state]
    assert states == ["UNANSWERED", "ANSWERED", "ANSWERED", "OPEN"]


def test_a_repeat_is_the_same_again_but_for_its_counter_before_a_good_reply():
    """A new counter does not hide a repeat; another content, or a good reply before it, is none."""
    text = SHEET.replace('{ name = "number", type = "uint8" }',
                         '{ name = "number", type = "uint8", counter = true }, { name = "what", type = "uint8" }')  # fmt: skip
    text += '[pair.question]\nrequest = "ask"\nreply = "answer"\n'

    def ask(number, what):
        return bytes([0xA6, number, what, number + what & 0xFF])

    asked = [(0.00, ask(1, 7)), (0.01, ask(2, 7)), (0.02, ask(3, 7)), (0.03, ask(4, 9)), (0.04, ask(5, 8))]
    captured = {"out": spoken(asked), "back": on_wire(0xD7, [(0.015, 0, True), (0.045, 0, True)])}
    reading = lr.read(lr.parse_sheet(text), captured)
    assert reading.pairs["question"].again.tolist() == [-1, 0, -1, -1, -1]
    (finding,) = [one for one in reading.findings if one.kind == "repeated-request"]
    assert "1 after none; 1 repeat was answered." in finding.text


def test_two_ends_at_once_and_turns_too_short():
    """By hand: an overlap, a character into a pause of the other's message, the last half stop bit, and short rests."""
    text = SHEET + '[timing]\nshared = ["out", "back"]\nturnaround_s = 0.0005\n'
    frame_s = 3 * CHARACTER_S
    asks = [(0.00, 1, True), (0.01, 2, True), (0.02, 3, True), (0.03, 4, True)]
    answers = [(0.0002, 1, True), (0.01 + frame_s - 0.4 / 115200, 2, True), (0.02 + frame_s + 0.0004, 3, True),
               (0.03 + frame_s + 0.0005, 4, True)]  # fmt: skip
    reading = lr.read(lr.parse_sheet(text), {"out": on_wire(0xA6, asks), "back": on_wire(0xD7, answers)})
    found = {one.kind: (one.wire, one.count, one.offset) for one in reading.findings}
    assert found == {"collision": ("back", 1, 0), "short-turnaround": ("back", 2, 3)}
    split = spoken([(0.0, b"\xa6"), (0.001, b"\x01\x01")])  # a sender that pauses inside its frame
    reading = lr.read(lr.parse_sheet(text), {"out": split, "back": on_wire(0xD7, [(0.0009, 1, True)])})
    assert [(one.kind, one.wire) for one in reading.findings] == [("collision", "back")]


def test_silence_is_told_with_its_length_also_at_the_end():
    line = lr.LineSettings.parse("9600 8N1")
    sheet = lr.parse_sheet("sheet = 1\n[line]\nbaud = 9600\n[wire.back]\nsilence_s = 0.05\n")
    trace = lr.transmit(b"abc", line, gaps=np.array([0.0, 960.0, 96.0]), begin_s=0.0, end_s=0.3)
    (finding,) = lr.read(sheet, {"back": trace}).findings
    assert (finding.kind, finding.count, finding.offset) == ("long-silence", 2, 0)
    assert "The longest lasted 187 ms" in finding.text
    assert "to the end of the capture" in finding.text


def test_times_of_groups_are_said_to_be_that(tmp_path):
    """What software got together has one time; a reply at the same moment still answers, and nothing collides."""
    groups = {"out": [(1.0, b"\xa6\x01\x01", b"")], "back": [(1.0, b"\xd7\x01\x01", b"")]}
    text = SHEET + '[timing]\nshared = ["out", "back"]\n[pair.question]\nrequest = "ask"\nreply = "answer"\n'
    captured = {wire: lr.Characters.from_groups(one) for wire, one in groups.items()}
    reading = lr.read(lr.parse_sheet(text), captured)
    assert reading.timeline.in_groups
    assert reading.pairs["question"].latencies_s.tolist() == [0.0]
    assert reading.findings == ()


def test_a_reply_that_is_no_frame_any_more_is_a_damaged_one():
    """Also where not a single frame of the reply's layout is left; what an array holds can be matched."""
    text = SHEET.replace('{ name = "number", type = "uint8" }', '{ name = "number", type = "uint8", repeat = 2 }')
    text = text.replace('{ name = "of", type = "uint8" }', '{ name = "of", type = "uint8", repeat = 2 }')
    text += '[pair.question]\nrequest = "ask"\nreply = "answer"\nmatch = { number = "of" }\n'
    out = spoken([(0.0, b"\xa6\x01\x02\x03"), (0.01, b"\xa6\x01\x03\x04")])
    for back, states in (
        (spoken([(0.002, b"\xd7\x01")]), ["DAMAGED_REPLY", "OPEN"]),
        (spoken([(0.012, b"\xd7\x01\x03\x04")]), ["UNANSWERED", "ANSWERED"]),  # far longer ago than a reply takes
        (spoken([(0.012, b"\xd7\x01\x02\x03")]), ["ANSWERED", "OPEN"]),
    ):
        pairs = lr.read(lr.parse_sheet(text), {"out": out, "back": back}).pairs["question"]
        found = [lr.PairState(int(state)).name for state in pairs.state]
        assert found == states


def test_a_counter_that_a_reply_takes_from_its_request_tells_no_losses():
    """Where a request is not answered it jumps; without a pairing that is a loss behind the line."""
    counting = SHEET.replace('name = "of", type = "uint8"', 'name = "of", type = "uint8", counter = true')
    pairing = '[pair.question]\nrequest = "ask"\nreply = "answer"\nmatch = { number = "of" }\nwithin_s = 0.005\n'
    asks = [(0.01 * number, number, True) for number in range(8)]
    answers = [(at_s + 0.002, number, True) for at_s, number, _ in asks if number != 4]
    captured = {"out": on_wire(0xA6, asks), "back": on_wire(0xD7, answers)}
    for text, kinds in ((counting, ["overflow"]), (counting + pairing, ["unanswered-request"])):
        assert [one.kind for one in lr.read(lr.parse_sheet(text), captured).findings] == kinds


def test_a_line_may_come_in_several_groups():
    """Up to 20 ms apart they are one message, and a CR and its LF in any case; how long it was on the wire is not known."""
    groups = {
        "out": [(0.0, b"flow", b""), (0.015, b"?\r", b""), (0.5, b"\n", b""), (0.6, b"go", b"")],
        "back": [(0.03, b"12", b""), (0.06, b"0\n", b"")],
    }
    captured = {wire: lr.Characters.from_groups(one) for wire, one in groups.items()}
    reading = lr.read(lr.parse_sheet(PLAIN), captured)
    timeline, parts = reading.timeline, reading.pairs["talk"].parts()
    assert [(timeline.wires[one.wire[0]], int(one.length[0])) for one in (timeline[row] for row in range(len(timeline)))
            ] == [("out", 7), ("back", 2), ("back", 2), ("out", 2)]  # fmt: skip
    assert np.isnan(parts["request"]).all()
    assert parts["cycle"][0] == pytest.approx(0.6)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('[pair.a]\nrequest = "aks"\nreply = "answer"', 'pair.a.request = "aks"\n      is neither a frame nor a wire'),
        ('[pair.a]\nrequest = "ask"\nreply = "ask"', "has ask both as request and as reply"),
        ('[pair.a]\nrequest = "ask"', "pair.a.reply\n      is missing"),
        ('[pair.a]\nrequest = "ask"\nreply = "answer"\nmatch = { numbr = "of" }', 'Did you mean "number"?'),
        ('[pair.a]\nrequest = "ask"\nreply = "back"\nmatch = { number = "of" }', "and back is a wire"),
        ('[pair.a]\nrequest = "ask"\nreply = "answer"\nwithin_s = 2\ngone_after_s = 1', "late before it is gone"),
        ('[timing]\nshared = ["out"]', "must name two wires or more"),
        ('[timing]\nshared = ["out", "bakc"]', 'Did you mean "back"?'),
        ("[timing]\nturnaround_s = 1", "which is of shared wires"),
    ],
)
def test_mistakes_of_pairs_and_timing_are_told(text, message):
    with pytest.raises(lr.SheetError) as caught:
        lr.parse_sheet(SHEET + text)
    assert message in str(caught.value)
