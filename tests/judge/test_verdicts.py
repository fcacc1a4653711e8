"""What a verdict is worth: nothing claimed that is not proven, nothing called clean that is not."""

import copy
import json
import pickle

import jsonschema
import numpy as np
import pytest
from random_links import judge, make_case
from random_settings import blind_case, judge_blind

import larkreader as lr
from larkreader.errors import CaptureError, CaptureFileError, PortError, RequestError
from larkreader.exercise.loopback.alignment import align
from larkreader.judge.wire.pauses import judge_pauses, measure_pauses

LINE = lr.LineSettings.parse("57600 8E1")
CRC = {"algorithm": "CRC-16/MODBUS"}
VARYING = lr.FrameLayout(
    boundary={"kind": "length-field", "field": "size", "marker": "A5 5A", "counts": "payload", "longest": 300},
    fields=[
        {"name": "size", "type": "uint8"},
        {"name": "n", "type": "uint8", "counter": True},
        {"name": "kind", "type": "uint8", "equals": 7},
        {"name": "data", "type": "uint8", "repeat": "rest"},
        {"name": "crc", "type": "checksum"},
    ],
    checksum=CRC,
)
PLAIN = lr.FrameLayout(
    boundary={"kind": "marker", "marker": "A5"},
    fields=[{"name": "n", "type": "uint8", "counter": True}, {"name": "x", "type": "uint32"}],
)


def kinds_of(reading):
    return [one.kind for one in reading.findings]


def read(layout, data, line=LINE, **more):
    return lr.read(lr.Sheet(wire={"pump": {"line": line}}, frame={"status": layout}, **more), {"pump": data})


def varying(count=60, seed=3):
    random = np.random.default_rng(seed)
    sizes = random.choice([2, 5, 9, 14, 20], count)
    return [
        bytearray(VARYING.encode({"n": n % 256, "data": random.integers(0, 160, size).tolist()}))
        for n, size in enumerate(sizes)
    ]


@pytest.mark.parametrize("row", range(5, 25))
def test_a_damaged_frame_that_explains_the_step_of_the_counter_is_a_checksum_mismatch_alone(row):
    frames = varying()
    frames[row][5] ^= 0x04
    reading = read(VARYING, b"".join(frames))
    assert kinds_of(reading) == ["checksum-mismatch"]
    assert reading.findings[0].places.row.tolist() == [row]


def test_many_damaged_frames_one_lost_byte_and_one_inserted_are_no_losses_but_that_one():
    frames = varying(1000, 5)
    for row in range(20, 1000, 100):
        frames[row][6] ^= 0x10
    del frames[455][6]
    frames[755].insert(6, 0x33)
    reading = read(VARYING, b"".join(frames))
    assert "overflow" not in kinds_of(reading)
    damaged = sum(
        one.count for one in reading.findings if one.kind in ("checksum-mismatch", "truncated-frame", "length-mismatch")
    )
    assert damaged == 12


@pytest.mark.parametrize("match", [{}, {"n": "n"}])
def test_a_request_that_is_never_answered_in_mid_capture_is_one_without_any_limit_too(match):
    """The longest reply says how long to wait; a request within that time of the end stays open."""
    fields = [{"name": "n", "type": "uint8"}]
    layouts = {
        key: lr.FrameLayout(wire=wire, boundary={"kind": "marker", "marker": marker}, fields=fields)
        for key, wire, marker in (("ask", "out", "A6"), ("answer", "back", "D7"))
    }
    pair = {"question": {"request": ["ask"], "reply": ["answer"], "match": match}}
    sheet = lr.Sheet(wire={"out": {}, "back": {}}, frame=layouts, pair=pair)

    def spoken(marker, numbers, late_s):
        gaps = np.zeros(2 * len(numbers))
        begins = [0.01 * n + late_s for n in numbers]
        gaps[::2] = np.diff([0.0, *begins]) * 115200 - np.array([0, *[20] * (len(numbers) - 1)])
        return lr.transmit([value for n in numbers for value in (marker, n)], lr.LineSettings(), gaps=gaps, begin_s=0.0)

    asks = spoken(0xA6, range(1, 21), 0.0)
    answers = spoken(0xD7, [n for n in range(1, 21) if n != 13], 0.001)
    (finding,) = lr.read(sheet, {"out": asks, "back": answers}).findings
    assert (finding.kind, finding.count, finding.subject) == (
        "unanswered-request",
        1,
        lr.judge.Subject("pair", "question", "out"),
    )
    assert finding.first_s == pytest.approx(0.13, abs=1e-5)
    reading = lr.read(sheet, {"out": asks, "back": spoken(0xD7, range(1, 20), 0.001)})  # the last one may still come
    assert (kinds_of(reading), [one.what for one in reading.checked.not_checked][-1]) == ([], "open-requests")


def test_pairings_with_the_same_count_have_places_of_their_own():
    fields = [{"name": "n", "type": "uint8"}]
    sheet = lr.Sheet(
        wire={"out": {}, "back": {}},
        frame={
            key: {"wire": wire, "boundary": {"kind": "marker", "marker": marker}, "fields": fields}
            for key, wire, marker in (
                ("a", "out", "A1"),
                ("b", "out", "B1"),
                ("ra", "back", "A2"),
                ("rb", "back", "B2"),
            )
        },
        pair={
            "first": {"request": ["a"], "reply": ["ra"], "within_s": 0.002},
            "second": {"request": ["b"], "reply": ["rb"], "within_s": 0.002},
        },
    )
    line = lr.LineSettings()
    asked = [value for n in range(10) for value in (0xA1 if n % 2 else 0xB1, n)]
    answered = [value for n in range(8) for value in (0xA2 if n % 2 else 0xB2, n)]  # the last of both kinds are not
    gaps = np.where(np.arange(20) % 2 == 0, 2000.0, 0.0)
    out = lr.transmit(asked, line, gaps=gaps, end_s=0.3)
    back = lr.transmit(answered, line, gaps=np.where(np.arange(16) == 0, 2050.0, gaps[:16]), end_s=0.3)
    found = lr.read(sheet, {"out": out, "back": back}).findings
    assert [(one.subject.name, one.places.offset.tolist()) for one in found] == [("second", [16]), ("first", [18])]


def test_reads_that_get_out_of_step_are_found_without_any_frame_declared():
    path = lr.ReceivePath(
        key="pump",
        service={"kind": "interrupt", "latency_s": 1e-5},
        ring={"size": 64},
        application={"kind": "blocking", "length": 7},
    )
    sheet = lr.Sheet(wire={"pump": {"line": LINE}}, receive={"pump": path})
    sizes = [7, 7, 4, 7, 7, 7]
    gaps = np.concatenate([[100.0] + [0.0] * (size - 1) for size in sizes])
    reading = lr.read(sheet, {"pump": lr.transmit(np.arange(39), LINE, gaps=gaps, end_s=1.0)})
    assert sorted(kinds_of(reading)) == ["misaligned-read", "stuck-read"]
    stuck = next(one for one in reading.findings if one.kind == "stuck-read")
    assert (stuck.evidence["left"], stuck.certainty) == (4, "proven")


def test_a_read_waits_for_ever_although_the_capture_begins_within_a_frame():
    """Reads of 8 beside frames of 6: 4 of 20 characters are left, of which the last ends a whole frame."""
    fields = [{"name": "flow", "type": "uint16"}, {"name": "sum", "type": "checksum"}]
    layout = lr.FrameLayout(
        boundary={"kind": "marker", "marker": "D7 4B"}, fields=fields, checksum={"algorithm": "CRC-16/MODBUS"}
    )
    reads = {"service": {"kind": "interrupt", "latency_s": 1e-5}, "ring": {"size": 64}}
    sheet = lr.Sheet(
        wire={"pump": {"line": LINE}},
        frame={"flow": layout},
        receive={"pump": reads | {"application": {"kind": "blocking", "length": 8}}},
    )
    sent = layout.encode({"flow": 7})[4:] + b"".join(layout.encode({"flow": flow}) for flow in (1, 2, 3))
    reading = lr.read(sheet, {"pump": lr.transmit(sent, LINE, end_s=1.0)})
    (stuck,) = (finding for finding in reading.findings if finding.kind == "stuck-read")
    assert (stuck.evidence["left"], stuck.certainty) == (4, "proven")


def test_a_capture_without_a_good_frame_or_without_a_character_is_not_clean(shell, tmp_path):
    reading = read(PLAIN, b"abcdefghijklmnopqrstuvwxyz")
    assert (reading.verdict, reading.findings[0].kind) == ("faults", "no-good-frame")
    sheet, nothing = tmp_path / "a.toml", tmp_path / "a.vcd"
    sheet.write_text("sheet = 1\n[wire.pump]\n")
    lr.write_vcd(nothing, {"pump": lr.Trace(np.empty(0, np.int64), end=10**6)})
    status, out, _ = shell("decode", sheet, nothing, "--json")
    assert (status, json.loads(out)["verdict"]) == (1, "nothing-read")


@pytest.mark.parametrize(
    ("sent", "declared"), [("57600 7E1", "57600 8N1"), ("57600 8E1", "57600 8N1"), ("28800 8E1", "57600 8E1")]
)
def test_wrong_settings_are_named_also_where_the_declared_format_cannot_see_them(sent, declared):
    trace = lr.transmit(b"flow 12.5 mL/min, pressure 101 kPa\r\n" * 4, lr.LineSettings.parse(sent), gaps=2.0)
    reading = lr.read(lr.Sheet(wire={"pump": {"line": lr.LineSettings.parse(declared)}}), {"pump": trace})
    suspect = reading.findings[0]
    assert (suspect.kind, suspect.evidence["settings"], reading.verdict) == ("setting-suspect", sent, "faults")
    assert all(one.caused_by is suspect for one in reading.findings if one.kind in ("framing-error", "parity-error"))


def test_a_sheet_built_in_python_is_checked_as_one_of_a_file():
    """Names come from the tables, the only wire is that of a frame, and what refers to nothing is refused at once."""
    assert len(read(PLAIN, PLAIN.encode({"n": 1}) * 2).frames["status"]) == 2
    with pytest.raises(lr.SheetError) as caught:
        lr.Sheet(
            wire={"pump": {}},
            frame={"status": PLAIN.model_copy(update={"wire": "pomp"})},
            pair={"q": {"request": ["status"], "reply": ["answer"]}},
        )
    assert [one.where for one in caught.value.mistakes] == ["frame.status.wire", "pair.q.reply"]


@pytest.mark.parametrize("make", [CaptureError, CaptureFileError, PortError, RequestError])
def test_errors_are_the_same_in_another_process(make):
    error = make("capture", "is cut off", "must be whole", "Copy it again")
    mistakes = lr.SheetError("rig.toml", [lr.errors.Mistake("line.baud", "0", "must be more than 0")])
    for one in (error, mistakes):
        for other in (pickle.loads(pickle.dumps(one)), copy.copy(one)):
            assert (type(other), str(other), other.where) == (type(one), str(one), one.where)


def test_stop_bits_that_the_capture_does_not_show_are_named_both():
    """Two stop bits look like one and a pause; back to back they show."""
    values = np.random.default_rng(1).integers(0, 256, 120)
    two = lr.LineSettings.parse("57600 8E2")
    apart = lr.diagnose(lr.transmit(values, two, gaps=np.random.default_rng(2).uniform(0.5, 9, 120)))
    assert [str(one).split(" ", 1)[1] for one in apart.survey.alike] == ["8E2", "8E1 msb"]
    assert "8E2" in apart.findings[0].text
    assert str(lr.diagnose(lr.transmit(values, two)).proposal) == "57600 8E2"


@pytest.mark.parametrize("number", range(40))
def test_settings_found_without_a_declaration_are_right_or_named(number: int):
    assert judge_blind(*blind_case(number)) != "wrong"


@pytest.mark.parametrize("sent_format", ["8N1", "8N1 msb"])
def test_which_bit_was_sent_first_is_stated_only_where_the_values_show_it(sent_format: str):
    """Random bytes are as likely in either order; text is text in one. What is declared stands unless disproved."""
    sent = lr.LineSettings.parse(f"57600 {sent_format}")
    values = np.random.default_rng(3).integers(0, 256, 200)
    blind = lr.diagnose(lr.transmit(values, sent))
    assert "do not show which bit was sent first; lowest bit first is assumed" in blind.findings[0].text
    assert [one.first_bit for one in blind.survey.alike] == ["msb"]
    declared = lr.diagnose(lr.transmit(values, sent), lr.LineSettings.parse("57600 8E1 msb"))
    assert ([one.kind for one in declared.findings], declared.proposal.first_bit) == (["parity-mismatch"], "msb")
    text = lr.diagnose(lr.transmit(b"flow 12.5 mL/min\r\n" * 9, sent))
    assert (text.proposal.first_bit, text.survey.alike) == (sent.first_bit, ())


def test_a_baud_twelve_times_too_high_is_found_from_the_bytes_and_what_was_sent():
    """The middle of a slow bit falls on an edge of the fast sender: the least difference of the clocks decides."""
    text = b"pump head 1.4 ready, flow 0.0 mL/min, pressure 101.25 kPa, temperature 21.43 degC\r\n" * 12
    fast, slow = lr.LineSettings.parse("115200 8N1"), lr.LineSettings.parse("9600 8N1")
    received = lr.receive(lr.transmit(text, fast, clock_error_ppm=400), slow).value.astype(np.uint8).tobytes()
    best = lr.find_garble(received, slow, text)[0]
    assert (best.sender.baud, best.likeness > 0.9) == (115200.0, True)


def test_how_late_a_sender_stops_is_measured_and_judged_by_what_is_allowed():
    line = LINE.model_copy(update={"flow_control": "rts-cts"})
    character_s = line.character_time_s
    sent = lr.transmit(b"f" * 40, line, begin_s=0.0, gaps=np.where(np.arange(40) == 20, 200.0, 0.0))
    stop_s = 16.5 * character_s  # three characters more begin after that
    clear = lr.Trace.from_seconds([stop_s, 0.0055], 0, end_s=0.02)
    for allowed, kinds in ((4, []), (1, ["sent-while-paused"])):
        sheet = lr.Sheet(
            wire={"pump": lr.declare.Wire(key="pump", line=line, clear_to_send="cts", pause_allowance=allowed)}
        )
        found = list(judge_pauses(sheet, {"pump": lr.receive(sent, line)}, {"pump": clear}))
        assert [one.kind for one in found] == kinds
        held = measure_pauses(sheet, {"pump": lr.receive(sent, line)}, {"pump": clear})["pump"].to_dict()
        assert held["characters_after"] == {"median": 3.0, "most": 3}
        assert held["last_after_s"]["most"] == pytest.approx(2.5 * character_s, rel=1e-4)


@pytest.mark.parametrize(
    ("change", "alter", "option"),
    [(lambda one: one + 1, {"add": 1}, "--add 1"), (lambda one: one ^ 0x5A, {"xor": 0x5A}, "--xor 0x5A")],
)
def test_an_echo_that_changes_every_character_alike_says_so(change, alter, option):
    port = lr.SimulatedPort(LINE, lambda data: bytes(change(one) & 0xFF for one in data))
    result = lr.run_loopback(port)
    assert (result.changed, result.lost, result.extra) == (4096, 0, 0)
    assert result.failures[-1].endswith(f"if that is meant: --expect altered {option}")
    meant = lr.LoopbackPlan(expect="altered", alter=alter)
    port = lr.SimulatedPort(LINE, lambda data: bytes(change(one) & 0xFF for one in data))
    assert lr.run_loopback(port, meant).verdict == "pass"


@pytest.mark.parametrize(
    ("options", "shown"),
    [
        (["--oversampling", "1", "--extra", "8", "--written", "3,0x4A"], "pattern 0x4A"),
        (["--fraction-bits", "4", "--written", "8,17"], "has 17 as fraction. It must have 0 to 15 there."),
        (["--written", "8,7"], "has 2 numbers: 8, 7. It must have 1: divisor (16 bits)."),
        (["--fraction-bits", "4", "--written", "8"], "It must have 2: divisor (16 bits), fraction (4 bits)."),
    ],
)
def test_written_numbers_are_those_that_the_generator_has_or_refused(shell, options, shown):
    status, out, err = shell("plan", "--clock", "32768", "--line", "9600 8N1", *options)
    assert shown in out + err
    assert (status == 2) == ("must" in shown)


@pytest.mark.parametrize(("offset", "counts"), [(2, "rest"), (-1, "rest"), (0, "all")])
def test_a_length_that_counts_other_bytes_than_declared_is_named(offset, counts):
    fields = [one.model_dump(by_alias=True) for one in VARYING.fields]
    true = lr.FrameLayout(
        boundary={**VARYING.boundary.model_dump(), "offset": offset, "counts": counts}, fields=fields, checksum=CRC
    )
    random = np.random.default_rng(1)
    data = b"".join(true.encode({"n": n, "data": random.integers(0, 160, 3 + n % 5).tolist()}) for n in range(60))
    suspect = read(VARYING, data).findings[0]
    assert (suspect.kind, suspect.evidence["good"], suspect.evidence["of"]) == ("layout-suspect", 60, 60)
    declared = lr.parse_sheet("sheet = 1\n[wire.pump]\n[frame.status]\nboundary = { kind = \"length-field\", field = \"size\", "
                              f"marker = \"A5 5A\", {suspect.evidence['change']} }}\n"
                              "fields = [{ name = \"size\", type = \"uint8\" }, { name = \"data\", type = \"uint8\", repeat = \"rest\" }]"
                              )  # fmt: skip
    cut = lr.read_frames(data, declared.frame["status"])
    assert len(cut) == 60


@pytest.mark.parametrize("values", [range(65, 91), range(10, 110), [*range(40, 100)]])
def test_an_alphabet_or_a_ramp_that_repeats_loses_nothing(values):
    assert read_plain(np.resize(list(values), 600)).findings == ()


def read_plain(values, line=LINE):
    return lr.read(lr.Sheet(wire={"pump": {"line": line}}), {"pump": lr.transmit(values, line)})


@pytest.mark.parametrize(
    ("boundary", "kind"), [({"kind": "marker", "marker": "A5"}, "overflow"), ({"kind": "break"}, "overflow")]
)
def test_a_byte_that_never_reached_a_wire_without_pauses_was_not_lost_on_the_line(boundary, kind):
    """One byte has no room for a gap where all is back to back; and a break that begins a frame is no line fault."""
    layout = lr.FrameLayout(boundary=boundary, fields=[{"name": "n", "type": "uint8", "counter": True},
                                                       {"name": "x", "type": "uint32"}, {"name": "crc", "type": "checksum"}],
                            checksum=CRC)  # fmt: skip
    values, faults = [], []
    for n in range(20):
        frame = list(layout.encode({"n": n, "x": 0x01020304 * (n % 7)}))
        if n == 9:
            del frame[3]
        begin = [0] if boundary["kind"] == "break" else []
        values += begin + frame
        faults += [lr.Fault.BREAK] * len(begin) + [0] * len(frame)
    reading = read(layout, lr.transmit(values, LINE, faults=faults))
    assert [(one.kind, one.evidence.get("missing")) for one in reading.findings] == [(kind, 1)]


@pytest.mark.parametrize("row", [5, 29, 51])
def test_a_counter_that_is_wrong_alone_was_changed_and_nothing_is_missing(row):
    frames = [bytearray(PLAIN.encode({"n": n, "x": 0x11 * n})) for n in range(60)]
    frames[row][1] ^= 0x40
    (finding,) = read(PLAIN, b"".join(frames)).findings
    assert (finding.kind, finding.evidence["found"], finding.evidence["expected"]) == (
        "counter-mismatch",
        row ^ 0x40,
        row,
    )


@pytest.mark.parametrize("apart", [100, 192, 255])
def test_a_pattern_that_repeats_is_aligned_with_the_fewest_differences(apart):
    out = np.tile([0x55, 0xAA], 2048).astype(np.uint8)
    back = out.copy()
    back[1000] ^= 0x10
    found = align(out, np.insert(back, 1000 + apart, back[1000 + apart]))
    assert (found.lost, found.changed, found.extra) == (0, 1, 1)


def test_a_length_that_reaches_beyond_the_end_is_a_fault_where_another_frame_follows():
    frames = varying(30)
    frames[20][2] = 206
    reading = read(VARYING, b"".join(frames))
    assert ("truncated-frame" in kinds_of(reading), reading.verdict) == (True, "faults")


@pytest.mark.parametrize(("values", "line"), [(range(199, 208), "57600 8N1"), (range(0xF3, 0x100), "57600 8O1")])
def test_settings_that_the_characters_do_not_tell_apart_are_not_stated_as_sure(values, line):
    shown = lr.diagnose(lr.transmit(list(values), lr.LineSettings.parse(line)))
    formats = {one.format for one in (*shown.survey.alike, shown.survey.best.line)}
    assert shown.proposal is None or str(shown.proposal) == line
    assert shown.proposal is not None or lr.LineSettings.parse(line).format in formats


def test_lines_that_end_with_nul_as_the_application_expects_are_as_declared():
    path = {"service": {"kind": "interrupt"}, "ring": {"size": 256},
            "application": {"kind": "lines", "every_s": 0.001, "terminator": "00"}}  # fmt: skip
    sheet = lr.Sheet(wire={"pump": {"line": LINE}}, receive={"pump": path})
    assert lr.read(sheet, {"pump": lr.transmit(b"flow 12.5\0flow 13.5\0flow 14.5\0" * 3, LINE)}).findings == ()


def test_a_reader_of_the_output_that_has_gone_ends_with_141(rig_files):
    import subprocess
    import sys

    command = [
        sys.executable,
        "-m",
        "larkreader",
        "decode",
        str(rig_files["sheet"]),
        str(rig_files["capture"]),
        "--characters",
        "-",
    ]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as run:
        run.stdout.readline()
        run.stdout.close()
        assert run.wait() == 141


@pytest.mark.parametrize("first", range(0, 240, 12))
def test_verdicts_on_random_links_are_right(first):
    """Twelve of each family; benchmarks/tally_verdicts.py judges thousands."""
    for number in range(first, first + 12):
        case = make_case(number)
        judged = judge(case)
        assert judged.is_right, (number, case.family, case.events, judged)


def test_the_document_of_a_reading_is_as_its_schema_says(shell, rig_files):
    schema = json.loads(shell("schema", "--of", "reading")[1])
    jsonschema.Draft202012Validator.check_schema(schema)
    for sheet, capture in (
        ("rig.toml", "rig.vcd"),
        ("service.toml", "service.vcd"),
        ("history_paused.toml", "history_paused.vcd"),
    ):
        folder = rig_files["sheet"].parent
        document = json.loads(shell("decode", folder / sheet, folder / capture, "--json")[1])
        jsonschema.validate(document, schema, jsonschema.Draft202012Validator)
        assert any(one["evidence"] for one in document["findings"]) or not document["findings"]


def test_findings_are_evidence_that_travels():
    """Places, evidence and certainty are in JSON as the schema has them, and findings are the same after a pickle."""
    frames = varying()
    frames[9][5] ^= 0x04
    reading = read(VARYING, b"".join(frames))
    assert pickle.loads(pickle.dumps(reading.findings)) == reading.findings
    (one,) = json.loads(json.dumps(reading.to_dict()))["findings"]
    assert one["places"] == [{"offset": int(sum(map(len, frames[:9]))), "time_s": None, "row": 9}]
    assert (one["certainty"], one["subject"]) == ("proven", {"kind": "frame", "name": "status"})
    assert one["evidence"]["algorithm"] == "CRC-16/MODBUS"
