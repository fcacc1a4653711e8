"""Sums over frames, by arithmetic on paper, and what is written of them."""

import json

import numpy as np
import pytest

import larkreader as lr

SHEET = lr.parse_sheet(
    """sheet = 1
    [line]
    baud = 57600
    [wire.pump]
    [frame.status]
    period = 0.1
    boundary = { kind = "marker", marker = "D7" }
    fields = [
      { name = "count", type = "uint8", counter = true },
      { name = "state", type = "uint8", names = { dosing = 1, halted = 7 }, substitutes = { when = "halted", fields = ["flow"] } },
      { name = "flow", type = "uint16", scale = 0.5, unit = "mL/min", invalid = [65535] },
      { name = "serial", type = "text", repeat = 2 },
      { name = "valve", type = "flag", repeat = 8 },
      { name = "check", type = "checksum" },
    ]
    checksum = { algorithm = "sum-8" }"""
)
LAYOUT = SHEET.frame["status"]


def wire(skipped=(), damaged=()):
    """Ten frames 0.1 s apart with the flow 0, 10, ... 90, the last two substitutes, the first without a value."""
    values = [
        {
            "count": n,
            "state": "halted" if n > 7 else "dosing",
            "flow": 10 * n if n else float("nan"),
            "serial": "P7",
            "valve": [n % 2] * 8,
        }
        for n in range(10)
    ]
    frames = [bytearray(LAYOUT.encode(one)) for one in values]
    for number in damaged:
        frames[number][3] ^= 1
    size = LAYOUT.length * SHEET.line.character_time_s
    kept = [n for n in range(10) if n not in skipped]
    pauses = np.diff([0, *kept]) * 0.1 - size
    gaps = np.zeros(len(kept) * LAYOUT.length)
    gaps[:: LAYOUT.length] = np.maximum(pauses, 0) * SHEET.line.baud
    return lr.transmit(b"".join(bytes(frames[n]) for n in kept), SHEET.line, gaps=gaps, begin_s=0.0)


def test_fields_and_times_are_summed_up_without_what_cannot_be_trusted():
    reading = lr.read(SHEET, {"pump": wire(damaged=[3])})
    found = lr.measure_frames(reading.frames["status"])
    assert (found.count, found.trusted, found.late, found.missing) == (10, 9, 0, 0)
    assert (found.rate, found.period_s, found.least_s, found.most_s) == pytest.approx((10, 0.1, 0.1, 0.1), rel=1e-6)
    assert found.jitter_s == pytest.approx(0, abs=1e-7)
    assert list(found.fields) == ["state", "flow", "serial", "valve"]
    flow = found.fields["flow"]  # 10, 20, 40, 50, 60, 70
    assert (flow.count, flow.least, flow.most, flow.mean, flow.unit) == (6, 10, 70, pytest.approx(250 / 6), "mL/min")
    assert found.fields["state"].names == {"dosing": 7, "halted": 2}
    assert found.fields["serial"].names == {"P7": 9}
    assert (found.fields["valve"].count, found.fields["valve"].mean) == (72, pytest.approx(4 / 9))


def test_frames_that_come_late_are_told_with_how_many_were_due():
    reading = lr.read(SHEET, {"pump": wire(skipped=[2, 5, 6])})
    (late,) = [one for one in reading.findings if one.kind == "late-frame"]
    assert (late.count, late.first_s, late.offset) == (2, pytest.approx(0.3, abs=1e-6), 2 * LAYOUT.length)
    assert "A period of 100 ms is declared; the longest gap is 300 ms. 3 frames were due and missing." in late.text
    found = lr.measure_frames(reading.frames["status"])
    assert (found.late, found.missing, found.most_s) == (2, 3, pytest.approx(0.3, rel=1e-6))
    untimed = lr.measure_frames(lr.read_frames(LAYOUT.encode({"count": 1}) * 2, LAYOUT))
    assert (untimed.count, untimed.rate, untimed.late) == (2, None, 0)
    none = lr.measure_frames(lr.read_frames(b"", LAYOUT))
    assert (none.count, none.fields["flow"].count, none.fields["flow"].mean) == (0, 0, None)


@pytest.mark.parametrize(
    ("begins", "missing", "count"),
    [
        ([*range(10), 10.7, *range(11, 20)], 0, 1),  # one late, the next in time
        ([*range(10), 10.7, *range(12, 20)], 1, 1),  # one late, the next lost
        ([*range(5), 8.6, *range(9, 20)], 3, 1),
        ([*range(5), 6.7, 6.9, 7, *range(8, 20)], 0, 1),  # two held back, then all at once
    ],
)
def test_frames_that_came_late_are_not_missing(begins, missing, count):
    """Twenty periods of 100 ms on paper: how many of the whole numbers have no frame at or behind them."""
    frame = LAYOUT.encode({"count": 1})
    sent = [
        (0.1 * at + 0.01 * byte / len(frame), bytes([frame[byte]]), b"") for at in begins for byte in range(len(frame))
    ]
    frames = lr.read_frames(lr.Characters.from_groups(sent), LAYOUT)
    found = lr.measure_frames(frames)
    assert (found.late, found.missing) == (count, missing)


def test_frames_are_written_as_json_lines_and_as_arrays(shell, rig_files, rig, tmp_path):
    for name in ("a.jsonl", "a.npz"):
        assert shell("decode", rig_files["sheet"], rig_files["capture"], "--frames", tmp_path / name)[0] == 1
    reading = lr.read(rig_files["sheet"], rig_files["capture"])
    rows = [json.loads(line) for line in (tmp_path / "a.jsonl").read_text().splitlines()]
    assert [row["begin_s"] for row in rows] == sorted(row["begin_s"] for row in rows)
    status = reading.frames["status"]
    mine = [row for row in rows if row["frame"] == "status"]
    assert [row["fields"]["flow"] for row in mine] == status["flow"].tolist()
    assert [row["fields"]["state"] for row in mine] == status.labels("state").tolist()
    assert {row["faults"] for row in mine} >= {"", "checksum-mismatch", "character-fault"}
    with np.load(tmp_path / "a.npz") as arrays:
        assert arrays["status.valve"].tolist() == status["valve"].tolist()
        assert arrays["status.faults"].tolist() == status.faults.tolist()
    status, _, err = shell("decode", rig_files["sheet"], rig_files["capture"], "--frames", tmp_path / "a.xls")
    assert (status, "must end in .csv, .jsonl, .npz" in " ".join(err.split())) == (2, True)
    status, out, _ = shell("decode", rig_files["sheet"], rig_files["capture"], "--statistics", "--json")
    assert json.loads(out)["frames"]["status"]["fields"]["state"]["names"]["dosing"] == 130
    assert "dosing 130" in " ".join(
        shell("decode", rig_files["sheet"], rig_files["capture"], "--statistics")[1].split()
    )
