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


@pytest.mark.parametrize(("more", "told"), [(1, None), (2, None), (3, 1), (12, 10)])
def test_what_is_sent_after_xoff_is_counted_but_for_what_the_hardware_had_taken(more, told):
    """XOFF ends as a character begins; that one and the next have gone into the transmitter already."""
    asks = lr.transmit([0x13, 0x11], LINE, begin_s=10 * CHARACTER_S, gaps=[0, 400])
    first = lr.transmit(b"f" * (11 + more), LINE, begin_s=0.0001 * CHARACTER_S)
    later = lr.transmit(b"f" * 5, LINE, begin_s=70 * CHARACTER_S)
    sent = lr.Trace(np.concatenate([first.edges, later.edges]), first.tick_s, end=later.end)
    found = pauses(sheet_of("xon-xoff"), {"to_pump": sent, "from_pump": asks})
    if told is None:
        assert not found
    else:
        assert [one.count for one in found] == [1]
        assert f"{told} character{'' if told == 1 else 's'} began while the wire was to pause" in found[0].text
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
    told = lr.diagnose(rig.traces[rig.sheet.wire["from_pump"].source], line, layouts=layouts)
    assert [(one.kind, one.count) for one in told.findings] == [("as-declared", 1), ("counter-gap", 1), ("overflow", 2)]
    assert told.verdict == "faults"
    status, out, _ = shell("diagnose", rig_files["delivered"], rig_files["sheet"], "--wire", "from_pump")
    assert (status, "error  overflow on from_pump" in out) == (1, True)
