"""Recordings of several parts, between which nothing was recorded."""

import json
import random
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st
from random_traffic import make_traffic, with_rests
from strategies import examples

import larkreader as lr
from larkreader.capture.files.recording import RecordingWriter, write_recording

OF_PLACES = [
    "parity-error",
    "framing-error",
    "checksum-mismatch",
    "truncated-frame",
    "length-mismatch",
    "resynchronised",
    "cut-frame",
    "late-frame",
    "long-silence",
    "unanswered-request",
    "late-reply",
    "damaged-reply",
    "repeated-request",
    "unasked-reply",
    "out-of-range",
    "unknown-value",
    "counter-gap",
    "counter-repeat",
    "counter-restart",
    "counter-jump",
    "counter-mismatch",
    "substitute-values",
    "sent-while-paused",
    "pause-ignored",
    "never-resumed",
    "control-in-payload",
    "collision",
    "short-turnaround",
]


def as_json(reading):
    document = json.loads(json.dumps(reading.to_dict()))
    return {key: item for key, item in document.items() if key != "capture"}


def record(path, sheet, parts):
    """Write parts of groups as one recording; each begins a thousand seconds behind the part before."""
    for number, groups in enumerate(parts):
        began = f"2026-05-01T{8 + number:02}:00:00Z"
        with RecordingWriter(path, began, {wire: {} for wire in sheet.wire}) as writer:
            for at_s, wire, data, faults, counted in groups:
                writer.add(at_s, wire, data, faults, counted)
    return path


@examples(0.4)
@given(st.integers(0, 2**32))
def test_each_part_is_judged_by_itself(tmp_path_factory, number):
    chance, folder = random.Random(number), tmp_path_factory.mktemp("parts")
    traffic = with_rests(make_traffic(number), number)
    sheet, groups = traffic.sheet, traffic.groups[:1500]
    cuts = sorted(chance.sample(range(len(groups)), chance.randint(1, 3)))
    parts = [groups[low:high] for low, high in zip([0, *cuts], [*cuts, None], strict=True)]
    path = record(folder / "all.jsonl", sheet, parts)
    whole = lr.read(sheet, path)
    alone = [lr.read(sheet, record(folder / f"{place}.jsonl", sheet, [part])) for place, part in enumerate(parts)]
    for stretch in (300, 1 << 15):
        assert as_json(lr.answers.judge_capture(sheet, path, stretch=stretch)) == as_json(whole)
    for key, frames in whole.frames.items():
        every = [one.frames[key] for one in alone]
        assert [row.tolist() for row in frames.data] == [row.tolist() for some in every for row in some.data]
        assert frames.faults.tolist() == [fault for some in every for fault in some.faults.tolist()]
    for wire in whole.characters:
        every = [one.bytes_of(wire) for one in alone]
        assert whole.bytes_of(wire) == {name: sum(some[name] for some in every) for name in every[0]}
    if all(
        len(held) for one in alone for held in one.characters.values()
    ):  # else a part does not know who is connected
        assert counted([whole]) == counted(alone)
    write_recording(folder / "again.jsonl", whole.characters)
    again = lr.read(sheet, folder / "again.jsonl")
    for wire, characters in whole.characters.items():
        assert again.characters[wire].resumed == characters.resumed
        assert again.characters[wire].begin_s == pytest.approx(characters.begin_s, abs=1e-9)
    assert counted([again]) == counted([whole])


def counted(readings):
    """Count what was found by kind and subject."""
    found = Counter()
    for finding in (finding for reading in readings for finding in reading.findings):
        if finding.kind in OF_PLACES:
            found[finding.kind, finding.subject, finding.group] += finding.count
    return found


def recorded_polls(path, *, unanswered=()):
    """Record three seconds of polls on each of two days; some of the first are not answered. Return sheet and file."""
    fields = [{"name": "n", "type": "uint8", "counter": True}, {"name": "sum", "type": "checksum"}]
    marked = {"boundary": {"kind": "marker", "marker": "D7"}, "checksum": {"algorithm": "sum-8"}}
    status = lr.FrameLayout(wire="pump", **marked, fields=fields, period=0.1)
    ask = lr.FrameLayout(
        wire="out", boundary={"kind": "marker", "marker": "A5"}, fields=[{"name": "q", "type": "uint8"}]
    )
    sheet = lr.Sheet(
        wire={"pump": {"silence_s": 1.0}, "out": {}},
        frame={"status": status, "ask": ask},
        pair={"poll": {"request": ["ask"], "reply": ["status"]}},
    )
    for day, first in ((1, 0), (2, 200)):
        with RecordingWriter(path, f"2026-05-0{day}T08:00:00Z", {"pump": {}, "out": {}}) as writer:
            for number in range(31):
                writer.add(0.1 * number, "out", ask.encode({"q": 1}))
                if number < 30 and (day, number) not in unanswered:
                    writer.add(0.1 * number + 0.02, "pump", status.encode({"n": (first + number) % 256}))
    return sheet, path


def test_nothing_is_concluded_from_a_time_when_nothing_was_recorded(tmp_path):
    """A counter and a period that went on, a request and a silence at the end; the second part is a day later."""
    reading = lr.read(*recorded_polls(tmp_path / "a.jsonl"))
    assert (reading.verdict, reading.findings, reading.characters["pump"].resumed) == ("clean", (), (90,))
    assert "what happened while nothing was recorded (1 time)" in str(reading.checked)
    assert (reading.gaps["pump"].between_s.max() < 0.2, reading.statistics["status"].most_s < 0.2) == (True, True)
    assert (reading.pairs["poll"].count_open, len(reading.pairs["poll"])) == (2, 62)
    assert len(reading.timeline) == 122
    rows = reading.pairs["poll"].timeline.row[reading.pairs["poll"].request]
    assert rows.tolist() == list(range(62))


def test_a_reply_is_waited_for_until_the_part_ends(tmp_path):
    """The request of 1.0 s of the first day; its part ends with another at 3.0 s."""
    sheet, path = recorded_polls(tmp_path / "a.jsonl", unanswered={(1, 10)})
    found = [finding for finding in lr.read(sheet, path).findings if finding.kind == "unanswered-request"]
    assert [(finding.count, finding.evidence["waited_s"]) for finding in found] == [(1, pytest.approx(2.0))]
    assert lr.answers.judge_capture(sheet, path).findings == lr.read(sheet, path).findings
