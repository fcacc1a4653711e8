import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.demo.rig import make_rig, rig_sheet
from larkreader.judge.findings.kinds import KINDS
from larkreader.judge.findings.wording import clauses_of

SHEET = rig_sheet()
LINE = lr.LineSettings.parse("57600 8E1")


def placed(findings):
    return {(one.kind, one.wire, one.count, one.offset, round(one.first_s or 0, 6)) for one in findings}


@pytest.mark.parametrize("samples", [1, 3])
def test_the_rig_shows_exactly_the_faults_that_were_put_on_it(rig, rig_files, samples):
    """Kind, wire, count, first place and time of every finding are those of the faults injected, and no other."""
    reading = lr.read(rig_files["sheet"], rig_files["capture"], samples=samples)
    assert placed(reading.findings) == placed(rig.injected)
    assert len(reading.findings) == len(rig.injected) == 13
    assert reading.verdict == "faults"


def test_a_rig_without_faults_is_clean():
    rig = make_rig(faulty=False)
    reading = lr.read(rig.sheet, {key: rig.traces[wire.source] for key, wire in rig.sheet.wire.items()})
    assert (reading.verdict, reading.findings) == ("clean", ())
    assert {key: len(frames) for key, frames in reading.frames.items()} == {"setpoint": 20, "status": 200, "alarm": 2}
    assert reading.bytes_of("from_pump") == {"total": 3216, "good": 3216, "faulty": 0, "skipped": 0}


def test_every_byte_is_accounted_for_in_the_document(rig, rig_files):
    """Good, faulty and skipped add up to the total; frames times lengths are the good and faulty ones."""
    document = lr.read(rig_files["sheet"], rig_files["capture"]).to_dict()
    assert json.loads(json.dumps(document, allow_nan=False)) == document
    wire, frames = document["wires"]["from_pump"], document["frames"]
    parts = wire["bytes"]
    assert parts["total"] == wire["characters"] == parts["good"] + parts["faulty"] + parts["skipped"]
    lengths = {"status": 16, "alarm": 8}
    assert parts["good"] == sum(length * frames[key]["good"] for key, length in lengths.items())
    assert parts["good"] + parts["faulty"] == sum(length * frames[key]["count"] for key, length in lengths.items())
    assert (wire["parity"], wire["framing"], wire["break"], wire["noise"], wire["overrun"]) == (4, 1, 1, 0, 0)
    assert list(document) == ["sheet", "capture", "verdict", "checked", "wires", "frames", "receive", "findings"]
    keys = {"kind", "severity", "certainty", "wire", "subject", "count", "places", "evidence", "text", "advice"}
    assert all(keys <= set(finding) for finding in document["findings"])


def test_what_the_firmware_lost_is_told_in_bytes(rig, rig_files):
    reading = lr.read(rig_files["sheet"], rig_files["delivered"], wire="from_pump")
    (finding,) = reading.findings
    assert (finding.kind, finding.count, finding.first_s) == ("overflow", len(rig.delivered_losses), None)
    assert f"{sum(rig.delivered_losses)} bytes are missing" in finding.text
    assert "a loss on the line is possible" in finding.text


def status_frames(count):
    layout = SHEET.frame["status"]
    return [layout.encode({"count": number % 256}) for number in range(count)]


@given(st.integers(1, 40), st.integers(20, 30), st.integers(0, 15))
def test_how_many_bytes_are_missing_is_told_whatever_was_cut(length, frame, place):
    """From 1 byte to two and a half frames, beginning anywhere in a frame; a cut between frames cuts whole ones."""
    data = b"".join(status_frames(60))
    begin = 16 * frame + place
    reading = lr.read(SHEET, {"from_pump": data[:begin] + data[begin + length :]})
    (finding,) = [one for one in reading.findings if one.severity == "error"]
    assert finding.kind == "overflow"
    assert f" {length:,} byte{'s are' if length > 1 else ' is'} missing" in finding.text


@pytest.mark.parametrize(
    ("fault", "kind", "extra"),
    [
        (0, "overflow", set()),
        (lr.Fault.OVERRUN, "overrun", set()),
        (lr.Fault.PARITY, "counter-gap", {"parity-error"}),
    ],
)
def test_who_lost_the_bytes_depends_on_what_stands_around_the_place(fault, kind, extra):
    """No line fault: a buffer. An overrun flag: the hardware. A line fault: the line."""
    data = b"".join(status_frames(40))
    cut = data[:325] + data[342:]
    faults = np.zeros(len(cut), np.uint8)
    faults[325] = fault
    characters = lr.Characters.from_bytes(cut)
    flagged = lr.Characters(characters.begin_s, characters.end_s, characters.value, faults, np.empty(0), has_line=True)
    reading = lr.read(SHEET, {"from_pump": flagged})
    kinds = {finding.kind for finding in reading.findings}
    assert kinds - {"truncated-frame"} == {kind} | extra
    assert ("truncated-frame" in kinds) == (kind == "counter-gap")


def test_a_counter_that_begins_again_is_a_restart_and_no_loss():
    frames = status_frames(100)
    (finding,) = lr.read(SHEET, {"from_pump": b"".join([*frames[:70], *frames[:10]])}).findings
    assert (finding.kind, finding.severity, finding.offset) == ("counter-restart", "warning", 70 * 16)
    (finding,) = lr.read(SHEET, {"from_pump": b"".join([*frames[:70], *frames[80:]])}).findings
    assert (finding.kind, finding.offset) == ("overflow", 70 * 16)
    assert "160 bytes are missing, of 10 frames" in finding.text


def test_three_thousand_like_faults_are_one_finding():
    sheet = lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]')
    faults = np.where(np.arange(27_000) % 9 == 5, lr.Fault.PARITY, 0)
    trace = lr.transmit(np.arange(27_000) % 256, LINE, faults=faults)
    (finding,) = lr.read(sheet, {"tx": trace}).findings
    assert (finding.kind, finding.count, finding.offset) == ("parity-error", 3000, 5)
    assert finding.text.startswith(
        "3,000 parity errors in 27,000 characters (11.1 %), first at 0.001146 s, character 5."
    )


def test_faults_all_over_are_put_down_to_the_settings():
    sheet = lr.parse_sheet('sheet = 1\n[line]\nbaud = 57600\nformat = "8O1"\n[wire.tx]')
    suspect, errors = lr.read(sheet, {"tx": lr.transmit(bytes(range(256)), LINE)}).findings
    assert (suspect.kind, suspect.evidence["settings"]) == ("setting-suspect", "57600 8E1")
    assert (errors.kind, errors.count, errors.caused_by) == ("parity-error", 256, suspect)
    assert errors.advice.startswith("So many faults have a common cause")


def test_what_the_capture_cuts_off_is_a_note_and_spoils_nothing():
    data = b"".join(status_frames(10))
    line = SHEET.wire["from_pump"].line
    whole = lr.transmit(data[7:-3], line)
    begin = int(whole.edges[0]) + 5000  # in its start bit
    cut = lr.Trace(whole.edges[1:], whole.tick_s, 0, begin=begin, end=int(whole.edges[-1]))
    reading = lr.read(SHEET, {"from_pump": cut})
    assert {finding.severity for finding in reading.findings} == {"note"}
    assert {finding.kind for finding in reading.findings} >= {"cut-character", "cut-frame"}
    assert reading.verdict == "clean"


def test_one_wire_alone_can_be_read(rig):
    traces = {key: rig.traces[wire.source] for key, wire in rig.sheet.wire.items()}
    assert list(lr.read(rig.sheet, traces, wire="to_pump").characters) == ["to_pump"]


def test_a_silent_wire_is_told():
    sheet = lr.parse_sheet("sheet = 1\n[wire.tx]")
    reading = lr.read(sheet, {"tx": lr.Trace(np.empty(0, np.int64), end=10**9)})
    assert [finding.kind for finding in reading.findings] == ["silence"]
    assert reading.verdict == "nothing-read"


def test_a_wire_without_layouts_is_judged_by_its_characters():
    sheet = lr.parse_sheet('sheet = 1\n[line]\nformat = "8E1"\nbaud = 57600\n[wire.tx]')
    trace = lr.transmit(b"hello", LINE, faults=[0, lr.Fault.PARITY, 0, 0, 0])
    reading = lr.read(sheet, {"tx": trace})
    assert reading.bytes_of("tx") == {"total": 5, "good": 4, "faulty": 1, "skipped": 0}
    assert reading.frames == {}


def test_every_finding_says_what_it_means_and_most_what_to_do():
    for kind, known in KINDS.items():
        meaning, advice = (" ".join(clauses_of(one)) for one in (known.meaning, known.advice))
        assert meaning.endswith((".", "}")), kind
        assert advice.endswith("."), kind


def test_a_wire_that_the_sheet_lacks_is_refused(rig):
    with pytest.raises(lr.RequestError, match=r"capture is of type bytes\. It must be a file, or a mapping such as"):
        lr.read(rig.sheet, b"flow")
    with pytest.raises(lr.RequestError, match=r'wire "pump" is not a wire of the sheet\. Did you mean "to_pump"?'):
        lr.read(rig.sheet, {"pump": b""})


def test_a_capture_that_begins_in_mid_character_says_how_many_may_be_out_of_step():
    """Without a pause the receiver takes data bits for start bits, until the wire first rests."""
    line = lr.LineSettings.parse("57600 8N1")
    sent = lr.transmit(bytes(range(0x20, 0x60)) * 2, line, gaps=np.where(np.arange(128) == 64, 200.0, 0.0))
    cut = next(at for at in range(1, 40) if lr.receive(after(sent, at), line).faults.any() and (1 ^ (at & 1)) == 0)
    reading = lr.read(lr.Sheet(wire={"tx": lr.declare.Wire(key="tx", line=line)}), {"tx": after(sent, cut)})
    found = next(one for one in reading.findings if one.kind == "cut-character")
    characters = reading.characters["tx"]
    last = int(np.flatnonzero(characters.faults)[-1]) + 1
    assert f"the first {last} may be read out of step" in found.text or last == 1
    assert bytes(characters.value[-64:].tolist()) == bytes(range(0x20, 0x60))


def after(trace, edge):
    """Return what of a trace lies from one of its edges on."""
    return lr.Trace(trace.edges[edge:], trace.tick_s, 1 ^ (edge & 1), begin=int(trace.edges[edge]) - 1, end=trace.end)


@pytest.mark.parametrize(("per_bit", "kinds"), [(2.5, None), (4, {"coarse-capture"}), (16, set())])
def test_a_capture_too_coarse_for_the_baud_is_told_and_not_read(per_bit, kinds):
    line = lr.LineSettings.parse("10000 8N1")
    sent = lr.transmit(b"flow 12.5 mL/min\r\n", line, gaps=9)
    coarse = sent.in_ticks_of(1 / (line.baud * per_bit))
    sheet = lr.Sheet(wire={"tx": lr.declare.Wire(key="tx", line=line)})
    if kinds is None:
        with pytest.raises(lr.CaptureError, match="too coarse"):
            lr.read(sheet, {"tx": coarse})
    else:
        assert {one.kind for one in lr.read(sheet, {"tx": coarse}).findings} == kinds


def test_values_that_the_sender_calls_substitutes_are_told_with_since_when_and_how_long():
    """Halted from 0.3 s until 0.5 s, and again from 0.8 s on; the flow of those frames counts for nothing."""
    sheet = lr.parse_sheet(
        """sheet = 1
        [line]
        baud = 57600
        [wire.pump]
        [frame.status]
        boundary = { kind = "marker", marker = "D7" }
        fields = [
          { name = "state", type = "uint8", names = { dosing = 1, halted = 7 }, substitutes = { when = "halted", fields = ["flow"] } },
          { name = "flow", type = "uint8" },
        ]"""
    )
    layout, line = sheet.frame["status"], sheet.line
    states = ["halted" if 3 <= n < 5 or n >= 8 else "dosing" for n in range(10)]
    data = b"".join(layout.encode({"state": state, "flow": n}) for n, state in enumerate(states))
    gaps = np.where(np.arange(len(data)) % 3 == 0, 0.1 * line.baud - 3 * line.bits_per_character, 0.0)
    gaps[0] = 0
    reading = lr.read(sheet, {"pump": lr.transmit(data, line, gaps=gaps, begin_s=0.0)})
    (found,) = reading.findings
    assert (found.kind, found.count, found.offset, found.first_s) == (
        "substitute-values",
        2,
        9,
        pytest.approx(0.3, abs=1e-6),
    )
    assert "By state, 4 frames have substitutes for flow, for at most 200 ms, still at the end." in found.text
    assert reading.frames["status"].substituted("flow").tolist() == [state == "halted" for state in states]
    for wrong, message in [
        ("fields = ['flwo']", "flwo"),
        ("when = 'asleep', fields = ['flow']", "asleep"),
        ("fields = []", "fields"),
    ]:
        with pytest.raises(lr.SheetError, match=message):
            lr.parse_sheet(
                'sheet = 1\n[wire.a]\n[frame.f]\nboundary = { kind = "fixed" }\nfields = [{ name = "flow", type = "uint8" }, '
                f'{{ name = "s", type = "uint8", names = {{ on = 1 }}, substitutes = {{ {wrong} }} }}]'
            )
