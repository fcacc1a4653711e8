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
) -> Received:
    """Receive what a capture holds piece by piece; options as of `receive`.

    The levels of a large capture are never all in memory, unless they are to be kept.
    """
    reader_of = partial(CharacterReader, samples=samples, oversampling=oversampling, check_stops=check_stops)
    events = {_event_key(event): event for event in sheet.event.values()}
    clear_keys = {_clear_key(key): key for key in sheet.wire}
    clear: dict[str, list[Trace]] = {}
    readers: dict[str, CharacterReader] = {}
    parts: dict[str, list[Characters]] = {}
    levels: dict[str, list[Trace]] = {}
    changes: dict[str, list[Seconds]] = {}
    received = Received()
    for piece in pieces:
        for key, what in piece.items():
            if not isinstance(what, Trace):
                known = what if isinstance(what, Characters) else Characters.from_bytes(what)
                known = known.with_ninth_bit_apart() if sheet.wire[key].line.has_address_mark else known
                parts.setdefault(key, []).append(known)
            elif key in events:
                changes.setdefault(events[key].key, []).append(changes_of(what, events[key]))
            elif key in clear_keys:
                clear.setdefault(clear_keys[key], []).append(what)
            else:
                if key not in readers:
                    readers[key], parts[key] = reader_of(sheet.wire[key].line), []
                    received.extents[key] = Extent.of(what)
                if len(received.beginnings.get(key, ())) < len(what):  # the first pieces may be idle
                    received.beginnings[key] = what
                received.extents[key] = received.extents[key].grown_by(what)
                parts[key].append(readers[key].feed(what))
                if keep_levels:
                    levels.setdefault(key, []).append(what)
    for key, reader in readers.items():
        parts[key].append(reader.close())
    received.characters = {key: Characters.joined(parts.pop(key)) for key in sheet.wire if key in parts}
    received.levels = {key: Trace.joined(found) for key, found in levels.items()}
    received.clear = {key: Trace.joined(found) for key, found in clear.items()}
    received.changes_s = {key: np.concatenate(found) for key, found in changes.items()}
    return received


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
