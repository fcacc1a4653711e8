"""What the wires of a capture carry, received piece by piece: characters, and the changes of other signals."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.capture.files.open import Measured
from larkreader.capture.trace import Trace
from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.event import EventSignal
from larkreader.decode.characters.character_reader import CharacterReader
from larkreader.judge.measure.events import Seconds, changes_of
from larkreader.judge.wire.character_faults import Extent


@dataclass
class Received:
    """What came out of a capture.

    By wire: characters, extents and beginnings of traces, and clear-to-send signals; by event: changes in seconds.
    """

    characters: dict[str, Characters] = field(default_factory=dict)
    extents: dict[str, Extent] = field(default_factory=dict)
    changes_s: dict[str, Seconds] = field(default_factory=dict)
    beginnings: dict[str, Trace] = field(default_factory=dict)
    clear: dict[str, Trace] = field(default_factory=dict)


def receive_all(pieces: Iterable[Mapping[str, Measured | bytes]], sheet: Sheet, options: Mapping[str, Any]) -> Received:
    """Receive what comes piece by piece, so that the levels of a large capture are never all in memory."""
    events = {event_key(event): event for event in sheet.event.values()}
    clear_keys = {clear_key(key): key for key in sheet.wire}
    clear: dict[str, list[Trace]] = {}
    readers: dict[str, CharacterReader] = {}
    parts: dict[str, list[Characters]] = {}
    changes: dict[str, list[Seconds]] = {}
    told = Received()
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
                    readers[key], parts[key] = CharacterReader(sheet.wire[key].line, **options), []
                    told.extents[key] = Extent.of(what)
                if len(told.beginnings.get(key, ())) < len(what):  # the first pieces may be idle
                    told.beginnings[key] = what
                told.extents[key] = told.extents[key].grown_by(what)
                parts[key].append(readers[key].feed(what))
    for key, reader in readers.items():
        parts[key].append(reader.close())
    told.characters = {key: Characters.joined(parts.pop(key)) for key in sheet.wire if key in parts}
    told.clear = {key: Trace.joined(found) for key, found in clear.items()}
    told.changes_s = {key: np.concatenate(found) for key, found in changes.items()}
    return told


def event_key(event: EventSignal) -> str:
    """Return what an event signal is called beside the wires."""
    return f"[event.{event.key}]"


def clear_key(wire: str) -> str:
    """Return what the clear-to-send signal of a wire is called beside the wires."""
    return f"[wire.{wire}.clear_to_send]"
