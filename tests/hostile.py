"""What reads files and texts of others, with sound samples of each and ways to damage them.

Shared by the property test (`tests/test_hostile.py`) and the fuzzer (`tools/fuzz.py`).
"""

import gzip
import io
import random
import wave
import zipfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

import numpy as np

import larkreader as lr
from larkreader.answers import check_layouts, layouts_of_structs, read_header
from larkreader.answers.campaign.members import find_captures, path_pattern
from larkreader.capture.files.capture_file import CaptureFile
from larkreader.capture.files.recording import write_recording
from larkreader.capture.files.register_dump import read_register_dump
from larkreader.declare.link.svd import read_svd
from larkreader.errors import LarkReaderError
from larkreader.exercise.payload.typed_input import frame_of, hex_of, text_of

DATA = files("larkreader") / "data"
LINE = lr.LineSettings.parse("57600 8E1")
SENT = b"flow 12.5 mL/min\r\n"
MOST_SIGNALS = 4
DIAGNOSED = 30  # captures of levels, of which one is diagnosed too, as that takes long


@dataclass(frozen=True)
class Entry:
    """A way in.

    Parameters
    ----------
    name : str
        What it reads.
    samples : sequence of bytes
        Sound input.
    read : callable
        Reads an input; called with it and a folder. It raises `LarkReaderError` for one that is not sound.
    words : sequence of bytes
        What is put into the samples, beside pieces of themselves.
    """

    name: str
    samples: Sequence[bytes]
    read: Callable[[bytes, Path], object]
    words: Sequence[bytes] = ()


def _capture(ending: str, **options: object) -> Callable[[bytes, Path], object]:
    """Read a capture as every command does: its format, its signals, each wire piece by piece, and all of a reading."""

    def read(data: bytes, folder: Path) -> object:
        path = folder / f"capture{ending}"
        path.write_bytes(data)
        with CaptureFile(path, **options) as file:  # type: ignore[arg-type]
            wires = (
                {f"w{number}": name for number, name in enumerate(file.signals()[:MOST_SIGNALS])}
                if file.holds_levels
                else {"w0": "w0"}
            )
            for piece in file.pieces(wires):
                for key, held in piece.items():
                    if isinstance(held, lr.Trace) and key == "w0":
                        lr.receive(held, LINE)
            is_diagnosed = file.holds_levels and zlib.crc32(data) % DIAGNOSED == 0
        return lr.answers.diagnose_capture(path, **options) if is_diagnosed else None  # type: ignore[arg-type]

    return read


def _text(read: Callable[[str], object]) -> Callable[[bytes, Path], object]:
    return lambda data, folder: read(data.decode("utf-8", errors="replace"))


def _svd(data: bytes, folder: Path) -> object:
    return read_svd(data)


def _registers(data: bytes, folder: Path) -> object:
    (folder / "registers.json").write_bytes(data)
    return read_register_dump(folder / "registers.json")


def _header(data: bytes, folder: Path) -> object:
    (folder / "link.h").write_bytes(data)
    read = read_header(folder / "link.h")
    layouts_of_structs(read)
    return check_layouts(RIG, read)


def _manifest(data: bytes, folder: Path) -> object:
    (folder / "list.csv").write_bytes(data)
    return list(find_captures([folder / "list.csv"]))


def _recordings(data: bytes, folder: Path) -> object:
    (folder / "rig.manifest.json").write_bytes(data)
    return list(find_captures([folder / "rig.manifest.json"]))


def _frames(data: bytes, folder: Path) -> object:
    """Read bytes in pieces, whose size the bytes decide, as frames of a wire, as a port delivers them."""
    size = 1 + zlib.crc32(data) % 90
    for reader in _READERS:
        stream = reader()
        for at in range(0, len(data), size):
            stream.feed(data[at : at + size])
        stream.close()
    return None


RIG = lr.parse_sheet((DATA / "rig.toml").read_text())
_LAYOUTS = [RIG.frame["status"], RIG.frame["alarm"]]
_READERS = [lambda: lr.FrameReader(_LAYOUTS[0])]


def _made(write: Callable[[Path], object], ending: str) -> bytes:
    """Return what a writer writes."""
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"a{ending}"
        write(path)
        return path.read_bytes()


def _wav() -> bytes:
    held = io.BytesIO()
    with wave.open(held, "wb") as file:
        file.setnchannels(2)
        file.setsampwidth(2)
        file.setframerate(230_400)
        file.writeframes((np.tile([0, 0, 0, 30000], 60)).astype("<i2").tobytes())
    return held.getvalue()


def _npy(array: np.ndarray) -> bytes:
    held = io.BytesIO()
    np.save(held, array)
    return held.getvalue()


def _npz(packed: bool, **arrays: np.ndarray) -> bytes:
    held = io.BytesIO()
    (np.savez_compressed if packed else np.savez)(held, **arrays)
    return held.getvalue()


def entries() -> Mapping[str, Entry]:
    """Return every way in, by name."""
    trace = lr.transmit(SENT, LINE, tick_s=1e-7)
    pair = {"rig.tx": trace, "rig.rx": lr.transmit(b"ok\r\n", LINE, tick_s=1e-7)}
    characters = lr.receive(trace, LINE)
    status = RIG.frame["status"].encode({"flow": 12.5, "count": 3})
    vcd = _made(lambda path: lr.write_vcd(path, pair), ".vcd")
    levels = _made(lambda path: lr.capture.write_levels(path, pair), ".csv")
    table = _made(lambda path: lr.capture.write_characters(path, {"w0": characters}), ".csv")
    recording = _made(lambda path: write_recording(path, {"w0": characters}), ".jsonl")
    arrays = _made(lambda path: lr.capture.write_trace_arrays(path, pair), ".npz")
    volts = b"time_s,tx\n" + b"".join(b"%.7f,%.2f\n" % (n * 4e-6, 3.3 * (n % 5 > 1)) for n in range(60))
    rows = np.tile([0.0, 3.3, 3.3], 60)
    log = b"time,wire,hex\n" + b"".join(b"2026-03-01T12:00:00.%03d,w0,66 6C 6F 77\n" % n for n in range(12))
    log_lines = b"".join(b'{"time_ms": %d, "data": [1, 2], "dir": "w0"}\n' % n for n in range(6))
    sheet = (DATA / "rig.toml").read_bytes()
    sheets = [
        sheet,
        lr.starter_sheet().encode(),
        b'sheet = 1\n[wire.tx]\n[frame.line]\nboundary = { kind = "terminator", terminator = "\\n" }\n'
        b'pattern = "flow={flow}"\nfields = [{ name = "flow", type = "decimal" }]\n',
    ]
    svd = (
        b'<?xml version="1.0"?><device><width>32</width><peripherals><peripheral><name>UART0</name><registers>'
        b"<register><name>CTRL</name><addressOffset>0</addressOffset><dim>2</dim><dimIncrement>4</dimIncrement>"
        b"<dimIndex>A-B</dimIndex><fields><field><name>EN</name><bitRange>[1:0]</bitRange></field></fields></register>"
        b'</registers></peripheral><peripheral derivedFrom="UART0"><name>UART1</name></peripheral></peripherals></device>'
    )
    manifest = (
        b'{"began": "2026-03-01T08:30:00Z", "recordings": [{"file": "rig-1.jsonl", "from_s": 0.0, "to_s": 3600.0},'
        b' {"file": "rig-2.jsonl", "from_s": 3600.0, "to_s": 5000.5}]}'
    )
    numbers = [
        b"0",
        b"-1",
        b"1e309",
        b"nan",
        b"9" * 400,
        b"9" * 5000,
        b"1e-320",
        b"18446744073709551616",
        b"-9223372036854775809",
    ]
    texts = [
        *numbers,
        b"\x00",
        b"\x1b[31m",
        b"\xff\xfe",
        b"\xe2\x80\xae",
        b'"',
        b"\\",
        b"\n",
        b"\r",
        b",",
        b"\xef\xbb\xbf",
    ]
    vcd_words = [*texts, b"$timescale 1 s $end\n", b"$scope module x $end\n", b"$upscope $end\n", b"$var wire 1 ! a $end\n",
                 b"$var real 64 # r $end\n", b"$enddefinitions $end\n", b"#0\n", b"#99999999999999999999999\n", b"b1x0z !\n",
                 b"r1.5 #\n", b"1!\n", b"x!\n", b"$dumpvars\n", b"$end\n", b"$comment "]  # fmt: skip
    toml_words = [*texts, b"[", b"]", b"[[", b"{", b"}", b" = ", b"[" * 300, b"[" * 30_000, b"{a=" * 200, b"true", b"0x", b"'''", b'"""',
                  b"[frame.x]\n", b"fields = ", b"type = ", b'"uint64"', b'"float16"', b"repeat = ", b"1979-05-27", b"inf"]  # fmt: skip
    json_words = [
        *texts,
        b"[" * 500,
        b"[" * 100_000,
        b'{"a":' * 30_000,
        b"null",
        b"true",
        b'"\\ud800"',
        b"NaN",
        b"Infinity",
    ]
    c_words = [*texts, b"#if 1\n", b"#endif\n", b"#define A(x) x x\n", b"A(", b"struct {", b"};", b"[", b": 3", b"/*", b"*/",
               b"__attribute__((packed))", b"#pragma pack(1)\n", b"union {", b"*"]  # fmt: skip
    xml_words = [*texts, b"<", b">", b"</register>", b"<register>", b"&lt;", b"&#0;", b"<!DOCTYPE a [", b"<dim>99999999</dim>",
                 b'derivedFrom="UART1"', b"<cluster><name>C</name>"]  # fmt: skip
    rate = lr.CaptureForm(rate=230_400.0)
    wide = lr.CaptureForm(rate=230_400.0, bits=8, packing="msb")
    word = lr.CaptureForm(word={"bits": 16, "parity": 9, "framing": 10, "valid": 15})
    every = [
        Entry("vcd", [vcd], _capture(".vcd"), vcd_words),
        Entry("vcd, packed", [gzip.compress(vcd)], _capture(".vcd.gz"), texts),
        Entry("levels in a table", [levels], _capture(".csv"), texts),
        Entry("levels in arrays", [arrays, _npz(True, **dict(np.load(io.BytesIO(arrays))))], _capture(".npz"), texts),
        Entry("voltages in a table", [volts, volts.replace(b",", b";")], _capture(".csv"), texts),
        Entry("voltages in arrays", [_npy(rows), _npz(True, tx=rows, time_s=np.arange(180) * 4e-6), _npz(False, tx=rows.astype("<i2"))],
              _capture(".npz", form=rate), [*texts, b"'descr': '|O'", b"(1000000000000,)", b"'<f8'", b"'fortran_order': True"]),
        Entry("voltages in a WAV file", [_wav()], _capture(".wav"), [b"RIFF", b"RF64", b"data", b"fmt ", b"ds64", b"\xff" * 4, b"\0" * 4]),
        Entry("samples", [bytes(np.packbits(np.tile([1, 1, 0], 200)))], _capture(".raw", kind="samples", form=wide), texts),
        Entry("characters in a table", [table, gzip.compress(table)], _capture(".csv"), texts),
        Entry("recording", [recording], _capture(".jsonl"), json_words),
        Entry("log", [log, log_lines], _capture(".log"), [*json_words, b"2026-13-40T25:61:61", b"rx", b"0x", b"  "]),
        Entry("bytes", [status * 8, SENT * 8], _capture(".bin"), [b"\xd7\x4b", b"\0" * 50]),
        Entry("hex", [status.hex(" ").encode() * 4, b":10010000214601360121470136007EFE09D2190140\n"], _capture(".txt", kind="hex"), texts),
        Entry("words", [np.arange(0x8000, 0x8040, dtype="<u2").tobytes()], _capture(".bin", kind="words", form=word), texts),
        Entry("marked bytes", [b"flow\xff\x00\x08 12\xff\xff\xff\x00\x00" * 4], _capture(".bin", kind="marked"), [b"\xff", b"\xff\x00", b"\xff\xff"]),
        Entry("sheet", sheets, _text(lambda text: lr.declare.sheet_text(lr.parse_sheet(text))), toml_words),
        Entry("line", [b"57600 8E1", b"9600 7N2 idle-low msb", b"1.5e6 8N1"], _text(lr.LineSettings.parse), texts),
        Entry("SVD", [svd], _svd, xml_words),
        Entry("registers", [b'{"BAUD": 278, "CONTROL": "0x142D"}', b"register,value\nBAUD,0x0116\n", b'[{"register": "BAUD", "value": 7}]'], _registers, json_words),
        Entry("C header", [C_HEADER], _header, c_words),
        Entry("list of captures", [b"capture,board\na.vcd,7\nb.vcd,8\n", b"board;Capture\n7;a.vcd\n"], _manifest, texts),
        Entry("manifest of recordings", [manifest], _recordings, json_words),
        Entry("pattern of paths", [b"{board}/{build}-*.vcd"], _text(path_pattern), [*texts, b"{", b"}", b"*", b"(", b"[", b"?"]),
        Entry("typed text", [b"flow?\\n\\x41\\\\"], _text(lambda text: text_of(text, 3)), [*texts, b"\\", b"\\x", b"\\u", b"{n}", b"\\N{"]),
        Entry("typed hex", [b"D7 4B 0x21,33"], _text(hex_of), texts),
        Entry("typed frame", [b"flow=12.5 valve=1,0,0,0"], _text(lambda text: frame_of(RIG.frame["status"], text.split(), 3)), [*texts, b"=", b"valve", b"state=dosing"]),
        Entry("bytes of a port", [status * 8], _frames, [b"\xd7\x4b", b"\xd7"]),
    ]  # fmt: skip
    return {entry.name: entry for entry in every}


C_HEADER = b"""\
#include <stdint.h>
#define PACKED __attribute__((packed))
enum state { RESTING, DOSING = 1 << 1 };
typedef struct PACKED { uint8_t kind; uint16_t flow : 12, : 4; enum state state : 3; union { uint8_t raw[2];
    struct { uint8_t a, b; } ab; } u; float dosed[2]; } status_t;
"""


def damaged(generator: random.Random, entry: Entry) -> bytes:
    """Return a sample with a few random changes."""
    data = bytearray(generator.choice(entry.samples))
    for _ in range(generator.choice([1, 1, 1, 2, 3, 6])):
        at = generator.randrange(len(data) + 1)
        what = generator.random()
        if what < 0.25 and at < len(data):
            data[at] ^= 1 << generator.randrange(8)
        elif what < 0.45 and entry.words:
            word = generator.choice(entry.words)
            data[at : at + generator.choice([0, 0, len(word)])] = word
        elif what < 0.6:
            del data[at : at + generator.choice([1, 2, 8, 60])]
        elif what < 0.75:
            begin = generator.randrange(len(data) + 1)
            data[at:at] = data[begin : begin + generator.choice([1, 4, 40, 400])]
        elif what < 0.85:
            data[at : at + 1] = bytes([generator.randrange(256)])
        elif what < 0.92:
            del data[at:]
        else:
            other = generator.choice(entry.samples)
            data[at:] = other[generator.randrange(len(other) + 1) :]
    return bytes(data)


def repacked(data: bytes, generator: random.Random) -> bytes:
    """Return an archive with one of its members damaged within, as sound archive."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            held = {name: archive.read(name) for name in archive.namelist()}
    except Exception:
        return data
    name = generator.choice(list(held))
    held[name] = damaged(
        generator, Entry("", [held[name]], lambda data, folder: None, [b"'|O'", b"(9999999999999,)", b"<f4"])
    )
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", generator.choice([zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED])) as archive:
        for key, content in held.items():
            archive.writestr(key, content)
    return packed.getvalue()


def attempt(entry: Entry, data: bytes, folder: Path) -> bool:
    """Read an input; return whether it was sound. Any other error than `LarkReaderError` is a mistake of ours."""
    try:
        entry.read(data, folder)
    except LarkReaderError:
        return False
    return True
