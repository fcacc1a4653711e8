"""The engine beside plain C (c/works.c, built with the system's compiler at -O2), on the same input in one process.

Each work is done by both in turn, results are compared first, and CPU time is the median of turns. Both make room for
their results in the time that is measured, and read what comes from a file from the file. Without a compiler there is
nothing to compare with, and the program says so.
"""

from __future__ import annotations

import argparse
import ctypes
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np
from bench_frames import LAYOUT
from bench_packets import COBS, SLIP
from compare import compare

import larkreader as lr
from larkreader.declare.checks.checksum import ALGORITHMS
from larkreader.declare.checks.crc import CrcAlgorithm, crc_table
from larkreader.decode.check.checksums import checksums_of_rows

LINE = lr.LineSettings.parse("57600 8E1")
TICK_S = 1e-9


class Work(NamedTuple):
    """One row of the table: what is done, the ratio aimed at, and the two ways to do it."""

    name: str
    goal: float
    ours: Callable[[], object]
    plain: Callable[[], object]


def build(folder: Path) -> ctypes.CDLL | None:
    """Build the C works as a shared library; None where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    library = folder / "works.so"
    source = Path(__file__).parent / "c" / "works.c"
    subprocess.run([compiler, "-O2", "-shared", "-fPIC", str(source), "-o", str(library)], check=True)
    works = ctypes.CDLL(str(library))
    for name in ("receive", "packed_edges", "channel_edges", "frames", "vcd_changes", "cobs", "slip"):
        getattr(works, name).restype = ctypes.c_size_t
    return works


def at(array: np.ndarray) -> ctypes.c_void_p:
    """Return where an array lies."""
    return ctypes.c_void_p(array.ctypes.data)


def size(number: int) -> ctypes.c_size_t:
    """Return a number as C counts."""
    return ctypes.c_size_t(number)


def receptions(works: ctypes.CDLL, count: int) -> Iterator[Work]:
    """Edges to characters."""
    rng = np.random.default_rng(1)
    values = rng.integers(0, 256, count)
    gaps = rng.exponential(3, count) * (rng.random(count) < 0.5)
    alternating = lr.transmit(np.full(count, 0x55), LINE)
    for name, goal, trace in (
        ("edges to characters, 8E1, half with gaps", 1.75, lr.transmit(values, LINE, gaps=gaps)),
        ("edges to characters, back to back", 1.75, lr.transmit(values, LINE)),
        (
            "edges to characters, 0x55 out of step",
            7,
            lr.Trace(alternating.edges[3:], alternating.tick_s, 0, end=alternating.end),
        ),
    ):
        edges, level, bit = np.asarray(trace.edges, np.int64), int(trace.first_level), LINE.bit_time_s / trace.tick_s

        def plain(edges=edges, level=level, bit=bit, tick=trace.tick_s):
            most = len(edges) // 2 + 1
            times, found, flags = np.empty(most), np.empty(most, np.uint16), np.empty(most, np.uint8)
            number = works.receive(
                at(edges),
                size(len(edges)),
                level,
                ctypes.c_double(bit),
                ctypes.c_double(tick),
                at(times),
                at(found),
                at(flags),
            )
            return found[:number]

        def ours(trace=trace):
            return lr.receive(trace, LINE).value

        yield Work(name, goal, ours, plain)


def samples(works: ctypes.CDLL, folder: Path, count: int) -> Iterator[Work]:
    """Raw samples to edges."""
    rng = np.random.default_rng(2)
    rate = 1e6
    trace, other = (lr.transmit(rng.integers(0, 256, count), LINE, gaps=rng.exponential(9, count)) for _ in range(2))
    for bits, goal, title in (
        (1, 1.25, "samples to edges, 1 bit a sample"),
        (8, 0.6, "samples to edges, one of 8 channels"),
    ):
        path = folder / f"{bits}.raw"
        form = lr.CaptureForm(rate=rate, bits=bits, kind="samples")
        lr.capture.write_samples(path, {"0": trace} if bits == 1 else {"0": other, "2": trace}, rate, form)
        signal = "0" if bits == 1 else "2"

        def plain(path=path, bits=bits):
            data = np.fromfile(path, np.uint8)
            edges = np.empty(len(data), np.int64)
            if bits == 1:
                return edges[: works.packed_edges(at(data), size(len(data)), at(edges))]
            return edges[: works.channel_edges(at(data), size(len(data)), 4, at(edges))]

        def ours(path=path, signal=signal, form=form):
            return lr.open_trace(path, signal, form=form).edges

        yield Work(title, goal, ours, plain)


class Columns(ctypes.Structure):
    """Where C writes the columns of the frames."""

    _fields_ = [
        (name, ctypes.c_void_p)
        for name in (
            "offset",
            "kind",
            "count",
            "state",
            "valves",
            "spare",
            "faults",
            "flow",
            "pressure",
            "temperature",
            "dosed",
            "crc",
        )
    ]


def frames(works: ctypes.CDLL, count: int) -> Iterator[Work]:
    """Bytes to frames with all field columns."""
    rng = np.random.default_rng(1)
    some = [
        LAYOUT.encode({"count": number % 256, "flow": number % 300, "dosed": float(rng.random()), "state": "dosing"})
        for number in range(2048)
    ]
    data = np.frombuffer(b"".join(some) * (count // 2048 + 1), np.uint8)[: 16 * count]
    table = np.array(crc_table(16, 0x1021, False), np.uint16)
    types = {
        "offset": np.int64,
        "flow": float,
        "pressure": float,
        "temperature": float,
        "dosed": np.float32,
        "crc": np.uint16,
    }

    def plain():
        columns = {
            name: np.empty(len(data) // 16 * (4 if name == "valves" else 1), types.get(name, np.uint8))
            for name, _ in Columns._fields_
        }
        to = Columns(*(column.ctypes.data for column in columns.values()))
        number = works.frames(at(table), at(data), size(len(data)), ctypes.byref(to))
        return columns["flow"][:number]

    def ours():
        found = lr.read_frames(data, LAYOUT)
        for name in LAYOUT.slot:
            found[name]
        return found["flow"]

    yield Work("frames with marker, 16 bytes, CRC, all columns", 1.75, ours, plain)


def checksums(works: ctypes.CDLL, messages: int, length: int, buffer: int) -> Iterator[Work]:
    """CRC of a long buffer and of many messages."""
    rng = np.random.default_rng(3)
    rows = rng.integers(0, 256, (messages, length), dtype=np.uint8)
    data = rng.integers(0, 256, buffer, dtype=np.uint8)
    for name, kind, goals in (
        ("CRC-16/IBM-3740", np.uint16, (0.1, 1.5)),
        ("CRC-32/ISO-HDLC", np.uint32, (0.2, 1.75)),
    ):
        crc = ALGORITHMS[name]
        assert isinstance(crc, CrcAlgorithm)
        table = np.array(crc_table(crc.width, crc.poly, crc.reflect_in), kind)
        work = works.crc16_of_messages if kind is np.uint16 else works.crc32_of_messages

        def plain_long(table=table, work=work):
            result = np.empty(1, np.uint64)
            work(at(table), at(data), size(1), size(len(data)), at(result))
            return result

        def plain_many(table=table, work=work):
            results = np.empty(messages, np.uint64)
            work(at(table), at(rows), size(messages), size(length), at(results))
            return results

        yield Work(
            f"{name[:6]} of a long buffer", goals[0], lambda crc=crc: [lr.calculate_checksum(data, crc)], plain_long
        )
        yield Work(
            f"{name[:6]} of many short messages", goals[1], lambda crc=crc: checksums_of_rows(rows, crc), plain_many
        )


def dumps(works: ctypes.CDLL, folder: Path, count: int) -> Iterator[Work]:
    """VCD to the edges of one wire."""
    rng = np.random.default_rng(4)
    traces = {
        f"rig.wire{number}": lr.transmit(rng.integers(0, 256, count), LINE, gaps=rng.exponential(9, count))
        for number in range(3)
    }
    path = folder / "three.vcd"
    lr.write_vcd(path, traces)

    def plain():
        text = np.append(np.fromfile(path, np.uint8), np.uint8(0))
        times, values = np.empty(len(text) // 4, np.int64), np.empty(len(text) // 4, np.uint8)
        number = works.vcd_changes(at(text), size(len(text) - 1), ctypes.c_char(b"!"), at(times), at(values))
        return times[1:number]  # the first is the level at the beginning

    yield Work("VCD to edges, one of 3 wires", 1.1, lambda: lr.open_trace(path, "rig.wire0").edges, plain)


def packets(works: ctypes.CDLL, count: int) -> Iterator[Work]:
    """Stuffed packets of 10 to 60 bytes."""
    rng = np.random.default_rng(2)
    lengths = rng.integers(10, 61, 4096)
    for title, layout, work in (("COBS packets", COBS, works.cobs), ("SLIP packets", SLIP, works.slip)):
        some = [layout.as_sent(layout.encode({"data": rng.integers(0, 256, number).tolist()})) for number in lengths]
        data = np.frombuffer(b"".join(some) * (count // len(some)), np.uint8)

        def plain(data=data, work=work):
            result, ends = np.empty(len(data), np.uint8), np.empty(len(data) // 4, np.int64)
            number = work(at(data), size(len(data)), at(result), at(ends))
            return np.diff(ends[:number], prepend=0)

        def ours(data=data, layout=layout):
            return lr.read_frames(data, layout)["data"].length

        yield Work(title, 2, ours, plain)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("--only", default="", help="works whose name holds this text")
    asked.add_argument("--rounds", type=int, default=5, help="turns of each work")
    options = asked.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        works = build(folder)
        if works is None:
            sys.exit("there is no C compiler here (cc, gcc or clang), so nothing to compare with")
        print(f"{'work':<50} {'goal / C':>8} {'now / C':>8}")
        for group in (
            receptions(works, 2_000_000),
            samples(works, folder, 400_000),
            frames(works, 400_000),
            checksums(works, 400_000, 14, 1 << 26),
            dumps(works, folder, 300_000),
            packets(works, 200_000),
        ):
            for work in group:
                if options.only.lower() not in work.name.lower():
                    continue
                ours, plain = work.ours(), work.plain()
                np.testing.assert_allclose(np.asarray(ours, float), np.asarray(plain, float), rtol=1e-6)
                seconds = compare({"ours": work.ours, "plain": work.plain}, rounds=options.rounds)
                print(f"{work.name:<50} {work.goal:8.2f} {seconds['ours'] / seconds['plain']:8.2f}", flush=True)


if __name__ == "__main__":
    main()
