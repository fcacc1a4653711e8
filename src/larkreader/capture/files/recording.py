"""Recordings of live traffic: JSON Lines (one JSON value a line, UTF-8), written so that a crash loses next to nothing.

The first line shows what was recorded::

    {"recording": 1, "began": "2026-05-01T08:30:00Z", "wires": {"from_pump": {"port": "/dev/ttyUSB0"}}}

Each further line is what arrived or went out together, with the seconds since then; ``faults`` stands there only if a
character has one, a list of place and names::

    {"s": 0.004312, "wire": "from_pump", "hex": "67 6f 74", "faults": [[2, "parity"]]}

Where the port's driver counts what it and its hardware lose, the entry shows what it has counted since the last entry,
as ``"counted": {"overrun": 1, "overflow": 17}``.
"""

from __future__ import annotations

import io
import json
import os
import re
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from itertools import chain, pairwise
from pathlib import Path
from typing import Any, BinaryIO, Self

import numpy as np

from larkreader.capture.characters import FAULT_NAMES, Characters, fault_names
from larkreader.capture.recorded_parts import recorded_parts
from larkreader.errors import CaptureError
from larkreader.sources import written_whole

from . import character_pieces
from .character_pieces import Pieces, blocks_of
from .content import Content
from .json_text import parse_json

VERSION = 1
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
COUNTED = ("overrun", "overflow", "parity", "framing", "break")
_PLAIN_ENTRY = re.compile(
    rb'\{"s": (-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?), "wire": "([ !#-\[\]-~]*)", "hex": "((?:[0-9a-f]{2} ?)*)"\}'
)
_BY_NAME = {name: int(fault) for fault, name in FAULT_NAMES.items()}


class RecordingWriter:
    """Writes a recording, each entry at once, so that what was written survives a crash of the program.

    Parameters
    ----------
    path : pathlib.Path or binary file
        The file, or a stream such as standard output. An existing file is appended to only if it is a recording, and
        then goes on as a new part of it.
    began : str
        When the clock of the entries stood at 0: date and time in UTC, ISO 8601.
    wires : mapping of str to mapping
        What is known of each wire: its ``port`` and, where it has one, its ``line``.

    Attributes
    ----------
    size : int
        How many bytes were written.

    Raises
    ------
    CaptureError
        If the file exists and is not a recording.
    """

    size: int

    def __init__(self, path: Path | BinaryIO, began: str, wires: Mapping[str, Mapping[str, str]]) -> None:
        self._is_ours = isinstance(path, Path)
        self.size = 0
        was_there = isinstance(path, Path) and path.exists()
        self._file: BinaryIO | io.FileIO | None = None if isinstance(path, Path) else path
        try:
            if isinstance(path, Path):
                self._file = _appended(path)
            self._put({"recording": VERSION, "began": began, "wires": wires})
        except BaseException:  # an interrupt too: no file stays behind that says nothing
            self.close()
            if isinstance(path, Path) and not was_there and path.exists() and not path.stat().st_size:
                path.unlink()
            raise

    def begin_part(self, began: str, wires: Mapping[str, Mapping[str, str]]) -> None:
        """Begin another part, before which nothing was recorded for a while; parameters as those of the recording."""
        self._put({"recording": VERSION, "began": began, "wires": wires})

    def add(
        self, at_s: float, wire: str, data: bytes, faults: bytes = b"", counted: Mapping[str, int] | None = None
    ) -> None:
        """Write what arrived or went out together, and what the driver has counted as lost meanwhile."""
        entry: dict[str, Any] = {"s": round(at_s, 6), "wire": wire, "hex": data.hex(" ")}
        held = [[place, fault_names(fault)] for place, fault in enumerate(faults) if fault]
        if held:
            entry["faults"] = held
        if counted := {name: count for name, count in (counted or {}).items() if count}:
            entry["counted"] = counted
        self._put(entry)

    def close(self) -> None:
        """Close the file; a stream stays open."""
        if self._is_ours and self._file is not None:
            self._file.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _put(self, entry: Mapping[str, Any]) -> None:
        assert self._file is not None
        rest = memoryview(json.dumps(entry).encode() + b"\n")
        self.size += len(rest)
        while rest:  # a file that is nearly full takes a part
            rest = rest[self._file.write(rest) or 0 :]
        self._file.flush()


def _appended(path: Path) -> io.FileIO:
    """Open a recording to append to it, or a new file; raise `CaptureError` if the file holds something else."""
    torn = False
    if path.exists() and path.stat().st_size:
        with path.open("rb") as there:
            if not is_recording(there.read(4096)):
                raise CaptureError(str(path), "exists and is not a recording", advice="Name another file")
            there.seek(-1, os.SEEK_END)
            torn = there.read(1) != b"\n"
    file = path.open("ab", buffering=0)
    if torn:  # the last entry was cut off by a crash
        file.write(b"\n")
    return file


def write_recording(path: str | Path, wires: Mapping[str, Characters]) -> None:
    """Write characters of several wires as a recording whose clock stands at 0 on 1970-01-01.

    Where nothing was recorded for a time, another part begins.

    Parameters
    ----------
    path : str or pathlib.Path
        The file.
    wires : mapping of str to Characters
        The characters, by wire, with times and of 8 data bits at the most.

    Raises
    ------
    CaptureError
        If there are no times, or a value does not fit into a byte.
    """
    for characters in wires.values():
        if len(characters) and (not characters.has_times or characters.value.max() > 0xFF):
            found = "would hold characters without times" if not characters.has_times else "would hold nine bits"
            raise CaptureError(str(path), found, "a recording holds bytes with their times")
    parts = [_entries_of(part) for part in recorded_parts(wires)]
    names: dict[str, dict[str, str]] = {wire: {} for wire in wires}
    with ExitStack() as stack:
        file = Path(path) if Path(path).exists() else stack.enter_context(written_whole(path))
        writer = stack.enter_context(RecordingWriter(file, _written_at(0.0), names))
        begin_s = 0.0
        for number, entries in enumerate(parts):
            if number and entries:
                begin_s = round(entries[0][0], 6)
                writer.begin_part(_written_at(begin_s), names)
            for at_s, wire, data, faults, counted in entries:
                writer.add(at_s - begin_s, wire, data, faults, counted)


def _written_at(time_s: float) -> str:
    """Write a time, in seconds since 1970, as a recording has it."""
    return (EPOCH + timedelta(seconds=time_s)).isoformat().replace("+00:00", "Z")


def _entries_of(wires: Mapping[str, Characters]) -> list[tuple[float, str, bytes, bytes, dict[str, int]]]:
    """Return what arrived together on some wires, in order of time."""
    entries: list[tuple[float, str, bytes, bytes, dict[str, int]]] = []
    for wire, characters in wires.items():
        together = np.flatnonzero(np.diff(characters.begin_s, prepend=np.nan) != 0)
        bounds = [*together.tolist(), len(characters)]
        for low, high in pairwise(bounds):
            data, faults = characters.value[low:high].astype(np.uint8), characters.faults[low:high]
            counted: Counter[str] = Counter()
            for place, what, count in characters.counted:
                counted[what] += count if low <= place < high else 0
            entries.append((float(characters.begin_s[low]), wire, data.tobytes(), faults.tobytes(), counted))
    return sorted(entries, key=lambda item: item[0])


def is_recording(head: bytes) -> bool:
    """Return whether a file that begins like this is a recording."""
    first = head.split(b"\n", 1)[0]
    return first.startswith(b'{"recording":')


def recording_pieces(file: Content) -> Pieces:
    """Read the characters of a recording, by wire, piece by piece.

    Parameters
    ----------
    file : Content
        At its beginning.

    Yields
    ------
    dict of str to Characters
        ``begin_s`` and ``end_s`` are when the group of a character arrived, in seconds since the first part of the
        recording began. Of the wires that a part names, each is in a piece, if only without characters.

    Returns
    -------
    str
        That the last line is left out, which a crash cut off.

    Raises
    ------
    CaptureError
        If a line is not of this form.
    """
    clock, size = _Clock(), 0  # bytes of entries that are held
    held: dict[str, list[tuple[float, bytes, bytes]]] = {}
    counted: dict[str, list[tuple[int, str, int]]] = {}
    resumed: dict[str, list[int]] = {}
    for number, (line, following) in enumerate(pairwise(chain(_lines_of(file), (None,))), 1):
        assert line is not None
        try:
            if match := _PLAIN_ENTRY.fullmatch(line):
                seconds, wire, digits = match.groups()
                held[wire.decode()].append((clock.part_s + float(seconds), bytes.fromhex(digits.decode()), b""))
            elif line:
                entry = parse_json(line)
                if "recording" in entry:
                    _check_version(entry, file.name)
                    if clock.begin_part(entry):
                        for wire, groups in held.items():
                            resumed.setdefault(wire, []).append(len(groups))
                    for wire in entry["wires"]:
                        held.setdefault(wire, [])
                else:
                    _add_entry(entry, clock.part_s, held, counted)
        except (ValueError, KeyError, TypeError, IndexError, OverflowError) as error:
            if isinstance(error, CaptureError):
                raise
            if following is None:
                yield _characters_of(held, counted, resumed)
                return "its last entry is incomplete"
            if is_recording(following):  # cut off while it was being written
                continue
            found = line[:40].decode("latin-1")
            raise CaptureError(
                f"{file.name}: line {number}", f'holds "{found}", which is not an entry of a recording'
            ) from None
        size += len(line)
        if size >= character_pieces.PIECE:
            yield _characters_of(held, counted, resumed)
            held, counted, resumed, size = {wire: [] for wire in held}, {}, {}, 0
    yield _characters_of(held, counted, resumed)
    return ""


class _Clock:
    """When the parts of a recording began, on the clock of the first."""

    def __init__(self) -> None:
        self.part_s = 0.0
        self._first: datetime | None = None

    def begin_part(self, entry: Mapping[str, Any]) -> bool:
        """Take note of a part that begins; return whether nothing was recorded before it for a while."""
        began = datetime.fromisoformat(entry["began"])
        before, is_first = self.part_s, self._first is None
        self._first = self._first or began
        self.part_s = (began - self._first).total_seconds()
        return not is_first and self.part_s != before  # the files of one recording have one beginning


def _lines_of(file: Content) -> Iterator[bytes]:
    """Yield the lines of a file without their ends, and what is behind the last end."""
    rest = b""
    for block in blocks_of(file, cut_at=b"\n"):
        *whole, rest = (rest + block).split(b"\n")
        yield from whole
    yield rest


def _add_entry(
    entry: Mapping[str, Any],
    part_s: float,
    held: Mapping[str, list[tuple[float, bytes, bytes]]],
    counted: dict[str, list[tuple[int, str, int]]],
) -> None:
    """Add an entry to what is held of its wire; raise `ValueError` and its like if it is not of this form."""
    data = bytes.fromhex(entry["hex"])
    faults = bytearray(len(data))
    for place, names in entry.get("faults", []):
        faults[place] = sum(_BY_NAME[item] for item in names.split("+"))
    groups = held[entry["wire"]]
    at_s = part_s + float(entry["s"])
    counts = entry.get("counted", {})
    for what, count in counts.items():
        if what not in COUNTED or not isinstance(count, int):
            raise ValueError(what)
    if counts:
        counted.setdefault(entry["wire"], []).extend((len(groups), what, count) for what, count in counts.items())
    groups.append((at_s, data, bytes(faults)))


def _characters_of(
    held: Mapping[str, list[tuple[float, bytes, bytes]]],
    counted: Mapping[str, list[tuple[int, str, int]]],
    resumed: Mapping[str, list[int]],
) -> dict[str, Characters]:
    """Make characters of what arrived on each wire; what was counted has the number of its group."""
    return {
        wire: Characters.from_groups(groups, counted.get(wire, ()), resumed.get(wire, ()))
        for wire, groups in held.items()
    }


def _check_version(entry: Mapping[str, Any], name: str) -> None:
    if entry["recording"] != VERSION:
        raise CaptureError(name, f"is a recording of version {entry['recording']}", f"must be {VERSION}")
