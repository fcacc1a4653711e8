"""Tables as text: what any reader of comma-separated text reads is what was written, in as few digits as do."""

import csv
import struct

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.csv_text import Choice, write_csv

DECIMALS = st.builds(lambda number, places: number / 10**places, st.integers(-(10**15), 10**15), st.integers(0, 12))
FLOATS = DECIMALS | st.floats(allow_nan=False, allow_infinity=False)
TEXTS = st.text(st.characters(blacklist_categories=["Cs"]), max_size=12)
WHOLE = {np.uint8: 255, np.int16: 2**15 - 1, np.uint32: 2**32 - 1, np.int64: 2**63 - 1, np.uint64: 2**64 - 1}


@st.composite
def tables(draw):
    """Return columns of every kind with their rows as text should give them back."""
    count = draw(st.integers(1, 20))

    def rows_of(values):
        return draw(st.lists(values, min_size=count, max_size=count))

    columns, wanted = [], []
    for kind, high in WHOLE.items():
        low = -high - 1 if np.dtype(kind).kind == "i" else 0
        values = rows_of(st.integers(low, high) | st.sampled_from([low, high, 0]) | st.integers(0, min(high, 10**5)))
        columns.append(np.array(values, dtype=kind))
        wanted.append([str(value) for value in values])
    floats = rows_of(FLOATS)
    columns.append(np.array(floats))
    wanted.append(floats)
    narrow = np.array(rows_of(st.floats(width=32, allow_nan=False, allow_infinity=False)), dtype=np.float32)
    columns.append(narrow)
    wanted.append(narrow.astype(str).astype(float).tolist())
    texts = rows_of(TEXTS)
    columns += [np.array(texts, dtype=object), Choice.of(np.array([len(text) for text in texts]), "{}, long".format)]
    wanted += [texts, [f"{len(text)}, long" for text in texts]]
    flags, absent = rows_of(st.booleans()), rows_of(st.booleans())
    columns.append(np.ma.MaskedArray(flags, absent))
    wanted.append(["" if is_absent else str(flag) for flag, is_absent in zip(flags, absent, strict=True)])
    items = rows_of(st.lists(st.integers(-(10**9), 10**9), max_size=4))
    columns.append(lr.capture.Ragged.of(items, np.int64))
    wanted.append([" ".join(map(str, row)) for row in items])
    return columns, wanted


def read_back(path):
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.reader(file))


@given(tables())
def test_what_was_written_is_read_back(tmp_path_factory, table):
    columns, wanted = table
    path = tmp_path_factory.mktemp("csv") / "a.csv"
    write_csv(path, [f"c{place}" for place in range(len(columns))], [columns])
    _, *rows = read_back(path)
    for cells, values in zip(zip(*rows, strict=True), wanted, strict=True):
        if isinstance(values[0], float):
            assert [struct.pack("d", float(cell)) for cell in cells] == [struct.pack("d", value) for value in values]
            plain = [(cell, value) for cell, value in zip(cells, values, strict=True) if "e" not in repr(value)]
            assert all(len(cell) <= len(repr(value)) for cell, value in plain)
        else:
            assert list(cells) == values


def test_numbers_that_are_none_are_empty(tmp_path):
    values = np.array([np.nan, np.inf, -0.0, 1e-7, 5e300, 0.1 + 0.2])
    write_csv(tmp_path / "a.csv", ["wide", "narrow"], [[values, np.float32([0.1, np.nan, 16777216, 1.5, 1e-9, 3])]])
    wide, narrow = zip(*read_back(tmp_path / "a.csv")[1:], strict=True)
    assert wide == ("", "inf", "-0.0", "0.0000001", "5e+300", "0.30000000000000004")
    assert narrow == ("0.1", "", "16777216.0", "1.5", "0.000000001", "3.0")


def test_sources_are_merged_in_the_order_asked_for(tmp_path):
    """More rows than are written at a time, of two sources with different columns, and one very long text."""
    count = 50_000
    early, late = np.arange(count) * 2, np.arange(count) * 2 + 1
    texts = np.full(count, "on", dtype=object)
    texts[40_000] = "x" * 100_000
    order = np.argsort(np.concatenate([late, early]), kind="stable")
    write_csv(tmp_path / "a.csv", ["n", "text", "level"], [[late, texts, None], [early, None, early / 4]], order)
    _, *rows = read_back(tmp_path / "a.csv")
    assert [int(row[0]) for row in rows] == list(range(2 * count))
    assert [row[1] for row in rows[1::2]] == texts.tolist()
    assert [float(row[2]) for row in rows[::2]] == (early / 4).tolist()
    assert {row[2] for row in rows[1::2]} == {row[1] for row in rows[::2]} == {""}
