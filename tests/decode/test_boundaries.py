"""Frames behind boundaries of every kind: against slow references, in any pieces, and back from what was encoded."""

import tracemalloc
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from random_layouts import RandomLayout
from reference import slow_cobs, slow_fit, slow_packets, slow_unstuffed, slow_varying
from strategies import BOUNDARIES, examples, varying_layouts, varying_values
from streams import arrived, damaged, sent

import larkreader as lr


def table_of(parts):
    frames = [
        (int(offset), int(length), int(faults), row.tobytes())
        for one in parts
        for offset, length, faults, row in zip(one.offset, one.length, one.faults, one.data, strict=True)
    ]
    spans = [one.skipped for one in parts]
    return frames, [
        row for one in spans for row in zip(*(one.column(name).tolist() for name in one.COLUMNS), strict=True)
    ]


def in_pieces(data, layout, places):
    reader = lr.FrameReader(layout)
    cuts = sorted({0, len(data), *places})
    return table_of([*(reader.feed(data[low:high]) for low, high in pairwise(cuts)), reader.close()])


@pytest.mark.parametrize("family", BOUNDARIES)
@examples(0.7)
@given(data=st.data())
def test_what_was_encoded_comes_back(family, data):
    """Every value of every frame, whatever its fields and its boundary are."""
    layout = data.draw(varying_layouts(family))
    values = [data.draw(varying_values(layout)) for _ in range(data.draw(st.integers(1, 3)))]
    try:
        frames = [layout.encode(one) for one in values]
    except lr.RequestError:  # longer than the boundary lets a frame be
        return
    if family == "terminator" and any(end in frame + end[:-1] for frame in frames for end in layout.boundary.every):
        return  # a frame that holds the terminator cannot be sent
    read = lr.read_frames(arrived(layout, sent(layout, frames)), layout)
    if family == "marker" and layout.checksum is None:
        return  # without a checksum a marker inside a frame may begin one
    if family == "end marker" and [row.tobytes() for row in read.data] != frames:
        assert layout.checksum is None  # an end followed by a marker inside a frame may end it
        return
    assert [row.tobytes() for row in read.data] == frames
    assert not (read.faults & ~lr.FrameFault.UNKNOWN_VALUE).any()
    for name, slot in layout.slot.items():
        column, (group, _, member) = read[name], name.partition(".")
        for row, one in enumerate(values):
            if name in ("size", "crc"):
                continue
            wanted = one.get(name)
            if member:
                wanted = [item for turn in one[group] for item in np.atleast_1d(turn[member]).tolist()]
            if wanted is None:
                assert column[row] is np.ma.masked
            elif slot.kind == "text":
                assert column[row] == wanted
            else:
                assert np.array_equal(np.atleast_1d(column[row]), np.atleast_1d(wanted))


@pytest.mark.parametrize("family", BOUNDARIES)
@examples(0.4)
@given(data=st.data())
def test_damaged_streams_are_cut_as_the_slow_way_does_in_any_pieces(family, data):
    """Frames are those of a search of one byte after the other; every byte is in one frame or one skipped stretch."""
    layout = data.draw(varying_layouts(family))
    frames = []
    for _ in range(data.draw(st.integers(0, 4))):
        try:
            frames.append(layout.encode(data.draw(varying_values(layout))))
        except lr.RequestError:
            continue
    rows = damaged(data.draw, sent(layout, frames))
    stream, raw = arrived(layout, rows), bytes(row[0] * (not row[1] or family != "break") for row in rows)
    whole = table_of([lr.read_frames(stream, layout)])
    here = 0
    for offset, length, *_ in sorted([row[:2] for row in whole[0]] + [row[:2] for row in whole[1]]):
        assert offset == here
        here += length
    assert here == len(rows)
    found = [(offset, length) for offset, length, *_ in whole[0]]
    if family in ("marker", "length"):
        assert found == slow_varying(raw, layout)
    elif family != "end marker":
        assert [(offset, length, content) for offset, length, _, content in whole[0]] == delimited(raw, rows, layout)
    assert in_pieces(stream, layout, data.draw(st.lists(st.integers(0, len(rows)), max_size=9))) == whole
    assert in_pieces(stream, layout, range(len(rows))) == whole


def delimited(raw, rows, layout):
    """Return offset, length and content of the packets that fit, one after the other."""
    boundary, wanted = layout.boundary, []
    places = [[place for place, row in enumerate(rows) if row[column]] for column in (3, 1, 2)]
    stuffed = {"cobs": boundary.longest + boundary.longest // 254 + 1}.get(boundary.kind, boundary.longest)
    most = 2 * boundary.longest if boundary.kind in ("slip", "hdlc", "escape") else stuffed
    for offset, length, inner, state in slow_packets(raw, boundary, *places):
        content = inner
        if boundary.kind == "cobs":
            content = slow_cobs(inner)
        elif boundary.kind in ("slip", "hdlc", "escape"):
            content = slow_unstuffed(inner, boundary.stuffing)
        if state != "whole" or len(inner) > most or content is None:
            continue
        splits = split_places(content, layout)
        inner_at = offset + (boundary.kind == "break" and rows[offset][1])
        if boundary.kind == "escape" and not boundary.stuffing.is_closed_by_begin:
            inner_at += len(boundary.stuffing.begin)
        raw_places = [offset, *(inner_at + raw_place(inner, place, boundary) for place in splits), offset + length]
        contents = [content[low:high] for low, high in pairwise([0, *splits, len(content)])]
        for (low, high), part in zip(pairwise(raw_places), contents, strict=True):
            if slow_fit(part, layout)[0]:
                wanted.append((low, high - low, part))
    return wanted


def split_places(content, layout):
    """Return where packets were joined: the longest end that is right, then that of what is before it, and so on."""
    places, end = [], len(content)
    checksum = layout.checksum
    if layout.boundary.kind == "cobs" or checksum is None or checksum.method.width < 16:
        return places
    for _ in range(4):
        if all(slow_fit(content[:end], layout)):
            break
        found = [place for place in range(1, end) if all(slow_fit(content[place:end], layout))]
        if not found:
            break
        places.insert(0, found[0])
        end = found[0]
    return places


def raw_place(inner, place, boundary):
    """Return how many bytes as they came hold the first `place` of a content."""
    stuffing = boundary.stuffing if boundary.kind in ("slip", "hdlc", "escape") else None
    raw = 0
    for _ in range(place):
        raw += 1 + (stuffing is not None and inner[raw] == stuffing.escape)
    return raw


@pytest.mark.parametrize("family", BOUNDARIES)
def test_damage_costs_the_damaged_frame_and_nothing_else(family):
    """One bit of one byte turned, wherever it lies: with a checksum all other frames are there, and right.

    But where a delimiter of consistent overhead byte stuffing is hurt, the frame that it joined is lost too.
    """
    for boundary in BOUNDARIES[family]:
        size = [{"name": "size", "type": "uint8"}] if family == "length" else []
        fields = [
            *size,
            {"name": "kind", "type": "uint8", "equals": 7},
            {"name": "x", "type": "uint8", "repeat": "kind"},
        ]
        fields[-1] = {"name": "x", "type": "uint8", "repeat": "rest" if family != "marker" else "kind"}
        layout = lr.FrameLayout(
            boundary=boundary,
            fields=[*fields, {"name": "crc", "type": "checksum"}],
            checksum={"algorithm": "CRC-16/MODBUS"},
        )
        contents = [layout.encode({"x": [16 + number * 11, 33, 200 - number, 90, 70, 41, 55]}) for number in range(6)]
        lengths = [len(sent(layout, [frame])) for frame in contents]
        begin = sum(lengths[:3])
        for place in range(begin, begin + lengths[3]):
            for bit in (0, 5):
                rows = sent(layout, contents)
                rows[place] = (rows[place][0] ^ 1 << bit, *rows[place][1:])
                read = lr.read_frames(arrived(layout, rows), layout)
                right = {row.tobytes() for row in read[read.faults == 0].data}
                lost = set(contents) - right
                joined = {contents[3], contents[4]} if family == "cobs" else {contents[3]}
                if family == "break" and place == begin:
                    joined = set()  # the value of a break does not matter
                assert lost <= joined, (boundary, place, bit)
                assert right <= set(contents)


def test_boundaries_refuse_a_source_that_does_not_show_them():
    fields = [{"name": "x", "type": "uint8"}]
    idle = lr.FrameLayout(boundary={"kind": "idle", "seconds": 0.002}, fields=fields)
    in_characters = lr.FrameLayout(boundary={"kind": "idle", "characters": 3.5}, fields=fields)
    grouped = lr.Characters.from_groups([(0.0, b"ab", b""), (0.016, b"cd", b"")])
    cases = [
        (idle, b"abc", "boundary is a rest of the line, but the source has no times of its characters"),
        (idle, grouped, "boundary is a rest of 0.002 s, but the source's times have steps of 0.016 s or more"),
        (in_characters, grouped, "the source has no character time"),
        (lr.FrameLayout(boundary={"kind": "break"}, fields=fields), b"abc", "which bytes alone do not show"),
        (lr.FrameLayout(boundary={"kind": "address-mark"}, fields=fields), grouped, "is an address mark, which these"),
    ]
    for layout, data, message in cases:
        with pytest.raises(lr.RequestError, match=message):
            lr.read_frames(data, layout)


def test_stuffing_by_the_examples_of_its_standards():
    """RFC 1055 and RFC 1662 4.2; blocks of 254 and 255 bytes as the paper on consistent overhead stuffing has them."""
    fields = [{"name": "x", "type": "bytes", "repeat": "rest"}]
    for boundary, content, wire in (
        ("slip", "01 C0 DB 02", "01 DB DC DB DD 02 C0"),
        ("hdlc", "7E 7D 03 41", "7E 7D 5E 7D 5D 03 41 7E"),
        ("cobs", "00", "01 01 00"),
        ("cobs", "11 22 00 33", "03 11 22 02 33 00"),
        ("cobs", "11 00 00 00", "02 11 01 01 01 00"),
        ("cobs", "AA " * 254, "FF " + "AA " * 254 + "00"),
        ("cobs", "AA " * 255, "FF " + "AA " * 254 + "02 AA 00"),
        ("cobs", "AA " * 254 + "00 BB", "FF " + "AA " * 254 + "01 02 BB 00"),
    ):
        layout = lr.FrameLayout(boundary={"kind": boundary}, fields=fields)
        frame = bytes.fromhex(content)
        assert layout.as_sent(frame) == bytes.fromhex(wire)
        assert [row.tobytes() for row in lr.read_frames(bytes.fromhex(wire), layout).data] == [frame]


def test_wild_lengths_and_false_markers_cost_no_more_than_others():
    """A quarter of a million markers, each with a length of 4 GB or of 60 KB, are refused in one pass."""
    layout = lr.FrameLayout(
        boundary={"kind": "length-field", "field": "size", "marker": "A5"},
        fields=[
            {"name": "size", "type": "uint32"},
            {"name": "x", "type": "bytes", "repeat": "rest"},
            {"name": "crc", "type": "checksum"},
        ],
        checksum={"algorithm": "CRC-32/ISCSI"},
    )
    good = layout.encode({"x": list(range(40))})
    for wild in ("A5 FF FF FF FF", "A5 60 EA 00 00", "A5 A5 A5 A5 A5"):
        stream = bytes.fromhex(wild) * 50_000 + good + bytes.fromhex(wild) * 50
        read = lr.read_frames(stream, layout)
        assert read[read.faults == 0]["x"].tolist() == [list(range(40))]


def test_layouts_of_one_wire_are_told_apart_and_what_no_layout_declares_is_told():
    def layout(key, kind, extra):
        fields = [{"name": "kind", "type": "uint8", "equals": kind}, *extra]
        return lr.FrameLayout(key=key, boundary={"kind": "slip"}, fields=fields)

    one = layout("one", 1, [{"name": "x", "type": "uint8", "repeat": "rest"}])
    two = layout("two", 2, [{"name": "x", "type": "uint16"}])
    read = lr.read_layouts(bytes.fromhex("C0 01 05 06 C0 02 34 12 C0 03 99 C0 02 34 C0 01 DB 00 C0 01"), [one, two])
    assert (read["one"]["x"].tolist(), read["two"]["x"].tolist()) == ([[5, 6]], [0x1234])
    reasons = [lr.decode.Skip(reason).name for reason in read["one"].skipped.reason]
    assert reasons == ["FILL", "UNDECLARED", "TRUNCATED_FRAME", "BAD_STUFFING", "UNFINISHED"]
    other = lr.FrameLayout(boundary={"kind": "slip", "longest": 9}, fields=[{"name": "x", "type": "uint8"}])
    with pytest.raises(lr.RequestError, match="must be the same"):
        lr.read_layouts(b"", [one, other])


@pytest.mark.parametrize("family", [family for family in BOUNDARIES if family not in ("idle", "break", "address")])
def test_what_never_becomes_a_frame_is_not_kept(family):
    """Two megabytes of one byte after another that ends or begins nothing: less than a hundred kilobytes are held."""
    for boundary in BOUNDARIES[family]:
        size = [{"name": "size", "type": "uint32"}] if family == "length" else []
        layout = lr.FrameLayout(boundary=boundary, fields=[*size, {"name": "x", "type": "uint8", "repeat": 9}])
        for filling in (0x01, 0xA5, 0x10):
            reader, piece = lr.FrameReader(layout), bytes([filling]) * 16384
            reader.feed(piece)
            tracemalloc.start()
            before, _ = tracemalloc.get_traced_memory()
            for _ in range(4):
                reader.feed(piece)
            kept, _ = tracemalloc.get_traced_memory()
            tracemalloc.stop()
            assert kept - before < 100_000, (boundary, filling)


@pytest.mark.parametrize("boundary", [{"kind": "length-field", "field": "size", "longest": 60}, {"kind": "cobs"}])
def test_a_long_stream_without_markers_is_the_same_in_pieces(monkeypatch, boundary):
    layout = lr.FrameLayout(
        boundary=boundary,
        fields=[
            {"name": "size", "type": "uint8"},
            {"name": "x", "type": "bytes", "repeat": "rest"},
            {"name": "crc", "type": "checksum"},
        ],
        checksum={"algorithm": "CRC-32/ISCSI"},
    )
    rng = np.random.default_rng(3)
    given_size = [{"size": size} if boundary["kind"] == "cobs" else {} for size in range(50)]
    frames = [
        layout.encode({**one, "x": rng.integers(0, 256, size).tolist()}) for size, one in enumerate(given_size)
    ] * 8
    stream = bytearray(b"".join(map(layout.as_sent, frames)))
    for place in rng.integers(0, len(stream), 40):
        stream[place] ^= 0x55
    whole = table_of([lr.read_frames(bytes(stream), layout)])
    monkeypatch.setattr("larkreader.decode.cut.frames.PIECE", 257)
    assert table_of([lr.read_frames(bytes(stream), layout)]) == whole
    assert sum(not faults for _, _, faults, _ in whole[0]) >= 350


@pytest.mark.parametrize("boundary", [{"kind": "marker", "marker": "D7"}, {"kind": "fixed"}], ids=["marker", "fixed"])
@pytest.mark.parametrize("checksum", [None, {"algorithm": "CRC-16/MODBUS"}], ids=["bare", "checked"])
def test_a_long_stream_of_frames_of_one_length_is_the_same_in_pieces(monkeypatch, boundary, checksum):
    """Also with markers inside frames, damaged bytes, and stretches that are missing or no frames at all."""
    check = [{"name": "crc", "type": "checksum"}] if checksum else []
    fields = [{"name": "kind", "type": "uint8", "equals": 0x21}, {"name": "x", "type": "uint16", "repeat": 4}, *check]
    boundary = boundary | ({"length": 9 + 2 * bool(checksum)} if boundary["kind"] == "fixed" else {})
    layout = lr.FrameLayout(boundary=boundary, fields=fields, checksum=checksum)
    rng = np.random.default_rng(5)
    values = rng.choice([0xD7D7, 0x21D7, 0x0102], size=(400, 4))
    stream = bytearray(b"".join(layout.encode({"x": row.tolist()}) for row in values))
    for place in rng.integers(0, len(stream), 30):
        stream[place] ^= 0x55
    if boundary["kind"] == "marker":
        del stream[1000:1005]
        stream[2000:2000] = bytes(900)
    characters = lr.Characters.from_bytes(bytes(stream))
    characters.faults[rng.integers(0, len(stream), 20)] = lr.Fault.PARITY
    whole = lr.read_frames(characters, layout)
    monkeypatch.setattr("larkreader.decode.cut.frames.PIECE", 257)
    in_pieces = lr.read_frames(characters, layout)
    assert table_of([in_pieces]) == table_of([whole])
    assert in_pieces["x"].tolist() == whole["x"].tolist()
    assert in_pieces.skipped.reason.tolist() == whole.skipped.reason.tolist()
    assert len(whole) > 300


def test_each_frame_comes_as_a_mapping_as_soon_as_it_is_certain():
    layout = lr.FrameLayout(
        boundary={"kind": "slip"},
        fields=[
            {"name": "kind", "type": "uint8", "names": {"level": 1, "leak": 2}},
            {"name": "place", "type": "uint8", "when": {"kind": "leak"}},
            {"name": "x", "type": "uint8", "repeat": "rest"},
        ],
    )
    shown = []
    reader = lr.FrameReader(layout, shown.append)
    for byte in layout.as_sent(layout.encode({"kind": "leak", "place": 3, "x": [7]})) + b"\x01\x05\xc0":
        reader.feed(bytes([byte]))
    assert shown[0] | {"begin_s": 0} == {
        "offset": 0, "length": 4, "begin_s": 0, "faults": "", "kind": "leak", "place": 3, "x": [7],
    }  # fmt: skip
    assert (shown[1]["offset"], shown[1]["kind"], shown[1]["place"], shown[1]["x"]) == (4, "level", None, [5])


SEEDS = st.integers(0, 1 << 32)


def made(seed):
    try:
        return RandomLayout(seed)
    except ValueError:  # a span of a checksum, or a field within a byte, that no layout may have
        assume(False)


@examples(5)
@given(seed=SEEDS)
def test_frames_are_those_of_an_encoder_of_single_bits_and_come_back_right(seed):
    """Groups with reserved bits and fixed values, none or many of an item, fields at times, checksums in the middle."""
    one = made(seed)
    values = one.values()
    frame = one.encode(values)
    assert one.layout.encode(values) == frame
    layout, kind = one.layout, one.boundary["kind"]
    if (kind == "terminator" and b"\r\n" in frame + b"\r") or (kind == "marker" and frame.count(b"\xa5") != 1):
        return  # cannot be sent so, or may begin in another place
    if not frame:
        return  # nothing is no frame
    read = lr.read_frames(arrived(layout, sent(layout, [frame])), layout)
    if "end" in one.boundary and len(read) != 1:
        assert not one.checksum
        return
    assert [row.tobytes() for row in read.data] == [frame]
    assert not read.faults.any()
    for name, wanted in values.items():
        if name in layout.slot and not isinstance(wanted, list):
            assert read[name][0] == wanted


@examples(5)
@given(seed=SEEDS)
def test_any_few_bytes_raise_nothing_and_are_accounted_for(seed):
    """Up to ten bytes, shorter than a checksum too: every byte is in a frame or skipped, in pieces as in a whole."""
    one = made(seed)
    for turn in range(5):
        rows = [(byte, *(one.random.random() < 0.2 for _ in range(3))) for byte in one.stretch()]
        data = arrived(one.layout, rows)
        whole = table_of([lr.read_frames(data, one.layout)])
        assert sum(row[1] for row in (*whole[0], *whole[1])) == len(rows)
        if not turn:
            assert in_pieces(data, one.layout, range(len(rows))) == whole


REST = {"name": "v", "type": "uint8", "repeat": "rest"}


@pytest.mark.parametrize(
    ("boundary", "fields", "sound", "stretch"),
    [
        ({"kind": "slip"}, [REST], b"\x01\x02\x03", b"\x41\x42\xc0"),
        (
            {"kind": "cobs"},
            [{"name": "n", "type": "uint8"}, REST | {"repeat": "n"}],
            b"\x01\x09",
            b"\x01\x03\xff\xff\x00",
        ),
    ],
)
def test_a_stretch_too_short_for_its_checksum_ends_no_reading(boundary, fields, sound, stretch):
    fields = [*fields, {"name": "crc", "type": "checksum"}]
    layout = lr.FrameLayout(boundary=boundary, fields=fields, checksum={"algorithm": "CRC-16/MODBUS"})
    frames = layout.as_sent(layout.encode({"v": list(sound)})) * 50
    reader = lr.FrameReader(layout)
    good = reader.feed(frames)
    assert good.faults.tolist() == [0] * 50
    parts = [reader.feed(stretch), reader.feed(frames), reader.close()]
    assert sum(np.count_nonzero(one.faults == 0) for one in parts) == 50


@pytest.mark.parametrize(("last", "frames"), [("", [(0, 3)]), ("A5 01 02 5A", [(0, 3), (5, 4)])])
def test_end_markers_beyond_the_longest_frame_do_not_count(last, frames):
    """The end at 5 makes a frame of 5 bytes, which is longer than 4; so the frame ends at 3."""
    boundary = {"kind": "marker", "marker": "A5", "end": "5A", "longest": 4}
    layout = lr.FrameLayout(boundary=boundary, fields=[REST])
    data = bytes.fromhex("A5 01 5A 02 5A" + last)
    whole = table_of([lr.read_frames(data, layout)])
    assert [row[:2] for row in whole[0]] == frames
    assert in_pieces(data, layout, range(len(data))) == whole


@examples(2)
@given(seed=SEEDS)
def test_frame_after_frame_byte_by_byte_gives_what_the_whole_gives_and_none_too_late(seed):
    """Frames of the forms that a reader has seen and of new ones, a few of them damaged."""
    one = made(seed)
    layout, random = one.layout, one.random
    rows = []
    for _ in range(random.randrange(2, 9)):
        frame = sent(layout, [one.encode(one.values())])
        if random.random() < 0.2:
            place = random.randrange(len(frame) + 1)
            damaged = [(random.randrange(256), False, False, False)] * random.randrange(2)
            frame = frame[:place] + damaged + frame[place + 1 :]
        rows += frame
    data = arrived(layout, rows)
    whole = table_of([lr.read_frames(data, layout)])
    assert in_pieces(data, layout, range(len(rows))) == whole
    reader, out = lr.FrameReader(layout), []
    for count in range(1, len(rows) + 1):
        out += reader.feed(data[count - 1 : count]).offset.tolist()
        if random.random() < 0.2:
            assert out == lr.FrameReader(layout).feed(data[:count]).offset.tolist()
