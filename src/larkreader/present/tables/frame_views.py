"""Frames on live wires: as rows with what changed marked, or as a table of each field's last value."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import zip_longest
from typing import Any

import numpy as np
import numpy.typing as npt

from larkreader.capture.masked import is_masked
from larkreader.capture.ragged import Ragged
from larkreader.declare.frame.layout import FrameLayout
from larkreader.declare.frame.slot import Slot
from larkreader.decode.columns.frame_columns import SKIP_NAMES, FrameFault, Frames, Skip, frame_fault_names
from larkreader.decode.columns.ragged_columns import every_item
from larkreader.decode.cut.streaming import LayoutsReader
from larkreader.present.text.dump import OFFSET_WIDTH, TIME_WIDTH, DumpForm
from larkreader.present.text.notation import visible
from larkreader.present.text.views import NO_BREAK, Arrival, CharacterView, View

from .byte_groups import byte_groups

CHANGED = "'"  # behind what is not as it was in the frame before
RECENT = 20  # frames from which a rate is taken


@dataclass
class Seen:
    """What has been seen of a layout."""

    last: Frames | None = None
    texts: tuple[str, ...] = ()
    count: int = 0
    faults: int = 0
    times: deque[float] = field(default_factory=lambda: deque(maxlen=RECENT))
    least: dict[str, float] = field(default_factory=dict)
    most: dict[str, float] = field(default_factory=dict)

    @property
    def rate(self) -> float | None:
        """Frames a second, from the last of them."""
        spent = self.times[-1] - self.times[0] if len(self.times) > 1 else 0.0
        return (len(self.times) - 1) / spent if spent > 0 else None

    def take(self, frames: Frames, trusted: npt.NDArray[np.bool_]) -> None:
        """Take in some frames, of which some are to be trusted."""
        self.count += len(frames)
        self.faults += int(np.count_nonzero(frames.faults))
        good = frames[trusted]
        if not len(good):
            return
        self.last = good[-1]
        self.times.extend(good.begin_s[-RECENT:].tolist())
        for name, slot in good.layout.slot.items():
            if is_number(slot):
                column = every_item(good[name][~good.substituted(name)])
                if column.dtype.kind == "f":  # a value that says that there is none counts for nothing
                    column = column[~np.isnan(column)]
                if not len(column):
                    continue
                self.least[name] = min(float(column.min()), self.least.get(name, np.inf))
                self.most[name] = max(float(column.max()), self.most.get(name, -np.inf))


class FrameView(View):
    """Shows frames as they come, what changed since the last good frame marked.

    Parameters
    ----------
    form : DumpForm
        How a row looks.
    layouts : mapping of str to sequence of FrameLayout
        By wire. Wires without any are shown as characters.
    fields : sequence of str
        Which fields; those that can change by default.
    as_bytes : bool
        Whether to show the frames' bytes instead.
    """

    seen: dict[str, Seen]
    layouts: dict[str, FrameLayout]
    shown: dict[str, list[str]]
    skipped: dict[str, int]

    def __init__(
        self,
        form: DumpForm,
        layouts: Mapping[str, Sequence[FrameLayout]],
        fields: Sequence[str] = (),
        *,
        as_bytes: bool = False,
    ) -> None:
        super().__init__(form)
        self._layouts_of = {wire: some for wire, some in layouts.items() if some}
        self._readers = {wire: LayoutsReader(some) for wire, some in self._layouts_of.items()}
        self._first = dict.fromkeys(self._readers, 0)  # the number of the first character that each reader had
        self._plain = CharacterView(form)
        self._as_bytes = as_bytes
        self.seen = {layout.key: Seen() for some in layouts.values() for layout in some}
        self.layouts = {layout.key: layout for some in layouts.values() for layout in some}
        self.shown = {key: chosen_fields(layout, fields) for key, layout in self.layouts.items()}
        self.skipped = dict.fromkeys(self._readers, 0)

    def heading(self) -> str:
        """Return the row that stands above the others."""
        what = f"frame ({CHANGED} marks changes since the last good frame)"
        return f"{'seconds':>{TIME_WIDTH}} {self.form.who('who')}{'number':>{OFFSET_WIDTH}} {what}"

    def take(self, arrival: Arrival) -> Iterator[str]:
        """Yield the rows of the frames that are certain now."""
        if arrival.wire not in self._readers:
            yield from self._plain.take(arrival)
            return
        found = self._readers[arrival.wire].feed(arrival.as_characters())
        yield from self._shown(arrival.wire, found, is_uncertain=arrival.is_uncertain)

    def leave_out(self, arrival: Arrival) -> Iterator[str]:
        """Begin anew behind characters that are not shown: a frame that they cut is not read."""
        if arrival.wire in self._readers:
            self._readers[arrival.wire] = LayoutsReader(self._layouts_of[arrival.wire])
            self._first[arrival.wire] = arrival.offset + len(arrival.data)
        yield from ()

    def rest(self) -> Iterator[tuple[str, str]]:
        """Yield what was held back."""
        for wire, reader in self._readers.items():
            yield from ((wire, row) for row in self._shown(wire, reader.close()))

    def summary(self, wire: str) -> str:
        """Return how many frames of each layout there were, how many faulty, and how many bytes of none."""
        parts = []
        for key, layout in self.layouts.items():
            if layout.wire in (wire, None):
                seen = self.seen[key]
                if not seen.count and len(self.layouts) > 1:
                    continue
                faulty = f" ({seen.faults:,} faulty)" if seen.faults else ""
                parts.append(f"{seen.count:,} {key}{faulty}")
        if self.skipped.get(wire):
            count = self.skipped[wire]
            parts.append(f"{count:,} byte{'' if count == 1 else 's'} of no frame")
        return ", ".join(parts)

    def _shown(self, wire: str, found: Mapping[str, Frames], *, is_uncertain: bool = False) -> Iterator[str]:
        """Yield the rows of frames and of what lies between them, in order."""
        spans = next(iter(found.values())).skipped
        self.skipped[wire] += int(spans.length.sum())
        shown = [item for key, frames in found.items() for item in self._of_layout(key, frames)]
        for offset, length, reason in zip(
            spans.offset.tolist(), spans.length.tolist(), spans.reason.tolist(), strict=True
        ):
            result = f"{length:,} byte{'' if length == 1 else 's'} of no frame: {SKIP_NAMES[Skip(reason)]}"
            shown.append((offset, float("nan"), result, 0))
        for offset, at_s, text, faults in sorted(shown):
            yield from self._row(at_s, wire, offset + self._first[wire], text, is_uncertain=is_uncertain)
            if faults:
                yield self._remark(f"faults: {frame_fault_names(faults)}")

    def _of_layout(self, key: str, frames: Frames) -> Iterator[tuple[int, float, str, int]]:
        """Yield offset, time, text and faults of each frame of a layout; remember what was seen."""
        if not len(frames):
            return
        seen, names = self.seen[key], self.shown[key]
        if self._as_bytes:
            rows_of_bytes = [[f"{item:02X}" for item in row.tolist()] for row in frames.data]
            labels = [""] * max(map(len, rows_of_bytes))
            columns = [list(column) for column in zip_longest(*rows_of_bytes, fillvalue="")]
        else:
            columns, labels = [value_texts(frames, name) for name in names], [f"{name}=" for name in names]
        trusted = ~frames.has_fault(FrameFault.CHECKSUM_MISMATCH)
        rows = zip(
            frames.offset.tolist(),
            frames.begin_s.tolist(),
            frames.faults.tolist(),
            trusted.tolist(),
            zip(*columns, strict=True) if columns else [()] * len(frames),
            strict=True,
        )
        for row, (offset, at_s, faults, is_trusted, texts) in enumerate(rows):
            before = seen.texts or texts
            parts = [
                f"{label}{text}{CHANGED if text != old else ''}" if text or label else ""
                for label, text, old in zip(labels, texts, before, strict=True)
            ]
            if self._as_bytes:
                parts = list(_grouped(parts, byte_groups(frames.layout, frames.data[row].tobytes())))
            yield offset, at_s, " ".join([key, *filter(None, parts)]), faults
            if is_trusted:
                seen.texts = texts
        seen.take(frames, trusted)


def _grouped(parts: Sequence[str], groups: Sequence[bytes]) -> Iterator[str]:
    """Yield the bytes of each group as one word, which no row breaks."""
    begin = 0
    for group in groups:
        yield NO_BREAK.join(parts[begin : begin + len(group)])
        begin += len(group)


def is_number(slot: Slot) -> bool:
    """Return whether a field holds one number, not a flag, a text or a name."""
    return slot.count == 1 and slot.kind not in ("flag", "text", "word") and not (slot.field and slot.field.names)


def value_texts(frames: Frames, name: str) -> list[str]:
    """Write what a field holds in each frame: names where it has some, flags as digits."""
    slot = frames.layout.slot[name]
    column: Any = frames[name]
    if isinstance(column, Ragged) or is_masked(column):
        return [_value_text(frames, name, row) for row in range(len(frames))]
    if slot.field is not None and slot.field.names:
        items, joint = frames.labels(name).reshape(len(frames), -1), ","
    else:
        if slot.kind in ("text", "word") and slot.field is not None:
            encoding = slot.field.encoding
            texts = [text.encode(encoding, "replace") for text in frames[name].tolist()]
            return [f'"{visible(text, encoding=encoding)}"' for text in texts]
        values, joint = frames[name].reshape(len(frames), -1), "" if slot.kind == "flag" else ","
        items = np.array([number_text(item, slot) for item in values.ravel().tolist()], object).reshape(values.shape)
    return [joint.join(row) for row in items.tolist()]


def _value_text(frames: Frames, name: str, row: int) -> str:
    """Write what a field holds in one of some frames that differ; nothing where it is not in it."""
    slot = frames.layout.slot[name]
    is_named = slot.field is not None and bool(slot.field.names)
    column = frames.labels(name) if is_named else frames[name]
    items = column[row]
    if is_masked(items):
        return "absent"
    every = items.tolist() if isinstance(items, np.ndarray) else [items]
    texts = every if is_named or slot.kind == "text" else [number_text(item, slot) for item in every]
    return ("" if slot.kind == "flag" else ",").join(map(str, texts))


def number_text(value: Any, slot: Slot) -> str:
    """Write a number with as many digits as it has."""
    if value != value and slot.field is not None and slot.field.invalid:
        return "none"
    if isinstance(value, str):
        return value
    if slot.kind == "decimal":
        return f"{float(value):.10g}"
    if slot.kind == "float" and not (slot.field and slot.field.is_scaled):
        return f"{float(value):.6g}"
    return f"{float(value):.10g}" if slot.field is not None and slot.field.is_scaled else f"{int(value)}"


def chosen_fields(layout: FrameLayout, fields: Sequence[str]) -> list[str]:
    """Name the fields of a layout that are asked for; unless any are, those that can change and are not a checksum."""
    if fields:
        return [name for name in layout.slot if name in fields]
    fixed = {name for name, slot in layout.slot.items() if slot.kind == "checksum" or _is_fixed(slot)}
    return [name for name in layout.slot if name not in fixed]


def _is_fixed(slot: Slot) -> bool:
    return slot.field is not None and slot.field.equals is not None
