"""C from the sheet: compiled, and compared with the codec and the reader that it repeats."""

import json
import random
import re
import shutil
import subprocess
import tempfile
from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest
from emitted import WARNINGS, Emitted, events_of, expected_members, tokens_of
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from strategies import BOUNDARIES, layouts, values_of, varying_layouts, varying_values
from streams import SPECIAL, arrived, sent

import larkreader as lr

needs_compiler = pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no C compiler")
RIG = Path(str(files("larkreader") / "data" / "rig.toml"))
STREAMS = 20  # for each wire: to compile it takes longer than to run all of them
FAMILIES = [*BOUNDARIES, "fixed marker", "fixed"]


@st.composite
def judged(draw, layout):
    """Give some fields what is judged of them: names, a range, values that mean nothing, a scale, a fixed value."""
    fields = [entry.model_dump(exclude_defaults=True, by_alias=True) for entry in layout.fields]
    deciding = {"n", "k", "size"}
    for field in fields:
        if field.get("name", "crc") in (*deciding, "crc") or field["type"].rstrip("0123456789") not in ("uint", "int"):
            continue
        bits = int(field["type"].lstrip("uint"))
        some = st.integers(0, min((1 << bits - 1) - 1, 200))
        what = draw(st.sampled_from(["nothing", "nothing", "range", "scaled", "names", "invalid", "equals"]))
        if what == "range":
            field["range"] = (-draw(some) - 1, draw(some))
        elif what == "scaled":
            field |= {"scale": draw(st.sampled_from([0.1, -0.25, 3])), "offset": draw(st.sampled_from([0, -2.5]))}
            field["range"] = (-draw(some) - 1, draw(some))
        elif what == "names":
            field["names"] = {f"name{value}": value for value in draw(st.sets(some, min_size=1, max_size=3))}
        elif what == "invalid":
            field |= {"invalid": (draw(some),), "range": (0, 3)}
        elif what == "equals":
            field["equals"] = draw(some)
    return lr.FrameLayout(boundary=layout.boundary, packing=layout.packing, fields=fields, checksum=layout.checksum)


@st.composite
def wires(draw):
    """Make the layouts of one wire: of any kind of boundary, sometimes several."""
    family = draw(st.sampled_from(FAMILIES))
    if family in BOUNDARIES:
        first = draw(varying_layouts(family))
    else:
        first = draw(layouts())
        if family == "fixed":
            first = lr.FrameLayout(
                boundary={"kind": "fixed"}, packing=first.packing, fields=first.fields, checksum=first.checksum
            )
    first = draw(judged(first))
    several = [first]
    for number in range(draw(st.sampled_from([0, 0, 1, 2])) if family != "fixed" else 0):
        other = draw(varying_layouts(family) if family in BOUNDARIES else layouts())
        boundary = first.boundary
        if boundary.is_marked and draw(st.booleans()):
            boundary = boundary.model_copy(update={"marker": draw(st.sampled_from(["A5", "A5 A5", "00", "5A"]))})
        fields = [*other.fields]
        fields.insert(draw(st.sampled_from([0, 0, len(fields)])), {"name": "kind", "type": "uint8", "equals": number})
        try:
            several.append(
                lr.FrameLayout(boundary=boundary, packing=other.packing, fields=fields, checksum=other.checksum)
            )
        except ValueError:  # its fields do not fit behind that boundary
            continue
    return [layout.model_copy(update={"key": f"x{place}"}) for place, layout in enumerate(several)]


def frames_of(draw, layout, family_values):
    found = []
    for _ in range(draw(st.integers(1, 3))):
        values = draw(family_values(layout))
        fixed = {name for name, slot in layout.slot.items() if slot.field.equals is not None}
        try:
            found.append(layout.encode({name: value for name, value in values.items() if name not in fixed}))
        except lr.RequestError:
            continue
    return found


def values_for(layout):
    return varying_values if "n" in layout.slot and "k" in layout.slot else values_of


def a_stream(rng, pieces):
    """Mix frames, damage them, and put sound ones inside and across others; as bytes, or with faults of characters."""
    layout = pieces[0][0]
    rows = []
    for _ in range(rng.randrange(1, 5)):
        layout, frames = rng.choice(pieces)
        for frame in rng.sample(frames, len(frames)):
            rows += sent(layout, [frame]) if rng.random() < 0.8 else without_delimiter(layout, frame)
    for _ in range(rng.choice([0, 0, 1, 2])):
        layout, frames = rng.choice(pieces)
        place, inner = rng.randrange(len(rows) + 1), sent(layout, frames[:1])
        rows[place : place + len(inner)] = inner
    for _ in range(rng.choice([0, 1, 2, 4])):
        place, what = (
            rng.randrange(len(rows) + 1),
            rng.choice(["change", "lose", "insert", "cut", "odd", "marker", "escape"]),
        )
        if what == "change" and place < len(rows):
            rows[place] = (rng.randrange(256), *rows[place][1:])
        elif what == "lose":
            del rows[place : place + rng.randrange(1, 6)]
        elif what == "insert":
            rows[place:place] = [(rng.randrange(256), False, False, False) for _ in range(rng.randrange(1, 5))]
        elif what == "cut":
            del rows[rng.randrange(max(place, 1)) if rng.random() < 0.5 else place :]
        elif what == "escape" and layout.boundary.stuffing:
            rows[place:place] = [(layout.boundary.stuffing.escape, False, False, False)]
        elif what == "odd":
            rows[place:place] = [(rng.choice(SPECIAL), *(rng.random() < 0.5 for _ in range(3)))]
        else:
            ends = layout.marker[: rng.randrange(1, 4)] + layout.end_marker * rng.randrange(5)
            rows[place:place] = [(byte, False, False, False) for byte in ends]
    return with_faults(rng, arrived(layout, rows))


def without_delimiter(layout, frame):
    """Return a frame as it travels without the delimiter that parts it from the next, or from the one before."""
    rows, boundary = sent(layout, [frame]), layout.boundary
    if boundary.opened_by:
        return [(value, False, False, False) for value, *_ in rows[boundary.kind == "break" :]]
    if boundary.is_delimited:
        return rows[: -len(boundary.as_sent(b"")) if boundary.stuffing is None else -len(boundary.stuffing.end)]
    return rows


def with_faults(rng, stream):
    """Make some characters faulty, as a receiver flags them."""
    if rng.random() < 0.5:
        return stream
    if isinstance(stream, bytes):
        begin_s = np.arange(len(stream), dtype=float)
        values, faults = np.frombuffer(stream, np.uint8).astype(np.uint16), np.zeros(len(stream), np.uint8)
        stream = lr.Characters(begin_s, begin_s + 1, values, faults, np.empty(0))
    faults = stream.faults.copy()
    for _ in range(rng.randrange(4) if len(faults) else 0):
        place = rng.randrange(len(faults))
        faults[place] = faults[place] or int(lr.Fault.PARITY)
    return lr.Characters(
        stream.begin_s, stream.end_s, stream.value, faults, np.empty(0), address_mark=stream.address_mark
    )


def compare(draw, some, folder, streams=STREAMS, **built):
    """Compile the layouts of some wires, and compare everything that is emitted for them."""
    emitted = Emitted(some, folder, **built)
    rng = random.Random(draw(st.integers(0, 1 << 32)))
    for number, named in enumerate(emitted.wires):
        pieces = [(layout, frames_of(draw, layout, values_for(layout))) for layout in named]
        base = sum(len(layouts) for layouts in emitted.wires[:number])
        for layout, frames in pieces:
            for frame in frames:
                check_frame(emitted, layout, frame)
        for _ in range(streams):
            check_stream(emitted, number, base, a_stream(rng, pieces))
    emitted.run()


def check_stream(emitted, number, base, stream):
    named = emitted.wires[number]
    wanted, skipped = events_of(stream, named)

    def check(events, counters):
        assert [rebased(event, base) for event in events] == wanted, (named, stream)
        assert counters[2:] == [skipped, 0]
        assert counters[0] + counters[1] == sum(event.startswith("F") for event in wanted)

    emitted.ask_parse(number, tokens_of(stream, named), check)


def rebased(event, base):
    """Return an event with the number of its layout counted within its wire."""
    if event.startswith("S"):
        return event
    head, offset, taken, which, *rest = event.split(":")
    return ":".join([head, offset, taken, str(int(which) - base), *rest])


def check_frame(emitted, layout, frame):
    def check(faults, packed, members):
        assert members == expected_members(layout, frame), (layout, frame.hex())
        assert packed == frame, (layout, frame.hex())

    emitted.ask_unpack(layout.key, frame, check)


@needs_compiler
@settings(
    max_examples=max(settings.default.max_examples // 3, 4), phases=[Phase.explicit, Phase.reuse, Phase.generate]
)  # to shrink, every attempt would be compiled
@given(data=st.data())
def test_emitted_c_reads_and_writes_as_the_sheet_is_read(data):
    """Pack equals encode, unpack equals decode, and the parser gives the same frames, faults and skipped bytes."""
    some = [data.draw(wires()) for _ in range(6)]
    ways = {"checksums": data.draw(st.sampled_from(["table", "bits"]))}
    ways["values"] = data.draw(st.sampled_from([None, "float", "double"]))
    with tempfile.TemporaryDirectory() as folder:
        compare(data.draw, some, Path(folder), **ways)


def layout_of(boundary, **extra):
    fields = [{"name": "n", "type": "uint8"}, {"name": "rest", "type": "bytes", "repeat": "rest"}]
    if "checksum" in extra:
        fields.append({"name": "crc", "type": "checksum"})
    return lr.FrameLayout(boundary=boundary, fields=fields, **extra)


@needs_compiler
def test_emitted_parsers_part_joined_frames_and_find_the_right_end(tmp_path):
    """Cases that random streams seldom hold: several delimiters lost in a row, and end markers inside of frames."""
    check = {"checksum": {"algorithm": "CRC-16/MODBUS"}}
    slip, lines = layout_of({"kind": "slip"}, **check), layout_of({"kind": "terminator", "terminator": "\n"}, **check)
    ended = {"kind": "marker", "marker": "A5", "end": "5A", "longest": 30}
    right, plain = layout_of(ended, **check), layout_of(ended)
    cobs = layout_of({"kind": "cobs", "longest": 700})
    counted = [{"name": "n", "type": "bcd8"}, {"name": "some", "type": "uint8", "repeat": "n"}]
    digits = lr.FrameLayout(boundary={"kind": "marker", "marker": "A5", "longest": 300}, fields=counted)
    emitted = Emitted([[slip], [lines], [right], [plain], [cobs], [digits]], tmp_path)
    check_stream(emitted, 5, 5, b"\xa5\xd4" + bytes(134) + b"\xa5\x01\x07")  # D4: thirteen tens and four
    for size in (252, 253, 254, 255, 508, 600):
        held = [cobs.encode({"n": 1, "rest": [7] * size + tail}) for tail in ([], [0], [0, 5])]
        check_stream(emitted, 4, 4, b"".join(map(cobs.as_sent, held)))
    contents = [slip.encode({"n": n, "rest": [0xC0, n, 0xDB, 7][: n % 5]}) for n in range(7)]
    for many in range(2, 8):
        joined = b"".join(slip.as_sent(item)[:-1] for item in contents[:many]) + b"\xc0"
        for damage in (b"", b"\x01", b"\xdb\xdd", b"\xdb\x41"):
            check_stream(emitted, 0, 0, joined + damage + slip.as_sent(contents[0]) + joined[1:])
        texts = [lines.encode({"n": 40 + n, "rest": [65] * n}) for n in range(many)]
        check_stream(emitted, 1, 1, b"".join(texts) + b"\n" + b"".join(texts)[1:] + b"\n")
    for ends in range(12):
        inner = right.encode({"n": 1, "rest": [0x5A, 3] * ends})
        check_stream(emitted, 2, 2, inner + inner[:-1] + inner + b"\xa5\x00\x5a")
        check_stream(emitted, 2, 2, inner + b"\x00" + inner[:-1] + b"\x00\x00" + inner + b"\x00")
        held = plain.encode({"n": 1, "rest": [0x5A, 3] * (ends % 4)})
        for between in (b"", b"\x5a", b"\xa5", b"\x00\x5a", b"\x5a\x00\xa5\x5a"):
            check_stream(emitted, 3, 3, held + between + held + between + held[:-1])
    emitted.run()


@needs_compiler
@pytest.mark.parametrize("compiler", ["gcc", "clang"])
def test_every_sheet_that_ships_is_emitted_without_a_warning(compiler, tmp_path):
    if shutil.which(compiler) is None:
        pytest.skip(f"there is no {compiler}")
    sheets = [*Path("examples/sheets").glob("*.toml"), Path("examples/firmware/bench.toml")]
    sheets += Path(str(files("larkreader") / "data")).glob("*.toml")
    done = 0
    for path in sheets:
        sheet = lr.open_sheet(path)
        if not sheet.frame or any(layout.pattern for layout in sheet.frame.values()):
            continue
        for end in (None, *sheet.end):
            for name, text in lr.emit_c(sheet, end, name="link", values="float").items():
                (tmp_path / name).write_text(text)
            built = subprocess.run(
                [compiler, *WARNINGS, "-Os", "-c", "link.c"], cwd=tmp_path, capture_output=True, text=True
            )
            assert built.returncode == 0, (path, end, built.stderr[:2000])
            done += 1
    assert done >= 8


@needs_compiler
def test_values_in_units_are_those_of_the_sheet_and_refuse_what_does_not_fit(tmp_path):
    """By the sheet: flow is 0.1 mL/min a count, in 12 bits; temperature 0.01 degC, in 16 with a sign."""
    lr.write_c(tmp_path, lr.open_sheet(RIG), name="rig", values="double")
    (tmp_path / "main.c").write_text(
        """
        #include "rig.h"
        #include <stdio.h>
        int main(void)
        {
            rig_status_values values = { .flow = 42.5, .temperature = -1.37, .state = RIG_STATUS_STATE_DOSING };
            rig_status raw;
            uint8_t frame[RIG_STATUS_LONGEST];
            printf("%d ", rig_status_from_values(&values, &raw));
            printf("%u %d ", raw.flow, raw.temperature);
            printf("%u ", (unsigned)rig_status_pack(&raw, frame, sizeof frame));
            rig_status_to_values(&raw, &values);
            printf("%.9f %.9f ", values.flow, values.temperature);
            values.flow = 409.6;
            printf("%d ", rig_status_from_values(&values, &raw));
            values.flow = -0.06;
            printf("%d\\n", rig_status_from_values(&values, &raw));
            return 0;
        }
        """
    )
    subprocess.run(["gcc", "-std=c99", "main.c", "rig.c", "-o", "main"], cwd=tmp_path, check=True)
    ran = subprocess.run([tmp_path / "main"], capture_output=True, text=True, check=True)
    assert ran.stdout == "1 425 -137 16 42.500000000 -1.370000000 0 0\n"


@needs_compiler
def test_the_ring_counts_what_it_held_and_what_it_lost(tmp_path):
    """Of a ring of 8 bytes one place stays free: 7 go in, the eighth is lost, and the most it held is 7."""
    lr.write_c(tmp_path, lr.open_sheet(RIG), name="rig")
    (tmp_path / "main.c").write_text(
        """
        #include "rig.h"
        #include <stdio.h>
        int main(void)
        {
            static uint8_t bytes[8];
            rig_ring ring;
            uint8_t byte = 0;
            int i;
            rig_ring_start(&ring, bytes, sizeof bytes);
            for (i = 0; i < 3; i++) { rig_ring_put(&ring, (uint8_t)i); rig_ring_get(&ring, &byte); }
            for (i = 0; i < 9; i++) { printf("%d", rig_ring_put(&ring, (uint8_t)(100 + i))); }
            while (rig_ring_get(&ring, &byte)) { printf(" %u", byte); }
            printf(" most %u lost %u\\n", (unsigned)ring.most, (unsigned)ring.lost);
            return 0;
        }
        """
    )
    subprocess.run(["gcc", "-std=c99", "main.c", "rig.c", "-o", "main"], cwd=tmp_path, check=True)
    ran = subprocess.run([tmp_path / "main"], capture_output=True, text=True, check=True)
    assert ran.stdout == "111111100 100 101 102 103 104 105 106 most 7 lost 2\n"


def test_names_are_words_of_c_and_none_is_given_twice():
    fields = [{"name": name, "type": "uint8"} for name in ("int", "int_", "größe", "class")]
    sheet = lr.Sheet(
        wire={"tx": {}, "event": {}},
        frame={
            name: {"wire": "tx", "boundary": {"kind": "marker", "marker": marker}, "fields": fields}
            for name, marker in (("9 to 5", "A1"), ("9-to-5", "A2"), ("event", "A3"), ("tx", "A4"))
        },
    )
    header = lr.emit_c(sheet, name="link")["link.h"]
    structs = re.findall(r"^} (\w+);", header, re.MULTILINE)
    assert len(set(structs)) == len(structs)
    assert {"link_n9_to_5", "link_n9_to_5_2", "link_event_2", "link_tx_2_parser"} & set(structs)
    members = re.search(r"typedef struct {\n((?:    uint8_t \w+;\n){4})} link_n9_to_5;", header)
    names = re.findall(r"uint8_t (\w+);", members[1])
    assert len(set(names)) == 4
    assert names[0] == "int_"
    assert all(re.fullmatch(r"[a-z]\w*", name, re.ASCII) for name in names)


@pytest.mark.parametrize(
    ("given", "found"),
    [
        ({"frame": {}}, "declares no frame"),
        ({"end": "pump"}, "is not on the sheet"),
        ({"name": "a b"}, "is not the name of a file"),
        ({"pattern": "flow={flow}"}, "is a line of text with a pattern"),
    ],
)
def test_what_cannot_be_emitted_is_refused_with_the_reason(given, found):
    frame = {"boundary": {"kind": "terminator"}, "fields": [{"name": "flow", "type": "uint8"}]}
    if "pattern" in given:
        frame |= {"pattern": given["pattern"], "fields": [{"name": "flow", "type": "integer"}]}
    sheet = lr.Sheet(wire={"tx": {}}, frame=given.get("frame", {"line": frame}))
    with pytest.raises(lr.RequestError, match=re.escape(found)):
        lr.emit_c(sheet, given.get("end"), name=given.get("name", "link"))


def test_comments_hold_no_markup_of_the_sheet():
    sheet = lr.Sheet(
        title='*/ #include "x" /*\n??/',
        wire={"tx": {}},
        frame={
            "f": {
                "boundary": {"kind": "marker", "marker": "A5"},
                "fields": [{"name": "a", "type": "uint8", "unit": "*/\\\n"}],
            }
        },
    )
    for text in lr.emit_c(sheet, name="link").values():
        comments = re.findall(r"/\*[\s\S]*?\*/", text)
        assert '#include "x"' not in re.sub(r"/\*[\s\S]*?\*/", "", text)
        for comment in comments:
            assert "/*" not in comment[2:]
            assert "??" not in comment


def test_only_emitted_files_are_replaced(tmp_path):
    sheet = lr.open_sheet(RIG)
    (tmp_path / "rig.c").write_text("int mine;\n")
    with pytest.raises(lr.RequestError, match="was not emitted"):
        lr.write_c(tmp_path, sheet, name="rig")
    assert [path.name for path in tmp_path.iterdir()] == ["rig.c"]
    (tmp_path / "rig.c").unlink()
    written = lr.write_c(tmp_path, sheet, name="rig")
    before = [path.stat().st_mtime_ns for path in written]
    lr.write_c(tmp_path, sheet, name="rig")
    assert [path.stat().st_mtime_ns for path in written] == before
    lr.write_c(tmp_path, sheet, name="rig", checksums="bits")
    assert written[1].stat().st_mtime_ns != before[1]
    assert sorted(path.name for path in tmp_path.iterdir()) == ["rig.c", "rig.h"]


def test_emitting_at_the_command(tmp_path, shell):
    status, out, err = shell("emit", RIG, "-o", tmp_path / "out", "--end", "controller", "--json")
    assert status == 0
    assert json.loads(out)["files"] == {str(tmp_path / "out" / name): "C" for name in ("rig.h", "rig.c")}
    header = (tmp_path / "out" / "rig.h").read_text()
    assert "#define RIG_REGISTER_BAUD 0x0116u" in header
    assert "rig_from_pump_parser" in header
    assert "rig_to_pump_parser" not in header
    (tmp_path / "out" / "rig.h").write_text("#define MINE\n")
    status, out, err = shell("emit", RIG, "-o", tmp_path / "out")
    assert (status, out) == (2, "")
    assert "was not emitted" in err
