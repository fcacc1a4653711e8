"""How long a reader may wait, because no frame can become certain meanwhile.

To look at what is held costs hundreds of microseconds, however little is new; a character at 115200 baud takes 87.
So a piece that cannot end a frame is put aside: between delimiters a piece without a delimiter, after a marker a piece
with which the frame is still too short. Nothing is looked at differently for that, only later, and never later than
when a frame is certain.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np

from larkreader.capture.characters import Characters
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.shape import name_of, varies
from larkreader.decode.columns.places import uncounted
from larkreader.decode.stream import Stream

from .delimiters import Before, delimiter_of
from .packets import most_bytes

SHORT = 32  # bytes of a piece that may be put aside


class Waiting:
    """What must come before a frame of some layouts can become certain.

    Parameters
    ----------
    layouts : sequence of FrameLayout
        What may travel on the wire.
    """

    values: bytearray
    begin_s: float
    is_sound: bool

    def __init__(self, layouts: Sequence[FrameLayout]) -> None:
        self._layouts = layouts
        self._boundary = layouts[0].boundary
        self._delimiter = delimiter_of(self._boundary)
        self._shortest = min(layout.shortest for layout in layouts)
        self._deciding = None if self._delimiter is None else self._delimiter.deciding
        self._deciding_texts = self._deciding_markers()
        self._length_of = _declared_length(layouts[0]) if len(layouts) == 1 else None
        self._before = Before()
        self.values = bytearray()  # all bytes that are held or put aside
        self.begin_s = float("nan")  # when the first of them began
        self.is_sound = True  # none of them has a fault, but for the break that begins a frame
        # Bytes with which the next look is due; where any of some bytes may decide sooner, those are looked for too.
        self._wanted = 1
        self._is_due = False

    def _deciding_markers(self) -> tuple[bytes, ...]:
        """Return the markers without which no frame of a wire with end markers is certain; none on other wires."""
        ended = [layout for layout in self._layouts if layout.end_marker and not layout.is_fixed]
        if not ended or any(layout.end_from_end != len(layout.end_marker) for layout in ended):
            return ()
        return tuple({text for layout in self._layouts for text in (layout.marker, layout.end_marker) if text})

    def looked(self, held: Stream, needed: int) -> None:
        """Take note of what is held after a look, of which a candidate needs so many bytes; 0 without one."""
        count = len(held.value)
        self._before = Before()
        if held.end_s is not None and held.begin_s is not None and count:
            self._before = Before(float(held.end_s[-1]), float(held.end_s[-1] - held.begin_s[-1]))
        self.values = bytearray(held.value.tobytes())
        self.begin_s = float("nan") if held.begin_s is None or not count else float(held.begin_s[0])
        bad = () if held.bad is None else held.bad.tolist()
        self.is_sound = not bad or (self._boundary.opened_by == "break" and bad == [0])
        self._is_due = bool(count) and self._deciding is not None and int(held.value[-1]) in self._deciding
        if self._delimiter is not None:
            self._wanted = most_bytes(self._delimiter)
        elif not needed and self._deciding_texts:
            self._wanted = max(count + 1, min(layout.longest for layout in self._layouts))
        elif not needed:
            self._wanted = max(count + 1, self._shortest)
        else:
            self._wanted = self._next_stage(count, needed)

    def _next_stage(self, count: int, needed: int) -> int:
        """Return how many bytes must be held before more can be certain of a candidate that needs so many."""
        markers = max(len(layout.marker) for layout in self._layouts)
        if any(layout.needs_locating for layout in self._layouts):
            stages = [needed, needed + markers]  # of some not even the length is known
        else:  # without a checksum the next marker must confirm a frame
            stages = [layout.length + (0 if layout.checksum else markers) for layout in self._layouts]
            stages.append(max(layout.length for layout in self._layouts) + markers)
        return min((stage for stage in stages if stage > count), default=count + 1)

    def may(self, data: object) -> bool:
        """Return whether a piece may be put aside behind what is held, and take note of its bytes if so."""
        if not isinstance(data, (bytes, Characters)) or not self._is_short(len(data)):
            return False
        values = data if isinstance(data, bytes) else data.value.tolist()
        if not self._is_waited_for(data, values):
            return False
        self._take(data, values)
        return True

    def put_aside(self, data: object) -> bool:
        """Put a piece aside with which frames are whole that turn out to be none; the next look is due at the next."""
        if not isinstance(data, (bytes, Characters)):
            return False
        self._take(data, data if isinstance(data, bytes) else data.value.tolist())
        self._wanted = self._next_stage(len(self.values), 0)
        return True

    def _take(self, data: bytes | Characters, values: Sequence[int]) -> None:
        if isinstance(data, Characters):
            self.is_sound &= not any(data.faults.tolist())
            if not self.values:
                self.begin_s = float(data.begin_s[0])
        self.values += bytes(values)

    def _is_waited_for(self, data: bytes | Characters, values: Sequence[int]) -> bool:
        size = len(self.values) + len(values)
        if isinstance(data, Characters) and max(values) > 0xFF:
            return False
        if self._delimiter is not None:
            if self._deciding is None:
                return isinstance(data, Characters) and size < self._wanted and self._goes_on(data)
            if size >= self._wanted or self._is_due:
                return False
            return self._deciding.isdisjoint(values) or self._is_between(values)
        if size < self._shortest and self._deciding_texts:
            return True
        if self._deciding_texts:
            longest = max(map(len, self._deciding_texts))
            tail = bytes(self.values[-longest:]) + bytes(values)
            new = tail[max(len(tail) - len(values) - longest + 1, 0) :]
            return size < self._wanted and not any(text in new for text in self._deciding_texts)
        if size >= self._wanted and self._length_of is not None:
            self._wanted = max(self._wanted, self._length_of(bytes(self.values) + bytes(values)))
        return size < self._wanted

    def _is_between(self, values: Sequence[int]) -> bool:
        """Return whether there is nothing yet but flags between frames."""
        flag = None if self._delimiter is None else self._delimiter.fill
        return flag is not None and all(value == flag for value in values) and not self.values.strip(bytes((flag,)))

    def with_next(self, data: object) -> bytes | None:
        """Return all bytes there are with a next byte that may end a frame; None where something is wrong with any."""
        if not self.is_sound or not isinstance(data, (bytes, Characters)) or len(data) != 1:
            return None
        if isinstance(data, bytes):
            return None if self._deciding is None and self._delimiter is not None else bytes(self.values) + data
        value = int(data.value[0])
        if value > 0xFF or not self._ends(data):
            return None
        return bytes(self.values) + bytes((value,))

    def _ends(self, data: Characters) -> bool:
        """Return whether a character is sound, and begins the next frame where that ends the frame before."""
        return not data.faults[0] if self._delimiter is None else self._delimiter.ends(data, self._before)

    def _is_short(self, size: int) -> bool:
        return 0 < size <= SHORT

    def _goes_on(self, data: Characters) -> bool:
        """Return whether characters continue the packet that is held, none of them after a delimiter."""
        before = None if self._delimiter is None else self._delimiter.follow(data, self._before)
        self._before = self._before if before is None else before
        return before is not None


def _declared_length(layout: FrameLayout) -> Callable[[bytes], int] | None:
    """Return what reads how many bytes a frame says that it has, 0 if it begins with none; None if it is not a byte."""
    boundary, marker = layout.boundary.counted, layout.marker
    if boundary is None or not marker:
        return None
    slot = layout.slot[boundary.field]
    before = list(layout.fields)[: [name_of(entry) for entry in layout.fields].index(boundary.field)]
    is_plain = slot.kind == "uint" and slot.count == 1 and slot.order is None
    if not is_plain or slot.first_bit % 8 or slot.bits % 8 or any(varies(entry) for entry in before):
        return None
    first, end = slot.first_bit // 8, slot.end_bit // 8
    order: Literal["little", "big"] = "little" if layout.packing == "lsb" else "big"
    more = int(uncounted(layout, np.array([end]))[0]) - boundary.offset

    def length_of(held: bytes) -> int:
        length = int.from_bytes(held[first:end], order) + more
        return length if held.startswith(marker) and len(held) >= end and length <= boundary.longest else 0

    return length_of
