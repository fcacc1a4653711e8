"""Pins, joints, levels and supplies: what is sound is not blamed, and each mistake is told alone."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larkreader as lr

SOUND = """
sheet = 1
[line]
baud = 57_600
[wire.to_pump]
[wire.from_pump]
[end.controller]
sends = "to_pump"
receives = "from_pump"
levels = "lvcmos-3.3"
pin.tx = { pad = "P4.1" }
pin.rx = { pad = "P4.2" }
pin.gnd = {}
pin.vcc = { volts = 5, gives_a = 0.5 }
[end.pump_head]
sends = "from_pump"
receives = "to_pump"
levels = "lvcmos-3.3"
pin.tx = {}
pin.rx = {}
pin.gnd = {}
pin.vcc = { volts = 5, draws_a = 0.2 }
[[joint]]
joins = ["controller.tx", "pump_head.rx"]
length_m = 2
[[joint]]
joins = ["controller.rx", "pump_head.tx"]
[[joint]]
joins = ["controller.gnd", "pump_head.gnd"]
[[joint]]
joins = ["controller.vcc", "pump_head.vcc"]
"""
TX_RX, RX_TX = '["controller.tx", "pump_head.rx"]', '["controller.rx", "pump_head.tx"]'
TAP = """
[end.tap]
receives = "to_pump"
levels = "lvcmos-3.3"
pin.rx = {}
pin.tx = {}
pin.gnd = {}
[[joint]]
joins = ["tap.gnd", "pump_head.gnd"]
[[joint]]
joins = ["tap.rx", "pump_head.rx"]
"""


def judge(*changes, more=""):
    text = SOUND
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    return lr.judge.judge_wiring(lr.parse_sheet(text + more))


def test_a_sound_link_is_not_blamed():
    assert judge() == []
    assert judge(more=TAP) == []


CASES = {
    "TX to TX": (
        [(TX_RX, '["controller.tx", "pump_head.tx"]'), (RX_TX, '["controller.rx", "pump_head.rx"]')],
        ["pins-swapped", "pins-swapped", "outputs-collide"],
        "controller and pump_head are joined TX to TX and RX to RX.",
    ),
    "no wire back": (
        [(f"[[joint]]\njoins = {RX_TX}\n", "")], ["joint-missing"], "TX of pump_head is not joined to RX of controller."
    ),
    "no ground": (
        [('[[joint]]\njoins = ["controller.gnd", "pump_head.gnd"]\n', "")], ["ground-missing"],
        "Nothing joins the grounds of controller and pump_head.",
    ),
    "one of two signals is isolated": (
        [('[[joint]]\njoins = ["controller.gnd", "pump_head.gnd"]\n', ""), (TX_RX, TX_RX + "\nisolates = true")],
        ["ground-missing"], "Nothing joins the grounds of controller and pump_head.",
    ),
    "an end that receives without an RX pin": (
        [("pin.rx = {}\n", ""), (f"[[joint]]\njoins = {TX_RX}\nlength_m = 2\n", "")],
        ["pin-missing"], "pump_head receives to_pump, but has no RX pin.",
    ),
    "an end that sends without a TX pin": (
        [("pin.tx = {}\n", ""), (f"[[joint]]\njoins = {RX_TX}\n", "")],
        ["pin-missing"], "pump_head sends from_pump, but has no TX pin.",
    ),
    "5 V into 3.3 V": (
        [('pin.tx = {}', 'pin.tx = { levels = "cmos-5" }')], ["level-too-high"],
        "pump_head.tx drives up to 5.5 V, and controller.rx tolerates -0.3 to 3.9 V.",
    ),
    "5 V into an input that bears it": (
        [('pin.tx = {}', 'pin.tx = { levels = "cmos-5" }'), ('pin.rx = { pad', 'pin.rx = { limit_volts = [-0.3, 5.5], pad')],
        [], "",
    ),
    "5 V by a converter": (
        [('pin.tx = {}', 'pin.tx = { levels = "cmos-5" }'), (RX_TX, RX_TX + "\ntranslates = true")], [], ""
    ),
    "3.3 V into 5 V CMOS, which reads high from 3.5 V": (
        [('pin.rx = {}', 'pin.rx = { levels = "cmos-5" }')], ["level-not-read"],
        "controller.tx drives low up to 0.4 V and high from 2.4 V; pump_head.rx reads low up to 1.5 V and high from 3.5 V.",
    ),
    "3.3 V into 5 V TTL, which reads high from 2 V": ([('pin.rx = {}', 'pin.rx = { levels = "ttl-5" }')], [], ""),
    "line driver into logic": (
        [('pin.tx = {}', 'pin.tx = { levels = "eia-232" }')], ["polarity-mismatch", "level-too-high"],
        "pump_head.tx drives -15 to 15 V",
    ),
    "line driver through a converter that is not declared to invert": (
        [('pin.tx = {}', 'pin.tx = { levels = "eia-232" }'), (RX_TX, RX_TX + "\ntranslates = true")], ["polarity-mismatch"],
        "declare inverts = true on the joint beside translates = true.",
    ),
    "line driver through a converter that inverts": (
        [('pin.tx = {}', 'pin.tx = { levels = "eia-232" }'), (RX_TX, RX_TX + "\ntranslates = true\ninverts = true")], [], ""
    ),
    "an inverter that nobody wants": (
        [(TX_RX, TX_RX + "\ninverts = true")], ["polarity-mismatch"],
        "controller.tx rests high and pump_head.rx expects high, and what lies between them inverts.",
    ),
    "an inverter that the receiver expects": (
        [(TX_RX, TX_RX + "\ninverts = true"), ('receives = "to_pump"', 'receives = "to_pump"\nline = { idle = "low" }'),
         (RX_TX, RX_TX + "\ninverts = true")], [], "",
    ),
    "open-drain without a pull-up": (
        [('pin.tx = { pad = "P4.1" }', 'pin.tx = { drive = "open-drain" }')], ["pull-up-missing"], "controller.tx drives low alone"
    ),
    # 2 m of 100 pF/m and two pins of 20 pF: 2.2 x 47 kohm x 240 pF = 24.8 µs, a bit lasts 17.4
    "a pull-up that is too weak": (
        [('pin.tx = { pad = "P4.1" }', 'pin.tx = { drive = "open-drain" }'), (TX_RX, TX_RX + "\npull_up_ohms = 47_000")],
        ["slow-edge"], "take 24.8 µs from low to high, 143 % of a bit",
    ),
    # 0.25 of a bit by 2.2 and 240 pF is 8.2 kohm
    "a pull-up that will do": (
        [('pin.tx = { pad = "P4.1" }', 'pin.tx = { drive = "open-drain" }'), (TX_RX, TX_RX + "\npull_up_ohms = 8_200")], [], ""
    ),
    "one pad for two pins": (
        [('pad = "P4.2"', 'pad = "P4.1"')], ["pin-used-twice"], "P4.1 of controller is used as tx and rx."
    ),
    "a pad that the debug link has": (
        [('levels = "lvcmos-3.3"\npin.tx = { pad', 'taken = "P4.1"\nlevels = "lvcmos-3.3"\npin.tx = { pad')],
        ["pin-used-twice"], "P4.1 of controller is used as tx and something else.",
    ),
    "a jumper": (
        [('pin.tx = {}', 'pin.tx = {}\njumper.J2 = { is = "debug", wanted = "UART" }')], ["jumper-wrong"],
        "J2 of pump_head is set to debug, but must be set to UART.",
    ),
    "a UART in software": (
        [('pin.tx = {}', "pin.tx = {}\nmost_baud = 19_200")], ["baud-too-high"],
        "pump_head needs 57,600 baud, but can do 19,200 at most.",
    ),
    "a supply that is too weak": (
        [("gives_a = 0.5", "gives_a = 0.1")], ["supply-too-weak"], "pump_head.vcc draws 200 mA, and controller.vcc gives 100 mA"
    ),
    "a supply of the wrong voltage": ([("volts = 5, draws", "volts = 3.3, draws")], ["supply-too-weak"], "is of 5 V, and"),
    "logic levels over a long cable": ([("length_m = 2", "length_m = 12")], ["cable-too-long"], "12 m of logic levels"),
    "two feed one wire": ([("draws_a", "gives_a")], ["outputs-collide"], "feed the same wire"),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_each_mistake_is_told_and_what_is_sound_is_not(case):
    changes, kinds, shown = CASES[case]
    found = judge(*changes)
    assert [one.kind for one in found] == kinds
    assert shown in " ".join(f"{one.text} {one.advice}" for one in found)


@given(*[st.sampled_from(["high", "low"])] * 3, *[st.booleans()] * 3, st.permutations(range(4)))
def test_idle_levels_agree_as_often_as_the_line_inverts(sheet_idle, sends, receives, inverts, driver, tapped, order):
    """Each of an inverter and a line driver's pin turns the level round; a tap behind the same inverter sees the same."""
    pins = ["controller.tx", "pump_head.rx", *(["tap.rx"] if tapped else [])]
    ends = {
        "controller": {"sends": "to_pump", "line": {"idle": sends}, "pin": {"tx": {}, "gnd": {}}},
        "pump_head": {"receives": "to_pump", "line": {"idle": receives}, "pin": {"rx": {}, "gnd": {}}},
        "tap": {"receives": "to_pump", "line": {"idle": receives}, "pin": {"rx": {}, "gnd": {}}},
    }
    if driver:
        ends["controller"]["pin"]["tx"] = {"levels": "eia-232"}
    keys = list(ends)[: 3 if tapped else 2]
    joined = [pins[place] for place in order if place < len(pins)]
    sheet = lr.Sheet(
        wire={"to_pump": {"line": {"idle": sheet_idle}}},
        end={key: ends[key] for key in sorted(keys, key=lambda key: order[keys.index(key)])},
        joint=[
            {"joins": joined, "inverts": inverts, "translates": True},
            {"joins": [f"{key}.gnd" for key in keys]},
        ],
    )
    fits = (sends == receives) == (inverts == driver)
    found = [one.kind for one in lr.plan(sheet).findings]
    assert set(found) <= {"polarity-mismatch", "setting-mismatch"}
    assert ("polarity-mismatch" in found) != fits
    assert ("setting-mismatch" in found) == (sheet_idle not in (sends, receives))


@given(st.lists(st.booleans(), min_size=2, max_size=2), st.booleans())
def test_grounds_may_be_apart_only_where_every_signal_is_isolated(isolated, grounds_joined):
    sheet = SOUND if grounds_joined else SOUND.replace('[[joint]]\njoins = ["controller.gnd", "pump_head.gnd"]\n', "")
    for joint, isolates in zip((TX_RX, RX_TX), isolated, strict=True):
        sheet = sheet.replace(joint, f"{joint}\nisolates = {str(isolates).lower()}")
    found = [one.kind for one in lr.judge.judge_wiring(lr.parse_sheet(sheet))]
    assert found == ([] if grounds_joined or all(isolated) else ["ground-missing"])


def test_a_sheet_without_a_baud_agrees_with_itself():
    assert lr.plan(lr.parse_sheet(SOUND.replace("baud = 57_600\n", ""))).findings == ()


def test_a_tap_must_only_listen():
    found = judge(more=TAP + '[[joint]]\njoins = ["tap.tx", "controller.rx"]\n')
    assert [(one.kind, one.text.partition(" drive ")[0]) for one in found] == [
        ("outputs-collide", ["controller.rx", "pump_head.tx", "tap.tx"][1] + " and tap.tx")
    ]


def test_hardware_flow_control_needs_its_pins():
    flow = ("baud = 57_600", 'baud = 57_600\nflow_control = "rts-cts"')
    pins = [("pin.gnd = {}", "pin.gnd = {}\npin.rts = {}\npin.cts = {}")]
    assert [one.advice for one in judge(flow, *pins)] == [
        "Join pump_head.rts to controller.cts.", "Join controller.rts to pump_head.cts."
    ]  # fmt: skip
    joints = '[[joint]]\njoins = ["{}.rts", "{}.cts"]\n'
    right = joints.format("controller", "pump_head") + joints.format("pump_head", "controller")
    assert judge(flow, *pins, more=right) == []
    straight = '[[joint]]\njoins = ["controller.rts", "pump_head.rts"]\n'
    assert [one.kind for one in judge(flow, *pins, more=straight)] == [
        "pins-swapped",
        "pins-swapped",
        "outputs-collide",
    ]


@pytest.mark.parametrize(
    ("levels", "length_m", "baud", "shown"),
    [
        ("eia-232", 20, 19_200, ""),
        ("eia-232", 30, 19_200, "30 m have 3,000 pF"),  # 100 pF/m, and 2500 pF are the most
        ("eia-485", 900, 100_000, ""),
        ("eia-485", 900, 250_000, "should be 400 m long at most"),  # 1e8 / 250,000
        ("eia-485", 1300, 9_600, "should be 1,200 m long at most"),
    ],
)
def test_cables_are_as_long_as_their_levels_allow(levels, length_m, baud, shown):
    changes = [('"lvcmos-3.3"', f'"{levels}"'), ("length_m = 2", f"length_m = {length_m}"), ("57_600", f"{baud}")]
    found = judge(*changes)
    assert [one.kind for one in found] == (["cable-too-long"] if shown else [])
    assert shown in "".join(one.text for one in found)


@pytest.mark.parametrize(
    ("change", "shown"),
    [
        ((TX_RX, '["controller.tz", "pump_head.rx"]'), 'joint[0].joins[0] = "controller.tz"'),
        ((TX_RX, '["controller.tx"]'), "joint[0].joins"),
        (
            ("pin.gnd = {}", "pin.earth = {}"),
            "end.controller.pin.earth.role\n      is missing: cts, ground, rts, rx, supply, tx",
        ),
        (('pad = "P4.1"', "input_volts = [2.0, 0.8]"), "has volts that are not in order"),
        (('"lvcmos-3.3"', '"3.3 V"'), 'end.controller.levels = "3.3 V"'),
    ],
)
def test_mistakes_in_the_wiring_are_told_with_their_place(change, shown):
    with pytest.raises(lr.SheetError) as error:
        judge(change)
    assert shown in str(error.value)
