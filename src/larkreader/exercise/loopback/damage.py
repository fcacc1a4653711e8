"""Frames damaged in every way that a line, a driver or a sender damages them.

Each kind of damage is a function that makes what is sent between sound frames: pieces that are sound frames themselves,
pieces that are none, and rests of the line.
"""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import ceil, floor
from typing import Any

from larkreader.declare.frame.field_kinds import raw_limits
from larkreader.declare.frame.field_parts import REST
from larkreader.declare.frame.fields import FieldEntry, FieldGroup, NamedField
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import repeat_of
from larkreader.decode.check.verify import fixed_value
from larkreader.decode.cut.frames import read_frames
from larkreader.errors import RequestError

FEW = 3  # of what varies in number, so that frames stay short
TRIES = 200  # to make a frame that differs from those before it, or holds its own marker
RECENT = 256  # frames that differ from each other


@dataclass(frozen=True)
class Piece:
    """A piece of what is sent: a sound frame, something that is none, or a rest of the line before what follows.

    Parameters
    ----------
    data : bytes
        What is sent.
    is_sound : bool
        Whether it is a frame as its sender meant it.
    rest_s : float
        How long the line rests before it, in seconds.
    """

    data: bytes
    is_sound: bool = False
    rest_s: float = 0.0


class FrameMaker:
    """Makes frames of a layout that differ from each other.

    Parameters
    ----------
    layout : FrameLayout
        The layout.
    rng : random.Random
        Where its values come from.
    identity : callable
        Returns what distinguishes a frame from others, of its content.
    """

    def __init__(self, layout: FrameLayout, rng: random.Random, identity: Callable[[bytes], Hashable]) -> None:
        self.layout, self.rng, self._identity = layout, rng, identity
        self._recent: deque[Hashable] = deque(maxlen=RECENT)
        self._counted = {layout.boundary.counted.field} if layout.boundary.counted else set()
        self._deciding = {str(repeat_of(entry)).split()[0] for entry in layout.fields if _is_counted(entry)}

    def content(self) -> bytes:
        """Return the content of a frame that differs from the frames before it, if there are enough."""
        for _ in range(TRIES):
            content = self.layout.encode(dict(self.values()))
            if self._identity(content) not in self._recent and not self._ends_early(content):
                break
        self._recent.append(self._identity(content))
        return content

    def sound(self) -> bytes:
        """Return a frame as it travels."""
        return self.layout.as_sent(self.content())

    def _ends_early(self, content: bytes) -> bool:
        """Return whether a content would be taken for shorter, as it holds what ends it."""
        boundary = self.layout.boundary
        ends = getattr(boundary, "every", ()) or ((boundary.end_marker,) if boundary.end_marker else ())
        held = content[: -len(boundary.end_marker)] if boundary.end_marker else content
        return any(end in held for end in ends)

    def values(self) -> Iterator[tuple[str, Any]]:
        """Yield values for the fields of a frame, by name."""
        for entry in self.layout.fields:
            if isinstance(entry, FieldGroup) or not isinstance(entry, NamedField):
                continue
            if entry.kind == "checksum" or entry.equals is not None or entry.name in self._counted or entry.when:
                continue
            if entry.repeat == REST:
                yield entry.name, [self._raw(entry) for _ in range(self.rng.randrange(1, FEW + 1))]
            elif isinstance(entry.repeat, int):
                items = [self._value(entry) for _ in range(entry.repeat)]
                yield entry.name, items if entry.repeat > 1 else items[0]

    def _value(self, field: NamedField) -> Any:
        raw = self._raw(field)
        return raw * field.scale + field.offset if field.is_scaled else raw

    def _raw(self, field: NamedField) -> Any:
        if field.kind in ("bytes", "text"):
            return self.rng.randrange(0x20, 0x7F)
        if field.kind == "float":
            low, high = field.range or (0.0, 1000.0)
            return (self.rng.uniform(low, high) - field.offset) / field.scale
        if field.names:
            return self.rng.choice(list(field.names.values()))
        low, high = raw_limits(field.kind, field.bits or 1, field.coding)
        if field.range is not None:
            ends = sorted((limit - field.offset) / field.scale for limit in field.range)
            low, high = max(low, ceil(ends[0])), min(high, floor(ends[1]))
        if field.name in self._deciding:
            high = min(high, FEW)
        raw = self.rng.randint(low, max(low, high))
        return low if raw in field.invalid else raw


def _is_counted(entry: FieldEntry) -> bool:
    return isinstance(repeat_of(entry), str) and repeat_of(entry) != REST


Damage = Callable[[FrameMaker], Sequence[Piece]]


def _flipped(maker: FrameMaker) -> Sequence[Piece]:
    data = bytearray(maker.sound())
    data[maker.rng.randrange(len(data))] ^= 1 << maker.rng.randrange(8)
    return [Piece(bytes(data))]


def _burst(maker: FrameMaker) -> Sequence[Piece]:
    data = bytearray(maker.sound())
    place = maker.rng.randrange(len(data))
    for at in range(place, min(place + 3, len(data))):
        data[at] ^= maker.rng.randrange(1, 256)
    return [Piece(bytes(data))]


def _lost(maker: FrameMaker) -> Sequence[Piece]:
    data, place = maker.sound(), maker.rng.randrange(len(maker.sound()))
    place = min(place, len(data) - 1)
    return [Piece(data[:place] + data[place + 1 :])]


def _several_lost(maker: FrameMaker) -> Sequence[Piece]:
    two = maker.sound() + maker.sound()
    place, many = maker.rng.randrange(1, len(two) - 1), maker.rng.randrange(2, max(len(two) // 2, 3))
    return [Piece(two[:place] + two[place + many :])]


def _inserted(maker: FrameMaker) -> Sequence[Piece]:
    data, more = maker.sound(), maker.rng.randbytes(maker.rng.randrange(1, 5))
    place = maker.rng.randrange(1, max(len(data), 2))
    return [Piece(data[:place] + more + data[place:])]


def _cut(maker: FrameMaker) -> Sequence[Piece]:
    data = maker.sound()
    return [Piece(data[: maker.rng.randrange(1, max(len(data), 2))])]


def _marker_alone(maker: FrameMaker) -> Sequence[Piece]:
    marker = maker.layout.marker
    return [Piece(marker[: maker.rng.randrange(1, len(marker) + 1)]), Piece(maker.sound(), is_sound=True)]


def _marker_within(maker: FrameMaker) -> Sequence[Piece]:
    return [Piece(maker.layout.as_sent(_with_marker(maker)), is_sound=True)]


def _marker_within_damaged(maker: FrameMaker) -> Sequence[Piece]:
    data = bytearray(maker.layout.as_sent(_with_marker(maker)))
    data[-1] ^= 1 << maker.rng.randrange(8)
    return [Piece(bytes(data))]


def _with_marker(maker: FrameMaker) -> bytes:
    """Return a sound frame that holds its own marker once more; any sound frame where none can."""
    layout = maker.layout
    for _ in range(TRIES):
        content = bytearray(maker.content())
        if len(content) < 2 * len(layout.marker) + 1:
            break
        place = maker.rng.randrange(len(layout.marker), len(content) - len(layout.marker) + 1)
        content[place : place + len(layout.marker)] = layout.marker
        frames = read_frames(bytes(content), layout)
        if len(frames) != 1 or frames.length[0] != len(content):
            continue
        try:
            again = layout.encode({name: _first(frames[name]) for name in layout.slot if _is_free(layout, name)})
        except RequestError:
            continue
        frames = read_frames(again, layout)
        if again.find(layout.marker, 1) > 0 and len(frames) == 1 and not frames.faults[0]:
            return again
    return maker.content()


def _first(column: Any) -> Any:
    return column[0].tolist() if hasattr(column[0], "tolist") else column[0]


def _is_free(layout: FrameLayout, name: str) -> bool:
    slot = layout.slot[name]
    return slot.kind != "checksum" and slot.field is not None and slot.field.equals is None and not slot.field.when


def _noise(maker: FrameMaker) -> Sequence[Piece]:
    return [Piece(maker.rng.randbytes(maker.rng.randrange(1, 3 * max(maker.layout.shortest, 4))))]


def _zeros(maker: FrameMaker) -> Sequence[Piece]:
    byte = maker.rng.choice([b"\0", b"\xff"])
    return [Piece(byte * maker.rng.randrange(1, 3 * max(maker.layout.shortest, 4)))]


def _wrong_checksum(maker: FrameMaker) -> Sequence[Piece]:
    content = bytearray(maker.content())
    slot = maker.layout.shape_of(bytes(content)).checksum_slot
    assert slot is not None
    content[slot.first_bit // 8 + maker.rng.randrange(max(slot.bits // 8, 1))] ^= 1 << maker.rng.randrange(8)
    return [Piece(maker.layout.as_sent(bytes(content)))]


def _wrong_length(maker: FrameMaker) -> Sequence[Piece]:
    layout, content = maker.layout, bytearray(maker.content())
    assert layout.boundary.counted is not None
    slot = layout.slot[layout.boundary.counted.field]
    place = slot.first_bit // 8 + (0 if layout.packing == "lsb" and slot.order is None else (slot.bits - 1) // 8)
    content[place] = (content[place] + maker.rng.randrange(1, 64)) & 0xFF
    return [Piece(layout.as_sent(bytes(content)))]


def _other_value(maker: FrameMaker) -> Sequence[Piece]:
    """Return a frame that differs in what is fixed, with a right checksum: a message that is not declared."""
    layout = maker.layout
    slot = next(item for item in layout.slots if fixed_value(item) is not None and not item.stride)
    changed = [
        entry.model_copy(update={"equals": None}) if getattr(entry, "name", None) == slot.name else entry
        for entry in layout.fields
    ]
    other = FrameLayout(boundary=layout.boundary, packing=layout.packing, fields=changed, checksum=layout.checksum)
    low, high = raw_limits(slot.kind, slot.bits, slot.coding)
    wrong = maker.rng.choice([value for value in range(low, min(high, low + 255) + 1) if value != fixed_value(slot)])
    values = dict(maker.values()) | {slot.name: wrong}
    return [Piece(other.as_sent(other.encode(values)))]


def _paused(maker: FrameMaker) -> Sequence[Piece]:
    data = maker.sound()
    place = maker.rng.randrange(1, max(len(data), 2))
    return [Piece(data[:place], is_sound=True), Piece(data[place:], is_sound=True, rest_s=0.05)]


def _cut_and_rest(maker: FrameMaker) -> Sequence[Piece]:
    return [*_cut(maker), Piece(maker.sound(), is_sound=True, rest_s=0.1)]


def _delimiters(maker: FrameMaker) -> Sequence[Piece]:
    empty = maker.layout.as_sent(b"")
    return [Piece(empty * maker.rng.randrange(1, 4))]


DAMAGES: Mapping[str, tuple[Damage, Callable[[FrameLayout], bool]]] = {
    "a bit flipped": (_flipped, lambda layout: True),
    "a burst of flipped bits": (_burst, lambda layout: True),
    "a byte lost": (_lost, lambda layout: True),
    "several bytes lost": (_several_lost, lambda layout: True),
    "bytes inserted": (_inserted, lambda layout: True),
    "cut short": (_cut, lambda layout: True),
    "cut short, then a rest": (_cut_and_rest, lambda layout: True),
    "a rest within a frame": (_paused, lambda layout: True),
    "noise": (_noise, lambda layout: True),
    "a row of 00 or FF": (_zeros, lambda layout: True),
    "a wrong checksum": (_wrong_checksum, lambda layout: layout.checksum is not None),
    "a wrong length": (_wrong_length, lambda layout: layout.boundary.counted is not None),
    "another fixed value": (
        _other_value,
        lambda layout: any(
            fixed_value(slot) is not None and slot.field is not None and not slot.stride for slot in layout.slots
        ),
    ),
    "a marker before a frame": (_marker_alone, lambda layout: bool(layout.marker)),
    "a marker within a frame": (_marker_within, lambda layout: bool(layout.marker) and layout.checksum is not None),
    "a damaged frame with a marker in it": (
        _marker_within_damaged,
        lambda layout: bool(layout.marker) and layout.checksum is not None,
    ),
    "delimiters alone": (_delimiters, lambda layout: layout.boundary.is_delimited and bool(layout.as_sent(b""))),
}
"""What may happen to frames: its name, what makes it, and whether it can happen to frames of a layout."""
