"""C headers: their structs where compilers put them, and compared with layouts of a sheet."""

import json
import random
import re
import shutil
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from xml.etree import ElementTree as ET

import jsonschema
import pytest
from c_probes import COMPILERS, compiled, compilers, filled, random_struct
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr
from larkreader.answers import check_layout, check_layouts, layout_of_struct, layouts_of_structs, read_header
from larkreader.cli import run
from larkreader.cli.header_options import TARGETS as OPTION_TARGETS
from larkreader.errors import HeaderError, RequestError

RIG = lr.open_sheet(str(files("larkreader") / "data" / "rig.toml"))
HAND_WRITTEN = Path(__file__).parents[2] / "examples" / "firmware" / "hand_written.h"
PACKED = "__attribute__((packed))"
STATUS = """
typedef enum { STATE_RESTING, STATE_DOSING, STATE_PURGING, STATE_HALTED = 7 } state_t;
#pragma pack(push, 1)
#pragma scalar_storage_order big-endian
struct temperature { int16_t value; };
struct check { uint16_t value; };
#pragma scalar_storage_order default
typedef struct {
    uint8_t kind, count;
    uint16_t flow : 12;
    uint16_t pressure : 12;
    struct temperature temperature;
    float dosed;
    uint8_t state : 3, valve : 4, : 1;
    struct check crc;
} rig_status_t;
#pragma pack(pop)
"""


@pytest.fixture
def header(tmp_path):
    """Return a function that reads a text as a header."""

    def read(text, target="arm", **options):
        (tmp_path / "link.h").write_text(text)
        return read_header(tmp_path / "link.h", target, **options)

    return read


def outcomes(found):
    """Return what came out for each field, and what differs."""
    return {
        row.field or row.member or row.in_c: (row.outcome, *(item.kind for item in row.differences if not item.follows))
        for row in found.rows
    }


@pytest.mark.parametrize(
    ("target", "command"),
    [
        pytest.param(target, command, id=f"{target} {command[0]}")
        for target in COMPILERS
        for command in compilers(target)
    ],
)
def test_compilers_put_the_members_of_random_structs_where_we_do(target, command, tmp_path):
    """All numbers of random structs hold random values; their bits are in the object file where we expect them.

    Where a layout can express the struct, it reads the same values from these bytes.
    """
    generator = random.Random(f"{target} {command[0]}")
    names = [f"s{number}" for number in range(60)]
    text = "#include <stdint.h>\nenum level { LOW, HIGH = 5 };\n" + "".join(
        random_struct(generator, name) for name in names
    )
    (tmp_path / "probe.h").write_text(text)
    read = read_header(tmp_path / "probe.h", target)
    written = {name: filled(generator, name, read.leaves(name)) for name in names}
    sections = compiled(command, text + "".join(constant for constant, _ in written.values()), tmp_path)
    expressed = 0
    for name, (_, bits) in written.items():
        data = sections[f".{name}"]
        assert len(data) * 8 == read.record(name).bits, name
        for leaf in read.leaves(name):
            for item, first in enumerate(leaf.first_bits() if leaf.path else ()):
                found = sum((data[place // 8] >> place % 8 & 1) << bit for bit, place in enumerate(leaf.places(first)))
                assert found == bits[leaf.path, item], (name, leaf.shown, item)
        try:
            layout = layout_of_struct(read, name)
        except HeaderError:  # an array of structs in another
            continue
        expressed += 1
        assert check_layout(layout, read, name).verdict != "differs", name
        values = [bits[leaf.path, item] for leaf in read.leaves(name) if leaf.path for item in range(leaf.count)]
        held = [raw % (1 << slot.bits) for slot in layout.slot.values() for raw in layout.peek(data, slot.name)]
        assert sorted(held) == sorted(values), name
    assert expressed > 40


@pytest.mark.parametrize("target", list(COMPILERS))
def test_a_changed_field_is_found_and_nothing_else(target, tmp_path):
    """A layout is the same as its struct; of a layout changed in a single place just that place differs."""
    generator = random.Random(target)
    for number in range(40):
        members = [
            f"{generator.choice(['uint16_t', 'int16_t', 'uint32_t', 'int32_t', 'float'])} m{place};"
            for place in range(5)
        ]
        (tmp_path / "link.h").write_text(f"struct s {{ {' '.join(members)} }} {PACKED};")
        read = read_header(tmp_path / "link.h", target)
        layout = layout_of_struct(read, "s")
        assert check_layout(layout, read).verdict == "same"
        fields = [field.model_dump(exclude_defaults=True) for field in layout.fields]
        at = generator.randrange(4)
        change = generator.choice(["sign", "order", "swap", "missing", "more", "narrow", "float"])
        field = fields[at]
        if change == "sign":
            field["type"] = {"u": "int", "i": "uint", "f": "int"}[field["type"][0]] + re.sub(r"\D", "", field["type"])
        elif change == "order":
            field["order"] = "big" if layout.packing == "lsb" else "little"
        elif change == "swap":
            fields[at], fields[at + 1] = fields[at + 1], field
        elif change == "missing":
            del fields[at]
        elif change == "more":
            fields.insert(at, {"name": "more", "type": "uint8"})
        elif change == "narrow":
            bits = 32 if field["type"].endswith("16") else 16
            field["type"] = re.sub(r"\d+", str(bits), field["type"])
        else:
            field["type"] = (
                "float16" if field["type"].endswith("16") else "float32" if "float" not in field["type"] else "uint32"
            )
        changed = lr.FrameLayout(boundary={"kind": "cobs"}, packing=layout.packing, fields=fields)
        found = check_layout(changed, read)
        wrong = [
            row.field or row.member
            for row in found.rows
            if row.outcome not in ("same", "not shown") and not row.follows
        ]
        expected = {"swap": {f"m{at}", f"m{at + 1}"}, "more": {"more"}}.get(change, {f"m{at}"})
        assert found.verdict == "differs", (number, change)
        assert set() < set(wrong) <= expected, (number, change, found.rows)
        assert all(row.outcome == "same" for row in found.rows if (row.field or row.member) < f"m{at}")


def test_the_status_of_the_rig_is_the_same_as_its_struct(header):
    found = check_layout(RIG.frame["status"], header(STATUS), "rig_status_t")
    assert found.verdict == "same", outcomes(found)
    assert (found.begins_at, found.sheet_length, found.c_length, found.left_out) == (2, 14, 14, ("marker",))


def test_each_thing_that_a_header_shows_is_compared(header):
    """Every kind of difference, on paper; consequences are none of their own."""
    struct = """
    enum state { RESTING, DOSING, PURGING = 3, HALTED = 7, STATE_COUNT };
    struct status {
        uint16_t sync;
        int8_t kind;                 /* the sign */
        uint8_t total;               /* another name at the same place */
        uint16_t flow : 10;          /* the width */
        uint16_t pressure : 12;
        float temperature;           /* the width, the kind */
        uint8_t dosed[4];            /* bytes */
        enum state state : 3;        /* its names */
        uint8_t valve : 4;
        uint8_t spare_bit : 1;
        uint16_t crc;                /* the byte order */
        uint8_t more;
    } %s;
    """
    found = check_layout(RIG.frame["status"], header(struct % PACKED), "status")
    assert outcomes(found) == {
        "marker": ("same",),
        "kind": ("differs", "sign"),
        "count": ("same",),
        "flow": ("differs", "width"),
        "pressure": ("differs",),
        "padding of 2 bits": ("only in C",),
        "temperature": ("differs", "width", "kind"),
        "dosed": ("differs",),
        "state": ("differs", "names"),
        "valve": ("differs",),
        "reserved": ("differs",),
        "crc": ("differs", "byte order"),
        "more": ("only in C",),
    }
    names = [item for row in found.rows for item in row.differences if item.kind == "names"]
    assert [(item.in_sheet, item.in_c) for item in names] == [("purging = 2", "purging = 3")]
    assert (found.sheet_length, found.c_length) == (16, 19)


def test_padding_is_shown_where_the_compiler_puts_it(header):
    struct = "struct alarm { uint8_t kind; uint8_t cause; uint8_t why; uint16_t at; uint16_t crc; };"
    assert outcomes(check_layout(RIG.frame["alarm"], header(struct, "avr"))) == {
        "kind": ("same",), "cause": ("same",), "why": ("only in C",), "at": ("differs",),
        "crc": ("differs", "byte order"),
    }  # fmt: skip
    assert "padding of 1 byte" in outcomes(check_layout(RIG.frame["alarm"], header(struct, "arm")))


def test_members_can_hold_several_fields_or_parts_of_them(header):
    struct = f"struct {PACKED} s {{ uint8_t kind; uint8_t one : 1, two : 1, three : 1, four : 1, rest : 4; }};"
    fields = [
        {"name": "kind", "type": "uint8"},
        {"name": "valve", "type": "flag", "repeat": 4},
        {"name": "low", "type": "uint2"},
        {"name": "high", "type": "uint2"},
    ]
    found = check_layout(lr.FrameLayout(boundary={"kind": "cobs"}, fields=fields), header(struct))
    assert outcomes(found) == {"kind": ("same",), "valve": ("same",), "low": ("not shown",), "high": ("not shown",)}
    assert found.verdict == "partly shown"


def test_arrays_groups_and_open_ends_are_compared(header):
    struct = f"struct {PACKED} s {{ uint8_t size; struct {PACKED} {{ uint8_t a; uint16_t b[2]; }} pump[3]; uint8_t tail[]; }};"
    pump = {"group": "pump", "repeat": 3, "fields": [{"name": "a", "type": "uint8"}]}
    pump["fields"].append({"name": "b", "type": "uint16", "repeat": 2})
    fields = [{"name": "size", "type": "uint8"}, pump, {"name": "tail", "type": "uint8", "repeat": "size"}]
    boundary = {"kind": "idle", "characters": 4}
    read = header(struct)
    assert check_layout(lr.FrameLayout(boundary=boundary, fields=fields), read).verdict == "same"
    assert layout_of_struct(read, "s").slot["pump.b"].stride == 40
    pump["fields"][1]["repeat"] = 1
    found = outcomes(check_layout(lr.FrameLayout(boundary=boundary, fields=fields), read))
    assert found == {
        "size": ("same",),
        "pump.a": ("differs", "spacing"),
        "pump.b": ("differs", "number"),
        "tail": ("differs",),
    }


def test_a_table_of_bit_fields_is_compared(header):
    table = """
    struct bits { char name[12]; uint16_t first_bit; uint8_t width; bool is_signed; };
    const struct bits STATUS[] = {
        { "kind", 0, 8 }, { "count", 8, 8 }, { "flow", 16, 12 }, { .name = "pressure", .width = 11, .first_bit = 28 },
        { "temperature", 40, 16, 1 }, { "dosed", 56, 32 }, { "state", 88, 3 }, { 0 }
    };
    """
    (found,), without = check_layouts(RIG, header(table), first="kind", last="state")
    assert outcomes(found) == {
        "kind": ("same",), "count": ("same",), "flow": ("same",), "pressure": ("differs", "width"),
        "temperature": ("not shown",), "dosed": ("not shown",), "state": ("same",),
    }  # fmt: skip
    assert without == ["setpoint", "alarm"]


def test_a_header_is_read_as_a_compiler_reads_it(header, tmp_path):
    """Conditions, macros with and without parameters, what is included, attributes in every place where they count."""
    (tmp_path / "sizes.h").write_text('#pragma once\n#define VALVES 2\n#include "link.h"\n')
    read = header(
        r"""
        #ifndef LINK_H
        #define LINK_H
        #include <stdint.h>
        #include "sizes.h"
        #include "sizes.h"
        #define BIT(n) (1u << (n))
        #define FIELD(kind, name) kind name
        #if defined(__GNUC__) && !defined(OLD)
        #  define PACKED __attribute__((__packed__))
        #else
        #  error "no compiler"
        #endif
        #if VALVES \
            > 1 || UNKNOWN
        typedef struct PACKED { FIELD(uint8_t, a); uint32_t b; } first; // a comment
        #elif 1
        struct wrong { uint8_t x; };
        #endif
        typedef struct { uint8_t a; uint32_t b; } PACKED second;
        typedef struct { uint8_t a; uint32_t b; } third PACKED;
        struct [[gnu::packed]] fourth { uint8_t a; uint32_t b; };
        __packed struct fifth { uint8_t a; uint32_t b; };
        struct sixth { uint8_t a; uint32_t b PACKED; uint8_t c __attribute__((aligned(4))); };
        _Pragma("pack(2)")
        struct seventh { uint8_t a; uint32_t b; };
        #pragma pack()
        struct eighth { uint8_t a[sizeof(first) + BIT('\x02') - 010 + 0b1]; enum { RED, GREEN = RED + 300 } b; };
        static inline int twice(int x) { struct inner { int y; } z = { x }; asm("nop"); return z.y * 2; }
        extern void unknown(Handle_t *handle, ...);
        _Static_assert(sizeof(first) == 5, "packed");
        #endif
        """
    )
    sizes = {name.removeprefix("struct "): read.record(name).bits // 8 for name in read.structs}
    assert sizes == {
        "first": 5, "second": 5, "third": 8, "fourth": 5, "fifth": 5, "sixth": 12, "seventh": 6, "eighth": 4,
    }  # fmt: skip
    assert [re.findall(r"line (\d+): compilers ignore", note) for note in read.notes] == [["21"]]
    assert not read.missing


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("struct s { uint8_t *data; };", r"line 1 data is a pointer or a function"),
        ("struct s {\n Ticks_t at; };", r"line 2 uses the type Ticks_t, .*--define Ticks_t=uint8_t"),
        ("struct s { uint8_t a : 9; };", r"a has 9 bits\. It must have 8"),
        ("struct s { uint8_t a[N]; };", "uses N, whose value is not known"),
        ("struct s { uint8_t a[1 / 0]; };", "divides by 0"),
        ("struct s { uint8_t a[1 << 64]; };", "shifts by 64"),
        ("struct s { uint8_t a[0x10000]; uint8_t b; };", "longer than 65,536 bytes"),
        (
            "struct s { union { struct { uint8_t a; } x; struct { uint8_t b; } y; } u; };",
            r"union of x, y.*STRUCT\.MEMBER",
        ),
        ("struct s { int a __attribute__((mode(QI))); };", "attribute mode"),
        ("struct s { int a };", r"link\.h, line 1 is not C"),
        ("#if 1\nstruct s { int a; };", "line 1 has a condition that has no end"),
        ("#if (\n#endif", "an expression that C does not have"),
        ("#error no\n", r"is an #error: no"),
        ("/* endless", r'has a "/\*" without an end'),
        ("struct s { int a;", "begins a declaration that has no end"),
        ('#include "link.h"\nstruct s { int a; };', "includes headers within headers, 50 deep"),
        (
            "#define A(x) x x x x x x x x\nstruct s {" + "A(" * 9 + "int" + ")" * 9 + "};",
            "gives more than 1,000,000 words",
        ),
        ("struct s {" + "struct {" * 200 + "int a;" + "} b;" * 200 + "};", "100 brackets within brackets"),
        ("#if " + "1+" * 3000 + "1\n#endif", "an expression that is too long"),
        ("struct s { int a[" + "9" * 9999 + "]; };", "at most 64 bits"),
        ("struct t { int a; };", "declares no struct s. There is: t"),
        ("\0", "has bytes that are 0"),
    ],
)
def test_what_cannot_be_compared_is_refused_with_the_place_and_the_reason(header, text, message):
    with pytest.raises(HeaderError, match=message):
        check_layout(RIG.frame["alarm"], header(text), "s")


def test_what_is_asked_for_must_be_there(header):
    read = header(
        "struct alarm { uint8_t kind; }; struct pump_alarm { uint8_t kind; }; struct x_status { uint8_t *p; };"
    )
    with pytest.raises(RequestError, match=r'target "arn" is not known.*Did you mean "avr"'):
        read_header("link.h", "arn")
    with pytest.raises(HeaderError, match="No such file"):
        read_header("nowhere.h")
    with pytest.raises(HeaderError, match="p is a pointer"):
        check_layouts(RIG, read)
    for options, message in (
        ({"first": "knd"}, 'knd is not a field.*"kind"'),
        ({"last": "kind", "first": "cause"}, "kind stands before cause"),
        ({"same": {"knd": "kind"}}, "knd is not a member"),
        ({"same": {"kind": "knd"}}, "knd is not a field"),
    ):
        with pytest.raises(RequestError, match=message):
            check_layout(RIG.frame["alarm"], read, "alarm", **options)
    with pytest.raises(RequestError, match=r"struct is not named\. It must be one of"):
        check_layout(RIG.frame["alarm"], header("struct p { int a; }; struct q { int a; };"))
    line = lr.FrameLayout(
        boundary={"kind": "terminator", "terminator": "\n"},
        pattern="flow {x}",
        fields=[{"name": "x", "type": "decimal"}],
    )
    with pytest.raises(RequestError, match="is a line of text"):
        check_layout(line, read, "alarm")


def test_names_that_differ_can_be_declared_the_same(header):
    read = header("struct alarm { uint8_t kind; uint16_t seconds; uint8_t reason; uint16_t crc; };", "avr")
    found = check_layout(RIG.frame["alarm"], read, same={"seconds": "at", "reason": "cause"})
    assert [(row.field, row.member) for row in found.rows if row.field in ("at", "cause")] == [
        ("cause", "reason"), ("at", "seconds"),
    ]  # fmt: skip
    assert "order" in {item.kind for row in found.rows for item in row.differences}


def test_structs_that_no_layout_expresses_are_left_out(header):
    read = header("struct a { uint8_t x; }; struct b { struct { struct { int c; } d[2]; } e[2]; };")
    layouts, left_out = layouts_of_structs(read)
    assert (list(layouts), list(left_out)) == (["a"], ["b"])
    with pytest.raises(HeaderError, match="another array"):
        layouts_of_structs(read, ["b"])
    with pytest.raises(HeaderError, match="declares no struct"):
        layouts_of_structs(header("int x;"))


PIECES = [*STATUS.split(), "struct", "union", "{", "}", ";", ":", "[", "]", "(", ")", "__attribute__((packed))", "\n#if",
          "\n#else", "\n#endif", "\n#define A(x) x", "A(", "0x", "'", '"', "/*", "*/", "\\\n", "_Pragma(", "1 <<", "extern"]  # fmt: skip


@given(st.lists(st.tuples(st.integers(0, len(STATUS)), st.integers(0, 40), st.sampled_from(PIECES)), max_size=6))
def test_a_damaged_header_gives_a_result_or_a_header_error(tmp_path_factory, edits):
    text = STATUS
    for at, cut, piece in edits:
        text = f"{text[:at]} {piece} {text[at + cut :]}"
    path = tmp_path_factory.mktemp("c") / "link.h"
    path.write_text(text)
    with suppress(HeaderError, RequestError):
        read = read_header(path)
        layouts_of_structs(read)
        check_layouts(RIG, read)


def test_the_command_offers_the_targets_that_there_are():
    assert set(OPTION_TARGETS) == set(COMPILERS)
    for target in OPTION_TARGETS:
        with pytest.raises(HeaderError):
            read_header(Path("nowhere.h"), target)


def test_the_command_compares_each_frame_with_the_struct_of_its_name(tmp_path, monkeypatch, capsys):
    """Exit status, tables within 80 columns, the document, test cases; and a sheet from the same header, all the same."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "rig.toml").write_text((files("larkreader") / "data" / "rig.toml").read_text())
    shutil.copy(HAND_WRITTEN, tmp_path / "link.h")
    monkeypatch.setenv("COLUMNS", "80")
    assert run(["check-layout", "rig.toml", "link.h", "--junit", "layout.xml"]) == 1
    out = capsys.readouterr().out
    assert max(map(len, out.splitlines())) <= 80
    assert "crc: C has bytes; their order and their sign are not in the header." in out
    assert "state: halted = 7 in the sheet, halted = 3 in C (line 21)." in out
    assert out.count("Verdict: ") == 3
    cases = ET.parse("layout.xml").findall(".//testcase")
    assert [case.get("name") for case in cases if case.find("failure") is not None] == [
        "status.temperature", "status.state", "alarm.padding of 2 bytes", "alarm.at", "alarm.padding of 2 bytes",
        "alarm: length",
    ]  # fmt: skip
    assert len(cases) == 6 + 11 + 6 + 1
    assert run(["check-layout", "rig.toml", "link.h", "--frame", "setpoint", "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    jsonschema.validate(document, lr.present.document_schema("layout-check"))
    assert [document["verdict"], *(found["verdict"] for found in document["comparisons"])] == ["partly shown"] * 2
    assert run(["check-layout", "rig.toml", "link.h", "--struct", "alarm", "--target", "avr", "--same", "kind"]) == 2
    assert "--same" in capsys.readouterr().err
    assert run(["new", "mine.toml", "--header", "link.h"]) == 0
    assert run(["check-layout", "mine.toml", "link.h"]) == 0
    assert capsys.readouterr().out.count("Verdict: same: ") == 3
    assert run(["new", "mine2.toml", "--struct", "alarm"]) == 2
    assert run(["new", "mine2.toml", "--define", "A=1"]) == 2
    assert run(["new", "mine2.toml", "--header", "link.h", "--rate", "1000"]) == 2
    assert run(["check-layout", "rig.toml", "link.h", "--from-field", "kind"]) == 2
    (tmp_path / "more.h").write_text("struct bus { void *alarm; };\nstruct setpoint { uint8_t kind; };\n")
    assert run(["check-layout", "rig.toml", "more.h"]) == 1  # alarm is a member there, not a struct
    assert run(["new", "mine2.toml", "--header", "link.h", "--from", "x.vcd"]) == 2
    assert run(["check-layout", "rig.toml", "nowhere.h"]) == 2
