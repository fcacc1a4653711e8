import numpy as np
import pytest

import larkreader as lr

SHEET = """sheet = 1
[line]
baud = 57600
format = "8E1"
[wire.from_pump]
signal = "pump_tx"
[frame.status]
boundary = { kind = "marker", marker = "D7" }
fields = [{ name = "flow", type = "uint8" }]
[event.sending]
wire = "from_pump"
edge = "EDGE"
to = "TO"
"""
LINE = lr.LineSettings.parse("57600 8E1")


def capture(tmp_path, delays_s, pulse_s=20e-6):
    """Frames of two characters 10 ms apart, a pulse before each by its delay; one pulse more at the end."""
    frames = lr.transmit(b"\xd7\x05" * len(delays_s), LINE, gaps=np.tile([500.0, 0.0], len(delays_s)))
    begins = lr.receive(frames, LINE).begin_s[::2]
    ups = np.append(begins - delays_s, frames.end_s - 1e-3)
    pulses = lr.Trace.from_seconds(np.sort(np.concatenate([ups, ups + pulse_s])), 0, end_s=frames.end_s)
    lr.write_vcd(tmp_path / "a.vcd", {"pump_tx": frames, "sending": pulses})
    return tmp_path / "a.vcd"


@pytest.mark.parametrize(
    ("edge", "to", "shift_s", "followed"),
    [("rise", "frame", 0, 4), ("fall", "character", -20e-6, 4), ("both", "frame", -20e-6, 4)],
)
def test_delays_from_a_signal_to_what_follows(tmp_path, edge, to, shift_s, followed):
    """With "both" the rising edge is followed by the falling one, not by a frame."""
    delays_s = np.array([100e-6, 300e-6, 200e-6, 150e-6])
    sheet = lr.parse_sheet(SHEET.replace("EDGE", edge).replace("TO", to))
    reading = lr.read(sheet, capture(tmp_path, delays_s))
    found = reading.events["sending"].to_dict()
    assert (found["changes"], found["followed"]) == (5 * (1 + (edge == "both")), followed)
    assert (found["min_s"], found["median_s"], found["max_s"]) == pytest.approx(
        [100e-6 + shift_s, 175e-6 + shift_s, 300e-6 + shift_s], abs=2e-9
    )
    assert sum(one["count"] for one in found["histogram"]) == followed
    assert reading.to_dict()["events"] == {"sending": found}
    assert reading.characters.keys() == {"from_pump"}


def test_what_comes_too_late_belongs_to_no_change(tmp_path):
    sheet = lr.parse_sheet(SHEET.replace("EDGE", "rise").replace("TO", "frame") + "within_s = 0.000_25\n")
    one = lr.read(sheet, capture(tmp_path, np.array([100e-6, 300e-6]))).events["sending"]
    assert np.isnan(one.delay_s).tolist() == [False, True, True]
    assert one.followed == pytest.approx([100e-6], abs=2e-9)


def test_mistakes_of_an_event_are_told():
    for text, message in [
        ('wire = "to_pump"', 'event.sending.wire = "to_pump"'),
        ('to = "packet"', "event.sending.to"),
        ('edge = "up"', "event.sending.edge"),
        ("within_s = 0", "event.sending.within_s"),
    ]:
        key = text.split()[0]
        lines = [
            line
            for line in SHEET.replace("EDGE", "rise").replace("TO", "frame").splitlines()
            if not line.startswith(f"{key} =")
        ]
        at = lines.index("[event.sending]") + 1
        with pytest.raises(lr.SheetError, match=message):
            lr.parse_sheet("\n".join([*lines[:at], text, *lines[at:]]))
