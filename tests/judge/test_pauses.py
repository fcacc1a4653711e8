"""Flow control that is ignored, and characters that were lost behind a healthy line."""

import numpy as np
import pytest

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8N1")
CHARACTER_S = LINE.character_time_s


def sheet_of(flow, extra=""):
    return lr.parse_sheet(
        f"""sheet = 1
        [line]
        baud = 57600
        format = "8N1"
        flow_control = "{flow}"
        [wire.to_pump]
        {extra}
        [wire.from_pump]"""
    )


def pauses(sheet, traces):
    return [one for one in lr.read(sheet, traces).findings if one.kind == "sent-while-paused"]


@pytest.mark.parametrize(("more", "shown"), [(1, None), (2, None), (3, 1), (12, 10)])
def test_what_is_sent_after_xoff_is_counted_but_for_what_the_hardware_had_taken(more, shown):
    """XOFF ends as a character begins; that one and the next have gone into the transmitter already."""
    asks = lr.transmit([0x13, 0x11], LINE, begin_s=10 * CHARACTER_S, gaps=[0, 400])
    first = lr.transmit(b"f" * (11 + more), LINE, begin_s=0.0001 * CHARACTER_S)
    later = lr.transmit(b"f" * 5, LINE, begin_s=70 * CHARACTER_S)
    sent = lr.Trace(np.concatenate([first.edges, later.edges]), first.tick_s, end=later.end)
    found = pauses(sheet_of("xon-xoff"), {"to_pump": sent, "from_pump": asks})
    if shown is None:
        assert not found
    else:
        assert [one.count for one in found] == [1]
        assert f"{shown} character{'' if shown == 1 else 's'} began after the allowance" in found[0].text
    assert not pauses(sheet_of("none"), {"to_pump": sent, "from_pump": asks})


@pytest.mark.parametrize(("level", "wrong"), [("low", True), ("high", False)])
def test_a_sender_that_ignores_its_clear_to_send_is_told(tmp_path, level, wrong):
    """Not clear from 10 to 30 ms if low lets it send; the other way about it is clear just then."""
    sent = lr.transmit(b"f" * 40, LINE, begin_s=0.015, gaps=5)
    clear = lr.Trace.from_seconds([0.010, 0.030], 0, end_s=0.040)
    lr.write_vcd(
        tmp_path / "a.vcd", {"to_pump": sent, "from_pump": lr.Trace(np.empty(0, np.int64), end=sent.end), "cts": clear}
    )
    sheet = sheet_of("rts-cts", f'clear_to_send = "cts"\nclear_level = "{level}"')
    found = [one for one in lr.read(sheet, tmp_path / "a.vcd").findings if one.kind == "sent-while-paused"]
    assert bool(found) == wrong
    if wrong:
        assert (found[0].wire, found[0].first_s) == ("to_pump", pytest.approx(0.015 + 5 * LINE.bit_time_s, abs=2e-7))


def test_a_diagnosis_tells_what_was_lost_behind_a_healthy_line(rig, rig_files, shell):
    """The demo's wire lost bytes on the line once and before it twice; the recorded bytes lack some twice."""
    layouts = rig.sheet.layouts_of("from_pump")
    line = rig.sheet.wire["from_pump"].line
    shown = lr.diagnose(rig.traces[rig.sheet.wire["from_pump"].source], line, layouts=layouts)
    assert [(one.kind, one.count) for one in shown.findings] == [
        ("as-declared", 1),
        ("counter-gap", 1),
        ("overflow", 2),
    ]
    assert shown.verdict == "faults"
    status, out, _ = shell("diagnose", rig_files["delivered"], rig_files["sheet"], "--wire", "from_pump")
    assert (status, "error  overflow on from_pump" in out) == (1, True)


def wire_of(stretches, end_s):
    """Return a wire on which characters go out without a gap from one time to another, stretch by stretch."""
    edges, last = [], None
    for begin_s, until_s in stretches:
        count = int((until_s - begin_s) / CHARACTER_S)
        last = lr.transmit(b"f" * count, LINE, begin_s=begin_s + 1e-6)
        edges.append(last.edges)
    return lr.Trace(np.concatenate(edges), last.tick_s, begin=0, end=round(end_s / last.tick_s))


def found_with(tmp_path, sent, signal, level="low"):
    """Read a wire with its clear-to-send signal; return what is found, by kind."""
    idle = lr.Trace(np.empty(0, np.int64), end=sent.end)
    lr.write_vcd(tmp_path / "a.vcd", {"to_pump": sent, "from_pump": idle, "cts": signal})
    sheet = sheet_of("rts-cts", f'clear_to_send = "cts"\nclear_level = "{level}"')
    return {one.kind: one for one in lr.read(sheet, tmp_path / "a.vcd").findings if one.kind != "silence"}


def square(changes_s, end_s, first=0):
    return lr.Trace.from_seconds(changes_s, first, end_s=end_s)


def test_a_sender_that_goes_on_through_every_pause_ignores_them(tmp_path):
    """Not clear from 10 to 20, 30 to 40 and 50 to 60 ms; characters without a gap from 0 to 70 ms."""
    found = found_with(tmp_path, wire_of([(0.0, 0.07)], 0.08), square([0.01, 0.02, 0.03, 0.04, 0.05, 0.06], 0.08))
    assert set(found) == {"pause-ignored"}
    assert found["pause-ignored"].count == 3
    assert "of 3 pauses long enough" in found["pause-ignored"].text


def test_flow_control_that_is_switched_on_late_is_told_from_when_on(tmp_path):
    sent = wire_of([(0.0, 0.045), (0.06, 0.07)], 0.1)
    found = found_with(tmp_path, sent, square([0.01, 0.02, 0.03, 0.04, 0.0451, 0.06, 0.0701, 0.08], 0.1))
    assert found["pause-ignored"].count == 2
    assert "From 0.045100 s on pauses are kept" in found["pause-ignored"].text


def test_a_sender_that_keeps_its_pauses_is_told_nothing(tmp_path):
    sent = wire_of([(0.0, 0.01), (0.02, 0.03), (0.04, 0.05)], 0.06)
    assert not found_with(tmp_path, sent, square([0.0101, 0.02, 0.0301, 0.04], 0.06))


def test_a_pause_that_never_ends_is_told_from_one_that_the_capture_cuts_off(tmp_path):
    sent = wire_of([(0.0, 0.01), (0.012, 0.02)], 0.5)
    found = found_with(tmp_path, sent, square([0.0101, 0.012, 0.0201], 0.5))
    assert (set(found), found["never-resumed"].first_s) == ({"never-resumed"}, pytest.approx(0.0201))
    sent = wire_of([(0.0, 0.01), (0.012, 0.02)], 0.024)
    assert not found_with(tmp_path, sent, square([0.0101, 0.012, 0.0201], 0.024))
    asks = lr.transmit([0x13], LINE, begin_s=0.01 - CHARACTER_S)
    both = {"to_pump": wire_of([(0.0, 0.01)], 0.3), "from_pump": lr.Trace(asks.edges, asks.tick_s, end=300_000_000)}
    kinds = {one.kind for one in lr.read(sheet_of("xon-xoff"), both).findings}
    assert "never-resumed" not in kinds  # characters alone do not tell how long the capture went on
    later = lr.transmit(b"ok", LINE, begin_s=0.3)
    both["from_pump"] = lr.Trace(np.concatenate([asks.edges, later.edges]), asks.tick_s, end=later.end)
    assert "never-resumed" in {one.kind for one in lr.read(sheet_of("xon-xoff"), both).findings}


def test_reversed_levels_are_told_from_a_sender_that_ignores_the_signal(tmp_path):
    """It sends whenever the signal is high, and low is said to let it send."""
    times = [(0.01, 0.02), (0.03, 0.04), (0.05, 0.06)]
    sent = wire_of([(begin + 0.0001, end + 0.0003) for begin, end in times], 0.07)
    changes = [at for pair in times for at in pair]
    assert set(found_with(tmp_path, sent, square(changes, 0.07))) == {"pause-reversed"}
    assert not found_with(tmp_path, sent, square(changes, 0.07), level="high")


def test_the_senders_own_rts_is_told_from_what_it_waits_for(tmp_path):
    """The signal goes low just before each burst, and high just after it."""
    times = [(0.01, 0.02), (0.03, 0.036), (0.05, 0.06)]
    changes = [at for begin, end in times for at in (begin - 0.0002, end + 0.0002)]
    found = found_with(tmp_path, wire_of(times, 0.07), square(changes, 0.07, first=1))
    assert "it is the sender's RTS, taken for its CTS" in found["pause-reversed"].text


@pytest.mark.parametrize(
    ("first", "shown"), [(0, "which allows sending."), (1, "forbids sending; 57 characters were sent")]
)
def test_a_clear_to_send_that_never_moves_is_told(tmp_path, first, shown):
    found = found_with(tmp_path, wire_of([(0.0, 0.01)], 0.02), square([], 0.02, first=first))
    assert set(found) == {"clear-never-moves"}
    assert shown in found["clear-never-moves"].text


STUFFED = """sheet = 1
    [line]
    flow_control = "xon-xoff"
    [wire.from_pump]
    [wire.to_pump]
    [frame.status]
    wire = "from_pump"
    boundary = {boundary}
    fields = [
      {{ name = "kind", type = "uint8", equals = {kind} }},
      {{ name = "state", type = "uint8", names = {{ resting = 0, dosing = {state} }} }},
      {{ name = "flow", type = "{flow}" }},
      {{ reserved = {rest} }},
    ]"""
MARKER = '{ kind = "marker", marker = "D7 4B" }'
ESCAPED = '{ kind = "escape", end = "7E", escape = "7D", xor = 32, also = "11 13" }'


@pytest.mark.parametrize(
    ("kind", "state", "flow", "boundary", "shown"),
    [
        (0x21, 1, "uint16", MARKER, "flow may"),
        (0x11, 1, "uint4", MARKER, "kind always does"),  # 4 bits and reserved zeros hold 0x0F at most
        (0x21, 0x13, "uint5", MARKER, "state, flow may"),  # 5 bits hold 0x1F at most
        (0x21, 1, "uint1", MARKER, None),
        (0x21, 1, "uint16", ESCAPED, None),
        (0x11, 1, "uint16", ESCAPED, None),
    ],
)
def test_a_layout_that_can_hold_pause_characters_is_told_on_paper(kind, state, flow, boundary, shown):
    bits = int(flow.removeprefix("uint"))
    text = STUFFED.format(kind=kind, state=state, flow=flow, rest=8 if bits == 16 else 8 - bits, boundary=boundary)
    found = [one for one in lr.plan(lr.parse_sheet(text)).findings if one.kind == "control-in-payload"]
    assert [one.text.split("0x13: ")[1].split(".")[0] for one in found] == ([shown] if shown else [])


def test_pause_characters_inside_good_frames_are_payload_and_pause_nobody():
    """XOFF inside a frame of the one wire would pause the other; outside it does."""
    text = STUFFED.format(kind=0x21, state=1, flow="uint16", rest=8, boundary=MARKER)
    sheet = lr.parse_sheet(text.replace("[line]", '[line]\nbaud = 57600\nformat = "8N1"'))
    frame = sheet.frame["status"].encode({"flow": 0x1300})
    framed = lr.transmit(frame * 3, LINE)
    both = {"from_pump": framed, "to_pump": wire_of([(0.0, 0.02)], 0.03)}
    found = {one.kind: one for one in lr.read(sheet, both).findings}
    assert (found["control-in-payload"].count, found["control-in-payload"].offset) == (3, frame.index(0x13))
    assert not {"pause-ignored", "sent-while-paused"} & set(found)
