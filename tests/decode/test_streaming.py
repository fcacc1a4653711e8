import tracemalloc
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import damaged_streams, layouts

import larkreader as lr
from larkreader.demo.rig import rig_sheet

STATUS = rig_sheet().frame["status"]
LINE = lr.LineSettings.parse("57600 8E1")


def in_pieces(data, declared, places):
    """Return what a reader gives for the data cut at some places, put together: columns by layout, and stretches."""
    reader = lr.decode.LayoutsReader(declared)
    cuts = sorted({0, len(data), *places})
    parts = [reader.feed(data[low:high]) for low, high in pairwise(cuts)] + [reader.close()]
    return table_of(parts, declared)


def table_of(parts, declared):
    shown = {}
    for layout in declared:
        frames = [part[layout.key] for part in parts]
        shown[layout.key] = [
            (int(offset), None if np.isnan(begin_s) else float(begin_s), int(faults), row.tobytes())
            for one in frames
            for offset, begin_s, faults, row in zip(one.offset, one.begin_s, one.faults, one.data, strict=True)
        ]
    spans = [next(iter(part.values())).skipped for part in parts]
    shown["skipped"] = [
        span for one in spans for span in zip(*(one.column(name).tolist() for name in one.COLUMNS), strict=True)
    ]
    return shown


@given(st.data())
def test_pieces_give_what_the_whole_gives_however_it_is_cut(data):
    layout = data.draw(layouts())
    stream = data.draw(damaged_streams(layout))
    places = data.draw(st.lists(st.integers(0, len(stream)), max_size=12))
    whole = table_of([lr.read_layouts(stream, [layout])], [layout])
    assert in_pieces(stream, [layout], places) == whole
    assert in_pieces(stream, [layout], range(len(stream))) == whole


@given(st.data())
def test_a_frame_is_out_as_soon_as_what_is_there_decides_it(data):
    """What came byte by byte has shown the frames that the same bytes show when they come at once."""
    layout = data.draw(layouts())
    stream = data.draw(damaged_streams(layout))
    reader, out = lr.FrameReader(layout), []
    for count in range(1, len(stream) + 1):
        out += reader.feed(stream[count - 1 : count]).offset.tolist()
        assert out == lr.FrameReader(layout).feed(stream[:count]).offset.tolist()


@given(st.data())
def test_pieces_of_several_layouts_give_what_the_whole_gives(data):
    """Two layouts of one marker, of which one is longer and may hold the other, and one of another marker."""
    one = data.draw(layouts())
    marker = {"kind": "marker", "marker": one.marker.hex()}
    fields = [{"name": "kind", "type": "uint8", "equals": data.draw(st.sampled_from([0, one.marker[0]]))}]
    two = lr.FrameLayout(key="two", boundary=marker, fields=fields)
    other = {"kind": "marker", "marker": data.draw(st.sampled_from(["00", "FF", one.marker.hex() + "00"]))}
    three = lr.FrameLayout(key="three", boundary=other, fields=[*fields, {"name": "x", "type": "uint16"}])
    declared = data.draw(st.permutations([one, two, three]))
    parts = [data.draw(damaged_streams(data.draw(st.sampled_from(declared)))) for _ in range(3)]
    stream = b"".join(parts)
    places = data.draw(st.lists(st.integers(0, len(stream)), max_size=12))
    whole = table_of([lr.read_layouts(stream, declared)], declared)
    assert in_pieces(stream, declared, places) == whole
    assert in_pieces(stream, declared, range(len(stream))) == whole


SEVERAL = [
    {"kind": "marker", "marker": "A5"},
    {"kind": "marker", "marker": "A5 5A"},
    {"kind": "slip"},
    {"kind": "cobs"},
    {"kind": "hdlc"},
    {"kind": "terminator", "terminator": "\r\n"},
]


@given(
    st.sampled_from(SEVERAL),
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 0xFFFF), st.integers(0, 9)), min_size=2, max_size=9),
    st.booleans(),
    st.permutations(range(4)),
)
def test_frames_of_several_layouts_byte_by_byte(boundary, sent, has_checksum, order):
    """Told apart by a kind or not, of one length or not, in any order, a byte lost or changed now and then."""
    check = [{"name": "crc", "type": "checksum"}] if has_checksum else []
    extra = {"checksum": {"algorithm": "CRC-16/MODBUS"}} if has_checksum else {}
    kinds = [{"name": "kind", "type": "uint8", "equals": number} for number in (1, 2)] + [
        {"name": "kind", "type": "uint8"}
    ]
    fields = [[kinds[0], "uint16"], [kinds[1], "uint16"], [kinds[1], "uint8"], [kinds[2], "uint16"]]
    declared = [
        lr.FrameLayout(key=f"l{n}", boundary=boundary, fields=[kind, {"name": "v", "type": of}, *check], **extra)
        for n, (kind, of) in enumerate(fields)
    ]
    stream = b""
    for number, value, damage in sent:
        layout = declared[number]
        frame = layout.as_sent(
            layout.encode({"v": value & (0xFF if number == 2 else 0xFFFF)} | ({"kind": 7} if number == 3 else {}))
        )
        place = value % len(frame)
        stream += frame[:place] + frame[place + 1 :] if damage == 9 else frame
    declared = [declared[number] for number in order]
    whole = table_of([lr.read_layouts(stream, declared)], declared)
    assert in_pieces(stream, declared, range(len(stream))) == whole
    reader, out = lr.decode.LayoutsReader(declared), []
    for count in range(1, len(stream) + 1):
        found = reader.feed(stream[count - 1 : count])
        out += [(name, offset) for name, frames in found.items() for offset in frames.offset.tolist()]
        if count % 3 == 0:
            fresh = lr.decode.LayoutsReader(declared).feed(stream[:count])
            assert sorted(out) == sorted((name, at) for name, frames in fresh.items() for at in frames.offset.tolist())


@given(st.data())
def test_pieces_of_characters_keep_times_and_faults(data):
    stream = data.draw(damaged_streams(STATUS)) + b"\x00"
    faults = data.draw(st.lists(st.sampled_from([0, 0, 0, int(lr.Fault.PARITY)]), min_size=1, max_size=20))
    bad = np.resize(faults, len(stream))
    characters = lr.receive(lr.transmit(stream, LINE, faults=bad), LINE)
    places = data.draw(st.lists(st.integers(0, len(characters)), max_size=12))
    assert in_pieces(characters, [STATUS], places) == table_of([lr.read_layouts(characters, [STATUS])], [STATUS])


@given(st.binary(max_size=40), st.lists(st.integers(0, 40), max_size=12))
def test_pieces_of_frames_of_fixed_length(stream, places):
    layout = lr.FrameLayout(key="f", boundary={"kind": "fixed"}, fields=[{"name": "a", "type": "uint24"}])
    places = [min(place, len(stream)) for place in places]
    assert in_pieces(stream, [layout], places) == table_of([lr.read_layouts(stream, [layout])], [layout])


def test_a_frame_with_a_right_checksum_comes_out_with_its_last_byte():
    reader = lr.FrameReader(STATUS)
    for frame in (STATUS.encode({"count": number}) for number in range(3)):
        assert len(reader.feed(frame[:-1])) == 0
        assert len(reader.feed(frame[-1:])) == 1


@pytest.mark.parametrize("filling", [b"\x00", STATUS.marker, STATUS.marker[:1]])
def test_what_never_becomes_a_frame_is_not_kept(filling):
    """Four megabytes without a boundary, or of nothing but markers, are held in less than one."""
    reader, piece, skipped = lr.FrameReader(STATUS), filling * (65536 // len(filling)), 0
    reader.feed(piece)
    tracemalloc.start()
    before, _ = tracemalloc.get_traced_memory()
    for _ in range(63):
        skipped += int(reader.feed(piece).skipped.length.sum())
    kept, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert kept - before < 1 << 16
    assert skipped + int(reader.close().skipped.length.sum()) <= 64 * 65536


def test_a_closed_reader_takes_nothing_more():
    reader = lr.FrameReader(STATUS)
    reader.feed(STATUS.encode({"count": 1}))
    assert len(reader.close()) == 0
    assert not len(reader.close().skipped)
    with pytest.raises(lr.RequestError, match="reader is closed"):
        reader.feed(b"")
    with pytest.raises(lr.RequestError, match="layouts are none"):
        lr.decode.LayoutsReader([])
