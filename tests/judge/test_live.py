"""What is concluded while characters arrive: in the end what a reading of the whole concludes, in bounded memory."""

import io
import json
import random
from dataclasses import replace
from functools import partial

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from random_traffic import CRC, MARKER, make_traffic, with_rests
from strategies import examples

import larkreader as lr
from larkreader.answers.large import is_large_capture
from larkreader.answers.timeline_part import TimelinePart
from larkreader.capture.characters import Fault
from larkreader.capture.files.recording import RecordingWriter
from larkreader.judge.findings.merging import key_of
from larkreader.judge.live.examples import FrameExamples
from larkreader.present.documents.chosen_messages import ChosenMessages
from larkreader.simulate.buffers import characters_at
from larkreader.simulate.software_receiver import trace_of

FIELDS = [{"name": "n", "type": "uint8", "counter": True}, {"name": "crc", "type": "checksum"}]
FLOW = lr.FrameLayout(boundary=MARKER, checksum=CRC, fields=FIELDS, period=0.1)
SHEET = lr.Sheet(wire={"pump": {}}, frame={"flow": FLOW})


def as_json(reading):
    return json.loads(json.dumps(reading.to_dict()))


def frame(number):
    return FLOW.encode({"n": number % 256})


@examples(1)
@given(st.integers(0, 2**32))
def test_a_stream_that_is_judged_as_it_arrives_ends_with_what_the_whole_shows(number):
    """For every stretch that is kept, and wherever it is looked at meanwhile; what was proven then stays."""
    traffic, chance = with_rests(make_traffic(number), number), random.Random(number)
    together, stretch = chance.random() < 0.5, chance.choice([400, 1000, 4000])
    live, proven = lr.LiveReading(traffic.sheet, together=together, stretch=stretch), {}
    for at_s, wire, data, faults, counted in traffic.groups:
        live.feed(wire, data, at_s, faults=faults, counted=counted)
        if chance.random() < 0.004:
            proven |= {key_of(finding): finding.count for finding in live.findings if finding.certainty == "proven"}
    assert as_json(live.close()) == as_json(traffic.whole())
    assert live.cuts == 0
    found = {key_of(finding): finding.count for finding in live.findings}
    assert {key: count for key, count in proven.items() if found.get(key, 0) < count} == {}


@examples(0.4)
@given(st.integers(0, 2**32), st.sampled_from(["recording", "bytes"]))
@example(1384, "recording")  # its last stretch does not pass the highest value of a counting pattern
def test_a_large_capture_is_judged_in_stretches_as_a_whole(tmp_path_factory, number, kind):
    """A recording of all wires, with its messages; and the bytes of the first alone, without times."""
    traffic, path = with_rests(make_traffic(number), number), tmp_path_factory.mktemp("large") / kind
    first = next(iter(traffic.sheet.wire)) if kind == "bytes" else None
    if kind == "bytes":
        data = b"".join(data for _, wire, data, _, _ in traffic.groups if wire == first)
        path.write_bytes(data or b"\0")
    else:
        with RecordingWriter(path, "2026-05-01T08:30:00Z", {wire: {} for wire in traffic.sheet.wire}) as writer:
            for group in traffic.groups:
                writer.add(*group)
    whole = lr.read(traffic.sheet, path, wire=first, kind=kind)
    summed = lr.answers.judge_capture(traffic.sheet, path, wire=first, kind=kind, stretch=600)
    assert as_json(summed) == as_json(whole)
    if kind == "recording":
        assert_same_messages(traffic.sheet, path, whole, only_wrong=number % 2 == 0)
    examples_of_whole = FrameExamples()
    examples_of_whole.add(whole.frames, whole.characters)
    assert looked_at(summed.examples) == looked_at(examples_of_whole.by_layout)


def assert_same_messages(sheet, path, whole, *, only_wrong):
    """Compare the messages of a capture that is judged stretch by stretch with those of the whole."""
    expected, found = (
        ChosenMessages(only_wrong=only_wrong, most=50, table=io.BytesIO(), documents=io.BytesIO()) for _ in range(2)
    )
    expected.add(TimelinePart.whole(whole))
    lr.answers.judge_capture(sheet, path, stretch=600, each=found.add)
    assert found.table.getvalue() == expected.table.getvalue()
    assert found.documents.getvalue() == expected.documents.getvalue()
    assert shown_of(found.entries) == shown_of(expected.entries)
    assert (found.count, found.total, found.wires) == (expected.count, expected.total, expected.wires)


def shown_of(entries):
    return [str(replace(entry, row=0)) for entry in entries]  # as text, in which NaN is NaN


def looked_at(by_layout):
    """Return what kept frames show, in order of place."""
    return {
        key: sorted(
            (*item.place, item.frame.data[0].tobytes(), int(item.frame.faults[0]), item.faults.tolist())
            for item in kept
        )
        for key, kept in by_layout.items()
    }


@examples(0.4)
@given(st.integers(0, 2**32))
def test_a_large_capture_is_diagnosed_as_a_small_one(tmp_path_factory, number):
    """Its first bytes show a mistake in the settings, and all of it what was lost."""
    traffic, path = make_traffic(number), tmp_path_factory.mktemp("large") / "a.jsonl"
    with RecordingWriter(path, "2026-05-01T08:30:00Z", {wire: {} for wire in traffic.sheet.wire}) as writer:
        for group in traffic.groups:
            writer.add(*group)

    def diagnosed():
        try:
            return lr.answers.diagnose_capture(path, traffic.sheet).to_dict()
        except lr.RequestError as error:
            return str(error)

    small = diagnosed()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("larkreader.answers.large.LARGE_FROM", 0)
        large = diagnosed()
    for result in (small, large):
        for wire in result["wires"].values() if isinstance(result, dict) else ():
            wire["findings"].sort(key=partial(json.dumps, sort_keys=True))
    assert large == small


TICK_S = 1e-7
PATHS = (
    {"fifo": {"size": 8, "trigger": 4, "idle_characters": 3.0}, "service": {"kind": "interrupt", "latency_s": 2e-4},
     "ring": {"size": 64, "full": "drop-new"}, "application": {"kind": "periodic", "every_s": 0.02}},
    {"fifo": {"size": 4, "trigger": 4}, "service": {"kind": "interrupt", "latency_s": 3e-4, "jitter_s": 2e-4}},
    {"service": {"kind": "dma", "block": 32, "notices": ["half", "full", "idle"], "circular": True},
     "ring": {"size": 128, "full": "overwrite-oldest"}, "application": {"kind": "blocking", "length": 11}},
    {"service": {"kind": "polling", "every_s": 1e-4}, "ring": {"size": 32, "full": "stop"},
     "application": {"kind": "lines", "terminator": "0D 0A", "every_s": 0.01, "buffer": 24}},
)  # fmt: skip


def as_levels(traffic, chance):
    """Return what is captured of the levels of traffic: its wires from within a character on, glitches, an event."""
    line, traces = next(iter(traffic.sheet.wire.values())).line, {}
    for wire in traffic.sheet.wire:
        begins, values, faults, free_s = [], [], [], 0.0
        for at_s, of, data, flags, _ in traffic.groups:
            for place, value in enumerate(data if of == wire else b""):
                begins.append(max(at_s, free_s))
                values.append(value)
                faults.append((flags[place] if flags else 0) & (Fault.PARITY | Fault.FRAMING))
                free_s = begins[-1] + line.character_time_s + (2 * line.bit_time_s if faults[-1] else 0)
        characters = characters_at(np.array(begins), values, line)
        traces[wire] = trace_of(replace(characters, faults=np.array(faults, np.uint8)), line, TICK_S)
    ends = [int(trace.edges[-1]) + 1 for trace in traces.values() if len(trace)]
    begin = min((int(trace.edges[0]) for trace in traces.values() if len(trace)), default=0) - chance.choice([1, 9_000])
    begin += chance.choice([0, 0, 2_000])  # ticks: a bit of 57600 baud has 174
    end = max(ends, default=begin + 1) + chance.choice([0, 1_000, 5_000_000])
    found = {"ready": (np.unique([chance.randrange(begin + 1, end) for _ in range(60)]), 0)}
    for wire, trace in traces.items():
        edges, gaps = trace.edges, np.flatnonzero(np.diff(trace.edges) > 60_000)
        if len(gaps) and chance.random() < 0.3:  # a glitch of 2 µs in a rest
            place = int(chance.choice(gaps))
            at = edges[place] + 30_000
            edges = np.insert(edges, place + 1, [at, at + 20])
        found[wire] = edges[edges > begin], 1 ^ (int(np.count_nonzero(edges <= begin)) & 1)
    return {name: lr.Trace(edges, TICK_S, level, begin=begin, end=end) for name, (edges, level) in found.items()}


@examples(0.4)
@given(st.integers(0, 2**32))
def test_levels_are_judged_in_stretches_as_a_whole(tmp_path_factory, number):
    """With receive paths and event signals; however the file is cut into pieces, and its characters into stretches."""
    traffic, chance = with_rests(make_traffic(number), number), random.Random(number)
    path = tmp_path_factory.mktemp("large") / "a.vcd"
    lr.write_vcd(path, as_levels(traffic, chance))
    wires = list(traffic.sheet.wire)
    followed = chance.choice(wires)
    to = "frame" if traffic.sheet.layouts_of(followed) and chance.random() < 0.5 else "character"
    sheet = lr.Sheet(
        **{name: getattr(traffic.sheet, name) for name in ("line", "wire", "frame", "pair", "timing")},
        receive={wire: chance.choice(PATHS) for wire in wires if chance.random() < 0.7},
        event={"ready": {"wire": followed, "edge": chance.choice(["rise", "both"]), "to": to}},
    )
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("larkreader.capture.files.vcd.PIECE", chance.choice([1 << 12, 1 << 14, 1 << 24]))
        patch.setattr("larkreader.capture.files.vcd_blocks.BLOCK", 1 << 11)
        patch.setattr("larkreader.judge.verdict.path_verdicts.SEARCHED", -1)
        patch.setattr("larkreader.judge.live.followers.SEARCHED", -1)
        whole = lr.read(sheet, path)
        summed = lr.answers.judge_capture(sheet, path, stretch=600)
        assert_same_messages(sheet, path, whole, only_wrong=number % 2 == 0)
    assert as_json(summed) == as_json(whole)


def test_a_wire_with_a_counter_may_fall_silent_for_long():
    """Its last frame is not forgotten, though not a character of it is kept; 77 frames are missing behind it."""
    layouts = {
        wire: lr.FrameLayout(wire=wire, boundary=MARKER, checksum=CRC, fields=FIELDS) for wire in ("pump", "valve")
    }
    sheet = lr.Sheet(wire={"pump": {}, "valve": {}}, frame={"flow": layouts["pump"], "state": layouts["valve"]})
    live = lr.LiveReading(sheet, together=True, stretch=1000)
    for number in range(1500):
        live.feed("pump", layouts["pump"].encode({"n": number % 256}), 0.01 * number)
        if number < 80 or number > 1400:
            count = number if number < 80 else number - 1401 + 80 + 77
            live.feed("valve", layouts["valve"].encode({"n": count % 256}), 0.01 * number + 0.003)
    (found,) = live.close().findings
    assert live.passed.characters["valve"] >= 80 * len(layouts["valve"].encode({}))
    assert (found.wire, found.count, found.evidence["frames"]) == ("valve", 1, 77)


def test_requests_to_a_device_that_fell_silent_stay_unanswered():
    ask, answer = (lr.FrameLayout(wire=wire, boundary=MARKER, checksum=CRC, fields=FIELDS) for wire in ("out", "back"))
    sheet = lr.Sheet(
        wire={"out": {}, "back": {"silence_s": 1.0}},
        frame={"ask": ask, "answer": answer},
        pair={"read": {"request": "ask", "reply": "answer", "within_s": 0.02}},
    )
    live = lr.LiveReading(sheet, stretch=400, most=2000)
    for number in range(2000):
        live.feed("out", ask.encode({"n": number % 256}), 0.05 * number)
        if number < 300:
            live.feed("back", answer.encode({"n": number % 256}), 0.05 * number + 0.01)
    live.tick(200.0)
    found = {finding.kind: finding for finding in live.findings}
    assert live.cuts > 0  # nothing behind the silence is quiet, and the device has no character in the latest stretch
    assert found["unanswered-request"].count == 1700
    assert (found["long-silence"].count, found["long-silence"].offset) == (1, 300 * len(answer.encode({})) - 1)
    assert found["long-silence"].evidence["to_end"]
    closed = {finding.kind: finding for finding in live.close().findings}
    assert closed["long-silence"].evidence["longest_s"] == pytest.approx(0.05 * 1700 - 0.01, abs=0.01)


def test_a_wire_with_a_clear_to_send_signal_is_read_whole(tmp_path, monkeypatch):
    line = {"flow_control": "rts-cts"}
    sheet = lr.Sheet(wire={"pump": {"line": line, "clear_to_send": "cts"}, "back": {"line": line}})
    wires = {"pump": lr.transmit(b"flow", sheet.wire["pump"].line), "back": lr.transmit(b"ok", sheet.wire["back"].line)}
    lr.write_vcd(path := tmp_path / "a.vcd", wires | {"cts": lr.Trace([10], 1e-9, end=10**7)})
    monkeypatch.setattr("larkreader.answers.large.LARGE_FROM", 0)
    assert not is_large_capture(sheet, path)
    assert is_large_capture(sheet, path, wire="back")
    with pytest.raises(lr.RequestError, match="must be read whole"):
        lr.answers.judge_capture(sheet, path)
    assert lr.answers.judge_capture(sheet, path, wire="back").counts["back"].characters == 2


def test_a_finding_is_there_when_it_is_certain_and_grows():
    live = lr.LiveReading(SHEET)
    for number in range(10):
        live.feed("pump", frame(number), 0.1 * number)
    assert live.changed() == []
    live.feed("pump", frame(10)[:-1] + b"\0", 1.0)
    live.feed("pump", frame(11), 1.1)
    (found,) = live.changed()
    assert (found.kind, found.count, found.offset) == ("checksum-mismatch", 1, 50)
    assert live.changed() == []
    live.feed("pump", frame(12)[:-1] + b"\0" + frame(13), 1.2)
    (found,) = live.changed()
    assert (found.count, live.verdict) == (2, "faults")


@pytest.mark.parametrize(("late_s", "kinds"), [(0.0, ["cut-frame"]), (0.5, ["damaged-reply", "cut-frame"])])
def test_a_reply_that_the_end_of_the_capture_cuts_off_is_not_damaged(late_s, kinds):
    """Half a second later the requester sends something else: then the reply never was more."""
    ask = lr.FrameLayout(
        wire="out", boundary={"kind": "marker", "marker": "A5"}, fields=[{"name": "q", "type": "uint8"}]
    )
    reply = lr.FrameLayout(wire="back", boundary=MARKER, checksum=CRC, fields=FIELDS)
    sheet = lr.Sheet(
        wire={"out": {}, "back": {}, "other": {}},
        frame={"ask": ask, "reply": reply},
        pair={"poll": {"request": ["ask"], "reply": ["reply"], "within_s": 0.05}},
    )
    live = lr.LiveReading(sheet)
    for number in range(10):
        live.feed("out", ask.encode({"q": number}), 0.1 * number)
        live.feed("back", reply.encode({"n": number})[: 3 if number == 9 else None], 0.1 * number + 0.02)
    live.feed("other", b"x" if late_s else b"", 0.92 + late_s)
    assert [finding.kind for finding in live.close().findings] == kinds


def test_silence_shows_when_the_time_goes_on():
    """The frame of 1.0 s is due; half a period later it is late, though nothing arrives."""
    live = lr.LiveReading(SHEET)
    for number in range(10):
        live.feed("pump", frame(number), 0.1 * number)
    live.tick(1.0)
    assert live.changed() == []
    live.tick(1.3)
    (found,) = live.changed()
    assert (found.kind, found.evidence["longest_s"]) == ("late-frame", pytest.approx(0.4))
    assert live.close().findings == ()  # the recording ends with the last frame


def test_noise_without_end_is_cut_and_counted_in_bounded_memory():
    """A thousand pieces of noise, ten times as much as is kept at most: every character is accounted for."""
    noise = np.random.default_rng(1).integers(0, 256, (1000, 200)).astype(np.uint8)
    live = lr.LiveReading(SHEET, stretch=2000, most=20_000)
    for number, piece in enumerate(noise):
        live.feed("pump", piece.tobytes(), 0.01 * number)
        if number % 50 == 0:
            assert len(live.recent().characters["pump"]) <= 24_096 + 200
    live.close()
    counts = live.bytes_of("pump")
    assert (counts["total"], counts["good"] + counts["faulty"] + counts["skipped"]) == (200_000, 200_000)
    assert live.cuts >= 9
    assert f"what spans the places where a long capture was cut, as none was quiet ({live.cuts})" in str(live.checked)
    assert live.verdict == "faults"


def test_many_places_are_counted_and_the_first_are_kept():
    live = lr.LiveReading(SHEET, stretch=1000)
    for number in range(20_000):
        data = frame(number)
        live.feed("pump", data[:-1] + bytes((data[-1] ^ (number % 10 == 0),)), 0.1 * number)
    (found,) = live.close().findings
    assert (found.kind, found.count, len(found.places), found.evidence["total"]) == (
        "checksum-mismatch",
        2000,
        1000,
        20_000,
    )
    assert "2,000 checksum mismatches in 20,000" in found.text


@pytest.mark.parametrize(
    ("wrong", "where"),
    [
        (lambda live: live.feed("pmp", b"", 2.0), 'wire "pmp"'),
        (lambda live: live.feed("pump", b"", 0.5), "time_s"),
        (lambda live: live.feed("pump", b"", float("nan")), "time_s"),
        (lambda live: live.feed("pump", b"ab", 2.0, faults=b"\1"), "faults"),
        (lambda live: live.close().feed("pump", b"", 2.0), "reading"),
    ],
)
def test_what_cannot_be_fed_is_refused(wrong, where):
    live = lr.LiveReading(SHEET)
    live.feed("pump", frame(1), 1.0)
    with pytest.raises(lr.RequestError) as error:
        wrong(live)
    assert error.value.where == where
