import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.csv_characters import write_character_pieces
from larkreader.capture.files.open import open_capture
from larkreader.capture.files.time_order import OutOfOrderError, in_order_of_time

LEVELS = """# made by hand
time_us, tx, rx
0,      1,  x
10.5,   0,
20,     ,   1
20.25,  1,  0
30,     ,   z
40,     ,
"""


def test_level_changes_are_read_by_column(tmp_path):
    path = tmp_path / "levels.csv"
    path.write_text(LEVELS)
    tx, rx = lr.open_trace(path, "tx"), lr.open_trace(path, "rx")
    assert tx.edges_s == pytest.approx([10.5e-6, 20.25e-6], abs=1e-12)
    assert (tx.first_level, tx.end_s) == (1, pytest.approx(40e-6))
    assert rx.edges_s == pytest.approx([20.25e-6], abs=1e-12)
    assert (rx.unknown * rx.tick_s).tolist() == [pytest.approx([0, 20e-6]), pytest.approx([30e-6, 40e-6])]


@pytest.mark.parametrize(
    ("head", "separator", "unit"),
    [
        ("Time [s],tx,rx", ",", 1),
        ("Zeit [us];tx;rx", ";", 1e6),
        ("time(ms);tx;rx", ";", 1e3),
        ("t_us\ttx\trx", "\t", 1e6),
        ('"Timestamp [\u00b5s]","tx","rx"', ",", 1e6),
        ("# recorded on the bench\n\ntime_ns, tx, rx", ", ", 1e9),
    ],
)
@pytest.mark.parametrize("sampled", [False, True])
def test_a_table_of_levels_is_read_whatever_its_form(tmp_path, head, separator, unit, sampled):
    """A row a change or a row a sample; a decimal comma where commas do not stand between cells."""
    line = lr.LineSettings.parse("1000 8N1")
    sent = lr.transmit(b"flow", line)
    times = np.arange(0, sent.end_s, 1 / 20_000) if sampled else np.concatenate([[0], sent.edges_s, [sent.end_s]])
    levels = (1 + np.searchsorted(sent.edges_s, times, side="right")) % 2
    rows = [f"{at * unit:.9f}".rstrip("0").rstrip(".") for at in times]
    if separator.strip() != ",":
        rows = [one.replace(".", ",") for one in rows]
    path = tmp_path / "export.txt"
    body = [separator.join([at, str(level), "1"]) for at, level in zip(rows, levels, strict=True)]
    path.write_text("\n".join([head, *body, ""]), encoding="utf-8-sig")
    with CaptureFile(path) as file:
        assert file.kind == "levels"
    assert lr.capture.signal_names(path) == ["tx", "rx"]
    assert bytes(lr.receive(lr.open_trace(path, "tx"), line).value.astype("u1")) == b"flow"
    assert len(lr.open_trace(path, "rx")) == 0


def test_level_changes_written_read_back_the_same(tmp_path, rig):
    path = tmp_path / "levels.csv"
    lr.capture.write_levels(path, rig.traces)
    with CaptureFile(path) as file:
        assert file.kind == "levels"
    for name, trace in rig.traces.items():
        read = lr.open_trace(path, name)
        assert np.array_equal(np.rint(read.edges_s / trace.tick_s), trace.edges)
        assert (read.first_level, round(read.end_s, 9)) == (trace.first_level, round(trace.end_s, 9))


def test_characters_written_read_back_the_same(tmp_path, rig):
    characters = lr.receive(rig.traces["rig.pump_tx"], rig.sheet.wire["from_pump"].line)
    path = tmp_path / "characters.csv"
    lr.capture.write_characters(path, {"from_pump": characters})
    assert path.read_text().splitlines()[0] == "begin_s,end_s,wire,value,faults"
    read = open_capture(path, {"from_pump": "x", "to_pump": "y"})
    assert list(read) == ["from_pump"]
    for column in lr.Characters.COLUMNS:
        assert np.allclose(read["from_pump"].column(column), characters.column(column), atol=1e-11)


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("a.csv", "time_s,tx\n0,1\n1,up\n", 'row 3, column tx has "up". It must be 0, 1, x, z or empty.'),
        ("a.csv", "time_s,tx\n0,1\nsoon,0\n", 'row 3, column time_s has "soon". It must be a number.'),
        ("a.csv", "time_s,tx\n1,1\n0,0\n", "row 3 goes back in time."),
        ("a.csv", "time_s,tx\n", "has a header but no rows."),
        ("a.csv", "time_s,rx\n0,1\n", 'signal "tx" is not a column of the file. There is: rx.'),
        ("a.csv", "begin_s,end_s,wire,value,faults\n0,1,tx,512,\n", "row 2 has the value 512. It must be 0 to 511."),
        ("a.csv", "begin_s,end_s,wire,value,faults\n0,1,tx,5,pairty\n", 'has "pairty". Did you mean "parity"?'),
        (
            "a.csv",
            "begin_s,end_s,wire,value,faults\n0,1,other,5,\n",
            "holds the wires other. It must hold one of tx.",
        ),
        ("a.csv", "a,b\n1,2\n", "does not show what kind of capture it is"),
        ("a.vcd", "hello\n", 'is not a VCD file: it begins with "hello'),
        ("a.vcd", "", "is empty. Was anything recorded?"),
        ("a.bin", "", "is empty. Was anything recorded?"),
        ("nowhere.vcd", None, "does not exist."),
    ],
)
def test_a_file_that_cannot_be_read_is_told(tmp_path, name, content, message):
    path = tmp_path / name
    if content is not None:
        path.write_text(content)
    with pytest.raises(lr.CaptureError) as caught:
        open_capture(path, {"tx": "tx"})
    assert message in str(caught.value)
    assert isinstance(caught.value, ValueError)


def test_a_file_of_bytes_needs_to_know_its_wire(rig_files, rig):
    signals = {key: wire.source for key, wire in rig.sheet.wire.items()}
    with pytest.raises(lr.RequestError, match="Name the wire: to_pump, from_pump"):
        open_capture(rig_files["delivered"], signals)
    read = open_capture(rig_files["delivered"], signals, wire="from_pump")["from_pump"]
    assert read.value.astype(np.uint8).tobytes() == rig.delivered
    assert not read.has_times
    assert not read.has_line


TIMES = st.lists(st.integers(0, 9), max_size=12)


@given(
    st.lists(st.dictionaries(st.sampled_from("ab"), TIMES, max_size=2), min_size=1, max_size=5),
    st.sampled_from(["in order", "any", "none"]),
)
def test_characters_that_are_written_piece_by_piece_make_the_same_table(pieces, times):
    """Or they are refused, where a piece is earlier than what was written."""
    made, begin = [], 0.0
    for piece in pieces:
        made.append({})
        for wire, steps in piece.items():
            at_s = begin + np.array(sorted(steps) if times == "in order" else steps, np.float64)
            at_s = np.full(len(steps), np.nan) if times == "none" else at_s
            value = np.arange(len(steps), dtype=np.uint16)
            made[-1][wire] = lr.Characters(at_s, at_s + 0.5, value, np.zeros(len(steps), np.uint8), np.empty(0))
        begin += 9 if times == "in order" else 0  # the last of a piece may be as late as the first of the next
    wires = dict.fromkeys(wire for piece in made for wire in piece)
    whole = {wire: lr.Characters.joined([piece[wire] for piece in made if wire in piece]) for wire in wires}
    expected, found = io.BytesIO(), io.BytesIO()
    lr.capture.write_characters(expected, whole)
    try:
        write_character_pieces(found, in_order_of_time(made))
    except OutOfOrderError:
        assert len(whole) > 1
        assert times != "in order"
    else:
        assert found.getvalue() == expected.getvalue()
