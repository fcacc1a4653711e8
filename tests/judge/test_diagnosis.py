import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from strategies import line_settings

import larkreader as lr
from larkreader.cli import run

TEXT = b"flow 12.5 mL/min pressure 101.3 kPa\r\ntemperature 21.9 degC\r\n" * 2
LINE = lr.LineSettings.parse("57600 8E1")


def sent_as(text, values=TEXT, **options):
    return lr.transmit(values, lr.LineSettings.parse(text), **options)


@given(line_settings(most_data_bits=8), st.integers(0, 2**32 - 1), st.sampled_from([0, -9000, 15000]))
def test_the_clock_of_a_sender_is_measured_within_its_uncertainty(line, seed, ppm):
    """With jitter of two hundredths of a bit, pauses at random, and edges of one direction late."""
    random = np.random.default_rng(seed)
    values = random.integers(0, 1 << line.data_bits, 80)
    trace = lr.transmit(values, line, gaps=random.exponential(4, 80), clock_error_ppm=ppm)
    bit = 1e9 / line.baud / (1 + ppm * 1e-6)
    edges = trace.edges + random.normal(0, 0.02 * bit, len(trace.edges))
    edges[1::2] += 0.08 * bit
    seen = lr.measure_wire(lr.Trace(np.rint(edges).astype(np.int64), 1e-9, trace.first_level), line)
    assert abs(seen.deviation_ppm - ppm) < 6 * seen.baud_uncertainty_ppm + 1
    assert seen.baud_uncertainty_ppm < 4000
    assert seen.idle == line.idle


def test_a_survey_tells_pauses_symmetry_and_glitches():
    """Sixteen characters a message, two bits apart, messages a hundred bits apart; rises come late; one glitch."""
    gaps = np.where(np.arange(160) % 16 == 0, 100.0, 2.0)
    values = np.random.default_rng(1).integers(0, 256, 160)
    trace = lr.transmit(values, LINE, gaps=gaps)
    bit_ns = 1e9 / 57600
    edges = trace.edges.copy()
    edges[1::2] += 1000  # the wire idles high, so that every second change is a rise
    place = int(edges[200]) + 1
    spiked = np.sort(np.concatenate([edges, [place + 6000, place + 7000]]))
    seen = lr.measure_wire(lr.Trace(spiked, 1e-9, 1, end=trace.end), LINE)
    assert seen.best.line.format == "8E1"
    assert seen.baud == pytest.approx(57600, rel=1e-4)
    assert seen.asymmetry_s == pytest.approx(1e-6, rel=0.05)
    assert 1 <= seen.glitches <= 3
    assert seen.character_gaps.median_s == pytest.approx(2 * bit_ns * 1e-9, rel=0.01)
    assert (seen.message_gaps.count, seen.message_gaps.median_s) == (9, pytest.approx(100 / 57600, rel=0.01))


@pytest.mark.parametrize(
    ("sent", "kind", "text"),
    [
        (
            "28800 8E1",
            "baud-mismatch",
            "The wire is 2 times slower. A divisor for 16 times oversampling where 8 is set",
        ),
        ("172800 8E1", "baud-mismatch", "The wire is 3 times as fast."),
        ("60480 8E1", "baud-mismatch", "Declared 57600 baud, measured 60480 baud ±1 ppm (+5 %)."),
        ("57600 8E1 idle-low", "polarity-mismatch", "Declared idle high, measured idle low."),
        ("57600 8N1", "parity-mismatch", "Declared even parity, sent no parity."),
        ("57600 8O1", "parity-mismatch", "Declared even parity, sent odd parity."),
        ("57600 7E1", "data-bits-mismatch", "The sender's word of 8 bits counts the parity bit."),
        ("57600 8E1 msb", "bit-order-mismatch", "Declared the lowest bit first, sent the highest bit first."),
    ],
)
def test_each_mistake_is_told_as_what_it_is(sent, kind, text):
    found = lr.diagnose(sent_as(sent), LINE)
    assert (found.findings[0].kind, found.verdict) == (kind, "faults")
    assert text in found.findings[0].text
    assert found.proposal == lr.LineSettings.parse(sent)
    assert found.findings[0].score > 0.99


def test_a_clock_that_is_not_the_one_believed_in_is_named():
    """A divisor for 16 MHz on a board with 12 MHz."""
    found = lr.diagnose(sent_as("43200 8E1"), LINE)
    assert [one.kind for one in found.findings] == ["baud-mismatch", "clock-mismatch"]
    assert "The ratio is 0.7500: 16 MHz assumed, 12 MHz on the board" in found.findings[1].text


def test_stop_bits_that_are_too_few_are_told():
    (finding,) = lr.diagnose(sent_as("57600 8E1"), lr.LineSettings.parse("57600 8E2")).findings
    assert (finding.kind, finding.severity) == ("stop-bits-mismatch", "warning")
    assert "some characters begin 1 bit before their end" in finding.text


@pytest.mark.parametrize("settings", ["8N1", "8E1", "8O1", "7E1", "9N1", "8N2", "8N1 idle-low"])
def test_a_wire_that_is_as_declared_is_not_accused(settings):
    """Values at random, a clock one percent off, a capture of sixteen ticks a bit."""
    line = lr.LineSettings.parse(f"57600 {settings}")
    values = np.random.default_rng(3).integers(0, 1 << line.data_bits, 200)
    trace = lr.transmit(values, line, clock_error_ppm=-10_000, tick_s=1 / 57600 / 16)
    found = lr.diagnose(trace, line)
    assert ([one.kind for one in found.findings], found.verdict) == (["as-declared"], "clean")


@pytest.mark.parametrize("value", [0x00, 0x55, 0xF0, 0xFF])
@pytest.mark.parametrize("gap", [0, 7.3])
def test_values_that_are_all_alike_are_not_accused(value, gap):
    """They fit several bauds, and the declared one among them."""
    found = lr.diagnose(sent_as("57600 8N1", bytes([value]) * 100, gaps=gap), lr.LineSettings.parse("57600 8N1"))
    assert ([one.kind for one in found.findings], found.verdict) == (["as-declared"], "clean")


def test_a_capture_too_coarse_for_the_baud_is_said_to_be_so():
    trace = sent_as("57600 8N1", tick_s=1 / 57600 / 2)
    (finding,) = lr.diagnose(trace, lr.LineSettings.parse("57600 8N1")).findings
    assert (finding.kind, finding.advice) == ("undecided", "Record with 518,400 samples a second or more.")
    assert "A bit of 57600 baud lasts 2 ticks of the capture" in finding.text


def test_noise_and_a_second_sender_are_told_apart():
    random = np.random.default_rng(4)
    clean = sent_as("57600 8E1")
    places = random.integers(clean.edges[0], clean.edges[-1], 12)
    times, often = np.unique(np.concatenate([clean.edges, places, places + 9000]), return_counts=True)
    noisy = lr.Trace(times[often % 2 == 1], 1e-9, 1, end=clean.end)
    assert lr.diagnose(noisy, LINE).findings[0].kind == "noisy-line"
    other = lr.transmit(random.integers(0, 256, 110), LINE, gaps=random.uniform(0, 3, 110))
    times = np.unique(np.concatenate([clean.edges, other.edges]))
    both = np.logical_and.reduce(
        [(1 + np.searchsorted(one.edges, times, side="right")) % 2 == 1 for one in (clean, other)]
    )
    joined = lr.Trace(times[np.diff(both, prepend=True)], 1e-9, 1)
    (finding,) = lr.diagnose(joined, LINE).findings
    assert finding.kind == "two-senders"


def test_settings_are_proposed_where_none_are_declared():
    found = lr.diagnose(sent_as("115200 7O1", clock_error_ppm=8000))
    assert (str(found.proposal), found.verdict, found.findings[0].kind) == ("115200 7O1", "clean", "best-settings")
    assert "Measured 1161" in found.findings[0].text


@pytest.mark.parametrize(
    ("trace", "kind"),
    [
        (lr.Trace(np.empty(0, np.int64), end=10**9), "silence"),
        (sent_as("57600 8E1", b"abc"), "undecided"),
        (lr.Trace(np.array([5]), end=10**9), "undecided"),
        (sent_as("57600 8N1", b"A" * 200), "undecided"),
    ],
)
def test_nothing_is_made_up_where_there_is_too_little(trace, kind):
    found = lr.diagnose(trace)
    assert found.findings[0].kind == kind


def test_random_levels_are_no_wire():
    """A floating input: changes at any time."""
    random = np.random.default_rng(6)
    trace = lr.Trace(np.cumsum(random.integers(2000, 90_000, 3000)), 1e-9, 1)
    found = lr.diagnose(trace, LINE)
    assert found.findings[0].kind in ("two-senders", "noisy-line", "undecided")
    assert found.proposal is None


def test_the_command_diagnoses_by_a_sheet_or_without(tmp_path, capsys):
    capture, sheet = tmp_path / "wire.vcd", tmp_path / "wire.toml"
    lr.write_vcd(capture, {"tx": sent_as("28800 8E1"), "rx": sent_as("57600 8E1")})
    sheet.write_text('sheet = 1\n[line]\nbaud = 57600\nformat = "8E1"\n[wire.tx]\n[wire.rx]\n')
    assert run(["diagnose", str(capture), str(sheet), "--json"]) == 1
    document = json.loads(capsys.readouterr().out)
    assert document["verdict"] == "faults"
    assert document["wires"]["tx"]["findings"][0]["kind"] == "baud-mismatch"
    assert document["wires"]["rx"]["findings"][0]["kind"] == "as-declared"
    assert document["wires"]["tx"]["survey"]["best"]["line"].startswith("28800")
    assert run(["diagnose", str(capture)]) == 0
    out = capsys.readouterr().out
    assert "28800 8E1: Measured 28800" in " ".join(out.split())
    assert run(["diagnose", str(capture), "--wire", "rx"]) == 0
    assert "28800" not in capsys.readouterr().out
    recorded = tmp_path / "bytes.bin"
    recorded.write_bytes(b"flow")
    assert run(["diagnose", str(recorded)]) == 2
    assert "holds bytes, not levels" in capsys.readouterr().err


def test_a_starter_sheet_declares_the_wires_of_a_capture(tmp_path, capsys):
    """Written from a capture alone, it reads that capture without a fault; an unknown wire is said to be so."""
    capture, sheet = tmp_path / "bench.vcd", tmp_path / "bench.toml"
    traces = {
        "rig.tx": sent_as("57600 7E1", clock_error_ppm=3000),
        "rig.rx": sent_as("57600 7E1"),
        "other.rx": sent_as("9600 8N1 idle-low"),
        "rig.busy": lr.Trace(np.array([1000]), 1e-9, 0),
    }
    lr.write_vcd(capture, traces)
    assert run(["new", str(sheet), "--from", str(capture)]) == 0
    err = capsys.readouterr().err
    assert f"now try: larkreader decode {sheet} {capture}" in err
    assert "note: no settings fit rig.busy" in err
    declared = lr.open_sheet(sheet)
    assert {key: str(wire.line) for key, wire in declared.wire.items()} == {
        "tx": "57600 7E1",
        "rig_rx": "57600 7E1",
        "other_rx": "9600 8N1 idle-low",
        "busy": "57600 7E1",
    }
    assert "# No settings fit this wire." in sheet.read_text()
    reading = lr.read(declared, {key: traces[declared.wire[key].source] for key in ("tx", "rig_rx", "other_rx")})
    assert reading.verdict == "clean"
    assert run(["new", str(sheet)]) == 2
    assert "exists already. Name another file." in capsys.readouterr().err
    assert run(["new", str(tmp_path / "plain.toml")]) == 0
    plain = (tmp_path / "plain.toml").read_text()
    assert list(lr.parse_sheet(plain).wire) == ["tx", "rx"]
    head, frame = plain.split("# One table for each kind of message:\n")
    taken_in = "\n".join(line.removeprefix("# ") for line in frame.partition("# What ")[0].splitlines())
    whole = lr.parse_sheet(head + taken_in)
    assert list(whole.frame["status"].slot) == ["count", "flow", "crc"]
