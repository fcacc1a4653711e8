"""Divisors, margins, load and ends: against arithmetic on paper, brute force, and a simulated receiver."""

from itertools import product

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st
from strategies import examples

import larkreader as lr
from larkreader.judge.calculate.budget import frame_size
from larkreader.judge.calculate.divisors import of_formula

HIGH_LOW = [
    {"name": "BAUDH", "bits": 8, "holds": [{"of": "divisor", "bits": 4, "from": 8}]},
    {"name": "BAUDL", "bits": 8, "holds": [{"of": "divisor", "bits": 8}]},
]
PACKED = [{"name": "BAUD", "holds": [{"of": "divisor", "bits": 12, "at": 4}, {"of": "fraction", "bits": 4}]}]
WHOLE, LESS_ONE = {"divisor_bits": 12}, {"divisor_bits": 12, "holds": "N-1"}
TABLE = ["0000_0000", "0100_0100", "0101_0101", "0111_0111"]

ON_PAPER = {
    # 10e6 / 16 / 38400 = 16.276; 10e6 / 16 / 16 = 39062.5
    "whole": (10e6, WHOLE, 38400, {"divisor": 16}, 39062.5, 1.72526),
    # 16e6 / 16 / 9600 = 104.17
    "one less": (16e6, LESS_ONE, 9600, {"divisor": 103}, 9615.385, 0.16026),
    # 16 times: 8.68, 9 is 3.5 % off; 8 times: 17.36, 17 is 2.1 % off
    "16 or 8 times": (16e6, {**LESS_ONE, "oversampling": [16, 8]}, 115200, {"divisor": 16, "oversampling": 1}, 117647.06, 2.12418),
    # 1e6 / 4 / 19200 = 13.02
    "4 times": (1e6, {**WHOLE, "oversampling": 4}, 19200, {"divisor": 13}, 19230.77, 0.16026),
    # 72e6 / 16 / 115200 = 39.0625 = 39 + 1/16
    "fraction": (72e6, {**WHOLE, "fraction_bits": 4, "words": PACKED}, 115200, {"divisor": 39, "fraction": 1}, 115200, 0),
    # 42e6 / 8 / 921600 = 5.697, times 8 is 45.57; 46/8 = 5 + 6/8, 42e6 / 46
    "fraction of 3 bits": (42e6, {**WHOLE, "oversampling": 8, "fraction_bits": 3}, 921600, {"divisor": 5, "fraction": 6}, 913043.48, -0.92844),
    # 12e6 / 16 / 57600 = 13.0208, times 64 is 833.3; 833/64 = 13 + 1/64, 12e6 / 208.25
    "fraction finer than a tick": (12e6, {**WHOLE, "fraction_bits": 6}, 57600, {"divisor": 13, "fraction": 1}, 57623.05, 0.04002),
    # 115200 * 16 * 2^20 / 32e6 = 60397.98: 60398 is nearest, yet bit 9 ends at tick 2499 of 2500; with 60376 none is a tick early
    "accumulator": (32e6, {"divisor_bits": 20, "accumulator_bits": 20}, 115200, {"divisor": 60376}, 115158.081, -0.036388),
    # 24e6 / 64 / 16 / 300 = 78.125, and by 16 it would be 312
    "prescaler": (24e6, {"divisor_bits": 8, "holds": "N-1", "prescaler": [1, 4, 16, 64]}, 300, {"divisor": 77, "prescaler": 3}, 300.4808, 0.16026),
    # 24e6 / 16 / 16 / 1200 = 78.125; codes as declared
    "prescaler with codes": (24e6, {"divisor_bits": 8, "prescaler": [1, 4, 16], "prescaler_codes": [0, 1, 3]}, 1200, {"divisor": 78, "prescaler": 3}, 1201.923, 0.16026),
    # 8e6 / 16 / 1200 = 416.67: 417, of which 416 = 0x1A0 is written
    "high and low": (8e6, {**LESS_ONE, "words": HIGH_LOW}, 1200, {"divisor": 416}, 1199.041, -0.07994),
    # 3.4133 ticks a bit; nearest ticks 3 7 10 14 17 20 24 27 31 34, so that bits 1 3 6 8 are longer; 10 bits in 34 ticks
    "pattern": (32768, {"oversampling": 1, "extra": 10}, 9600, {"divisor": 3, "extra": 0x14A}, 9637.647, 0.39216),
    # 6.8267 ticks a bit; 6 with the last pattern ends after 67 ticks and is 1.44 ticks off at worst, 7 without 1.73
    "pattern from a table": (32768, {"oversampling": 1, "extra": TABLE}, 4800, {"divisor": 6, "extra": 3}, 4890.746, 1.89055),
}  # fmt: skip


@pytest.mark.parametrize("case", ON_PAPER)
def test_divisors_are_those_found_on_paper(case):
    hertz, generator, baud, registers, true_baud, percent = ON_PAPER[case]
    best = lr.find_divisors(baud, lr.Clock(hertz=hertz), lr.BaudGenerator(**generator))[0]
    assert {name: best.registers[name] for name in registers} == registers
    assert best.baud == pytest.approx(true_baud, rel=1e-6)
    assert 100 * best.error == pytest.approx(percent, abs=1e-4)


def test_registers_are_written_and_read_in_their_order():
    packed, split = (
        lr.BaudGenerator(**WHOLE, fraction_bits=4, words=PACKED),
        lr.BaudGenerator(**LESS_ONE, words=HIGH_LOW),
    )
    assert lr.find_divisors(115200, lr.Clock(hertz=72e6), packed)[0].words == (("BAUD", 0x271, 16),)
    clock = lr.Clock(hertz=8e6)
    best = lr.find_divisors(1200, clock, split)[0]
    assert best.words == (("BAUDH", 0x01, 8), ("BAUDL", 0xA0, 8))
    assert lr.judge.calculate_setting((0x01, 0xA0), 1200, clock, split) == best
    assert lr.judge.calculate_setting((0x00, 0x19), 19200, clock, split).baud == pytest.approx(8e6 / 16 / 26)
    with pytest.raises(lr.RequestError, match="must be 2, of BAUDH, BAUDL"):
        lr.judge.calculate_setting((0x19,), 19200, clock, split)
    with pytest.raises(lr.RequestError, match=r"hold the divisor 0\. It must be 1 to 4095"):
        lr.judge.calculate_setting((0,), 19200, clock, packed)


def test_bit_boundaries_deviate_as_on_paper():
    """At 39062.5 instead of 38400 baud the k-th boundary is k * 38400 / 39062.5 bits after the start edge."""
    best = lr.find_divisors(38400, lr.Clock(hertz=10e6), lr.BaudGenerator())[0]
    assert best.deviations == pytest.approx([k * (38400 / 39062.5 - 1) for k in range(11)])
    pattern = lr.find_divisors(9600, lr.Clock(hertz=32768), lr.BaudGenerator(oversampling=1, extra=16))[0]
    assert pattern.boundary_ticks == (0, 3, 7, 10, 14, 17, 20, 24, 27, 31, 34)
    assert pattern.worst_deviation == pytest.approx((6 * 32768 / 9600 - 20) * 9600 / 32768)


def test_a_truncated_formula_is_off_by_more_than_a_rounded_one():
    clock, generator = lr.Clock(hertz=8e6), lr.BaudGenerator()
    truncated, rounded = (of_formula(57600, clock, generator, rounded=one) for one in (False, True))
    assert (truncated.divisor, rounded.divisor) == (8, 9)
    assert (100 * truncated.error, 100 * rounded.error) == pytest.approx((8.50694, -3.54938), abs=1e-4)
    adds = lr.BaudGenerator(divisor_bits=16, accumulator_bits=16)  # 57600 * 16 * 65536 / 8e6 = 7549.7
    assert [of_formula(57600, clock, adds, rounded=one).divisor for one in (False, True)] == [7549, 7550]
    fooled = of_formula(9600, clock, generator, rounded=True, believed=16e6)
    assert fooled.error == pytest.approx(-0.5, abs=0.01)


@examples(1)
@given(
    st.floats(20e3, 20e6).map(round),
    st.sampled_from([1, 4, 8, 16]),
    st.sampled_from([1, 3]),
    st.sampled_from([0, 1, 3, 6]),
    st.sampled_from([0, 4, 12, ("000", "010", "110")]),
    st.floats(300, 60e3).map(round),
)
def test_no_divisor_is_better_than_the_chosen_one(hertz, oversampling, prescaler, fraction_bits, extra, baud):
    generator = lr.BaudGenerator(
        oversampling=oversampling, prescaler=prescaler, divisor_bits=6, fraction_bits=fraction_bits, extra=extra
    )
    found = lr.find_divisors(baud, lr.Clock(hertz=hertz), generator)
    parts, bit = 1 << fraction_bits, hertz / prescaler / baud
    assume(bit < 90 * oversampling)
    if extra == 12:
        patterns = [[0] * 10, [1] * 10, *(list(one) for one in product((0, 1), repeat=10))]
    else:
        texts = extra if extra and not isinstance(extra, int) else ["".join(one) for one in product("01", repeat=extra)]
        patterns = [[int(text[k % len(text)]) if text else 0 for k in range(10)] for text in texts]
    added = np.cumsum(np.array(patterns), axis=1)
    numbers = np.arange(parts, 64 * parts)
    numbers = numbers[np.abs(numbers * oversampling / parts - bit) < bit / 2 + 3]  # worse ones are not worth the time
    ticks = np.arange(1, 11) * oversampling * numbers[:, None] // parts
    off = np.abs((ticks[:, None, :] + added[None]) / bit - np.arange(1, 11)).max(axis=2)
    assume(off.size)
    if found:
        assert found[0].worst_deviation == pytest.approx(off.min(), abs=1e-9)
    else:
        assert off.min() >= 0.5  # of a bit: the wanted baud is beyond the registers


@given(
    st.floats(20e3, 20e6).map(round),
    st.sampled_from([1, 8, 16]),
    st.integers(6, 14),
    st.integers(4, 12),
    st.floats(300, 60e3).map(round),
)
@example(8_000_000, 16, 20, 16, 31250)  # 65536 would be exact
@example(7_372_800, 16, 20, 16, 4800)  # 10922.67: the average of 10923 is nearer, each boundary of 10922 exact
def test_no_sum_of_an_accumulator_is_better_than_the_chosen_one(hertz, oversampling, accumulator, width, baud):
    assume(width <= accumulator)
    generator = lr.BaudGenerator(oversampling=oversampling, accumulator_bits=accumulator, divisor_bits=width)
    found = lr.find_divisors(baud, lr.Clock(hertz=hertz), generator)
    bit, sums = hertz / baud, np.arange(1, 1 << width)
    ticks = (np.arange(1, 11) * (oversampling << accumulator))[None] // sums[:, None]
    off = np.abs(ticks / bit - np.arange(1, 11)).max(axis=1)
    if found:
        assert found[0].worst_deviation == pytest.approx(off.min(), abs=1e-9)
    else:
        assert off.min() >= 0.5


@pytest.mark.parametrize("baud", [30_469, 31_250])
def test_a_divisor_with_a_fraction_just_beyond_its_register_is_the_highest(baud):
    """8 MHz: 16.41 and 16 with a register that ends at 15 15/16: 2.94 % and 0.39 % fast."""
    generator = lr.BaudGenerator(divisor_bits=4, fraction_bits=4)
    best = lr.find_divisors(baud, lr.Clock(hertz=8e6), generator)[0]
    assert (best.divisor, best.fraction) == (15, 15)
    assert best.error == pytest.approx(8e6 / 16 / (15 + 15 / 16) / baud - 1)


def edges_of(values, line, boundaries_s, begin_s):
    """Return the level changes of characters without gaps whose bits begin at given times after the start edge."""
    edges, level, now = [], 1, begin_s
    for value in values:
        bits = [0, *(value >> bit & 1 for bit in range(line.data_bits))]
        if line.has_parity:
            bits.append(sum(bits) % 2 ^ (line.parity == "O"))
        for begin, bit in zip(boundaries_s, [*bits, 1], strict=False):
            if bit != level:
                edges.append(now + begin)
                level = bit
        now += boundaries_s[-1] + (line.stop_bits - 1) * line.bit_time_s
    return np.array(edges)


def is_read(line, timing, stretch, oversampling, samples=1):
    """Tell whether a simulated receiver reads all characters at all phases of its clock against the start edge."""
    values = [0x00, 0x55 >> (8 - line.data_bits), 0x0A, 0x1F, 0x00]
    for phase in np.linspace(0, 1, 24, endpoint=False) + 1e-3:
        begin_s = (64 + phase) * line.bit_time_s / oversampling
        edges_s = edges_of(values, line, timing.boundaries_s * stretch, begin_s)
        trace = lr.Trace(np.rint(edges_s / 1e-10).astype(np.int64), 1e-10, 1, end=int(edges_s[-1] * 1e10 + 1e9))
        got = lr.receive(trace, line, samples=samples, oversampling=oversampling)
        if got.value.tolist() != values or (got.faults & ~lr.Fault.NOISE).any():
            return False
    return True


@pytest.mark.parametrize("text", ["9600 8N1", "9600 8E1", "9600 7O1", "9600 5N2"])
@pytest.mark.parametrize("oversampling", [8, 16])
@pytest.mark.parametrize("sender", ["even", "uneven"])
@pytest.mark.parametrize("samples", [1, 3])
def test_a_simulated_receiver_fails_where_the_margin_says(text, oversampling, sender, samples):
    line = lr.LineSettings.parse(text)
    receiver = lr.judge.Timing.even(line.baud, line, oversampling=oversampling)
    clock, generator = lr.Clock(hertz=32768), lr.BaudGenerator(oversampling=1, extra=16)
    setting = lr.find_divisors(line.baud, clock, generator, bits=line.stop_position + 1)[0]
    timing = lr.judge.Timing.even(line.baud, line) if sender == "even" else lr.judge.Timing.of_setting(setting)
    fastest, slowest = lr.calculate_margin(line, timing, receiver, samples=samples).window
    for stretch in (fastest * 1.004, (fastest + slowest) / 2, slowest * 0.998):
        assert is_read(line, timing, stretch, oversampling, samples), stretch
    for stretch in (fastest * 0.996, slowest * 1.002):
        assert not is_read(line, timing, stretch, oversampling, samples), stretch


def test_tolerance_is_what_every_text_book_derives():
    """8N1, 16 looks a bit: the stop bit's sample, 9.5 bits on, must be behind 9 bits; 9.5625 must be before 10."""
    line = lr.LineSettings.parse("9600 8N1")
    perfect = lr.judge.Timing.even(9600, line)
    margin = lr.calculate_margin(line, perfect, perfect)
    assert margin.tolerance == pytest.approx((9 / 9.5 - 1, 10 / 9.5625 - 1))
    rc, crystal = lr.judge.Timing.even(9600, line, spread=0.03), lr.judge.Timing.even(9600 * 1.02, line, spread=5e-5)
    worn = lr.calculate_margin(line, crystal, rc)
    assert worn.mismatch == pytest.approx(0.02)
    assert worn.left_nominal[1] == pytest.approx(10 / 9.5625 / 1.02 - 1)
    assert worn.left[1] == pytest.approx(10 / 9.5625 / 1.02 * 0.97 / 1.00005 - 1)
    assert worn.tightest < 0
    assert worn.dominant_end is rc


def test_a_clock_is_as_uncertain_as_its_parts():
    clock = lr.Clock(hertz=8e6, accuracy="±1 %", drift="20 ppm/K", temperature=(-40, 85))
    assert clock.spread == pytest.approx(0.01 + 65 * 20e-6)
    assert lr.Clock(hertz=1e6, accuracy="30 ppm", drift="0.5 %").spread == pytest.approx(0.00503)


def sheet_of(more, line="baud = 9600"):
    return lr.parse_sheet(f"sheet = 1\n[line]\n{line}\n[wire.to_pump]\n[wire.from_pump]\n{more}")


def kinds(planned):
    return [(one.kind, one.severity, one.wire) for one in planned.findings]


def test_load_is_what_the_characters_take():
    """9600 8N1 carries 960 characters a second."""
    sheet = sheet_of(
        """
        [[traffic]]
        wire = "to_pump"
        length = 48
        every_s = 0.1
        [[traffic]]
        wire = "to_pump"
        length = 24
        every_s = 1
        burst = 10
        samples = 6
        converter_rate = 100
        deadline_s = 0.2
        [frame.level]
        wire = "from_pump"
        boundary = { kind = "idle", characters = 3.5 }
        fields = [{ name = "level", type = "uint16" }, { name = "crc", type = "checksum" }]
        checksum = { algorithm = "CRC-16/MODBUS" }
        [[traffic]]
        frame = "level"
        every_s = 0.007
        """
    )
    load = lr.calculate_load(sheet)["to_pump"]
    assert load.share == pytest.approx(0.5 + 0.25)
    assert [one.delay_s for one in load.loads] == pytest.approx([0.3, 0.3])
    assert load.loads[1].highest_rate == pytest.approx(100 / 6)  # the wire could carry 20, the converter fills fewer
    assert (load.loads[1].highest_sample_rate, load.loads[1].limited_by) == (100, "converter")
    assert load.baud_needed == 9600
    rested = lr.calculate_load(sheet)["from_pump"]
    assert rested.share == pytest.approx((4 + 3.5) / 960 / 0.007)
    assert rested.baud_needed == 14_400
    slip = lr.FrameLayout(boundary={"kind": "slip"}, fields=[{"name": "data", "type": "bytes", "repeat": 128}])
    line = lr.LineSettings.parse("9600 8N1")
    assert frame_size(slip, line)[0] == 128 + 1 + 128 * 2 / 256  # RFC 1055: END behind, and two bytes of 256 escaped
    led = lr.FrameLayout(boundary={"kind": "break"}, fields=[{"name": "data", "type": "uint8"}])
    assert frame_size(led, line)[1] == pytest.approx((10 + 10 + 1) / 9600)
    assert kinds(lr.plan(sheet)) == [
        ("overloaded", "error", "from_pump"),
        ("missed-deadline", "warning", "to_pump"),
        ("missed-deadline", "warning", "to_pump"),
    ]


@given(
    st.integers(1, 40).map(lambda tens: 10 * tens),
    st.integers(20, 2000),
    st.integers(-1, 1),
    st.lists(st.integers(1, 300), min_size=1, max_size=5),
)
def test_exactly_all_of_a_wire_and_exactly_the_deadline_are_not_too_much(kilobaud, every_ms, more, lengths):
    """One second of 1000 baud is 100 characters of ten bits: whole numbers decide, and no rounding of seconds."""
    room = kilobaud * every_ms // 10
    rest = room + more - sum(lengths)
    assume(rest > 0)
    traffic = [{"wire": "to_pump", "length": length, "every_s": every_ms / 1000} for length in (*lengths, rest)]
    sheet = lr.Sheet(wire={"to_pump": {"line": {"baud": 1000 * kilobaud}}}, traffic=traffic)
    overloaded = more > 0
    assert kinds(lr.plan(sheet)) == ([("overloaded", "error", "to_pump")] if overloaded else [])
    assert (lr.calculate_load(sheet)["to_pump"].share == 1) == (more == 0)


def test_what_is_left_is_a_share_of_the_baud_on_both_sides():
    """Of 8N1 with 16 looks a bit: slower by 1 - 9 / 9.5, faster by 10 / 9.5625 - 1; of a sender 2 % slow, the rest."""
    line = lr.LineSettings.parse("9600 8N1")
    margin = lr.calculate_margin(line, lr.judge.Timing.even(9600, line), lr.judge.Timing.even(9600, line))
    assert margin.left_nominal == pytest.approx((1 - 9 / 9.5, 10 / 9.5625 - 1))
    assert margin.left_nominal == pytest.approx((-margin.tolerance[0], margin.tolerance[1]))
    slow = 1 / 0.98
    assert margin.left_at(slow) == pytest.approx(1 - 9 / 9.5 / 0.98)


ENDS = """
[clock.crystal]
hertz = 16_000_000
[clock.oscillator]
hertz = 8_000_000
accuracy = "2 %"
[generator.whole]
divisor_bits = 8
[end.controller]
sends = "to_pump"
receives = "from_pump"
clock = "crystal"
generator = "whole"
{controller}
[end.pump_head]
sends = "from_pump"
receives = "to_pump"
clock = ["oscillator", "crystal"]
generator = "whole"
{pump_head}
"""


@pytest.mark.parametrize(
    ("baud", "controller", "pump_head", "wanted", "shown"),
    [
        (9600, "", "", [], ""),
        (9600, 'line = { format = "8E1" }', 'line = { format = "9E1" }\nparity_counted = true',
         [("setting-mismatch", "warning")], "The ends agree, but the sheet declares another value."),
        (9600, 'line = { format = "8E1" }', 'line = { format = "9E1" }',
         [("setting-mismatch", "error"), ("setting-mismatch", "warning")],
         "If the 9 bits that pump_head states include the parity bit (parity_counted), they agree."),
        (9600, 'line = { baud = 19200 }\nstated_in = "link.c"', "", [("setting-mismatch", "error")] +
         [("beyond-tolerance", "error")] * 2, "19,200 at controller (link.c)"),
        (9600, "", 'line = { format = "8N2" }', [("setting-mismatch", "warning")], "check the first stop bit alone"),
        # 8e6 / 16 / 57600 = 8.68, cut off to 8: +8.5 %; the crystal's 17 is +2.1 %
        (57600, "", 'formula = "truncated"', [("beyond-tolerance", "error")] * 2 + [("divisor-not-best", "warning")],
         "The truncated formula gives pump_head 8: +8.51 %."),
        (9600, "believed_hertz = 8_000_000", "", [("clock-mismatch", "error"), ("beyond-tolerance", "error"),
         ("beyond-tolerance", "error")], "bauds are 2 times what they should be"),
        # 16e6 / 16 / 300 = 3333 is more than 8 bits hold
        (300, "", "", [("no-divisor", "error")] * 2, "controller needs 300 baud."),
    ],
)  # fmt: skip
def test_what_is_wrong_with_the_ends_is_told(baud, controller, pump_head, wanted, shown):
    sheet = sheet_of(ENDS.format(controller=controller, pump_head=pump_head), f"baud = {baud}")
    planned = lr.plan(sheet)
    assert [(one.kind, one.severity) for one in planned.findings] == wanted
    assert shown in " ".join(one.text for one in planned.findings)
    assert lr.parse_sheet(lr.declare.sheet_text(sheet)) == sheet


def test_the_remedy_is_one_that_helps():
    """8 MHz makes 57600 badly; the crystal, which pump_head could use as well, is better."""
    sheet = sheet_of(ENDS.format(controller="line = { baud = 57600 }", pump_head=""), "baud = 57600")
    worst = lr.plan(sheet).findings[0]
    assert worst.kind == "beyond-tolerance"
    assert worst.advice.startswith("Write 17 at pump_head: +2.12 %")


@pytest.mark.parametrize(
    ("more", "shown"),
    [
        ("[clock.c]\nhertz = 8e6\naccuracy = 0.01", "must be text in quotes"),
        ('[clock.c]\nhertz = 8e6\naccuracy = "fair"', 'must be a share, as in "50 ppm" or "1.5 %"'),
        ('[clock.c]\nhertz = 8e6\ndrift = "20 ppm/K"', "a drift of every kelvin needs temperature"),
        ('[end.a]\nsends = "to_pmp"', 'end.a.sends = "to_pmp"\n      is not a wire of this sheet. Did you mean "to_pump"?'),
        ('[end.a]\nsends = "to_pump"\ngenerator = "g"', "is not on this sheet, which has no [generator.*]"),
        ('[end.a]\nsends = "to_pump"\nline = { parity = "E" }', "end.a.line.parity\n      is not a key of [line]"),
        ("[generator.g]\ndivisor_bits = 12\nwords = [{ name = \"B\", holds = [{ of = \"divisor\", bits = 8 }] }]",
         "must hold bits 8, 9, 10, 11 of the divisor, as no word does"),
        ("[generator.g]\nextra = [\"012\"]", 'generator.g.extra[0] = "012"\n      must be 1 to 32 of the digits 0 and 1'),
        ("[generator.g]\ndivisor_bits = 12\naccumulator_bits = 16\nfraction_bits = 4", "does not go with fraction_bits, extra"),
        ("[generator.g]\noversampling = [16, 8]\nfraction_bits = [4, 3, 2]", "must be one number, or one for each"),
        ("[[traffic]]\nevery_s = 1", "needs a frame, or a wire and a length"),
        ("[traffic]\nevery_s = 1", "must be tables, each begun with [[traffic]]"),
    ],
)  # fmt: skip
def test_mistakes_in_what_is_planned_are_told_with_their_place(more, shown):
    with pytest.raises(lr.SheetError) as error:
        sheet_of(more)
    assert shown in str(error.value)


def test_a_divisor_prints_what_to_write_and_a_mere_number_is_refused():
    clock, generator = lr.Clock(hertz=16e6), lr.BaudGenerator(holds="N-1", divisor_bits=12)
    best = lr.find_divisors(9600, clock, generator)[0]
    assert repr(best) == "<BaudSetting for 9600 baud: divisor 103; 9615.38 baud, +0.16 %>"
    with pytest.raises(lr.RequestError, match=r"must be a Clock, as in Clock\(hertz=16000000\.0\)"):
        lr.find_divisors(9600, 16e6, generator)
    with pytest.raises(ValueError, match="must be a number of hertz, as in 20e6"):
        lr.Clock(hertz="20M")
