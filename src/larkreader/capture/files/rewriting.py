"""A capture in another format: its pieces on their way from one file to the other, and what is to be known of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain
from pathlib import Path

from larkreader.capture.characters import Characters
from larkreader.capture.trace import Trace
from larkreader.declare.run.capture_form import CaptureForm
from larkreader.errors import CaptureError, RequestError, nearest
from larkreader.sources import Target

from .byte_files import write_byte_pieces
from .capture_file import CaptureFile
from .csv_characters import write_character_pieces, write_characters
from .csv_levels import write_level_pieces
from .recording import write_recording
from .samples import write_sample_pieces
from .time_order import OutOfOrderError, in_order_of_time
from .trace_arrays import write_trace_array_pieces
from .vcd_writer import file_tick, write_vcd_pieces

Traces = Mapping[str, Trace]
APART = 2.0  # ticks of a VCD file at least in a tick of the capture, so that changes stay apart however it is cut


class PassingLevels:
    """The wanted signals of a file of levels, piece by piece.

    Parameters
    ----------
    file : CaptureFile
        The file.
    names : sequence of str
        The signals.

    Attributes
    ----------
    count : int
        How many changes passed.
    breaks : dict of str to str
        By signal, where the file breaks off, if it does.
    began_s : float, optional
        When the capture begins, in seconds, if that is before 0 and the other file can only begin there.
    """

    count: int
    breaks: dict[str, str]
    began_s: float | None

    def __init__(self, file: CaptureFile, names: Sequence[str]) -> None:
        self._file, self._names = file, names
        self.count, self.breaks, self.began_s = 0, {}, None

    def write_vcd(self, path: Target) -> None:
        """Write a VCD file; errors as of `write_vcd_pieces`."""
        first, pieces = self._begun()
        finest_s = min(trace.tick_s for trace in first.values())
        tick_s = file_tick({trace.tick_s for trace in first.values()})
        early_s = min((trace.begin - 1) * trace.tick_s for trace in first.values())
        if early_s < -finest_s:
            self.began_s = early_s
            pieces = (_later_by(-early_s, piece) for piece in pieces)
        if tick_s != finest_s and finest_s < APART * tick_s:
            pieces = _as_one(pieces)
        write_vcd_pieces(path, self._names, pieces, tick_s)

    def write_table(self, path: Target) -> None:
        """Write a table of level changes."""
        write_level_pieces(path, self._names, self._begun()[1])

    def write_arrays(self, path: Target) -> None:
        """Write an archive of NumPy arrays."""
        write_trace_array_pieces(path, self._names, self._begun()[1])

    def write_samples(self, path: Target, rate: float, form: CaptureForm) -> None:
        """Write samples; parameters and errors as of `write_sample_pieces`."""
        first, pieces = self._begun()
        if len(first) < len(self._names):  # before its first level a signal has that
            pieces = _as_one(pieces)
        write_sample_pieces(path, self._names, pieces, rate, form)

    def _begun(self) -> tuple[Traces, Iterable[Traces]]:
        """Return the first piece of which any level is known, and all of them."""
        pieces = self._pieces()
        first = next((piece for piece in pieces if piece), None)
        if first is None:
            raise CaptureError(self._file.name, "holds no signal with a level")
        return first, chain([first], pieces)

    def _pieces(self) -> Iterator[Traces]:
        for held in self._file.pieces({name: name for name in self._names}):
            piece = {name: trace for name, trace in held.items() if isinstance(trace, Trace)}
            for name, trace in piece.items():
                self.count += len(trace)
                self.breaks[name] = trace.truncated
            yield piece


def _later_by(time_s: float, piece: Traces) -> Traces:
    return {name: trace.later_by(round(time_s / trace.tick_s)) for name, trace in piece.items()}


def _as_one(pieces: Iterable[Traces]) -> list[Traces]:
    """Return all pieces as one."""
    parts: dict[str, list[Trace]] = {}
    for piece in pieces:
        for name, trace in piece.items():
            parts.setdefault(name, []).append(trace)
    return [{name: Trace.joined(held) for name, held in parts.items()}]


class PassingCharacters:
    """The wanted wires of a file of characters, piece by piece.

    Parameters
    ----------
    file : CaptureFile
        The file.
    wires : sequence of str
        The wires; none for all.

    Attributes
    ----------
    counts : dict of str to int
        By wire, how many characters passed.
    breaks : dict of str to str
        By wire, where the file breaks off, if it does.
    counted : dict of str to Counter of str
        By wire, what the driver of a port counted.
    """

    counts: dict[str, int]
    breaks: dict[str, str]
    counted: dict[str, Counter[str]]

    def __init__(self, file: CaptureFile, wires: Sequence[str]) -> None:
        self._file, self._wires = file, wires
        self._forget()

    def _forget(self) -> None:
        self.counts = dict.fromkeys(self._wires, 0)
        self.breaks, self.counted = {}, {}

    def write_bytes(self, path: Target) -> None:
        """Write the bytes of one wire.

        Raises
        ------
        RequestError
            If there are several wires, or none.
        """
        write_byte_pieces(path, (some for piece in self._of_one_wire() for some in piece.values()))

    def write_table(self, path: Target) -> None:
        """Write a table of characters, as they are read, or at once what is out of order."""
        try:
            write_character_pieces(path, in_order_of_time(self._pieces()))
        except OutOfOrderError:
            self._forget()
            write_characters(path, self._whole())

    def write_recording(self, path: Path) -> None:
        """Write a recording."""
        write_recording(path, self._whole())

    def _of_one_wire(self) -> Iterator[dict[str, Characters]]:
        for piece in self._pieces():
            if len(self.counts) > 1:
                found = f"would hold the bytes of {', '.join(self.counts)}"
                raise RequestError("OUT", found, advice="Name one with --signal")
            yield piece
        if not self.counts:
            raise RequestError(self._file.name, "holds no wire")

    def _pieces(self) -> Iterator[dict[str, Characters]]:
        seen: dict[str, None] = {}
        for piece in self._file.pieces_of_every_wire():
            seen |= dict.fromkeys(piece)
            chosen = [wire for wire in self._wires or piece if wire in piece]
            for wire in chosen:
                self.counts[wire] = self.counts.get(wire, 0) + len(piece[wire])
                self.breaks[wire] = piece[wire].truncated
                for _, what, count in piece[wire].counted:
                    self.counted.setdefault(wire, Counter())[what] += count
            yield {wire: piece[wire] for wire in chosen}
        for name in self._wires:
            if name not in seen:
                raise RequestError(f"--signal {name}", "is not in the capture", advice=nearest(name, list(seen)))

    def _whole(self) -> dict[str, Characters]:
        """Return all of them at once, by wire."""
        parts: dict[str, list[Characters]] = {wire: [] for wire in self.counts}
        for piece in self._pieces():
            for wire, some in piece.items():
                parts.setdefault(wire, []).append(some)
        return {wire: Characters.joined(held) for wire, held in parts.items()}
