"""Registers, device descriptions and the order of set-up."""

import itertools
import json

import pytest

import larkreader as lr
from larkreader.judge.setup.setup_steps import written

ENDS = """
sheet = 1
[line]
baud = 57_600
format = "8E1"
[wire.to_pump]
[wire.from_pump]
[clock.crystal]
hertz = 7_372_800
[generator.whole]
divisor_bits = 8
holds = "N-1"
words = [{ name = "BAUD", bits = 8, holds = [{ of = "divisor", bits = 8 }] }]
[end.controller]
sends = "to_pump"
receives = "from_pump"
[end.pump_head]
sends = "from_pump"
receives = "to_pump"
clock = "crystal"
generator = "whole"
"""
MAP = """
[register.FORMAT]
end = "pump_head"
bits = 16
reset = 0x0003
fields = { length = ["12", "1:0"], parity_on = 2, parity_odd = 3 }
[register.MODE]
end = "pump_head"
bits = 8
reset = 0
fields = { stops = "5:4", enable = 0, line = 7 }
[meaning.pump_head]
data_bits = { of = "FORMAT.length", values = { 2 = 7, 3 = 8, 4 = 9 }, parity_counted = true }
parity = { of = ["FORMAT.parity_on", "FORMAT.parity_odd"], values = { "0 *" = "N", "1 0" = "E", "1 1" = "O" } }
stop_bits = { of = "MODE.stops", values = { 0 = 1, 0b10 = 2 } }
sends = { of = "MODE.enable", values = { 0 = false, 1 = true } }
idle = { of = "MODE.line", values = { 0 = "high", 1 = "low" } }
""".replace("0b10 = 2", "2 = 2")
SHEET = lr.parse_sheet(ENDS + MAP)

DUMPS = {
    # length 4 = bit 12 set; parity on; 7372800 / 16 / 8 = 57600
    "as declared": ({"FORMAT": 0x1004, "MODE": 0x01, "BAUD": 0x07}, "57600 8E1", []),
    "parity odd": ({"FORMAT": 0x100C, "MODE": 0x01, "BAUD": 0x07}, "57600 8O1", []),
    "no parity, so that nothing is counted": ({"FORMAT": 0x0003, "MODE": 0x01, "BAUD": 0x07}, "57600 8N1", []),
    "8 bits with the parity bit among them": ({"FORMAT": 0x0007, "MODE": 0x01, "BAUD": 0x07}, "57600 7E1", []),
    "two stop bits, inverted": ({"FORMAT": 0x1004, "MODE": 0xA1, "BAUD": 0x07}, "57600 8E2 idle-low", []),
    # 7372800 / 16 / 24 = 19200
    "another baud": ({"FORMAT": 0x1004, "MODE": 0x01, "BAUD": 0x17}, "19200 8E1", []),
    "never written": ({"FORMAT": 0x1004, "BAUD": 0x07}, "57600 8E1", ["not-enabled", "reset-relied-on"]),
    "a reserved value": ({"FORMAT": 0x1004, "MODE": 0x31, "BAUD": 0x07}, "57600 8E1", ["unknown-setting"]),
}


@pytest.mark.parametrize("case", DUMPS)
def test_registers_mean_what_the_map_says(case):
    dump, line, kinds = DUMPS[case]
    implied = lr.read_registers(SHEET, "pump_head", dump)
    assert str(implied.end.line_on(SHEET.line)) == line
    assert [one.kind for one in implied.findings] == kinds


def test_a_dump_is_held_against_the_other_end():
    """Eight bits of which one is the parity bit: the mix-up is named."""
    end = SHEET.end["pump_head"].model_copy(update={"registers": DUMPS["8 bits with the parity bit among them"][0]})
    planned = lr.plan(SHEET.model_copy(update={"end": {**SHEET.end, "pump_head": end}}))
    mismatch = planned.findings[0]
    assert (mismatch.kind, mismatch.severity) == ("setting-mismatch", "error")
    assert (
        "7 at pump_head (its registers). If the 8 bits that pump_head states do not include the parity bit"
        in mismatch.text
    )
    wide = end.model_copy(update={"registers": {"MODE": 0x100}})
    shown = lr.plan(SHEET.model_copy(update={"end": {**SHEET.end, "pump_head": wide}})).findings[0]
    assert (shown.kind, shown.text.partition(" The setting")[0]) == (
        "unknown-setting",
        "MODE holds 256. It must fit into its 8 bits.",
    )
    assert planned.implied["pump_head"].values["FORMAT"] == {"length": 3, "parity_on": 1, "parity_odd": 0}


def test_dumps_are_read_as_tables_and_as_json(tmp_path, shell):
    dump = {"FORMAT": 0x100C, "MODE": 1, "BAUD": 7, "SCRATCH": 5}
    forms = {
        "a.csv": "# after set-up\nregister, value\n" + "".join(f"{name}, {value:#x}\n" for name, value in dump.items()),
        "a.json": json.dumps(dump),
        "b.json": json.dumps([{"register": name, "value": hex(value)} for name, value in dump.items()]),
    }
    (tmp_path / "sheet.toml").write_text(ENDS + MAP)
    for name, text in forms.items():
        (tmp_path / name).write_text(text)
        assert lr.capture.read_register_dump(tmp_path / name) == dump
        given = f"pump_head={tmp_path / name}"
        status, out, _ = shell("plan", tmp_path / "sheet.toml", "--json", "--registers", given)
        shown = json.loads(out)
        assert (status, shown["verdict"]) == (1, "faults")
        assert shown["registers"]["pump_head"]["passed_over"] == ["SCRATCH"]
        assert [row["line"] for row in shown["ends"]["to_pump"]] == ["57600 8E1", "57600 8E1", "57600 8O1"]


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("", "is empty. It must have register,value."),
        ("name,value\na,1\n", "has the columns name, value"),
        ("register,value\nMODE\n", "row 2 has 1 cells"),
        ("register,value\nMODE,on\n", 'MODE has "on". It must be a whole number'),
        ('{"MODE": 1.5}', "MODE has 1.5"),
        ('{"MODE": ', "line 1 is not JSON"),
        ("[1, 2]", "is a list of something else"),
    ],
)
def test_a_dump_that_is_none_is_refused(tmp_path, text, shown):
    (tmp_path / "dump").write_text(text)
    with pytest.raises(lr.CaptureError) as error:
        lr.capture.read_register_dump(tmp_path / "dump")
    assert shown in str(error.value)


SVD = """<?xml version="1.0"?>
<device><size>16</size><resetValue>0x0</resetValue><peripherals>
<peripheral><name>UART0</name><registers>
  <register><name>FORMAT</name><resetValue>0x3</resetValue><fields>
    <field><name>parity_on</name><bitOffset>2</bitOffset></field>
    <field><name>parity_odd</name><lsb>3</lsb><msb>3</msb></field>
    <field><name>length</name><bitRange>[1:0]</bitRange></field>
    <field><name>flag%s</name><dim>3</dim><dimIncrement>2</dimIncrement><bitOffset>4</bitOffset><bitWidth>1</bitWidth></field>
  </fields></register>
  <register derivedFrom="FORMAT"><name>FORMAT2</name><size>32</size></register>
  <register><name>DATA[%s]</name><dim>2</dim><dimIncrement>4</dimIncrement></register>
  <register><name>PIN%s</name><dim>2</dim><dimIncrement>4</dimIncrement><dimIndex>A,B</dimIndex></register>
  <cluster><name>FIFO%s</name><dim>2</dim><dimIncrement>8</dimIncrement><size>8</size>
    <register><name>LEVEL</name></register>
    <cluster><name>INNER</name><register><name>MARK</name><size>#100</size></register></cluster>
  </cluster>
</registers></peripheral>
<peripheral derivedFrom="UART0"><name>UART1</name></peripheral>
<peripheral><name>OTHER</name><registers><register derivedFrom="UART0.FORMAT"><name>COPY</name></register></registers></peripheral>
</peripherals></device>
"""


def test_a_device_description_is_read_with_what_is_derived_and_repeated():
    registers = lr.declare.read_svd(SVD.encode())
    names = ["FORMAT", "FORMAT2", "DATA0", "DATA1", "PINA", "PINB"]
    names += [f"FIFO{one}.{name}" for one in "01" for name in ("LEVEL", "INNER.MARK")]
    assert list(registers) == [*(f"{unit}.{name}" for unit in ("UART0", "UART1") for name in names), "OTHER.COPY"]
    first = registers["UART1.FORMAT"]
    assert (first.bits, first.reset) == (16, 3)
    wanted = {"parity_on": 2, "parity_odd": 3, "length": "1:0", "flag0": 4, "flag1": 6, "flag2": 8}
    assert first.fields == lr.declare.Register(fields=wanted).fields == registers["OTHER.COPY"].fields
    assert (registers["UART0.FORMAT2"].bits, registers["UART0.FIFO1.LEVEL"].bits) == (32, 8)
    assert registers["UART0.FIFO0.INNER.MARK"].bits == 4


def test_a_sheet_takes_fields_from_a_description_and_compares_its_own(tmp_path):
    (tmp_path / "part.svd").write_text(SVD)
    more = '[register.FORMAT]\nsvd = "part.svd"\nnamed = "UART0.FORMAT"\nfields = { parity_odd = 4, length = "1:0" }\n'
    (tmp_path / "sheet.toml").write_text(ENDS + more)
    sheet = lr.open_sheet(tmp_path / "sheet.toml")
    assert sheet.registers["FORMAT"].read("parity_on", 0b100) == 1
    assert sheet.registers["FORMAT"].read("parity_odd", 0b10000) == 1
    assert [one.text.partition(". ")[0] for one in lr.plan(sheet).findings] == [
        "parity_odd of FORMAT is at bits 4 on the sheet, and at bits 3 in part.svd"
    ]
    assert lr.parse_sheet(lr.declare.sheet_text(sheet)) == sheet


@pytest.mark.parametrize(
    ("old", "new", "shown"),
    [
        ("<device>", "<!DOCTYPE a><device>", "declares entities"),
        ("</device>", "", "is not XML"),
        ('derivedFrom="FORMAT"', 'derivedFrom="LOST"', "is derived from LOST, which is not there"),
        ('derivedFrom="FORMAT"', 'derivedFrom="FORMAT2"', "in a ring"),
        ("<bitOffset>2</bitOffset>", "", "does not contain its bits"),
        ("<dim>2</dim><dimIncrement>4", "<dim>9999999</dim><dimIncrement>4", "of its kind"),
        ("<bitOffset>2<", "<bitOffset>two<", '"two"'),
    ],
)
def test_a_description_that_cannot_be_used_is_refused(old, new, shown):
    with pytest.raises(lr.SheetError) as error:
        lr.declare.read_svd(SVD.replace(old, new, 1).encode())
    assert shown in str(error.value)


RULES = """
[register.CONTROL]
bits = 8
reset = 0
fields = { on = 0, format = "3:1" }
[rule."bus clock on"]
must = true
sets = "clocked"
[rule.format]
write = "CONTROL.format"
only_while = "clocked"
locked_while = "on"
must = true
[rule."UART on"]
write = "CONTROL.on"
value = 1
only_while = "clocked"
needs = ["bus clock on", "pins to UART", "format"]
sets = "on"
must = true
note = "Manual, 12.4"
[rule."UART off"]
write = "CONTROL.on"
value = 0
clears = "on"
[rule."interrupts on"]
needs = "handler present"
"""
CLOCK, PINS, FORMAT, ON, OFF, HANDLER, INTERRUPTS = (
    'do = "bus clock on"', 'do = "pins to UART"', 'write = "CONTROL"\nvalue = 0x04', 'write = "CONTROL"\nvalue = 0x05',
    'write = "CONTROL"\nvalue = 0x04', 'do = "handler present"', 'do = "interrupts on"',
)  # fmt: skip
OTHER_FORMAT = 'write = "CONTROL"\nvalue = 0x03'

ORDERS = {
    "right": ([CLOCK, PINS, FORMAT, ON, HANDLER, INTERRUPTS], [], 5),
    "off before another format": ([CLOCK, PINS, FORMAT, ON, OFF, 'write = "CONTROL"\nvalue = 0x02', OTHER_FORMAT], [], 3),
    "no bus clock": (
        [PINS, FORMAT, ON],
        [("step-ignored", "Step 2, CONTROL = 0x4, is ignored unless clocked."),
         ("step-ignored", "Step 3, CONTROL = 0x5, is ignored unless clocked."),
         ("step-ignored", "Step 3, CONTROL = 0x5, is ignored unless clocked. Manual, 12.4."),
         ("step-missing", "bus clock on is never done."),
         ("step-missing", "format is never done with effect."),
         ("step-missing", "UART on is never done with effect. Manual, 12.4.")],
        None,
    ),
    "format while on": (
        [CLOCK, PINS, FORMAT, ON, OTHER_FORMAT], [("step-ignored", "Step 5, CONTROL = 0x3, is ignored while on.")], 5
    ),
    "pins too late": (
        [CLOCK, FORMAT, ON, PINS],
        [("step-order", "Step 3, CONTROL = 0x5, precedes pins to UART, which it requires. Manual, 12.4.")], 5,
    ),
    "no pins": (
        [CLOCK, FORMAT, ON],
        [("step-missing", "Step 3, CONTROL = 0x5, needs pins to UART, which is never done. Manual, 12.4.")], 5,
    ),
    "no handler": (
        [CLOCK, PINS, FORMAT, ON, INTERRUPTS],
        [("step-missing", "Step 5, interrupts on, needs handler present, which is never done.")], 5,
    ),
    "never on": ([CLOCK, PINS, FORMAT], [("step-missing", "UART on is never done. Manual, 12.4.")], 4),
}  # fmt: skip


@pytest.mark.parametrize("case", ORDERS)
def test_steps_are_held_against_the_rules(case):
    steps, wanted, held = ORDERS[case]
    text = ENDS + RULES + "".join(f'[[step]]\nend = "pump_head"\n{step}\n' for step in steps)
    sheet = lr.parse_sheet(text)
    found = lr.judge.judge_steps(sheet)
    assert [one.kind for one in found] == [kind for kind, _ in wanted]
    assert all(one.text.startswith(shown) for one, (_, shown) in zip(found, wanted, strict=True))
    assert written(sheet, "pump_head").get("CONTROL") == held
    assert lr.parse_sheet(lr.declare.sheet_text(sheet)) == sheet


def test_of_all_orders_those_pass_that_keep_to_the_rules():
    """The clock before what it clocks, and the pins before the UART is on; that write holds the format as well."""
    steps = {"clock": CLOCK, "pins": PINS, "format": FORMAT, "on": ON}
    for order in itertools.permutations(steps):
        text = "".join(f'[[step]]\nend = "pump_head"\n{steps[name]}\n' for name in order)
        at = {name: order.index(name) for name in order}
        is_right = at["clock"] < min(at["format"], at["on"]) and at["pins"] < at["on"]
        assert (lr.judge.judge_steps(lr.parse_sheet(ENDS + RULES + text)) == []) == is_right, order


@pytest.mark.parametrize(
    ("more", "shown"),
    [
        ('[register.A]\nfields = { a = "9-3" }', "must be bits, as in 9"),
        ('[register.A]\nbits = 8\nfields = { a = "9:8" }', "must lie within 8 bits"),
        ('[register.A]\nfields = { a = ["3:1", "2"] }', "has a bit twice"),
        ('[register.A]\nsvd = "lost.svd"', 'register.A.svd = "lost.svd"\n      cannot be read'),
        ('[meaning.pump]\nparity = { of = "A.b", values = { 0 = "N" } }', "is not an end of this sheet"),
        ('[meaning.pump_head]\nparity = { of = "A.b", values = { 0 = "N" } }', "must be a field of a register"),
        ('[meaning.pump_head]\nparity = { of = "A.b", values = { "0 1" = "N" } }', "must be 1 number or *"),
        (
            '[register.A]\nfields = { b = 0 }\n[meaning.pump_head]\nstop_bits = { of = "A.b", values = { 1 = "two" } }',
            'meaning.pump_head.stop_bits.values.1 = "two"\n      must be 1, 1.5, 2.',
        ),
        (
            '[register.A]\nend = "controller"\nfields = { b = 0 }\n[meaning.pump_head]\nstop_bits = { of = "A.b", values = { 1 = 2 } }',
            '"A.b"\n      is of controller, and this is what the registers of pump_head mean.',
        ),
        ('[rule.a]\nlocked_while = "of"\nsets = "on"', '"of"\n      is a state that no rule sets or clears'),
        ('[[step]]\nend = "pump_head"\ndo = "a"\nwrite = "B"', "must have either do = a name, or write"),
        ('[[step]]\ndo = "a"', "step[0].end\n      is missing: name the end that does it (controller, pump_head)"),
    ],
)
def test_mistakes_in_the_set_up_are_told_with_their_place(more, shown):
    with pytest.raises(lr.SheetError) as error:
        lr.parse_sheet(ENDS + more)
    assert shown in str(error.value)
