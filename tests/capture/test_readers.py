"""Every reader with real, cut-off, empty and hostile files."""

import gzip
import json
import struct
import subprocess
import sys
import wave
from contextlib import suppress
from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import larkreader as lr
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.sampling import LevelChanges, packed_samples

LINE = lr.LineSettings.parse("9600 8E1")
TEXT = b"flow 12.5 mL/min, pressure 101.25 kPa\r\n" * 3
RATE = 200_000.0  # 20.8 samples a bit
ON_DISK = settings(suppress_health_check=[HealthCheck.function_scoped_fixture])


def sent(idle=LINE.idle, gaps=2.0):
    return lr.transmit(TEXT, LINE.model_copy(update={"idle": idle}), gaps=gaps, clock_error_ppm=3000, tick_s=1e-7)


def levels_at(trace, rate=RATE):
    times = np.arange(int(trace.end_s * rate)) / rate
    return times, trace.first_level ^ (np.searchsorted(trace.edges_s, times, side="right") & 1).astype(np.uint8)


def volts_at(trace, low=0.1, high=3.2, noise=0.05, rate=RATE):
    """As an amplifier of limited bandwidth shows it, with noise."""
    times, levels = levels_at(trace, rate)
    return times, np.convolve(
        np.pad(low + (high - low) * levels, 1, "edge"), [0.2, 0.6, 0.2], "valid"
    ) + noise * np.random.default_rng(1).standard_normal(len(times))


def write_wav(path, channels, bits, is_float=False, form=None):
    """Write PCM by the standard library; float, extensible and RF64 by hand."""
    data = np.stack(channels, axis=1)
    if not is_float and bits == 16 and form is None:
        with wave.open(str(path), "wb") as file:
            file.setnchannels(len(channels))
            file.setsampwidth(2)
            file.setframerate(int(RATE))
            file.writeframes(data.astype("<i2").tobytes())
        return
    if is_float:
        raw = data.astype(f"<f{bits // 8}").tobytes()
    elif bits == 24:
        raw = (data.astype("<i4") << 8).view("u1").reshape(-1, 4)[:, 1:].tobytes()
    else:
        raw = data.astype({8: "u1", 32: "<i4"}[bits]).tobytes()
    code, block = 3 if is_float else 1, len(channels) * bits // 8
    shown = struct.pack(
        "<HHIIHH", 0xFFFE if form == "extensible" else code, len(channels), int(RATE), int(RATE) * block, block, bits
    )
    if form == "extensible":
        shown += struct.pack("<HHIH", 22, bits, 0, code) + bytes(14)
    long = form == "RF64"
    head = b"WAVE" + (struct.pack("<4sIQQQI", b"ds64", 28, 0, len(raw), 0, 0) if long else b"") + b"junk\x03\0\0\0abc\0"
    head += struct.pack("<4sI", b"fmt ", len(shown)) + shown
    path.write_bytes((b"RF64" if long else b"RIFF") + struct.pack("<I", 0xFFFFFFFF if long else 4 + len(head)) + head
                     + struct.pack("<4sI", b"data", 0xFFFFFFFF if long else len(raw)) + raw)  # fmt: skip


def read_text(path, signal="tx", kind=None, **form):
    trace = lr.open_trace(path, signal, kind=kind, form=lr.CaptureForm(**form))
    characters = lr.receive(trace, LINE)
    assert not characters.faults.any()
    return bytes(characters.value.tolist())


@pytest.mark.parametrize("name", ["a.vcd", "a.csv", "a.npz", "a.raw"])
def test_what_is_written_reads_back(tmp_path, name):
    """Two signals, of which one is unknown for a while; ticks of a length that VCD cannot say."""
    one = sent()
    middle = int(one.edges[50])
    one = lr.Trace(one.edges, one.tick_s / 2.4, 1, end=one.end, unknown=np.array([[middle + 3, middle + 400]]))
    other = lr.Trace(one.edges[::3] + 7, one.tick_s, 0, end=one.end)
    path, traces = tmp_path / name, {"rig.tx": one, "rig.rx": other}
    rate = 24e6 / 16
    write = {
        "a.vcd": lr.write_vcd,
        "a.csv": lr.capture.write_levels,
        "a.npz": lr.capture.write_trace_arrays,
        "a.raw": lambda path, traces: lr.capture.write_samples(path, traces, rate),
    }[name]
    write(path, traces)
    options = {"form": lr.CaptureForm(rate=rate)} if name == "a.raw" else {}  # what has a rate is of samples
    names = ["0", "1"] if name == "a.raw" else list(traces)
    read = lr.open_capture(path, dict(zip(traces, names, strict=True)), **options)
    assert lr.capture.signal_names(path, **options)[:2] == names
    fineness = {"a.vcd": 1e-9, "a.csv": 1e-12, "a.npz": 1e-15, "a.raw": 1 / rate}[name]
    for key, trace in traces.items():
        assert read[key].first_level == trace.first_level
        assert read[key].edges_s == pytest.approx(trace.edges_s, abs=1.01 * fineness)
        assert read[key].end_s == pytest.approx(trace.end_s, abs=1.01 * fineness)
        if name != "a.raw":
            seconds = np.asarray(read[key].unknown) * read[key].tick_s
            assert seconds == pytest.approx(np.asarray(trace.unknown) * trace.tick_s, abs=1.01 * fineness)


@given(
    st.binary(min_size=1, max_size=90),
    st.integers(1, 40),
    st.sampled_from([1, 8, 16, 32]),
    st.sampled_from(["lsb", "msb"]),
)
def test_changes_of_samples_are_found_however_they_are_packed_and_cut(data, cut, bits, packing):
    levels = np.unpackbits(np.frombuffer(data, np.uint8))
    if bits == 1:
        samples = np.packbits(levels, bitorder="little" if packing == "lsb" else "big")
        per = 8
    else:
        rest = np.random.default_rng(len(data)).integers(0, 1 << bits, len(levels), dtype=np.uint64) & ~np.uint64(
            1 << (bits - 1)
        )
        samples, per = (rest | levels.astype(np.uint64) << np.uint64(bits - 1)).astype(f"u{bits // 8}"), 1
        cut *= 8  # as a file in blocks is
    changes = LevelChanges()
    found = [
        changes.feed(
            packed_samples(samples[low : low + cut], bits, bits - 1, packing), per * len(samples[low : low + cut])
        ).tolist()
        for low in range(0, len(samples), cut)
    ]
    assert [place for part in found for place in part] == (np.flatnonzero(np.diff(levels.astype(int))) + 1).tolist()
    assert (changes.first_level, changes.count) == (levels[0], len(levels))


@pytest.mark.parametrize(
    "bits", ["1 lsb little", "1 msb little", "8 lsb little", "16 lsb little", "16 lsb big", "32 lsb big"]
)
def test_raw_samples_read(tmp_path, bits):
    width, packing, order = bits.split()
    _, levels = levels_at(sent())
    path, channel = tmp_path / "a.bin", 0 if width == "1" else 5
    if width == "1":
        path.write_bytes(np.packbits(levels, bitorder="little" if packing == "lsb" else "big").tobytes())
    else:
        noise = np.random.default_rng(2).integers(0, 32, len(levels))
        path.write_bytes(
            (noise | levels << 5).astype(f"{'<' if order == 'little' else '>'}u{int(width) // 8}").tobytes()
        )
    form = {"rate": RATE, "bits": int(width), "packing": packing, "order": order, "kind": "samples"}
    assert read_text(path, str(channel), **form) == TEXT
    with pytest.raises(lr.CaptureError, match="is not a channel"):
        read_text(path, "40", **form)
    with pytest.raises(lr.CaptureError, match="does not contain its sample rate"):
        read_text(path, "0", kind="samples")


@pytest.mark.parametrize(
    ("head", "separator", "decimal", "form"),
    [
        ("time_s,tx,rx\n", ",", ".", {}),
        ("# bench\nTime;tx;rx\n(ms);(V);(mV)\n", ";", ",", {}),
        ("t [us]\ttx (V)\trx [mV]\n", "\t", ".", {}),
        ("", ",", ".", {}),
        ("tx,rx\n", ",", ".", {"rate": RATE}),
        ("", "\t", ".", {"rate": RATE}),
    ],
)
@pytest.mark.parametrize("kind", ["voltages", "levels"])
def test_tables_of_voltages_and_of_samples_read_whatever_their_form(tmp_path, head, separator, decimal, form, kind):
    """With names, units, both or neither; without times if somebody says the rate."""
    times, levels = levels_at(sent())
    values = volts_at(sent())[1] if kind == "voltages" else levels
    unit = 1e3 if "ms" in head else 1e6 if "us" in head else 1
    columns = [values, 1000 * values if "mV" in head and kind == "voltages" else values]
    rows = ["{:.4f}".format, "{:.3f}".format] if kind == "voltages" else [str, str]
    cells = [[row(one) for one in column] for row, column in zip(rows, columns, strict=True)]
    if not form:
        cells.insert(0, [f"{at * unit - 0.004:.7f}" for at in times])
    path = tmp_path / "scope.txt"
    path.write_text(
        head + "".join(separator.join(row).replace(".", decimal) + "\n" for row in zip(*cells, strict=True)),
        encoding="utf-8",
    )
    names = ["tx", "rx"] if "tx" in head else ["0", "1"]
    if kind == "levels" and "(V)" in head:
        return  # levels have no unit
    shown = lr.CaptureForm(**form)
    with CaptureFile(path, form=shown) as file:
        assert file.kind == kind
    assert lr.capture.signal_names(path, form=shown) == names
    for name in names:
        assert read_text(path, name, **form) == TEXT
    if kind == "voltages":
        seen = lr.open_voltages(path, names[1], form=shown)
        assert seen.rate == pytest.approx(RATE, rel=1e-3)
        assert (seen.levels().low_v, seen.levels().high_v) == (
            pytest.approx(0.1, abs=0.01),
            pytest.approx(3.2, abs=0.02),
        )


@pytest.mark.parametrize("how", ["16", "24", "32", "8", "f32", "f64", "16 extensible", "f32 RF64"])
def test_wav_files_read(tmp_path, how):
    """Both channels, one inverted."""
    coding, _, form = how.partition(" ")
    _, volts = volts_at(sent())
    path, is_float = tmp_path / "a.wav", coding.startswith("f")
    bits = int(coding.lstrip("f"))
    scale = 1.0 if is_float else {8: 60, 16: 8000, 24: 2e6, 32: 5e8}[bits]
    zero = 20 if bits == 8 else 0
    channels = [volts * scale + zero, (3.3 - volts) * scale + zero]
    if how == "16 extensible":
        channels = [one * 256 for one in channels]
        bits = 24
    write_wav(path, channels, bits, is_float, form or None)
    with CaptureFile(path) as file:
        assert file.kind == "voltages"
    assert read_text(path, "0") == TEXT
    assert bytes(lr.receive(lr.open_trace(path, "1"), LINE.model_copy(update={"idle": "low"})).value.tolist()) == TEXT
    seen = lr.open_voltages(
        path,
        "0",
        form=lr.CaptureForm(volts_per_count=1 / scale, volts_at_zero=(128 - zero) / scale if bits == 8 else 0),
    )
    assert seen.levels().swing_v == pytest.approx(3.1 * (256 if how == "16 extensible" else 1), rel=0.02)


def test_numpy_files_read(tmp_path):
    times, volts = volts_at(sent())
    _, levels = levels_at(sent())
    np.save(tmp_path / "one.npy", volts.astype(np.float32))
    np.save(tmp_path / "two.npy", np.stack([volts, volts], axis=1))
    np.savez(tmp_path / "named.npz", time_s=times, tx=volts, level=levels.astype(bool))
    assert read_text(tmp_path / "one.npy", "0", rate=RATE) == TEXT
    assert read_text(tmp_path / "two.npy", "1", rate=RATE) == TEXT
    assert read_text(tmp_path / "named.npz") == read_text(tmp_path / "named.npz", "level") == TEXT
    with pytest.raises(lr.CaptureError, match="does not contain its sample rate"):
        read_text(tmp_path / "one.npy", "0")
    np.save(tmp_path / "objects.npy", np.array([{}, []], dtype=object), allow_pickle=True)
    with pytest.raises(lr.CaptureError, match="Python objects"):
        read_text(tmp_path / "objects.npy", "0", rate=RATE)


@ON_DISK
@given(
    st.sampled_from(["trace", "packed", "plain", "npy"]),
    st.lists(st.tuples(st.integers(0, 1200), st.integers(0, 255), st.sampled_from(["set", "cut", "lose"])), max_size=4),
)
@example("packed", [(6, 1, "set")])  # flags: encrypted
@example("packed", [(8, 99, "set")])  # an unknown method of compression
@example("plain", [(4, 250, "set")])  # a version to come
@example("npy", [(11, 0x28, "set"), (40, 0x28, "set")])  # brackets that nothing closes
def test_damaged_numpy_files_are_read_or_refused(tmp_path, which, damage):
    path = tmp_path / ("a.npy" if which == "npy" else "a.npz")
    values = np.arange(50) / 10
    if which == "trace":
        lr.capture.write_trace_arrays(path, {"a": sent()})
    else:
        {"packed": np.savez_compressed, "plain": np.savez, "npy": np.save}[which](path, values)
    data = bytearray(path.read_bytes())
    for place, byte, what in damage:
        at = place % max(len(data), 1)
        data[at : {"set": at + 1, "cut": len(data), "lose": at + 3}[what]] = [byte] * (what == "set")
    path.write_bytes(data)
    with suppress(lr.LarkReaderError):
        for name in lr.capture.signal_names(path):
            lr.open_capture(path, {name: name}, form=lr.CaptureForm(rate=RATE))


@given(st.floats(-15, 15), st.floats(0.4, 20), st.floats(0, 0.07), st.sampled_from([6, 10, 60]), st.booleans())
def test_thresholds_are_found_for_any_levels(low, swing, noise, per_bit, given_ones):
    trace = sent(gaps=20)
    _, volts = volts_at(trace, low, low + swing, noise * swing, per_bit * LINE.baud)
    voltages = lr.capture.Voltages(volts, per_bit * LINE.baud)
    found = voltages.levels()
    assert (found.low_v, found.swing_v) == (pytest.approx(low, abs=0.05 * swing), pytest.approx(swing, rel=0.07))
    thresholds = (low + 0.3 * swing, low + 0.6 * swing) if given_ones else None
    assert bytes(lr.receive(voltages.to_trace(thresholds), LINE).value.tolist()) == TEXT


def test_one_level_is_no_two_and_noise_makes_no_edges():
    for level in (0.02, 3.3):
        volts = level + 0.02 * np.random.default_rng(3).standard_normal(50_000)
        trace = lr.capture.Voltages(volts, 1e6).to_trace()
        assert (len(trace), trace.first_level) == (0, int(level > 1))


def test_slow_edges_cross_between_samples():
    """A ramp from 0 to 3 V within three samples crosses 1.95 V at 1.95 of them."""
    trace = lr.capture.Voltages(np.array([0, 0, 1, 2, 3, 3, 3, 2, 1, 0, 0]), 1.0).to_trace((1.05, 1.95))
    assert trace.edges_s == pytest.approx([1 + 1.95, 6 + 1.95], abs=0.02)


LOGS = {
    "time_s,hex\n0.5,66 6c\n0.6,6f77\n": [0.5, 0.5, 0.6, 0.6],
    "# bench\ntime_ms;wire;data\n500;from_pump;0x66,0x6C\n600;from_pump;6F 77\n": [0.5, 0.5, 0.6, 0.6],
    "timestamp\tdirection\ttext\n2026-05-01T08:30:00.5Z\tfrom_pump\tfl\n2026-05-01T08:30:00.6Z\tfrom_pump\t\\x6f\\x77\n": [0, 0, 0.1, 0.1],
    "timestamp,byte\n08:30:00.5,0x66\n08:30:00.6,108\n08:30:00.7,0x6f\n08:30:00.8,119\n": [0, 0.1, 0.2, 0.3],
    '{"t": 1777624200.5, "data": "66 6c"}\n{"t": 1777624200.6, "data": [111, 119], "n": 3}\n': [0, 0, 0.1, 0.1],
    '{"time_us": 5, "wire": "from_pump", "text": "fl"}\n\n{"time_us": 7, "wire": "from_pump", "hex": "6f:77"}\n': [5e-6, 5e-6, 7e-6, 7e-6],
}  # fmt: skip


@pytest.mark.parametrize("text", LOGS)
def test_logs_of_bytes_read(tmp_path, text):
    path = tmp_path / "log.txt"
    path.write_text(text)
    with CaptureFile(path) as file:
        assert file.kind == "log"
    read = lr.open_capture(path, {"from_pump": "rig.pump_tx"})["from_pump"]
    assert bytes(read.value.tolist()) == b"flow"
    assert read.begin_s == pytest.approx(LOGS[text], abs=1e-6)


def test_a_damaged_log_is_told_with_its_line_and_a_torn_one_is_read(tmp_path):
    path = tmp_path / "log.csv"
    for text, message in [
        ("time_s,hex\n0.5,66\nsoon,66\n", 'line 3: holds "soon,66"|line 3 holds "soon,66"'),
        ("time_s,hex\n0.5,6\n", "line 2"),
        ("time_s,hex\n0.5,66,9\n", "line 2"),
        ('{"t": 1, "hex": "66"}\n{"t": 2}\n', "line 2"),
    ]:
        path.write_text(text)
        with pytest.raises(lr.CaptureError, match=message):
            lr.open_capture(path, {"tx": "tx"})
    path.write_text("time_s,hex\n0.5,66\n0.6,6")
    read = lr.open_capture(path, {"tx": "tx"})["tx"]
    assert (bytes(read.value.tolist()), read.truncated) == (b"f", "its last entry is incomplete")


def test_status_words_give_data_and_flags(tmp_path):
    """Bit 15 says that there is a character, 9 and 10 parity and overrun; a word without bit 15 is none."""
    sheet = lr.parse_sheet(
        """sheet = 1
        [wire.from_pump]
        [capture]
        kind = "words"
        word = { bits = 16, order = "big", data = [0, 8], parity = 9, overrun = 10, valid = 15 }"""
    )
    words = [0x8000 | ord("f"), 0x0000, 0x8200 | ord("l"), 0x8400 | ord("o")]
    path = tmp_path / "ring.dat"
    for content in (np.array(words, ">u2").tobytes(), " ".join(f"0x{word:04X}" for word in words).encode()):
        path.write_bytes(content)
        reading = lr.read(sheet, path)
        read = reading.characters["from_pump"]
        assert (bytes(read.value.tolist()), read.faults.tolist()) == (b"flo", [0, lr.Fault.PARITY, lr.Fault.OVERRUN])
        assert {"parity-error", "overrun"} <= {finding.kind for finding in reading.findings}
    path.write_bytes(np.array(words, ">u2").tobytes() + b"\x80")
    assert "cut-capture" in {finding.kind for finding in lr.read(sheet, path).findings}
    path.write_text("0x8066 0xNONE")
    with pytest.raises(lr.CaptureError, match='word 1 is "0xNONE"'):
        lr.read(sheet, path)
    for wrong in ("data = [8, 9]", "parity = 7", "overrun = 16", "parity = 9, break = 9", "data = [0, 8], bits = 12"):
        with pytest.raises(lr.SheetError, match=r"capture.word"):
            lr.parse_sheet(f"sheet = 1\n[wire.a]\n[capture]\nword = {{ {wrong} }}")


@pytest.mark.parametrize(("settings_", "fault"), [("9600 8E1", lr.Fault.PARITY), ("9600 8N1", lr.Fault.FRAMING)])
def test_marks_of_a_terminal_driver_become_faults(tmp_path, settings_, fault):
    """POSIX: FF 00 and the character for an error, FF 00 00 for a break, FF FF for a sound FF."""
    path = tmp_path / "a.bin"
    path.write_bytes(b"f\xff\x00l\xff\xff\xff\x00\x00w\xff\x00")
    sheet = lr.Sheet(wire={"rx": lr.declare.Wire(key="rx", line=lr.LineSettings.parse(settings_))})
    reading = lr.read(sheet, path, kind="marked")
    read = reading.characters["rx"]
    assert (bytes(read.value.tolist()), read.faults.tolist()) == (b"fl\xff\0w", [0, fault, 0, lr.Fault.BREAK, 0])
    assert "cut-capture" in {finding.kind for finding in reading.findings}


def files_of_every_kind(folder):
    """Write one file of each kind; return for each its path, signal, kind and form."""
    trace = sent()
    times, volts = volts_at(trace)
    raw = lr.CaptureForm(rate=RATE, kind="samples")
    lr.write_vcd(folder / "a.vcd", {"tx": trace})
    lr.capture.write_levels(folder / "levels.csv", {"tx": trace})
    lr.capture.write_trace_arrays(folder / "a.npz", {"tx": trace})
    lr.capture.write_samples(folder / "a.raw", {"tx": trace}, RATE)
    write_wav(folder / "a.wav", [volts * 8000], 16)
    np.save(folder / "a.npy", volts)
    (folder / "volts.csv").write_text(
        "time_s,tx\n" + "".join(f"{at:.6f},{volt:.3f}\n" for at, volt in zip(times, volts, strict=True))
    )
    lr.capture.write_characters(folder / "characters.csv", {"tx": lr.receive(trace, LINE)})
    (folder / "log.jsonl").write_text(
        "".join(json.dumps({"t": n / 10, "data": [byte]}) + "\n" for n, byte in enumerate(TEXT))
    )
    (folder / "hex.txt").write_text(TEXT.hex(" ", 1))
    (folder / "a.bin").write_bytes(TEXT)
    for name in ("a.vcd", "a.npz", "a.wav", "a.npy"):
        (folder / f"{name}.gz").write_bytes(gzip.compress((folder / name).read_bytes()))
    forms = {"a.raw": ("0", raw), "a.wav": ("0", None), "a.npy": ("0", lr.CaptureForm(rate=RATE))}
    known = {path: forms.get(path.name.removesuffix(".gz"), ("tx", None)) for path in sorted(folder.iterdir())}
    return {path.name: (path, *how) for path, how in known.items()}


def text_of(path, signal, form):
    measured = lr.open_capture(path, {"tx": signal}, form=form)["tx"]
    characters = lr.receive(measured, LINE) if isinstance(measured, lr.Trace) else measured
    return bytes(characters.value.astype(np.uint8).tolist()), measured.truncated


@pytest.fixture(scope="module")
def every_file(tmp_path_factory):
    return files_of_every_kind(tmp_path_factory.mktemp("files"))


def test_files_of_every_kind_read_and_an_empty_one_is_told(every_file, tmp_path):
    for name, (path, signal, form) in every_file.items():
        assert text_of(path, signal, form) == (TEXT, ""), name
        empty = tmp_path / name
        empty.write_bytes(b"")
        with pytest.raises(lr.CaptureError, match="is empty"):
            text_of(empty, signal, form)
        pieces = list(lr.capture.open_pieces(path, {"tx": signal}, form=form))
        assert {key for piece in pieces for key in piece} == {"tx"}


@ON_DISK
@given(st.data())
def test_a_file_that_is_cut_off_is_read_as_far_as_it_goes(every_file, tmp_path, data):
    """What is read is how the whole begins. Only an archive has its directory at its end, and a few bytes are no file."""
    name = data.draw(st.sampled_from(sorted(every_file)))
    path, signal, form = every_file[name]
    whole = path.read_bytes()
    cut = tmp_path / name
    place = data.draw(st.integers(1, len(whole) - 1))
    cut.write_bytes(whole[:place])
    try:
        shown, truncated = text_of(cut, signal, form)
    except lr.CaptureError:
        assert name.startswith("a.npz") or place < 250
        return
    sure = shown if truncated else shown[:-1]  # the last character may lack its end where nothing shows that
    if name == "hex.txt":
        sure = shown[:-1]
    assert TEXT.startswith(sure), name


@ON_DISK
@given(st.data())
def test_a_hostile_file_gives_an_error_of_ours_or_a_capture(every_file, tmp_path, data):
    """Bytes changed, taken out and put in anywhere, or nothing but junk."""
    name = data.draw(st.sampled_from(sorted(every_file)))
    path, signal, form = every_file[name]
    content = bytearray(path.read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, min(len(content), 2000)))
        content[place : place + data.draw(st.integers(0, 5))] = data.draw(st.binary(max_size=6))
    hurt = tmp_path / name
    hurt.write_bytes(data.draw(st.binary(max_size=400)) if data.draw(st.integers(0, 4)) == 0 else bytes(content))
    kind = data.draw(
        st.sampled_from(
            [
                None,
                None,
                "vcd",
                "levels",
                "voltages",
                "samples",
                "log",
                "hex",
                "words",
                "marked",
                "characters",
                "recording",
            ]
        )
    )
    with suppress(lr.CaptureError, lr.RequestError):
        lr.open_capture(hurt, {"tx": signal}, kind=kind, form=form)


GROUPS = st.lists(st.tuples(st.integers(0, 5000), st.sampled_from("ab"), st.binary(min_size=1, max_size=5)), min_size=1)


def as_recording(groups):
    begins = json.dumps({"recording": 1, "began": "2026-05-01T08:30:00Z", "wires": {"a": {}, "b": {}}})
    return [begins, *(json.dumps({"s": at / 1000, "wire": wire, "hex": data.hex(" ")}) for at, wire, data in groups)]


def as_characters(groups):
    rows = [f"{at / 1000},{at / 1000},{wire},{value}," for at, wire, data in groups for value in data]
    return ["begin_s,end_s,wire,value,faults", *rows]


def as_log(groups):
    return ["time_ms;wire;hex", *(f'{at};{wire};"{data.hex(" ")}"' for at, wire, data in groups)]


def as_json_log(groups):
    return [json.dumps({"time_ms": at, "wire": wire, "data": list(data)}) for at, wire, data in groups]


def as_hex(groups):
    return ["# wire a", *(data.hex(" ") for _, wire, data in groups if wire == "a")]


def as_words(groups):
    return [" ".join(f"{value:04x}" for value in data) for _, wire, data in groups if wire == "a"]


WRITTEN = {
    "recording": (as_recording,),
    "characters": (as_characters,),
    "log": (as_log, as_json_log),
    "hex": (as_hex,),
    "words": (as_words,),
}
PIECES = "larkreader.capture.files.character_pieces.PIECE"


@ON_DISK
@given(kind=st.sampled_from([*WRITTEN, "bytes", "marked"]), groups=GROUPS, data=st.data())
def test_characters_are_read_in_pieces_of_any_size(tmp_path, kind, groups, data):
    """What was written is read back, and a file that is cut off or damaged is the same in pieces as at once."""
    groups.sort(key=lambda group: group[0])
    groups.append((5000, "a", b"end"))
    held = b"".join(data for _, wire, data in groups if wire == "a")
    if kind in WRITTEN:
        content = "\n".join([*data.draw(st.sampled_from(WRITTEN[kind]))(groups), ""]).encode()
    else:
        content = held if kind == "bytes" else held.replace(b"\xff", b"\xff\xff")
    hurt = content[: data.draw(st.integers(1, len(content)))]
    if place := data.draw(st.integers(0, len(hurt) - 1)):
        hurt = hurt[:place] + data.draw(st.binary(max_size=2)) + hurt[place + data.draw(st.integers(0, 2)) :]
    with patch(PIECES, data.draw(st.integers(1, 100))):
        shown, hurt_shown = (shown_of(tmp_path / "a.txt", text, kind) for text in (content, hurt))
    assert shown == shown_of(tmp_path / "a.txt", content, kind)
    assert hurt_shown == shown_of(tmp_path / "a.txt", hurt, kind)
    assert bytes(value for value, *_ in shown[0]) == held
    if kind in ("recording", "characters", "log"):
        times = [at / 1000 for at, wire, data in groups if wire == "a" for _ in data]
        assert [row[1] for row in shown[0]] == pytest.approx(times)


def shown_of(path, content, kind):
    """Return the characters of wire a as rows, and how the file breaks off; or that it is refused."""
    path.write_bytes(content)
    word = lr.CaptureForm(word={"bits": 16}) if kind == "words" else None
    try:
        characters = lr.open_capture(path, {"a": "a"}, kind=kind, form=word)["a"]
    except lr.CaptureError:
        return "refused"  # where several things are wrong, for another of them perhaps
    rows = zip(characters.value.tolist(), characters.begin_s.round(9).tolist(), characters.faults.tolist(), strict=True)
    known = [(value, None if np.isnan(at) else at, faults) for value, at, faults in rows]
    return known, characters.truncated, characters.counted


@pytest.mark.parametrize("piece", [1, 1 << 22])
def test_characters_without_a_wire_beside_others_are_refused(tmp_path, piece):
    path = tmp_path / "a.csv"
    path.write_text("begin_s,end_s,wire,value,faults\n0.1,0.1,a,10,\n0.2,0.2,,11,\n0.3,0.3,a,12,\n")
    for read in (lambda: lr.open_capture(path, {"a": "a"}), lambda: lr.capture.CaptureFile(path).every_wire()):
        with patch(PIECES, piece), pytest.raises(lr.CaptureError, match="without a wire, beside those of a"):
            read()


@pytest.mark.parametrize("way", [as_recording, as_characters, as_log, as_json_log, as_hex])
@pytest.mark.parametrize("piece", [10, 1 << 22])
def test_what_is_wrong_is_named_by_its_line_in_any_piece(tmp_path, way, piece):
    lines = way([(at, "a", b"\xd7") for at in range(40)])
    path = tmp_path / "a.txt"
    path.write_text("\n".join([*lines[:29], "x,x,a,x,x", *lines[29:], ""]))
    kind = "hex" if way is as_hex else None
    with patch(PIECES, piece), pytest.raises(lr.CaptureError, match=r"(line|row) 30\b"):
        lr.open_capture(path, {"a": "a"}, kind=kind)


def test_a_row_with_too_many_cells_is_refused_not_shifted(tmp_path):
    path = tmp_path / "a.csv"
    path.write_text("begin_s,end_s,wire,value,faults\n5.0,5.0,a,10,15.0,a,110,\n")
    with pytest.raises(lr.CaptureError, match="more than 5 cells, at line 2"):
        lr.open_capture(path, {"a": "a"})


def test_a_log_that_names_its_wire_now_and_then_is_refused(tmp_path):
    path = tmp_path / "a.jsonl"
    path.write_text('{"time": 0, "data": "00", "wire": "a"}\n{"time": 1, "data": "01"}\n')
    with pytest.raises(lr.CaptureError, match="line 2 names no wire"):
        lr.open_capture(path, {"a": "a"})


def test_packed_bytes_that_break_off_are_read_as_far_as_they_go(tmp_path, monkeypatch):
    monkeypatch.setattr(PIECES, 7)
    path = tmp_path / "a.bin"
    for content in (TEXT, gzip.compress(TEXT)[:-12]):
        path.write_bytes(content)
        pieces = [piece["tx"] for piece in lr.capture.open_pieces(path, {"tx": "tx"})]
        whole = lr.open_capture(path, {"tx": "tx"})["tx"]
        assert len(pieces) > 5
        assert bytes(whole.value.tolist()) == b"".join(bytes(piece.value.tolist()) for piece in pieces)
        assert TEXT.startswith(bytes(whole.value.tolist()))
        assert bool(whole.truncated) == (content != TEXT)


@pytest.mark.parametrize("command", ["decode", "diagnose", "timeline", "draw", "convert", "new", "report"])
def test_a_command_opens_its_capture_once(command, rig_files, tmp_path):
    """But for the report, which also names the hash of the file."""
    sheet, capture = str(rig_files["sheet"]), str(rig_files["capture"])
    rest = {
        "diagnose": [capture, sheet],
        "draw": [sheet, capture, "folded", "-o", str(tmp_path / "a.png")],
        "convert": [capture, str(tmp_path / "a.csv")],
        "new": [str(tmp_path / "a.toml"), "--from", capture],
        "report": [sheet, capture, "-o", str(tmp_path / "a.html")],
    }.get(command, [sheet, capture])
    program = (
        "import sys\nopened = []\n"
        f"sys.addaudithook(lambda what, about: opened.append(1) if what == 'open' and str(about[0]) == {capture!r} else 0)\n"
        "from larkreader.cli import run\ntry:\n    run(sys.argv[1:])\nfinally:\n    print(len(opened), file=sys.stderr)\n"
    )
    ran = subprocess.run([sys.executable, "-c", program, command, *rest], capture_output=True, text=True, timeout=120)
    assert ran.stderr.splitlines()[-1] == ("2" if command == "report" else "1")
