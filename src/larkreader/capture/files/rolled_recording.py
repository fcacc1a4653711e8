"""Recordings in several files: a long recording that is rolled over, and recordings of what stood around something.

All files of a session have one clock, so that a time means the same in each; put behind each other they are one
recording. A manifest lists them. It is written anew beside the old one and then takes its place, so that a crash leaves
one of both whole.
"""

from __future__ import annotations

import json
from collections import Counter, deque
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple, Self

from larkreader.sources import write_whole

from .recording import RecordingWriter

MANIFEST = 1
SLACK_S = 10.0  # for which what arrived is held in addition, as a finding shows later than it happened
QUIET_S = 0.02  # without a character, in which no frame is cut in two
OVERDUE, OVERDUE_S = 1.1, 5.0  # times the size, and seconds beyond the time, at which a file ends without such a pause
LONGEST_S = 60.0  # that a recording lasts where one thing follows the other; then another recording begins
MOST_HELD = 1 << 26  # bytes that are held at most

Wires = Mapping[str, Mapping[str, str]]


class Entry(NamedTuple):
    """What arrived together: when, in seconds; on which wire; characters, faults, and what the driver counted."""

    at_s: float
    wire: str
    data: bytes
    faults: bytes
    counted: Mapping[str, int]


class _Part:
    """A file of a recording that is being written, with what the manifest says of it."""

    def __init__(self, path: Path, began: str, wires: Wires, more: Mapping[str, Any]) -> None:
        self.path, self._more = path, more
        self._writer = RecordingWriter(path, began, wires)
        self._first_s: float | None = None
        self._last_s = 0.0
        self._characters: Counter[str] = Counter()

    @property
    def size(self) -> int:
        """How many bytes the file has."""
        return self._writer.size

    def lasts_s(self, until_s: float) -> float:
        """Return how long it lasts up to a time, in seconds."""
        return 0.0 if self._first_s is None else until_s - self._first_s

    def rests_s(self, until_s: float) -> float:
        """Return how long nothing was added up to a time, in seconds."""
        return until_s - self._last_s

    def add(self, entry: Entry) -> None:
        """Write what arrived together."""
        self._writer.add(*entry)
        self._first_s = entry.at_s if self._first_s is None else self._first_s
        self._last_s = entry.at_s
        self._characters[entry.wire] += len(entry.data)

    def close(self) -> dict[str, Any]:
        """Close the file, and return what the manifest says of it."""
        self._writer.close()
        return {
            "file": self.path.name,
            "from_s": round(self._first_s or 0.0, 6),
            "to_s": round(self._last_s, 6),
            "bytes": self.size,
            "characters": dict(self._characters),
            **self._more,
        }


class _Manifest:
    """The list of the files of a session, beside them."""

    def __init__(self, path: Path, began: str, wires: Wires) -> None:
        self._path, self._began, self._wires = path, began, wires
        self._parts: list[Mapping[str, Any]] = []

    def add(self, part: Mapping[str, Any]) -> None:
        """Add a file, and write the list anew."""
        self._parts.append(part)
        content = {"manifest": MANIFEST, "began": self._began, "wires": self._wires, "recordings": self._parts}
        write_whole(self._path, json.dumps(content, indent=1))


class RolledRecording:
    """Writes a recording as several files: ``night-0001.jsonl``, ``night-0002.jsonl``, ... for ``night.jsonl``.

    Parameters
    ----------
    path : pathlib.Path
        After which the files are named. Files that are there already stay; the numbers go on behind them.
    began : str
        As of `RecordingWriter`.
    wires : mapping of str to mapping
        As of `RecordingWriter`.
    most_bytes : int, optional
        After so many bytes the next file begins, in a pause of 20 ms; without a pause at a tenth more.
    most_s : float, optional
        After so many seconds the next file begins, in such a pause; without a pause five seconds later.

    Raises
    ------
    CaptureError
        As of `RecordingWriter`.
    """

    def __init__(
        self, path: Path, began: str, wires: Wires, *, most_bytes: int | None = None, most_s: float | None = None
    ) -> None:
        self._path, self._began, self._wires = path, began, wires
        self._most_bytes, self._most_s = most_bytes, most_s
        self._number = max(
            (_number_of(item, path) for item in path.parent.glob(f"{path.stem}-*{path.suffix}")), default=0
        )
        self._manifest = _Manifest(path.with_name(f"{path.stem}-{self._number + 1:04}.manifest.json"), began, wires)
        self._part: _Part | None = self._next()

    def add(
        self, at_s: float, wire: str, data: bytes, faults: bytes = b"", counted: Mapping[str, int] | None = None
    ) -> None:
        """Write what arrived or went out together; all of it is in one file."""
        if self._part is None or self._is_full(self._part, at_s):
            self._end()
            self._part = self._next()
        self._part.add(Entry(at_s, wire, data, faults, counted or {}))

    def close(self) -> None:
        """Close the last file."""
        self._end()

    def _is_full(self, part: _Part, at_s: float) -> bool:
        """Return whether the next file begins: in a pause, so that no frame lies in two files, unless overdue."""
        is_quiet = part.rests_s(at_s) >= QUIET_S
        if self._most_bytes is not None and part.size >= self._most_bytes * (1 if is_quiet else OVERDUE):
            return True
        return self._most_s is not None and part.lasts_s(at_s) >= self._most_s + (0 if is_quiet else OVERDUE_S)

    def _next(self) -> _Part:
        self._number += 1
        path = self._path.with_name(f"{self._path.stem}-{self._number:04}{self._path.suffix}")
        return _Part(path, self._began, self._wires, {})

    def _end(self) -> None:
        if self._part is not None:
            self._manifest.add(self._part.close())
            self._part = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class RecordingsAround:
    """Holds the last seconds of what arrived, and writes what stood around something as a recording.

    What falls into the time of a recording that is not written yet belongs to it, so that a burst makes one file
    of `LONGEST_S` at the most.

    Parameters
    ----------
    folder : pathlib.Path
        Where they are written; made if it is not there.
    began : str
        As of `RecordingWriter`.
    wires : mapping of str to mapping
        As of `RecordingWriter`.
    before_s, after_s : float
        How much stands before and after, in seconds.
    most_files, most_bytes : int
        How many files are written at most, and how many bytes they may have altogether.

    Attributes
    ----------
    written : list of pathlib.Path
        The files so far.
    left_out : int
        How many things were not recorded, as a limit was reached.
    """

    written: list[Path]
    left_out: int

    def __init__(
        self,
        folder: Path,
        began: str,
        wires: Wires,
        *,
        before_s: float,
        after_s: float,
        most_files: int,
        most_bytes: int,
    ) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder, self._head = folder, (began, wires)
        self._around_s = before_s, after_s
        self._most_files, self._most_bytes = most_files, most_bytes
        self._held: deque[Entry] = deque()
        self._size = 0  # of what is held
        self._pending: list[tuple[float, float, str, list[dict[str, Any]]]] = []  # from, to, name, what stands in it
        self._manifest = _Manifest(folder / "manifest.json", *self._head)
        self.written, self.left_out = [], 0
        self._total = 0

    def add(self, entry: Entry) -> None:
        """Hold what arrived together."""
        self._held.append(entry)
        self._size += len(entry.data)

    def notice(self, at_s: float, name: str, about: Mapping[str, Any]) -> None:
        """Take note of something that is to be recorded with what stands around it.

        Parameters
        ----------
        at_s : float
            When it was, in seconds.
        name : str
            What it is called; a part of the file's name.
        about : mapping
            What the manifest says of it.
        """
        before_s, after_s = self._around_s
        for place, (from_s, to_s, first, every) in enumerate(self._pending):
            if from_s <= at_s <= to_s and at_s - from_s <= LONGEST_S:
                self._pending[place] = (from_s, max(to_s, at_s + after_s), first, [*every, {"at_s": at_s, **about}])
                return
        if len(self.written) + len(self._pending) >= self._most_files or self._total >= self._most_bytes:
            self.left_out += 1
            return
        name = f"{name}-at-{at_s:.3f}s"
        self._pending.append((at_s - before_s, at_s + after_s, name, [{"at_s": at_s, **about}]))

    def look(self, now_s: float) -> None:
        """Write the recordings whose time is over, and give up what no recording needs."""
        done = [item for item in self._pending if item[1] < now_s]
        self._pending = [item for item in self._pending if item[1] >= now_s]
        for item in done:
            self._write(*item)
        needed_s = min([now_s - self._around_s[0] - SLACK_S, *(item[0] for item in self._pending)])
        while self._held and (self._held[0].at_s < needed_s or self._size > MOST_HELD):
            self._size -= len(self._held.popleft().data)

    def close(self) -> None:
        """Write the recordings whose time is not over yet."""
        pending, self._pending = self._pending, []
        for item in pending:
            self._write(*item)

    def _write(self, from_s: float, to_s: float, name: str, every: list[dict[str, Any]]) -> None:
        path = self._folder / f"{name}.jsonl"
        count = 1
        while path.exists():
            count += 1
            path = self._folder / f"{name}-{count}.jsonl"
        part = None
        try:
            part = _Part(path, *self._head, {"findings": every})
            for entry in self._held:
                if from_s <= entry.at_s <= to_s:
                    part.add(entry)
            self._manifest.add(part.close())
        except OSError:
            path.unlink(missing_ok=True)  # half a recording is none
            raise
        self.written.append(path)
        self._total += part.size


def _number_of(path: Path, named_after: Path) -> int:
    """Return the number of a file of a rolled recording; 0 if it is none."""
    digits = path.stem.removeprefix(f"{named_after.stem}-")
    return int(digits) if digits.isdecimal() else 0
