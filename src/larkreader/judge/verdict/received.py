"""What the wires of a capture carry, received piece by piece: characters, and the changes of other signals."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.measured import Measured
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.event import EventSignal
from larkreader.decode.characters.character_reader import CharacterReader
from larkreader.judge.measure.events import Seconds, changes_of
from larkreader.judge.wire.character_faults import Extent

BEGINNING = 1 << 16  # changes of level; what so many do not show of settings, more do not show either


@dataclass
class Received:
    """What was received in a capture.

    By wire: characters, extents and beginnings of traces, clear-to-send signals, levels if kept; by event: changes in
    seconds.
    """

    characters: dict[str, Characters] = field(default_factory=dict)
    extents: dict[str, Extent] = field(default_factory=dict)
    changes_s: dict[str, Seconds] = field(default_factory=dict)
    beginnings: dict[str, Trace] = field(default_factory=dict)
    clear: dict[str, Trace] = field(default_factory=dict)
    levels: dict[str, Trace] = field(default_factory=dict)


def receive_all(
    pieces: Iterable[Mapping[str, Measured | bytes]],
    sheet: Sheet,
    *,
    samples: int = 1,
    oversampling: int | None = None,
    check_stops: bool = False,
    keep_levels: bool = False,
    most: int | None = None,
) -> Received:
    """Receive what a capture holds piece by piece; options as of `receive`.

    The levels of a large capture are never all in memory, unless they are to be kept. With `most`, nothing more is
    taken in once there are so many characters of all wires.
    """
    receiver = Receiver(sheet, samples=samples, oversampling=oversampling, check_stops=check_stops)
    parts: dict[str, list[Characters]] = {}
    levels: dict[str, list[Trace]] = {}
    count = 0
    for piece in pieces:
        piece_found = receiver.add(piece)
        for key, found in piece_found.items():
            parts.setdefault(key, []).append(found)
            if keep_levels and isinstance(what := piece[key], Trace):
                levels.setdefault(key, []).append(what)
        count += sum(map(len, piece_found.values()))
        if most is not None and count >= most:
            break
    for key, found in receiver.close().items():
        parts[key].append(found)
    received = receiver.received
    received.characters = {key: Characters.joined(parts.pop(key)) for key in sheet.wire if key in parts}
    received.levels = {key: Trace.joined(found) for key, found in levels.items()}
    received.clear = {key: Trace.joined(found) for key, found in receiver.clear.items()}
    received.changes_s = {key: np.concatenate(found) for key, found in receiver.changes_s.items()}
    return received


class Receiver:
    """Receives what a capture holds, piece by piece; options as of `receive`.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Attributes
    ----------
    received : Received
        What is known of the wires so far: extents and beginnings.
    changes_s : dict of str to list of ndarray
        By event, its changes in seconds, piece by piece.
    clear : dict of str to list of Trace
        By wire, its clear-to-send signal, piece by piece.
    """

    def __init__(
        self, sheet: Sheet, *, samples: int = 1, oversampling: int | None = None, check_stops: bool = False
    ) -> None:
        self._sheet = sheet
        self._reader_of = partial(CharacterReader, samples=samples, oversampling=oversampling, check_stops=check_stops)
        self._events = {_event_key(event): event for event in sheet.event.values()}
        self._clear_keys = {_clear_key(key): key for key in sheet.wire}
        self._readers: dict[str, CharacterReader] = {}
        self._reached_s = np.inf
        self.received: Received = Received()
        self.changes_s: dict[str, list[Seconds]] = {}
        self.clear: dict[str, list[Trace]] = {}

    def add(self, piece: Mapping[str, Measured | bytes]) -> dict[str, Characters]:
        """Take in what happened next, and return by wire the characters that are certain now."""
        found: dict[str, Characters] = {}
        for key, what in piece.items():
            if not isinstance(what, Trace):
                known = what if isinstance(what, Characters) else Characters.from_bytes(what)
                found[key] = known.with_ninth_bit_apart() if self._sheet.wire[key].line.has_address_mark else known
            elif key in self._events:
                event = self._events[key]
                self.changes_s.setdefault(event.key, []).append(changes_of(what, event))
            elif key in self._clear_keys:
                self.clear.setdefault(self._clear_keys[key], []).append(what)
            else:
                found[key] = self._receive(key, what)
        return found

    def _receive(self, key: str, trace: Trace) -> Characters:
        """Take in the next levels of a wire."""
        received = self.received
        if key not in self._readers:
            self._readers[key] = self._reader_of(self._sheet.wire[key].line)
            received.extents[key], received.beginnings[key] = Extent.of(trace), trace
        elif len(received.beginnings[key]) < BEGINNING:
            received.beginnings[key] = Trace.joined([received.beginnings[key], trace])
        received.extents[key] = received.extents[key].grown_by(trace)
        self._reached_s = trace.in_seconds(trace.begin if trace.end is None else trace.end)
        return self._readers[key].feed(trace)

    def taken_changes(self) -> dict[str, list[Seconds]]:
        """Return the changes of events since the call before, in seconds, and give them up."""
        taken, self.changes_s = self.changes_s, {}
        return taken

    def decided_s(self, wire: str) -> float:
        """Return until when all characters of a wire were returned, in seconds; infinite without levels.

        Of a wire that is missing so far no level is known: it has no character before the pieces that are there end.
        """
        return self._readers[wire].decided_s if wire in self._readers else self._reached_s

    def close(self) -> dict[str, Characters]:
        """Return by wire the rest of the characters, now that nothing follows."""
        return {key: reader.close() for key, reader in self._readers.items()}


def signals_of(sheet: Sheet, wires: Sequence[str], *, with_events: bool) -> dict[str, str]:
    """Return what the capture of some wires calls them, and if wanted the sheet's other signals.

    Those are the event signals and the clear-to-send signals of the wires, by names that `receive_all` knows.
    """
    signals = {wire: sheet.wire[wire].source for wire in wires}
    if with_events:
        signals |= {_event_key(event): event.source for event in sheet.event.values() if event.wire in wires}
        signals |= {_clear_key(wire): signal for wire in wires if (signal := sheet.wire[wire].clear_to_send)}
    return signals


def _event_key(event: EventSignal) -> str:
    """Return what an event signal is called beside the wires."""
    return f"[event.{event.key}]"


def _clear_key(wire: str) -> str:
    """Return what the clear-to-send signal of a wire is called beside the wires."""
    return f"[wire.{wire}.clear_to_send]"
