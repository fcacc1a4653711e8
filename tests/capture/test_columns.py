"""Columns as people expect them of a table: by name, row by row, and in the packages that work with tables."""

import io
import pickle
import sys

import numpy as np
import pandas as pd
import pytest

import larkreader as lr

SHEET = lr.parse_sheet(
    """
sheet = 1
[wire.from_pump]
[wire.to_pump]
[frame.reading]
wire = "from_pump"
boundary = { kind = "fixed", length = 5 }
fields = [
  { name = "length", type = "uint8" },
  { name = "flow", type = "uint16", scale = 0.1 },
  { name = "state", type = "uint4", names = { resting = 0, dosing = 1 } },
  { name = "valve", type = "flag", repeat = 4 },
  { name = "crc", type = "uint8" },
]
[frame.list]
wire = "to_pump"
boundary = { kind = "slip" }
fields = [ { name = "count", type = "uint8" }, { name = "value", type = "uint8", repeat = "count" } ]
"""
)
DATA = bytes.fromhex("05 2C01 01 AA  05 E803 A0 BB")


@pytest.fixture(scope="module")
def frames():
    return lr.read_frames(DATA, SHEET.frame["reading"])


def test_names_rows_and_columns_agree(frames):
    """A field goes before a column of its name; iterating gives rows, `dict` columns."""
    assert list(frames.keys()) == ["offset", "length", "begin_s", "faults", "flow", "state", "valve", "crc"]
    assert ("flow" in frames, "flwo" in frames, 0 in frames, len(frames)) == (True, False, False, 2)
    rows = list(frames)
    assert [(row["offset"], row["flow"], row["state"], row["valve"]) for row in rows] == [
        (0, 30.0, "dosing", [False] * 4),
        (5, 100.0, "resting", [False, True, False, True]),
    ]
    assert dict(frames)["flow"].tolist() == [30.0, 100.0]
    assert frames["offset"].tolist() == [0, 5]
    characters = lr.Characters.from_bytes(b"ab")
    assert [row["value"] for row in characters] == characters["value"].tolist() == [97, 98]
    with pytest.raises(lr.RequestError, match=r'"valeu" is not in Characters\. Did you mean "value"'):
        characters["valeu"]


def test_numpy_and_pandas_take_the_rows_by_name(frames):
    records = np.asarray(frames)
    assert (records.shape, records.dtype["flow"], records.dtype["valve"].shape) == ((2,), np.float64, (4,))
    assert records["flow"].tolist() == [30.0, 100.0]
    assert np.asarray(frames[:0]).shape == (0,)
    assert pd.DataFrame(frames)["state"].tolist() == ["dosing", "resting"]
    assert pd.DataFrame(lr.Characters.from_bytes(b"ab"))["value"].tolist() == [97, 98]
    lists = lr.read_frames(b"\x02ab\xc0\x01c\xc0", SHEET.frame["list"])
    with pytest.raises(lr.RequestError, match='column "value" has rows that differ in length'):
        lists.to_numpy()
    assert pd.DataFrame(lists)["value"].tolist() == [[97, 98], [99]]


def test_arrow_takes_the_columns_where_it_is_installed(frames):
    pyarrow = pytest.importorskip("pyarrow", reason="pyarrow is not installed")
    table = pyarrow.table(frames)
    assert table["flow"].to_pylist() == [30.0, 100.0]
    assert table["state"].to_pylist() == ["dosing", "resting"]


def test_equal_rows_have_equal_tokens(frames):
    """As Dask asks for them; arrays are compared by it."""
    again = lr.read_frames(bytearray(DATA), SHEET.frame["reading"])
    other = lr.read_frames(DATA[::-1], SHEET.frame["reading"])
    token = repr(frames.__dask_tokenize__())
    assert token == repr(again.__dask_tokenize__()) == repr(pickle.loads(pickle.dumps(frames)).__dask_tokenize__())
    assert token != repr(other.__dask_tokenize__())
    assert hex(id(frames))[2:] not in token


def test_reprs_are_short_and_say_what_matters(rig, rig_files):
    sheet = lr.open_sheet(rig_files["sheet"])
    reading = lr.read(sheet, rig_files["capture"])
    trace = lr.open_trace(rig_files["capture"], sheet.wire["from_pump"].source)
    shown = {
        repr(sheet): "wires to_pump, from_pump; frames setpoint, status, alarm",
        repr(sheet.frame["status"]): '"status" on from_pump: 16 bytes, marker; fields kind, count, flow',
        repr(lr.plan(sheet)): "clean; ends controller, pump_head; findings none",
        repr(lr.diagnose(trace, sheet.wire["from_pump"].line)): "as-declared",
        repr(lr.measure_frames(reading.frames["status"])): "195 frames, 188 of them good",
        repr(reading.findings[0]): "parity-error on from_pump: 4 times, first at ",
    }
    for text, part in shown.items():
        assert part in text
        assert len(text) < 200
    for one in (lr.plan(sheet), lr.diagnose(trace), lr.measure_frames(reading.frames["status"]), trace):
        assert one._repr_html_().startswith(("<p>", "<table>", "<pre>"))


def test_an_open_file_is_read_wherever_a_path_is_meant(rig_files, tmp_path):
    whole = lr.read(rig_files["sheet"], rig_files["capture"])
    with rig_files["sheet"].open("rb") as sheet, rig_files["capture"].open("rb") as capture:
        reading = lr.read(sheet, capture)
    assert (reading.verdict, len(reading.findings)) == (whole.verdict, len(whole.findings))
    assert reading.capture == str(rig_files["capture"])
    packed = io.BytesIO(rig_files["capture"].read_bytes())
    assert lr.capture.signal_names(packed) == ["rig.controller_tx", "rig.pump_tx"]
    written = io.BytesIO()
    trace = lr.open_trace(rig_files["capture"], "rig.pump_tx")
    lr.write_vcd(written, {"pump_tx": trace})
    written.seek(0)
    assert np.array_equal(lr.open_trace(written, "pump_tx").edges, trace.edges)
    with pytest.raises(lr.CaptureError, match="BytesIO is empty"):
        lr.capture.signal_names(io.BytesIO())
    with pytest.raises(lr.RequestError, match="is open as text"):
        lr.capture.signal_names(io.StringIO("x"))


def test_standard_input_is_read_wherever_a_file_is_meant(shell, rig_files, monkeypatch):
    def pipe(path):
        monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(path.read_bytes())))

    pipe(rig_files["capture"])
    status, out, _ = shell("decode", rig_files["sheet"], "-")
    assert (status, out.split(" read as")[0]) == (1, "standard input")
    pipe(rig_files["sheet"])
    assert shell("plan", "-")[0] == 0
    pipe(rig_files["sheet"])
    status, _, err = shell("decode", "-", "-")
    assert (status, "can be read once" in err) == (2, True)
