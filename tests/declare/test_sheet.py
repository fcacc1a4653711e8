import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import BOUNDARIES, line_settings, varying_layouts

import larkreader as lr
from larkreader.declare.document.sheet import TABLES
from larkreader.demo.rig import SHEET_FILE, rig_sheet

GOOD = SHEET_FILE.read_text(encoding="utf-8")
NOTES = st.text(st.characters(exclude_categories=["Cc", "Cf", "Cs", "Zl", "Zp"]), max_size=9)


def test_a_wire_says_only_what_differs():
    sheet = lr.parse_sheet(
        'sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.a]\n[wire.b]\nline = { baud = 19_200 }\nsignal = "tx"'
    )
    assert str(sheet.wire["a"].line) == "57600 8E1"
    assert str(sheet.wire["b"].line) == "19200 8E1"
    assert (sheet.wire["a"].source, sheet.wire["b"].source) == ("a", "tx")


def test_crc_by_its_parameters_is_the_catalogued_one():
    parameters = "{ width = 16, poly = 0x1021, init = 0xFFFF, check = 0x29B1 }"
    sheet = lr.parse_sheet(GOOD.replace('"CRC-16/IBM-3740"', parameters))
    frame = sheet.frame["status"].encode({"count": 3})
    assert frame == lr.parse_sheet(GOOD).frame["status"].encode({"count": 3})


MISTAKES = [
    # what to replace in the rig's sheet, by what, and the whole message behind the first line
    (
        'format = "8E1"',
        'format = "8X1"',
        '  line.format = "8X1"\n      must be data bits (5 to 9), parity (N, E, O, M or S) and stop bits (1, 1.5 or 2), '
        'as in "8E1". "X" is not a parity.',
    ),
    ("baud =", "buad =", '  line.buad\n      is not a key of [line]. Did you mean "baud"?'),
    ("baud = 57_600", 'baud = "x"', '  line.baud = "x"\n      must be a number.'),
    (
        'name = "temperature"',
        'name = "temperature\u00be"',  # a numeral, which is neither a letter nor a digit
        '  frame.status.fields[4].name = "temperature\u00be"\n      must be a word of letters, digits and "_" that does not '
        'begin with a digit, and none of "marker", "faults" and "offset".',
    ),
    ("[line]", "[lines]", '  lines\n      is not a key of a sheet. Did you mean "line"?'),
    ("sheet = 1", "", "  sheet\n      must be 1, the version of the format. Write sheet = 1."),
    (
        'wire = "to_pump"',
        'wire = "to_pmup"',
        '  frame.setpoint.wire = "to_pmup"\n      is not a wire of this sheet. Did you mean "to_pump"?',
    ),
    (
        'wire = "to_pump"',
        "",
        "  frame.setpoint.wire\n      is missing: name the wire on which the frame travels (to_pump, from_pump).",
    ),
    (
        'marker = "A6 3C"',
        'marker = "A6 3"',
        '  frame.setpoint.boundary.marker = "A6 3"\n      must be 1 to 16 bytes in hexadecimal, as in "D7 4B".',
    ),
    (
        'kind = "marker", marker = "A6 3C"',
        'kind = "makrer"',
        '  frame.setpoint.boundary = {"kind": "makrer"}\n      must have a kind of "marker", "fixed", '
        '"length-field", "idle", "terminator", "break", "address-mark", '
        '"cobs", "slip", "hdlc" or "escape".',
    ),
    (
        'type = "uint16", scale = 0.5',
        'type = "uint128"',
        '  frame.setpoint.fields[4].type = "uint128"\n      must be uint1 to uint64, int2 to int64, bcd4 to bcd64 '
        "(four bits a digit), float16, float32, float64, bytes, text, flag or checksum; in a text pattern decimal, "
        "integer, hex, word, text or checksum.",
    ),
    (
        'name = "dose"',
        'name = "flow"',
        '  frame.setpoint.fields[4].name = "flow"\n      is the name of fields[2] too.',
    ),
    (
        '{ name = "dose",  type = "uint16",',
        '{ name = "dose",  type = "uint13",',
        "  frame.setpoint.fields\n      add up to 77 bits with the marker, which is 9 bytes and 5 bits. "
        "Add { reserved = 3 } or correct a width.",
    ),
    (
        '{ name = "temperature", type = "int16",',
        '{ name = "temperature", type = "int12",',
        '  frame.status.fields[4] = "temperature"\n      has a byte order, which needs whole bytes that begin at a byte '
        "limit; this field takes bits 56 to 67 of the frame.\n  frame.status.fields\n      add up to 124 bits with the "
        "marker, which is 15 bytes and 4 bits. Add { reserved = 4 } or correct a width.",
    ),
    (
        "equals = 0x2E",
        "equals = 0x12E",
        '  frame.alarm.fields[0] = {"name": "kind", "type": "uint8", "equals": 302}\n      has 302 for equals, but a '
        "uint8 holds 0 to 255.",
    ),
    (
        'algorithm = "CRC-16/IBM-3740", from = "kind", order = "big" }\n\n[frame.status]',
        'algorithm = "CRC-16/IBM3740", from = "knd", order = "big" }\n\n[frame.status]',
        '  frame.setpoint.checksum.algorithm = "CRC-16/IBM3740"\n      is not in the catalogue. '
        'Did you mean "CRC-16/IBM-3740"?',
    ),
    (
        'from = "kind", order = "big" }\n\n[frame.status]',
        'from = "knd", order = "big" }\n\n[frame.status]',
        '  frame.setpoint.checksum.from = "knd"\n      is not a field of this frame. Did you mean "kind"?',
    ),
    (
        'algorithm = "CRC-16/IBM-3740", from = "kind", order = "big" }\n\n[frame.status]',
        'algorithm = { width = 16, poly = 3, check = 1 } }\n\n[frame.status]',
        "  frame.setpoint.checksum.algorithm = "
        '{"width": 16, "poly": 3, "check": 1}\n      gives 0x9FE5 for "123456789", but check is 0x1.',
    ),
    (
        'boundary = { kind = "marker", marker = "D7 4B" }\nfields = [\n  { name = "kind",  type = "uint8",  equals = 0x2E }',
        'boundary = { kind = "fixed" }\nfields = [\n  { name = "kind",  type = "uint8",  equals = 0x2E }',
        '  frame.alarm.boundary.kind = "fixed"\n      must be as that of status, "marker", which travels on the same wire.',
    ),
    ('{ reserved = 1 }', '{ reserved = 1, valeu = 1 }', "  frame.status.fields[8].valeu\n      is not a key of "
     '[frame.status.fields[8]]. Did you mean "value"?'),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "message"), MISTAKES, ids=[new or old for old, new, _ in MISTAKES])
def test_a_mistake_is_told_with_its_place_and_what_is_wanted(old, new, message):
    assert GOOD.count(old) >= 1
    with pytest.raises(lr.SheetError) as caught:
        lr.parse_sheet(GOOD.replace(old, new, 1), name="rig.toml")
    first, _, rest = str(caught.value).partition("\n")
    assert rest == message
    count = len(caught.value.mistakes)
    assert first == f"rig.toml cannot be used: {count} mistake{'' if count == 1 else 's'}."
    try:
        document = tomllib.loads(GOOD.replace(old, new, 1))
    except tomllib.TOMLDecodeError:
        return
    with pytest.raises(lr.SheetError) as in_python:
        lr.Sheet(**{"sheet": None} | document)
    assert in_python.value.mistakes == caught.value.mistakes


def test_a_sheet_made_in_python_is_that_of_its_document():
    """From tables, and from models of which each is the whole of what its table declares."""
    document = tomllib.loads(GOOD)
    sheet = lr.parse_sheet(GOOD)
    assert lr.Sheet(**document) == sheet
    models = {row.attribute: getattr(sheet, row.attribute) for row in TABLES}
    made = lr.Sheet(title=sheet.title, **models)
    assert made == sheet
    assert all(made.frame[key] is layout for key, layout in sheet.frame.items())
    assert lr.parse_sheet(lr.declare.sheet_text(made)) == sheet


def test_a_wire_made_in_python_has_the_settings_of_the_sheet_unless_it_has_its_own():
    own = lr.LineSettings(baud=9600)
    wires = {
        "a": {},
        "b": lr.declare.Wire(signal="rx"),
        "c": {"line": {"format": "7E1"}},
        "d": lr.declare.Wire(line=own),
    }
    sheet = lr.Sheet(line={"baud": 57_600, "format": "8E1"}, wire=wires)
    assert [str(wire.line) for wire in sheet.wire.values()] == ["57600 8E1", "57600 8E1", "57600 7E1", "9600 8N1"]
    assert [wire.key for wire in sheet.wire.values()] == list(wires)


def test_models_given_to_a_sheet_are_checked_as_tables_are():
    with pytest.raises(lr.SheetError) as caught:
        lr.Sheet(
            wire={"pump": lr.declare.Wire()},
            end={"controller": lr.declare.End(sends="pmup", clock="crystal")},
            pair={"flow": lr.declare.Pairing(request="ask", reply="answer")},
            step=[lr.declare.Step(end="controler", do="start")],
            register={"CTRL": {"svd": "chip.svd"}},
            wires={},
        )
    assert [(one.where, one.found) for one in caught.value.mistakes] == [
        ("wires", ""),
        ("end.controller.sends", '"pmup"'),
        ("end.controller.clock", '"crystal"'),
        ("register.CTRL.svd", '"chip.svd"'),
        ("pair.flow.request", '"ask"'),
        ("pair.flow.reply", '"answer"'),
        ("step[0].end", '"controler"'),
    ]


def test_all_mistakes_are_told_at_once():
    text = GOOD.replace('"8E1"', '"8X1"').replace("57_600", "-1").replace("D7 4B", "D7 4").replace("title", "tilte")
    with pytest.raises(lr.SheetError) as caught:
        lr.parse_sheet(text)
    places = [mistake.where for mistake in caught.value.mistakes]
    assert places == [
        "tilte",
        "line.baud",
        "line.format",
        "frame.status.boundary.marker",
        "frame.alarm.boundary.marker",
        "loopback.bauds[1]",
    ]


def test_a_sheet_that_is_no_sheet_is_told(tmp_path):
    for name, content, message in [
        ("absent.toml", None, "does not exist"),
        ("broken.toml", b"sheet = ", "is not TOML"),
        ("binary.toml", b"\xff\xfe", "is not UTF-8 text, which TOML is"),
        ("empty.toml", b"", "must be 1, the version of the format"),
    ]:
        if content is not None:
            (tmp_path / name).write_bytes(content)
        with pytest.raises(lr.SheetError, match=message):
            lr.open_sheet(tmp_path / name)


SHEETS = sorted((Path(__file__).parents[2] / "examples" / "sheets").glob("*.toml"))


@pytest.mark.parametrize("sheet", [rig_sheet(), *map(lr.open_sheet, SHEETS)], ids=lambda sheet: sheet.title)
def test_a_sheet_written_out_reads_back_the_same(sheet):
    assert lr.parse_sheet(lr.declare.sheet_text(sheet)) == sheet


@given(st.sampled_from(list(BOUNDARIES)).flatmap(varying_layouts), NOTES, line_settings(most_data_bits=8))
def test_any_layout_written_out_reads_back_the_same(layout, note, line):
    line = line.model_copy(update={"format": "9N1", "ninth_bit": "address-mark"})
    layout = layout.model_copy(update={"wire": "a b", "note": note, "period": 0.25})
    wire = lr.declare.Wire(key="a b", signal=note or None, line=line, note=note)
    sheet = lr.Sheet(title=note, wire={"a b": wire}, frame={"frame": layout})
    assert lr.parse_sheet(lr.declare.sheet_text(sheet)) == sheet
